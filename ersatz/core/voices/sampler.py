"""The sample player: a piece of the producer's own audio, cut, turned round, pitched, looped, sliced, or stretched to the tempo.

In the order of the code: the selection (start, end, direction, or one slice of it) -> its time (tape: pitch and time together;
hits kept or smooth: a phase vocoder; grains) -> pitch by resampling -> fades -> loop -> the path that all sounds share.
"""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache

import numpy as np
import soxr

from ersatz.core.dsp import followers, onsets, stretch
from ersatz.core.params import Choice, Param
from ersatz.core.samples import Sample
from ersatz.core.voices import path
from ersatz.core.voices.spec import Patch, Played, VoiceSpec

SLOT = "sample"
#: The note that plays the first slice; each further note plays the next.
FIRST_SLICE = 36
PARTS = ("4 parts", "8 parts", "16 parts", "32 parts")
SLICES = ("off", "at hits", *PARTS)
TIMES = ("tape", "hits kept", "smooth", "grains")
LOOPS = ("off", "forward", "back and forth")
#: No note is longer, seconds, however far it is stretched.
LONGEST_S = 120.0
#: Prepared pieces are kept, the last so many that last less than this, seconds.
KEPT, KEPT_S = 24, 12.0
#: Ends of slices and selections are faded at least this long, so that none clicks; the envelope's attack does it at the start.
LEAST_FADE_MS = 1.0

PARAMS = (
    Param("sample_start", "", 0, 1, 0, "Start"), Param("sample_end", "", 0, 1, 1, "End"),
    Param("sample_fade_in_ms", "ms", 0, 5000, 0, "Fade in"), Param("sample_fade_out_ms", "ms", 0, 5000, 2, "Fade out"),
    Param("sample_root", "", 0, 127, 60, "Root note", step=1),
    Param("sample_semitones", "st", -48, 48, 0, "Semitones", step=1), Param("sample_cents", "cents", -100, 100, 0, "Cents"),
    Param("time_beats", "beats", 0, 64, 0, "Fit to beats"), Param("time_stretch", "×", 0.1, 16, 1, "Stretch", "log"),
    Param("time_grain_ms", "ms", 10, 500, 80, "Grain", "log"), Param("time_overlap", "", 2, 8, 4, "Grains at a time", step=1),
    Param("time_spray_ms", "ms", 0, 500, 20, "Spray"),
    Param("loop_start", "", 0, 1, 0, "Loop from"), Param("loop_end", "", 0, 1, 1, "Loop to"),
    Param("loop_crossfade_ms", "ms", 0, 500, 10, "Crossfade"),
    Param("slice_sensitivity", "", 0, 1, 0.5, "Finds softer hits"),
    path.DRIVE, *path.FILTERS,
    *path.envelope_params(1, 0.5, 200, 1.0, 30), *path.envelope_params(2, 0.5, 200, 0, 100),
    *path.envelope_params(3, 0.5, 400, 0, 100), *path.LFOS, *path.LEVEL,
)  # fmt: skip

CHOICES = (
    Choice("sample_direction", ("forward", "backward"), "forward", "Direction"),
    Choice("sample_pitch", ("with the notes", "stays"), "with the notes", "Pitch"),
    Choice("sample_plays", ("while held", "to its end"), "while held", "Lasts"),
    Choice("time_mode", TIMES, "tape", "Time"),
    Choice("loop_mode", LOOPS, "off", "Loop"),
    Choice("slice_mode", SLICES, "off", "Slices"),
    *path.filter_choices("off"), *path.LFO_CHOICES, path.MODE,
)  # fmt: skip

#: What a sample begins as: played at the notes' pitch while they are held, or, for a drum (True), as it is and to its end.
AS_DROPPED = {False: {"mode": "poly"}, True: {"sample_pitch": "stays", "sample_plays": "to its end"}}

_BY_NAME = {p.name: p for p in PARAMS}


def selection(sample: Sample, start: float, end: float) -> np.ndarray:
    """Samples between two places 0..1 of the whole, shape (2, n), n at least 1, at the sample's own rate."""
    x = sample.audio.stereo()
    low, high = sorted((start, end))
    first = min(int(low * x.shape[1]), x.shape[1] - 1)
    return x[:, first : max(first + 1, round(high * x.shape[1]))]


@lru_cache(maxsize=64)
def slice_edges(sample: Sample, start: float, end: float, mode: str, sensitivity: float) -> tuple[int, ...]:
    """Where the slices of a selection begin, in its samples, and its end; one slice where it isn't sliced."""
    x = selection(sample, start, end)
    n = x.shape[1]
    if mode == "at hits":
        found = onsets.hits(x.mean(axis=0), sample.audio.rate_hz, sensitivity)
        # The selection's own start is the first.
        return (0, *(int(h) for h in found if onsets.APART_S * sample.audio.rate_hz / 2 < h < n), n)
    parts = int(mode.split()[0]) if mode in PARTS else 1
    return tuple(round(k * n / parts) for k in range(parts + 1))


def edges_of(patch: Patch, sample: Sample) -> tuple[int, ...]:
    """Samples at which the slices of a patch begin."""
    return slice_edges(sample, patch["sample_start"], patch["sample_end"], patch.choices["slice_mode"], patch["slice_sensitivity"])


def _piece(patch: Patch, sample: Sample, midi: int) -> tuple[int, int]:
    """First and last sample + 1 of what a note plays of the selection."""
    edges = edges_of(patch, sample)
    k = (midi - FIRST_SLICE) % (len(edges) - 1)
    return edges[k], edges[k + 1]


def _time_factor(patch: Patch, sample: Sample, bpm: float) -> float:
    """Length that the selection is brought to, over its own."""
    if patch["time_beats"] <= 0:
        return patch["time_stretch"]
    own_s = selection(sample, patch["sample_start"], patch["sample_end"]).shape[1] / sample.audio.rate_hz
    return patch["time_beats"] * 60 / bpm / own_s


def _semitones(patch: Patch, midi: int, transposed: float) -> float:
    """How far the note lies from the recorded pitch; `transposed` moves whatever it plays, a slice too."""
    follows = patch.choices["sample_pitch"] == "with the notes" and patch.choices["slice_mode"] == "off"
    own = patch["sample_semitones"] + patch["sample_cents"] / 100
    return (midi - patch["sample_root"] if follows else 0.0) + own + transposed


#: Of the settings, everything that decides what `_prepared` gives.
_MADE_OF = ("sample_start", "sample_end", "time_grain_ms", "time_overlap", "time_spray_ms", "slice_sensitivity")


def _prepared(patch: Patch, sample: Sample, note: Played) -> np.ndarray:
    """What the note plays, at its time and pitch, before fades and loop, shape (2, n)."""
    first, last = _piece(patch, sample, note.midi)
    backward = patch.choices["sample_direction"] == "backward"
    time, semitones = round(_time_factor(patch, sample, note.bpm), 6), round(_semitones(patch, note.midi, note.semitones), 4)
    settings = tuple(patch[name] for name in _MADE_OF)
    # What is long is neither played so often nor cheap to keep.
    bring = _kept if (last - first) * time < KEPT_S * sample.audio.rate_hz else _brought
    return bring(sample, settings, first, last, backward, patch.choices["time_mode"], time, semitones, note.rate)


def _brought(
    sample: Sample, settings: tuple[float, ...], first: int, last: int, backward: bool, mode: str, time: float, semitones: float,
    rate: int,
) -> np.ndarray:  # fmt: skip
    start, end, grain_ms, overlap, spray_ms, sensitivity = settings
    x = selection(sample, start, end)[:, first:last]
    own = sample.audio.rate_hz
    # Before anything is made longer than anybody waits for.
    time = min(time, LONGEST_S * own / x.shape[1])
    pitch = 2 ** (semitones / 12)
    if mode == "tape":
        pitch /= time
    elif mode == "grains":
        rng = np.random.default_rng(7)
        length = max(1, round(x.shape[1] * time))
        size = max(16, int(grain_ms / 1000 * own))
        x, pitch = stretch.grains(x, length, pitch, size, int(overlap), spray_ms / 1000 * own, rng), 1.0
    elif abs(time * pitch - 1) > 1e-6:
        length = max(1, round(x.shape[1] * time * pitch))
        if mode == "hits kept":
            x = stretch.keeping_hits(x, length, onsets.hits(x.mean(axis=0), own, sensitivity), own)
        else:
            x = stretch.vocoded(x, length)
    if backward:
        x = x[:, ::-1]
    if abs(own * pitch / rate - 1) < 1e-9:
        return np.asarray(x, np.float32)
    return np.stack([soxr.resample(np.ascontiguousarray(side, np.float64), own * pitch, rate, quality="HQ") for side in x])


_kept = lru_cache(maxsize=KEPT)(_brought)


def _faded(patch: Patch, x: np.ndarray, rate: int) -> np.ndarray:
    looped, n = patch.choices["loop_mode"] != "off", x.shape[1]
    out = np.array(x, np.float64)
    rise = min(n, int(patch["sample_fade_in_ms"] / 1000 * rate))
    if rise:
        out[:, :rise] *= np.linspace(0, 1, rise, endpoint=False)
    # A loop has no end to fade.
    fall = 0 if looped else min(n, max(1, int(max(patch["sample_fade_out_ms"], LEAST_FADE_MS) / 1000 * rate)))
    if fall:
        out[:, n - fall :] *= np.linspace(1, 0, fall)
    return out


def looped(x: np.ndarray, first: int, last: int, length: int, crossfade: int, mode: str) -> np.ndarray:
    """(2, length): the sample up to `last`, then `first`..`last` again and again, or to and fro. Turns of a forward loop are faded
    into each other over `crossfade` samples, with what lies in front of `first`, at the power that it has on average: straight
    fades divided by sqrt(a^2 + b^2 + 2 a b r), r their correlation (Fink, Holters & Zoelzer 2016)."""
    first, last = max(0, min(first, last - 2)), min(last, x.shape[1])
    body = x[:, first:last]
    if mode == "back and forth":
        cycle = np.concatenate([body[:, -2:0:-1], body[:, :1], body[:, 1:]], axis=1)
        turns = -(-max(length - last, 0) // cycle.shape[1])
        return np.concatenate([x[:, :last], *[cycle] * turns], axis=1)[:, :length]
    fade = min(crossfade, first, body.shape[1] // 2)
    out = np.array(x[:, :last], np.float64)
    if fade:
        going, coming = out[:, last - fade :], x[:, first - fade : first]
        power = np.sqrt(float((going**2).sum()) * float((coming**2).sum()))
        r = max(0.0, float((going * coming).sum()) / power) if power > 0 else 1.0
        b = np.linspace(0, 1, fade)
        a = 1 - b
        out[:, last - fade :] = (a * going + b * coming) / np.sqrt(a**2 + b**2 + 2 * a * b * r)
    cycle = out[:, first:last]
    turns = -(-max(length - last, 0) // cycle.shape[1])
    return np.concatenate([out, *[cycle] * turns], axis=1)[:, :length]


def _bent(x: np.ndarray, semitones: np.ndarray | float, n: int) -> np.ndarray:
    """Read at a moving speed, shape (2, n): for bends, which are small beside the pitch itself."""
    steps = np.broadcast_to(np.exp2(np.asarray(semitones) / 12), n)
    # Silence in front, which the interpolation reaches back into.
    places = np.cumsum(steps) - steps + 1
    padded = np.pad(x, ((0, 0), (1, 3)))
    return np.stack([followers.read_at(np.ascontiguousarray(side), places) for side in padded])


def render(patch: Patch, note: Played, rng: np.random.Generator) -> np.ndarray:
    """A note of the patch’s sample, shape (2, n); silence of one sample where it is missing."""
    sample = patch.samples.get(SLOT)
    if sample is None:
        return np.zeros((2, 1))
    x = _faded(patch, _prepared(patch, sample, note), note.rate)
    whole, loop = patch.choices["sample_plays"] == "to its end", patch.choices["loop_mode"]
    bends = bool(note.bend) or any(m.target == "pitch_semitones" for m in patch.modulations) or patch["pitch_semitones"] != 0
    note = replace(note, held=x.shape[1]) if whole else note
    n = note.held + int(path.tail_s(patch) * note.rate)
    first, last = sorted(round(patch[name] * x.shape[1]) for name in ("loop_start", "loop_end"))
    if loop != "off" and not whole and last - first > 1:
        # Bends reach up to two octaves.
        x = looped(x, first, last, n * 4 if bends else n, int(patch["loop_crossfade_ms"] / 1000 * note.rate), loop)
    elif not bends:
        n = min(n, x.shape[1])
    moves = path.Movement(_BY_NAME, patch, note, n, rng)
    semitones = path.bend_curve(note, n) + moves.value("pitch_semitones")
    source = _bent(x, semitones, n) if bends else np.pad(x[:, :n], ((0, 0), (0, max(0, n - x.shape[1]))))
    return path.shaped(patch, note, moves, source, note.midi + note.semitones + semitones)


def own_length_s(patch: Patch, midi: int, semitones: float, bpm: float) -> float:
    """How long a note sounds that plays its piece to its end, at most; 0 where it sounds while it is held."""
    sample = patch.samples.get(SLOT)
    if sample is None or patch.choices["sample_plays"] == "while held":
        return 0.0
    first, last = _piece(patch, sample, midi)
    slower = 2 ** (-_semitones(patch, midi, semitones) / 12) if patch.choices["time_mode"] == "tape" else 1.0
    seconds = (last - first) / sample.audio.rate_hz * _time_factor(patch, sample, bpm) * slower
    return min(seconds, LONGEST_S * slower)


SPEC = VoiceSpec(
    "sample", "Sample", True, PARAMS, render, path.tail_s, CHOICES, path.SOURCES, slots=(SLOT,), own_length_s=own_length_s
)
