"""What a draft's patterns are counted in, and what all who write them share.

Patterns are WRITTEN_BARS long: two phrases of PHRASE_BARS, the second with another end, so that every eight bars bring something
new. Steps are 0-based 16ths of a bar.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ersatz.core.grid import TICKS_PER_BEAT

STEP = TICKS_PER_BEAT // 4
BAR = TICKS_PER_BEAT * 4
PHRASE_BARS = 8
WRITTEN_BARS = 2 * PHRASE_BARS
Degrees = tuple[int, ...]


def accent(step: int, levels: tuple[float, float, float]) -> float:
    """Of the levels of a beat, an off-beat and the rest the one for a step."""
    return levels[0 if step % 4 == 0 else 1 if step % 2 == 0 else 2]


def by_energy(options: Sequence[Any], busy: Callable[[Any], float], energy: int) -> list[Any]:
    """The busier half of the options where `energy` is 1, the calmer half where it is -1, at least two; all where it is 0."""
    ranked = sorted(options, key=busy)
    half = max(2, (len(ranked) + 1) // 2)
    return list(options) if not energy else ranked[-half:] if energy > 0 else ranked[:half]
