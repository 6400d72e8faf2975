"""A sound as curves: one cycle of each wave, filter responses, envelopes, LFO cycles, and the note itself. For drawing; plain
lists."""

from __future__ import annotations

from itertools import pairwise
from typing import TypedDict

import numpy as np

from ersatz.core.dsp import filters
from ersatz.core.samples import Samples, no_samples
from ersatz.core.song.parts import Sound
from ersatz.core.voices import complete, modulation, path, render_note, sampler, synth
from ersatz.core.voices import oscillators as osc
from ersatz.core.voices.spec import Patch, Played

RATE_HZ = 44_100
CYCLE_POINTS = 96
CURVE_POINTS = 96
WAVE_COLUMNS = 480
#: Frequencies that responses are drawn at.
AXIS_HZ = np.geomspace(20, 20_000, 120)
#: How long a key is pressed in the picture of an envelope, beyond its attack and decay, as a share of the whole.
HELD_SHARE = 0.25


class Stages(TypedDict):
    """Where an envelope's stages end, in seconds; `sustain` is its level, 0..1."""

    attack: float
    decay: float
    held: float
    end: float
    sustain: float


class EnvelopePicture(TypedDict):
    """Level 0..1 over `seconds`."""

    seconds: float
    values: list[float]
    stages: Stages


class SoundPictures(TypedDict, total=False):
    """What can be drawn of a sound, by block where there are several of a kind. `cycles` -1..1, `responses` dB at AXIS_HZ; `wave`
    and `hit` are outlines (lowest and highest per column) of `seconds`; `slices` are places 0..1."""

    cycles: dict[str, list[float]]
    responses: dict[str, list[float] | None]
    envelopes: dict[str, EnvelopePicture]
    lfos: dict[str, list[float]]
    wave: list[list[float]]
    hit: list[list[float]]
    seconds: float
    slices: list[float]


def _rounded(values: np.ndarray, digits: int = 4) -> list[float]:
    return [float(v) for v in np.round(values, digits)]


def cycle(patch: Patch, number: int) -> list[float]:
    """One cycle of an oscillator at 110 Hz, CYCLE_POINTS long."""
    wave, o = patch.choices[f"osc{number}_wave"], f"osc{number}"
    n = CYCLE_POINTS
    increments = np.full(n, 1 / n)
    # The bandwidth of a low note: what the cycle looks like, not what this few points could carry.
    band = np.full(n, 110 / RATE_HZ)
    position = np.full(n, patch[f"{o}_position"]) if wave in synth.tables.TABLES or wave == synth.OWN_TABLE else None
    width = np.full(n, patch[f"{o}_width"]) if wave == "pulse" else None
    one = np.zeros(1)
    out = osc.unison(synth.frames(patch, number), increments, one, one + patch[f"{o}_phase"], one, position, width, bandwidth=band)
    return _rounded(out[0] * np.sqrt(2))


def envelope_curve(patch: Patch, number: int) -> EnvelopePicture:
    """An envelope as CURVE_POINTS points, pressed, held for a while and let go; `number` counts from 1."""
    e = path.envelope_of(patch, number)
    pressed = e.attack_s + e.hold_s + e.decay_s
    held = pressed * (1 + HELD_SHARE)
    total = held + e.release_s
    rate = 2000 / total
    values = modulation.envelope(e, int(held * rate), 2001, rate)
    at = np.linspace(0, 2000, CURVE_POINTS).astype(int)
    stages: Stages = {"attack": e.attack_s, "decay": pressed, "held": held, "end": total, "sustain": e.sustain}
    return {"seconds": total, "values": _rounded(values[at]), "stages": stages}


def lfo_curve(patch: Patch, number: int) -> list[float]:
    """One cycle, -1..1; of a random one four values."""
    shape = patch.choices[f"lfo{number}_shape"]
    cycles = 4 if shape == "random" else 1
    phases = np.linspace(0, cycles, CURVE_POINTS, endpoint=False)
    return _rounded(modulation.lfo(shape, phases, 1.0, np.array(patch.shapes.get(f"lfo{number}", ())), 1))


def response(patch: Patch, number: int) -> list[float] | None:
    """dB at AXIS_HZ, None for a filter that is off."""
    f = f"filter{number}"
    kind = patch.choices[f"{f}_kind"]
    if kind == "off":
        return None
    found = filters.response_db(kind, patch[f"{f}_hz"], patch[f"{f}_resonance"], AXIS_HZ, RATE_HZ, patch[f"{f}_vowel"])
    return _rounded(np.maximum(found, -60), 2)


def outline(samples: np.ndarray, columns: int = 160) -> list[list[float]]:
    """Lowest and highest sample per column of (2, n)."""
    mono = samples.mean(axis=0)
    edges = np.linspace(0, len(mono), columns + 1).astype(int)
    return [[round(float(mono[a:b].min()), 4), round(float(mono[a:b].max()), 4)] for a, b in pairwise(edges) if b > a]


def _moving(patch: Patch) -> SoundPictures:
    """What the path behind a source is drawn from."""
    return {
        "responses": {f"filter{k}": response(patch, k) for k in (1, 2)},
        "envelopes": {f"env{k}": envelope_curve(patch, k) for k in (1, 2, 3)},
        "lfos": {f"lfo{k}": lfo_curve(patch, k) for k in (1, 2)},
    }


def sample_pictures(patch: Patch) -> SoundPictures:
    """The whole sample with its length in seconds, and where its slices begin, as places 0..1 of it; nothing where it is gone."""
    sample = patch.samples.get(sampler.SLOT)
    if sample is None:
        return {}
    whole = sample.audio.stereo()
    first = min(patch["sample_start"], patch["sample_end"])
    edges = [first + e / whole.shape[1] for e in sampler.edges_of(patch, sample)]
    return {"wave": outline(whole, WAVE_COLUMNS), "seconds": sample.audio.duration_s, "slices": _rounded(np.array(edges), 5)}


def pictures_of(sound: Sound, samples: Samples = no_samples) -> SoundPictures:
    """Everything that can be drawn of a sound; of a drum voice the outline of one hit and how long it is, in seconds."""
    if sound.voice == sampler.SPEC.name:
        patch = complete(sound, samples)
        return {**_moving(patch), **sample_pictures(patch)}
    if sound.voice != synth.SPEC.name:
        hit = render_note(sound, Played(60, RATE_HZ))
        return {"hit": outline(hit), "seconds": hit.shape[1] / RATE_HZ}
    patch = complete(sound, samples)
    return {"cycles": {f"osc{k}": cycle(patch, k) for k in (1, 2)}, **_moving(patch)}
