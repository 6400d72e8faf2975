"""What a song document may hold: wide enough for anything that an edit makes, narrow enough that nothing takes for ever."""

from __future__ import annotations

from typing import Annotated

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.serial import Most, Within

MAX_BARS = 1000
MAX_TICKS = MAX_BARS * 4 * TICKS_PER_BEAT
STEPS_PER_BAR = 16

Tick = Annotated[int, Within(0, MAX_TICKS)]
Midi = Annotated[int, Within(0, 127)]
Share = Annotated[float, Within(0, 1)]
Decibels = Annotated[float, Within(-200, 100)]
Depth = Annotated[float, Within(0, 100)]
Hertz = Annotated[float, Within(0, 1e5)]
Semitones = Annotated[float, Within(-128, 128)]
Beats = Annotated[float, Within(0, MAX_BARS * 4)]
Ms = Annotated[float, Within(-10_000, 10_000)]
BarCount = Annotated[int, Within(0, MAX_BARS)]
Seed = Annotated[int, Within(-(1 << 53), 1 << 53)]
Id = Annotated[str, Most(80)]
Name = Annotated[str, Most(200)]
Value = Annotated[float, Within(-1e6, 1e6)]
Curve = Annotated[tuple[Annotated[float, Within(-1, 1)], ...], Most(256)]
