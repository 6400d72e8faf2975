"""What every pitched sound goes through behind its source, and what moves it: drive, two filters, amplifier, pan; envelopes, LFOs,
a list of modulations.

The parameters are shared by the synthesiser and the sampler under the same names, so that one page and one test fit both.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.dsp import filters, shapers
from ersatz.core.dsp.control import CONTROL, figures, joined
from ersatz.core.dsp.levels import panned
from ersatz.core.params import Choice, Param
from ersatz.core.song.parts import Modulation
from ersatz.core.voices import modulation
from ersatz.core.voices.shapes import fade
from ersatz.core.voices.spec import Patch, Played

SOURCES = ("envelope 2", "envelope 3", "lfo 1", "lfo 2", "velocity", "note", "random")
#: An LFO can't move its own rate, and of two that would move each other LFO 2 moves LFO 1.
OWN_RATE = frozenset({("lfo 1", "lfo1_hz"), ("lfo 2", "lfo2_hz")})
TO_THE_FIRST, TO_THE_SECOND = ("lfo 2", "lfo1_hz"), ("lfo 1", "lfo2_hz")
MIDDLE_C = 60
#: After its release a note has this long for its filters to ring out under the fade.
RING_S = 0.02
#: Over so much of its end any note is faded.
END_S = 0.004
MODES = ("poly", "mono", "legato")


def _filter(number: int) -> tuple[Param, ...]:
    f = f"filter{number}"
    return (
        Param(f"{f}_hz", "Hz", 20, 20_000, 20_000, "Cutoff", "log", moves="octaves"),
        Param(f"{f}_resonance", "", 0, 1, 0.094, "Resonance", moves=""),
        Param(f"{f}_track", "", 0, 1, 0, "Key tracking"),
        Param(f"{f}_vowel", "", 0, 4, 0, "Vowel, a to u", moves=""),
    )


def envelope_params(number: int, attack: float, decay: float, sustain: float, release: float) -> tuple[Param, ...]:
    """Parameters of an envelope with these defaults, ms."""
    e = f"env{number}"
    return (
        Param(f"{e}_attack_ms", "ms", 0.5, 8000, attack, "Attack", "log"),
        Param(f"{e}_hold_ms", "ms", 0, 4000, 0, "Hold"),
        Param(f"{e}_decay_ms", "ms", 1, 8000, decay, "Decay", "log"),
        Param(f"{e}_sustain", "", 0, 1, sustain, "Sustain"),
        Param(f"{e}_release_ms", "ms", 1, 8000, release, "Release", "log"),
        Param(f"{e}_attack_curve", "", -1, 1, 0, "Attack curve"),
        Param(f"{e}_decay_curve", "", -1, 1, 0.6, "Decay curve"),
        Param(f"{e}_release_curve", "", -1, 1, 0.6, "Release curve"),
    )


def _lfo(number: int) -> tuple[Param, ...]:
    name = f"lfo{number}"
    return (
        Param(f"{name}_hz", "Hz", 0.02, 40, 4, "Rate", "log", moves="octaves"),
        Param(f"{name}_phase", "", 0, 1, 0, "Start phase"),
        Param(f"{name}_fade_ms", "ms", 0, 8000, 0, "Fade in"),
    )


DRIVE = Param("drive", "", 0, 1, 0, "Drive", moves="")
FILTERS = (*_filter(1), *_filter(2))
LFOS = (*_lfo(1), *_lfo(2))
LEVEL = (
    Param("pitch_semitones", "st", -24, 24, 0, "Pitch", moves="semitones"),
    Param("glide_ms", "ms", 0, 2000, 60, "Glide"),
    Param("velocity_level", "", 0, 1, 0.5, "Velocity to level"),
    Param("pan", "", -1, 1, 0, "Pan", moves=""),
    Param("level_db", "dB", -36, 18, 0, "Level", moves=""),
)
MODE = Choice("mode", MODES, "poly", "Notes")
LFO_CHOICES = (
    Choice("lfo1_rate", ("Hz", *modulation.SYNCED_BEATS), "1/4", "Rate"),
    Choice("lfo2_rate", ("Hz", *modulation.SYNCED_BEATS), "Hz", "Rate"),
    Choice("lfo1_shape", modulation.LFO_SHAPES, "sine", "Shape"), Choice("lfo2_shape", modulation.LFO_SHAPES, "sine", "Shape"),
    Choice("lfo1_start", ("with the note", "with the song"), "with the note", "Start"),
    Choice("lfo2_start", ("with the note", "with the song"), "with the note", "Start"),
)  # fmt: skip


def filter_choices(first: str) -> tuple[Choice, ...]:
    """Kinds of both filters; what filter 1 is unless the sound says."""
    return (Choice("filter1_kind", filters.KINDS, first, "Kind"), Choice("filter2_kind", filters.KINDS, "off", "Kind"))


def tail_s(patch: Patch) -> float:
    """Seconds that a note sounds on after it is let go."""
    return patch["env1_release_ms"] / 1000 + RING_S


def song_round_beats(patch: Patch) -> float:
    """0 where no LFO runs with the song; else the beats after which all synced ones come round, infinite for one in Hz."""
    used = {m.source for m in patch.modulations}
    running = [k for k in (1, 2) if f"lfo {k}" in used and patch.choices[f"lfo{k}_start"] == "with the song"]
    if not running:
        return 0.0
    moved = any(m.target in ("lfo1_hz", "lfo2_hz") for m in patch.modulations)
    in_hz = any(patch.choices[f"lfo{k}_rate"] == "Hz" or patch.choices[f"lfo{k}_shape"] == "random" for k in running)
    return float("inf") if in_hz or moved else modulation.ROUND_BEATS


def envelope_of(patch: Patch, number: int) -> modulation.Envelope:
    """An envelope as a patch sets it."""
    p, e = patch.params, f"env{number}"
    return modulation.Envelope(
        p[f"{e}_attack_ms"] / 1000, p[f"{e}_decay_ms"] / 1000, p[f"{e}_sustain"], p[f"{e}_release_ms"] / 1000,
        p[f"{e}_hold_ms"] / 1000, p[f"{e}_attack_curve"], p[f"{e}_decay_curve"], p[f"{e}_release_curve"],
    )  # fmt: skip


def in_circles(modulations: tuple[Modulation, ...]) -> frozenset[tuple[str, str]]:
    """(source, target) of modulations that can't work, because what moves would be moved by itself."""
    pairs = {(m.source, m.target) for m in modulations}
    return OWN_RATE & pairs | ({TO_THE_SECOND} if {TO_THE_FIRST, TO_THE_SECOND} <= pairs else frozenset())


class Movement:
    """The sources of one note, each computed once and only if something asks for it."""

    def __init__(self, table: dict[str, Param], patch: Patch, note: Played, n: int, rng: np.random.Generator):
        self._table = table
        self.patch, self.note, self.n = patch, note, n
        self._random = float(rng.uniform(-1, 1))
        self._seed = int(rng.integers(1 << 30))
        self._known: dict[str, np.ndarray | float] = {}
        circles = in_circles(patch.modulations)
        self._by_target: dict[str, list[Modulation]] = {}
        for m in patch.modulations:
            if (m.source, m.target) not in circles:
                self._by_target.setdefault(m.target, []).append(m)

    def source(self, name: str) -> np.ndarray | float:
        """A source over the note, shape (n,), or the one figure of what stands all through it."""
        if name not in self._known:
            self._known[name] = self._compute(name)
        return self._known[name]

    def _compute(self, name: str) -> np.ndarray | float:
        kind, _, number = name.partition(" ")
        if kind == "envelope":
            return modulation.envelope(envelope_of(self.patch, int(number)), self.note.held, self.n, self.note.rate)
        if kind == "lfo":
            return self._lfo(int(number))
        return {"velocity": self.note.velocity, "note": (self.note.midi - MIDDLE_C) / 12, "random": self._random}[name]

    def _lfo(self, number: int) -> np.ndarray:
        patch, note, name = self.patch, self.note, f"lfo{number}"
        rate = modulation.cycles_per_second(patch.choices[f"{name}_rate"], patch[f"{name}_hz"], note.bpm)
        turn = rate / note.rate * np.exp2(self.shift(f"{name}_hz"))
        phases = (np.arange(self.n) * turn if np.ndim(turn) == 0 else np.cumsum(turn) - turn) + patch[f"{name}_phase"]
        if patch.choices[f"{name}_start"] == "with the song":
            phases += note.beat * 60 / note.bpm * rate
        points = np.array(patch.shapes.get(name, ()))
        out = modulation.lfo(patch.choices[f"{name}_shape"], phases, note.rate, points, self._seed)
        fade = patch[f"{name}_fade_ms"] / 1000 * note.rate
        return out * np.minimum(1.0, np.arange(self.n) / fade) if fade > 1 else out

    def shift(self, target: str) -> np.ndarray | float:
        """What all modulations of a target add up to, in its `moves` unit; one figure where that stands."""
        total: np.ndarray | float = 0.0
        for m in self._by_target.get(target, ()):
            total = total + m.amount * self.source(m.source)
        return total

    def _base(self, target: str) -> np.ndarray | float:
        """What the sound's own modulations add to: the patch's value, or the curve that is drawn for it over the song."""
        curve = self.note.moved.get(target)
        if curve is None or len(curve) == 1:
            return self.patch[target]
        spec = self._table[target]
        drawn = joined(curve, CONTROL, self.n)
        return np.clip(drawn, spec.low, spec.high)

    def value(self, target: str) -> np.ndarray | float:
        """A parameter with everything that moves it, within its range; those in semitones are left unclipped. One number where
        nothing moves it."""
        spec, base = self._table[target], self._base(target)
        if target not in self._by_target:
            return base
        if spec.moves == "octaves":
            return np.clip(base * np.exp2(self.shift(target)), spec.low, spec.high)
        moved = base + self.shift(target)
        return moved if spec.moves == "semitones" else np.clip(moved, spec.low, spec.high)

    def curve(self, target: str) -> np.ndarray:
        """`value` per sample."""
        return np.ascontiguousarray(np.broadcast_to(self.value(target), self.n), np.float64)

    def is_used(self, target: str) -> bool:
        """Whether a value is set or moved at all."""
        return target in self._by_target or target in self.note.moved or self.patch[target] > 0


def bend_curve(note: Played, n: int) -> np.ndarray | float:
    """Semitones per sample of the note's pitch curve, 0 where it has none."""
    if not note.bend:
        return 0.0
    return np.interp(np.arange(n), [at for at, _ in note.bend], [semitones for _, semitones in note.bend])


def shaped(patch: Patch, note: Played, moves: Movement, x: np.ndarray, pitch: np.ndarray | float) -> np.ndarray:
    """A source (2, n) through drive, filters, amplifier and pan; `pitch` in MIDI notes, which filters may follow."""
    x = x[:1] if np.array_equal(x[0], x[1]) else x
    if moves.is_used("drive"):
        gain = 1 + 11 * moves.value("drive") ** 2
        x = shapers.saturate(x * gain, "soft", 2) / np.tanh(gain)
    for number in (1, 2):
        x = _filtered(patch, moves, pitch, number, x, note.rate)
    softer = 1 - patch["velocity_level"] * (1 - note.velocity)
    sides = panned(moves.value("pan"), moves.value("level_db")) * softer
    out = _amplified(np.ascontiguousarray(x), figures(moves.source("envelope 1")), sides)
    fade(out, 0, int(END_S * note.rate))
    return out


@compiled
def _amplified(x: np.ndarray, envelope: np.ndarray, sides: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """A sound of one side or two through an envelope, shape (n,), and the gains of both sides, shape (2, 1) or (2, n)."""
    out = np.empty((2, x.shape[1]))
    moving = sides.shape[1] > 1
    for side in range(2):
        row = x[min(side, x.shape[0] - 1)]
        for i in range(len(row)):
            out[side, i] = row[i] * envelope[i] * sides[side, i if moving else 0]
    return out


def _filtered(patch: Patch, moves: Movement, pitch: np.ndarray | float, number: int, x: np.ndarray, rate: float) -> np.ndarray:
    f = f"filter{number}"
    kind = patch.choices[f"{f}_kind"]
    if kind == "off":
        return x
    cutoff = moves.value(f"{f}_hz")
    if patch[f"{f}_track"] > 0:
        cutoff = cutoff * np.exp2(patch[f"{f}_track"] * (pitch - MIDDLE_C) / 12)
    resonance, vowel = moves.value(f"{f}_resonance"), moves.value(f"{f}_vowel")
    if len(x) == 1:
        return filters.filtered(kind, x[0], cutoff, resonance, rate, vowel)[None]
    return filters.filtered(kind, x, cutoff, resonance, rate, vowel)
