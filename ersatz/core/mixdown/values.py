"""What a value of a strip is over a stretch of the song: where it stands or its drawn curve, and what modulators add to it.

Values are figured every CONTROL samples (automation.py) and rounded, so that equal stretches give equal figures and share a key.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable

import numpy as np

from ersatz.core.dsp import followers
from ersatz.core.dsp.control import CONTROL
from ersatz.core.mixdown import automation
from ersatz.core.mixdown.automation import DIGITS
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import VOICE, Modulator, Strip
from ersatz.core.targets import value_of
from ersatz.core.transitions.spec import base_of
from ersatz.core.voices.modulation import SYNCED_BEATS, lfo

#: Song samples at which a part has notes, in order.
Hits = Callable[[Part], np.ndarray]
#: A part's sound from so many samples in front of a 0-based bar to so many behind it, shape (2, n).
Sound = Callable[[str, int, int, int], np.ndarray]
#: A follower's range under full scale, dB, and after how many of its releases what came before is forgotten.
FOLLOWED_DB, FORGOTTEN = 48.0, 6.0


class Values:
    """Of the strips of a staged song."""

    def __init__(self, song: Song, bars: Bars, hits: Hits):
        self._song, self._bars, self._hits = song, bars, hits
        self._sound: Sound | None = None
        #: (strip, device, param) -> modulators with the strip that they lie in and by how much they move it.
        self._moved: dict[tuple[str, str, str], list[tuple[Modulator, Strip, float]]] = defaultdict(list)
        self._moving: dict[tuple[str, str], set[str]] = {}
        for strip in song.strips():
            for modulator in strip.modulators if strip.id == _base(strip) else ():
                for move in modulator.moves if modulator.on else ():
                    target = move.target
                    if modulator.follows and target.device == VOICE:
                        continue
                    self._moved[target.strip, target.device, target.param].append((modulator, strip, move.amount))

    def listen(self, sound: Sound) -> None:
        """What followers hear, told by who has it: notes are made before there is any sound."""
        self._sound = sound

    def moves(self, strip: Strip, device: str) -> set[str]:
        """Names of a device's values that don't stand still."""
        known = self._moving.get((strip.id, device))
        if known is None:
            drawn = {a.param for a in strip.automation if a.device == device}
            known = drawn | {param for (owner, of, param) in self._moved if (owner, of) == (_base(strip), device)}
            self._moving[strip.id, device] = known
        return known

    def is_moved(self, strip: Strip, device: str, param: str) -> bool:
        """Whether a value is automated or modulated."""
        return param in self.moves(strip, device)

    def is_modulated(self, strip: Strip, device: str, param: str) -> bool:
        """Whether a modulator acts on a value; versions of a part share theirs."""
        return (_base(strip), device, param) in self._moved

    def is_steered(self, strip: Strip) -> bool:
        """Whether a modulator acts on any value of a strip."""
        return any(owner == _base(strip) for owner, _, _ in self._moved)

    def modulators_of(self, strip: Strip, device: str) -> list[tuple[Modulator, Strip, float]]:
        """Those that move a device, with the strip that each lies in and by how much."""
        return [found for (owner, of, _), row in self._moved.items() if (owner, of) == (_base(strip), device) for found in row]

    def extremes(self, strip: Strip, device: str) -> dict[str, np.ndarray]:
        """The lowest and the highest figure of a device's values that don't stand still, shape (2,): of a drawn one those of its
        points, of a modulated one the ends of its range."""
        out = {}
        for param in self.moves(strip, device):
            curve, value = strip.curve(device, param), value_of(strip, device, param)
            if curve is not None and not self.is_modulated(strip, device, param):
                heights = [p.value for p in curve.points]
                out[param] = np.array([min(heights), max(heights)])
            elif value is not None:
                out[param] = np.array([value.param.low, value.param.high])
        return out

    def standing(self, strip: Strip, device: str, param: str, bar: int, before: int, n: int) -> float | None:
        """The one figure that an automated value has all through a stretch as of `control`; None where it moves."""
        curve = strip.curve(device, param)
        if curve is None or self.is_modulated(strip, device, param):
            return None
        ends = (automation.ticks_at(float(at), self._song.grid, bar, RATE_HZ) for at in (-before, n - before + CONTROL))
        found = automation.standing(curve, *ends)
        return None if found is None else round(found, DIGITS)

    def control(self, strip: Strip, device: str, param: str, bar: int, before: int, n: int) -> np.ndarray:
        """The value every CONTROL samples of a stretch of `n` that begins `before` samples in front of 0-based `bar`, behind its
        line where that is negative."""
        curve, value = strip.curve(device, param), value_of(strip, device, param)
        if curve is None:
            stands = value.stands if value else 0.0
            values = np.full(len(range(-before, n - before + CONTROL, CONTROL)), stands)
        else:
            values = automation.control_values(curve, self._song.grid, bar, before, n, RATE_HZ)
        modulators = self._moved.get((_base(strip), device, param), ())
        if not modulators:
            return values
        shift = sum(amount * self._height(m, owner, bar, before, n) for m, owner, amount in modulators)
        if value and value.param.moves == "octaves":
            return np.asarray(np.round(values * 2.0**shift, DIGITS))
        return np.asarray(np.round(values + shift, DIGITS))

    def _height(self, m: Modulator, owner: Strip, bar: int, before: int, n: int) -> np.ndarray:
        """-1..1 of a modulator at the same places, 0..1 of a follower."""
        if m.follows:
            return self._followed(m, bar, before, n)
        at = np.arange(-before, n - before + CONTROL, CONTROL)
        grid = self._song.grid
        beat = grid.beat_s * RATE_HZ
        cycle = SYNCED_BEATS[m.rate] * beat if m.rate in SYNCED_BEATS else RATE_HZ / m.rate_hz
        if m.start == "with the hits" and isinstance(owner, Part):
            here = at + self._bars.edge(bar)
            hits = self._hits(owner)
            last = np.searchsorted(hits, here, side="right") - 1
            since = np.where(last >= 0, here - hits[np.maximum(last, 0)], 0) if len(hits) else np.zeros(len(here))
            phases = since / cycle
        else:
            # In beats from the bar line, so that a bar that comes again has the same figures.
            phases = bar * grid.beats_per_bar * beat / cycle + at / cycle
        if m.once:
            # A drawn cycle goes back to its first point at its end: once, it ends on its last.
            end = 1 - 1 / len(m.points) if m.shape == "drawn" and m.points else 1 - 1e-6
            phases = np.minimum(phases, end)
        phases = np.round(phases + m.phase, 8)
        return lfo(m.shape, phases, RATE_HZ / CONTROL, np.array(m.points), m.seed)

    def _followed(self, m: Modulator, bar: int, before: int, n: int) -> np.ndarray:
        """Peaks with attack and release (`followers.decoupled`), in dB as a share of FOLLOWED_DB."""
        assert self._sound is not None
        attack, release = (followers.coefficient(ms / 1000, RATE_HZ) for ms in (m.attack_ms, m.release_ms))
        forgotten = round(FORGOTTEN * m.release_ms / 1000 * RATE_HZ)
        after = max(0, n - before - self._bars.length(bar)) + CONTROL
        peaks = np.abs(self._sound(m.follows, bar, before + forgotten, after)).max(axis=0).astype(np.float64)
        level = followers.decoupled(peaks, attack, release)[forgotten : forgotten + n + CONTROL : CONTROL]
        return np.asarray(np.clip(1 + 20 * np.log10(np.maximum(level, 1e-6)) / FOLLOWED_DB, 0.0, 1.0))


def _base(strip: Strip) -> str:
    return base_of(strip) if isinstance(strip, Part) else strip.id
