"""The synthesiser: two oscillators, sub and noise through two filters and an amplifier, moved by a list of modulations.

Signal path, in the order of the code: oscillators 1 and 2 (unison; 2 may modulate 1's phase, be multiplied with it, or be
restarted by it), sub and noise -> drive -> filter 1 -> filter 2 -> amplifier (envelope 1, velocity) -> pan. Every value that has
a `moves` unit in the table may be the target of any source: envelopes 2 and 3, both LFOs, velocity, the note, a random value per
note.
"""

from __future__ import annotations

from functools import cache

import numpy as np

from ersatz.core.dsp import rates
from ersatz.core.params import Choice, Param
from ersatz.core.pitch import midi_hz
from ersatz.core.voices import oscillators as osc
from ersatz.core.voices import path, tables
from ersatz.core.voices.path import Movement
from ersatz.core.voices.spec import Patch, Played, VoiceSpec

#: The producer's own table, from an audio file.
OWN_TABLE = "own table"
TABLE_SLOTS = ("osc1_table", "osc2_table")
WAVES = ("sine", "triangle", "saw", "pulse", *tables.TABLES, OWN_TABLE)
SUB_WAVES = ("sine", "triangle", "square")


def _oscillator(number: int, level: float) -> tuple[Param, ...]:
    o = f"osc{number}"
    return (
        Param(f"{o}_level", "", 0, 1, level, "Level", moves=""),
        Param(f"{o}_octave", "oct", -4, 4, 0, "Octave", step=1),
        Param(f"{o}_semitones", "st", -24, 24, 0, "Semitones", step=1, moves="semitones"),
        Param(f"{o}_cents", "cents", -100, 100, 0, "Cents", moves=""),
        Param(f"{o}_phase", "", 0, 1, 0, "Start phase"),
        Param(f"{o}_width", "", 0.02, 0.98, 0.5, "Pulse width", moves=""),
        Param(f"{o}_position", "", 0, 1, 0, "Wavetable position", moves=""),
        Param(f"{o}_voices", "", 1, osc.MOST_VOICES, 1, "Voices", step=1),
        Param(f"{o}_detune_cents", "cents", 0, 100, 12, "Detune", moves=""),
        Param(f"{o}_spread", "", 0, 1, 0.8, "Spread"),
    )


PARAMS = (
    *_oscillator(1, 0.8), *_oscillator(2, 0.0),
    Param("fm", "cycles", 0, 4, 0, "2 modulates 1", moves=""),
    Param("ring", "", 0, 1, 0, "1 times 2", moves=""),
    Param("sub_level", "", 0, 1, 0, "Sub level", moves=""),
    Param("sub_octave", "oct", -3, 0, -1, "Sub octave", step=1),
    Param("noise_level", "", 0, 1, 0, "Noise level", moves=""),
    path.DRIVE, *path.FILTERS,
    *path.envelope_params(1, 2, 200, 1.0, 60), *path.envelope_params(2, 0.5, 200, 0, 100),
    *path.envelope_params(3, 0.5, 400, 0, 100),
    *path.LFOS, *path.LEVEL,
)  # fmt: skip

CHOICES = (
    Choice("osc1_wave", WAVES, "saw", "Wave"), Choice("osc1_start", ("fixed", "free"), "free", "Start"),
    Choice("osc2_wave", WAVES, "saw", "Wave"), Choice("osc2_start", ("fixed", "free"), "free", "Start"),
    Choice("sync", ("off", "on"), "off", "2 restarted by 1"),
    Choice("sub_wave", SUB_WAVES, "sine", "Sub wave"),
    Choice("noise_colour", tuple(osc.COLOURS), "white", "Noise colour"),
    *path.filter_choices("low-pass 24"), *path.LFO_CHOICES, path.MODE,
)  # fmt: skip

_BY_NAME = {p.name: p for p in PARAMS}


def render(patch: Patch, note: Played, rng: np.random.Generator) -> np.ndarray:
    """A note, shape (2, n) with its tail; `rng` draws phases and drift."""
    n = note.held + int(path.tail_s(patch) * note.rate)
    moves = Movement(_BY_NAME, patch, note, n, rng)
    pitch = note.midi + note.semitones + path.bend_curve(note, n) + moves.value("pitch_semitones")
    return path.shaped(patch, note, moves, _sources(patch, note, moves, pitch, rng), pitch)


def _sources(patch: Patch, note: Played, moves: Movement, pitch: np.ndarray | float, rng: np.random.Generator) -> np.ndarray:
    n = moves.n
    terms: list[tuple[np.ndarray | float, np.ndarray]] = []
    fm, ring, two = (moves.is_used(t) for t in ("fm", "ring", "osc2_level"))
    second: np.ndarray | None = None
    if fm or ring or two:
        second = _second(patch, moves, pitch, note.rate, rng)
        if two:
            terms.append((moves.value("osc2_level"), second))
    phase = moves.value("fm") * second.mean(axis=0) if fm and second is not None else None
    if moves.is_used("osc1_level") or ring:
        first = _unison(patch, moves, 1, _increments(patch, moves, pitch, 1, note.rate), rng, phase)
        terms.append((moves.value("osc1_level"), first))
        if ring and second is not None:
            terms.append((moves.value("ring"), _product(first, second)))
    if moves.is_used("sub_level"):
        sub = _turns(pitch + 12 * patch["sub_octave"], note.rate, n)
        terms.append((moves.value("sub_level"), _sub(patch.choices["sub_wave"], sub)))
    if moves.is_used("noise_level"):
        colour = patch.choices["noise_colour"]
        terms.append((0.5 * moves.value("noise_level"), np.stack([osc.noise(n, colour, rng) for _ in range(2)])))
    out = np.zeros((2, n))
    for level, x in terms:
        # Nothing else reads them any more.
        x *= level
        out += x
    return out


def _increments(patch: Patch, moves: Movement, pitch: np.ndarray | float, number: int, rate: float) -> np.ndarray:
    o = f"osc{number}"
    offset = 12 * patch[f"{o}_octave"] + moves.value(f"{o}_semitones") + moves.value(f"{o}_cents") / 100
    return np.minimum(_turns(pitch + offset, rate, moves.n), 0.45)


def _turns(midi: np.ndarray | float, rate: float, n: int) -> np.ndarray:
    """Cycles per sample of a pitch in MIDI notes, shape (n,)."""
    return np.array(np.broadcast_to(midi_hz(0) / rate * np.exp2(np.asarray(midi) / 12), n))


@cache
def _sine_tables() -> np.ndarray:
    return osc.mip_map(np.sin(2 * np.pi * np.arange(256) / 256))


def frames(patch: Patch, number: int) -> np.ndarray:
    """Tables of an oscillator’s wave (frames, octaves, points); `number` counts from 1."""
    wave = patch.choices[f"osc{number}_wave"]
    if wave in ("saw", "pulse"):
        return osc.saw_tables()
    if wave == "triangle":
        return osc.triangle_tables()
    if wave == OWN_TABLE:
        own = patch.samples.get(f"osc{number}_table")
        return tables.frames_from(own) if own else _sine_tables()
    return _sine_tables() if wave == "sine" else tables.frames_of(wave)


def _unison(
    patch: Patch, moves: Movement, number: int, increments: np.ndarray, rng: np.random.Generator, phase: np.ndarray | None
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
        position=moves.curve(f"{o}_position") if wave in tables.TABLES or wave == OWN_TABLE else None,
        width=moves.curve(f"{o}_width") if wave == "pulse" else None,
        phase_modulation=phase, detune=moving, gain=np.sqrt(2),
    )  # fmt: skip


def _second(patch: Patch, moves: Movement, pitch: np.ndarray | float, rate: float, rng: np.random.Generator) -> np.ndarray:
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


SPEC = VoiceSpec("synth", "Synthesiser", True, PARAMS, render, path.tail_s, CHOICES, path.SOURCES, slots=TABLE_SLOTS)
