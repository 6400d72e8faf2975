"""The synthesiser: two oscillators, sub and noise through two filters and an amplifier, moved by a list of modulations.

Signal path, in the order of the code: oscillators 1 and 2 (unison; 2 may modulate 1's phase, be multiplied with it, or be
restarted by it), sub and noise -> drive -> filter 1 -> filter 2 -> amplifier (envelope 1, velocity) -> pan. Every value that has
a `moves` unit in the table may be the target of any source: envelopes 2 and 3, both LFOs, velocity, the note, a random value per
note.
"""

from __future__ import annotations

from functools import cache

import numpy as np

from ersatz.core.dsp import filters, rates, shapers
from ersatz.core.params import Choice, Param
from ersatz.core.pitch import midi_hz
from ersatz.core.voices import modulation, tables
from ersatz.core.voices import oscillators as osc
from ersatz.core.voices.shapes import declick
from ersatz.core.voices.spec import Patch, Played, VoiceSpec

WAVES = ("sine", "triangle", "saw", "pulse", *tables.TABLES)
SOURCES = ("envelope 2", "envelope 3", "lfo 1", "lfo 2", "velocity", "note", "random")
#: LFO 2 may move LFO 1's rate, not the other way round: no circles.
CIRCLES = frozenset({("lfo 1", "lfo1_hz"), ("lfo 1", "lfo2_hz"), ("lfo 2", "lfo2_hz")})
MIDDLE_C = 60
#: After its release a note has this long for its filters to ring out under the fade.
RING_S = 0.02
SUB_WAVES = ("sine", "triangle", "square")
MODES = ("poly", "mono", "legato")


def _oscillator(number: int, level: float) -> tuple[Param, ...]:
    o = f"osc{number}"
    return (
        Param(f"{o}_level", "", 0, 1, level, "Level", moves=""),
        Param(f"{o}_octave", "oct", -4, 4, 0, "Octave", step=1),
        Param(f"{o}_semitones", "st", -24, 24, 0, "Semitones", step=1, moves="semitones"),
        Param(f"{o}_cents", "cents", -100, 100, 0, "Cents", moves=""),
        Param(f"{o}_phase", "", 0, 1, 0, "Start phase"),
        Param(f"{o}_width", "", 0.02, 0.98, 0.5, "Pulse width", moves=""),
        Param(f"{o}_position", "", 0, 1, 0, "Table position", moves=""),
        Param(f"{o}_voices", "", 1, osc.MOST_VOICES, 1, "Voices", step=1),
        Param(f"{o}_detune_cents", "cents", 0, 100, 12, "Detune", moves=""),
        Param(f"{o}_spread", "", 0, 1, 0.8, "Spread"),
    )


def _filter(number: int) -> tuple[Param, ...]:
    f = f"filter{number}"
    return (
        Param(f"{f}_hz", "Hz", 20, 20_000, 20_000, "Cutoff", "log", moves="octaves"),
        Param(f"{f}_resonance", "", 0, 1, 0.094, "Resonance", moves=""),
        Param(f"{f}_track", "", 0, 1, 0, "Key tracking"),
        Param(f"{f}_vowel", "", 0, 4, 0, "Vowel, a to u", moves=""),
    )


def _envelope(number: int, attack: float, decay: float, sustain: float, release: float) -> tuple[Param, ...]:
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


PARAMS = (
    *_oscillator(1, 0.8), *_oscillator(2, 0.0),
    Param("fm", "cycles", 0, 4, 0, "2 modulates 1", moves=""),
    Param("ring", "", 0, 1, 0, "1 times 2", moves=""),
    Param("sub_level", "", 0, 1, 0, "Sub level", moves=""),
    Param("sub_octave", "oct", -3, 0, -1, "Sub octave", step=1),
    Param("noise_level", "", 0, 1, 0, "Noise level", moves=""),
    Param("drive", "", 0, 1, 0, "Drive", moves=""),
    *_filter(1), *_filter(2),
    *_envelope(1, 2, 200, 1.0, 60), *_envelope(2, 0.5, 200, 0, 100), *_envelope(3, 0.5, 400, 0, 100),
    *_lfo(1), *_lfo(2),
    Param("pitch_semitones", "st", -24, 24, 0, "Pitch", moves="semitones"),
    Param("glide_ms", "ms", 0, 2000, 60, "Glide"),
    Param("velocity_level", "", 0, 1, 0.5, "Velocity to level"),
    Param("pan", "", -1, 1, 0, "Pan", moves=""),
    Param("level_db", "dB", -36, 18, 0, "Level", moves=""),
)  # fmt: skip

CHOICES = (
    Choice("osc1_wave", WAVES, "saw", "Wave"), Choice("osc1_start", ("fixed", "free"), "free", "Start"),
    Choice("osc2_wave", WAVES, "saw", "Wave"), Choice("osc2_start", ("fixed", "free"), "free", "Start"),
    Choice("sync", ("off", "on"), "off", "2 restarted by 1"),
    Choice("sub_wave", SUB_WAVES, "sine", "Sub wave"),
    Choice("noise_colour", tuple(osc.COLOURS), "white", "Noise colour"),
    Choice("filter1_kind", filters.KINDS, "low-pass 24", "Kind"), Choice("filter2_kind", filters.KINDS, "off", "Kind"),
    Choice("lfo1_rate", ("Hz", *modulation.SYNCED_BEATS), "1/4", "Rate"),
    Choice("lfo2_rate", ("Hz", *modulation.SYNCED_BEATS), "Hz", "Rate"),
    Choice("lfo1_shape", modulation.LFO_SHAPES, "sine", "Shape"), Choice("lfo2_shape", modulation.LFO_SHAPES, "sine", "Shape"),
    Choice("lfo1_start", ("with the note", "with the song"), "with the note", "Start"),
    Choice("lfo2_start", ("with the note", "with the song"), "with the note", "Start"),
    Choice("mode", MODES, "poly", "Notes"),
)  # fmt: skip

_BY_NAME = {p.name: p for p in PARAMS}


def tail_s(patch: Patch) -> float:
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
    p, e = patch.params, f"env{number}"
    return modulation.Envelope(
        p[f"{e}_attack_ms"] / 1000, p[f"{e}_decay_ms"] / 1000, p[f"{e}_sustain"], p[f"{e}_release_ms"] / 1000,
        p[f"{e}_hold_ms"] / 1000, p[f"{e}_attack_curve"], p[f"{e}_decay_curve"], p[f"{e}_release_curve"],
    )  # fmt: skip


class _Movement:
    """The sources of one note, each computed once and only if something asks for it."""

    def __init__(self, patch: Patch, note: Played, n: int, rng: np.random.Generator):
        self.patch, self.note, self.n = patch, note, n
        self._random = float(rng.uniform(-1, 1))
        self._seed = int(rng.integers(1 << 30))
        self._known: dict[str, np.ndarray] = {}

    def source(self, name: str) -> np.ndarray:
        if name not in self._known:
            self._known[name] = self._compute(name)
        return self._known[name]

    def _compute(self, name: str) -> np.ndarray:
        kind, _, number = name.partition(" ")
        if kind == "envelope":
            return modulation.envelope(envelope_of(self.patch, int(number)), self.note.held, self.n, self.note.rate)
        if kind == "lfo":
            return self._lfo(int(number))
        constant = {"velocity": self.note.velocity, "note": (self.note.midi - MIDDLE_C) / 12, "random": self._random}[name]
        return np.full(self.n, constant)

    def _lfo(self, number: int) -> np.ndarray:
        patch, note, name = self.patch, self.note, f"lfo{number}"
        rate = modulation.cycles_per_second(patch.choices[f"{name}_rate"], patch[f"{name}_hz"], note.bpm)
        turn = np.full(self.n, rate / note.rate) * 2.0 ** self.shift(f"{name}_hz")
        phases = np.cumsum(turn) - turn + patch[f"{name}_phase"]
        if patch.choices[f"{name}_start"] == "with the song":
            phases += note.beat * 60 / note.bpm * rate
        points = np.array(patch.shapes.get(name, ()))
        out = modulation.lfo(patch.choices[f"{name}_shape"], phases, note.rate, points, self._seed)
        fade = patch[f"{name}_fade_ms"] / 1000 * note.rate
        return out * np.minimum(1.0, np.arange(self.n) / fade) if fade > 1 else out

    def shift(self, target: str) -> np.ndarray:
        """What all modulations of a target add up to, in its `moves` unit."""
        total = np.zeros(self.n)
        for m in self.patch.modulations:
            if m.target == target and (m.source, target) not in CIRCLES:
                total += m.amount * self.source(m.source)
        return total

    def value(self, target: str) -> np.ndarray | float:
        """A parameter with everything that moves it, within its range; those in semitones are left unclipped. One number where
        nothing moves it."""
        spec = _BY_NAME[target]
        if not any(m.target == target for m in self.patch.modulations):
            return self.patch[target]
        if spec.moves == "octaves":
            return np.clip(self.patch[target] * 2.0 ** self.shift(target), spec.low, spec.high)
        moved = self.patch[target] + self.shift(target)
        return moved if spec.moves == "semitones" else np.clip(moved, spec.low, spec.high)

    def curve(self, target: str) -> np.ndarray:
        """`value` per sample."""
        return np.ascontiguousarray(np.broadcast_to(self.value(target), self.n), np.float64)

    def is_used(self, target: str) -> bool:
        return self.patch[target] > 0 or any(m.target == target for m in self.patch.modulations)


def bend_curve(note: Played, n: int) -> np.ndarray | float:
    """Semitones per sample of the note's pitch curve, 0 where it has none."""
    if not note.bend:
        return 0.0
    return np.interp(np.arange(n), [at for at, _ in note.bend], [semitones for _, semitones in note.bend])


def render(patch: Patch, note: Played, rng: np.random.Generator) -> np.ndarray:
    n = note.held + int(tail_s(patch) * note.rate)
    moves = _Movement(patch, note, n, rng)
    pitch = note.midi + bend_curve(note, n) + moves.value("pitch_semitones")
    x = _sources(patch, note, moves, pitch, rng)
    x = x[:1] if np.array_equal(x[0], x[1]) else x
    if moves.is_used("drive"):
        gain = 1 + 11 * moves.value("drive") ** 2
        x = shapers.saturate(x * gain, "soft", 2) / np.tanh(gain)
    for number in (1, 2):
        x = _filtered(patch, moves, pitch, number, x, note.rate)
    amplitude = moves.source("envelope 1") * 10 ** (moves.value("level_db") / 20)
    amplitude *= 1 - patch["velocity_level"] * (1 - note.velocity)
    angle = (moves.value("pan") + 1) * np.pi / 4
    left, right = np.cos(angle) * np.sqrt(2), np.sin(angle) * np.sqrt(2)
    out = np.stack([x[0] * amplitude * left, x[-1] * amplitude * right])
    return declick(out, note.rate, 0.0, 0.004)


def _sources(patch: Patch, note: Played, moves: _Movement, pitch: np.ndarray | float, rng: np.random.Generator) -> np.ndarray:
    n = moves.n
    out = np.zeros((2, n))
    fm, ring, two = (moves.is_used(t) for t in ("fm", "ring", "osc2_level"))
    second: np.ndarray | None = None
    if fm or ring or two:
        second = _second(patch, moves, pitch, note.rate, rng)
        if two:
            out += moves.value("osc2_level") * second
    phase = moves.value("fm") * second.mean(axis=0) if fm and second is not None else None
    if moves.is_used("osc1_level") or ring:
        first = _unison(patch, moves, 1, _increments(patch, moves, pitch, 1, note.rate), rng, phase)
        out += moves.value("osc1_level") * first
        if ring and second is not None:
            out += moves.value("ring") * _product(first, second)
    if moves.is_used("sub_level"):
        sub = _turns(pitch + 12 * patch["sub_octave"], note.rate, n)
        out += moves.value("sub_level") * _sub(patch.choices["sub_wave"], sub)
    if moves.is_used("noise_level"):
        colour = patch.choices["noise_colour"]
        out += 0.5 * moves.value("noise_level") * np.stack([osc.noise(n, colour, rng) for _ in range(2)])
    return out


def _increments(patch: Patch, moves: _Movement, pitch: np.ndarray | float, number: int, rate: float) -> np.ndarray:
    o = f"osc{number}"
    offset = 12 * patch[f"{o}_octave"] + moves.value(f"{o}_semitones") + moves.value(f"{o}_cents") / 100
    return np.minimum(_turns(pitch + offset, rate, moves.n), 0.45)


def _turns(midi: np.ndarray | float, rate: float, n: int) -> np.ndarray:
    """Cycles per sample of a pitch in MIDI notes, shape (n,)."""
    return np.array(np.broadcast_to(midi_hz(0) * 2.0 ** (np.asarray(midi) / 12) / rate, n))


@cache
def _sine_tables() -> np.ndarray:
    return osc.mip_map(np.sin(2 * np.pi * np.arange(256) / 256))


def frames(patch: Patch, number: int) -> np.ndarray:
    wave = patch.choices[f"osc{number}_wave"]
    if wave in ("saw", "pulse"):
        return osc.saw_tables()
    if wave == "triangle":
        return osc.triangle_tables()
    return _sine_tables() if wave == "sine" else tables.frames_of(wave)


def _unison(
    patch: Patch, moves: _Movement, number: int, increments: np.ndarray, rng: np.random.Generator, phase: np.ndarray | None
) -> np.ndarray:
    o = f"osc{number}"
    count = int(patch[f"{o}_voices"])
    place = np.linspace(-1, 1, count) if count > 1 else np.zeros(1)
    # Neighbours in pitch stand on opposite sides, or the width would lean.
    side = place * np.where(np.arange(count) % 2, -1, 1) * patch[f"{o}_spread"] if count > 1 else np.zeros(1)
    start = patch[f"{o}_phase"]
    starts = start + rng.random(count) if patch.choices[f"{o}_start"] == "free" else np.full(count, start)
    wave = patch.choices[f"{o}_wave"]
    detune = moves.value(f"{o}_detune_cents")
    # At rest the cents themselves are scaled, which spares a power per sample.
    cents, moving = (place * detune, None) if np.ndim(detune) == 0 else (place, np.asarray(detune))
    return osc.unison(
        frames(patch, number), increments, cents, starts, side,
        position=moves.curve(f"{o}_position") if wave in tables.TABLES else None,
        width=moves.curve(f"{o}_width") if wave == "pulse" else None,
        phase_modulation=phase, detune=moving,
    ) * np.sqrt(2)  # fmt: skip


def _second(patch: Patch, moves: _Movement, pitch: np.ndarray | float, rate: float, rng: np.random.Generator) -> np.ndarray:
    increments = _increments(patch, moves, pitch, 2, rate)
    if patch.choices["sync"] == "off":
        return _unison(patch, moves, 2, increments, rng, None)
    waves = frames(patch, 2)
    restarts = _increments(patch, moves, pitch, 1, rate)
    mono = osc.synced(waves if waves.ndim == 2 else waves[0], restarts, increments, patch["osc2_phase"])
    return np.stack([mono, mono])


def _product(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Ring modulation, at twice the rate, where the sums of both spectra have room."""
    return rates.down(rates.up(a, 2) * rates.up(b, 2), 2)


def _sub(wave: str, increments: np.ndarray) -> np.ndarray:
    if wave == "square":
        return 0.7 * osc.pulse(increments, 0.5)
    return osc.oscillate(_sine_tables() if wave == "sine" else osc.triangle_tables(), increments)


def _filtered(patch: Patch, moves: _Movement, pitch: np.ndarray | float, number: int, x: np.ndarray, rate: float) -> np.ndarray:
    f = f"filter{number}"
    kind = patch.choices[f"{f}_kind"]
    if kind == "off":
        return x
    cutoff = moves.value(f"{f}_hz")
    if patch[f"{f}_track"] > 0:
        cutoff = cutoff * 2.0 ** (patch[f"{f}_track"] * (pitch - MIDDLE_C) / 12)
    resonance, vowel = moves.value(f"{f}_resonance"), moves.value(f"{f}_vowel")
    return np.stack([filters.filtered(kind, side, cutoff, resonance, rate, vowel) for side in x])


SPEC = VoiceSpec("synth", "Synthesiser", True, PARAMS, render, tail_s, CHOICES, SOURCES)
