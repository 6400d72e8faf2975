"""Instruments. VOICES names them all; `render_note` plays one note of one of them."""

from __future__ import annotations

import hashlib

import numpy as np

from ersatz.core.errors import UnusableDocument
from ersatz.core.song.document import Sound
from ersatz.core.voices import drums, noise, synths
from ersatz.core.voices.spec import VoiceSpec

VOICES: dict[str, VoiceSpec] = {spec.name: spec for spec in (*drums.SPECS, *synths.SPECS, *noise.SPECS)}


def complete_params(sound: Sound) -> dict[str, float]:
    """The sound's parameters with the voice's defaults filled in, clipped to their ranges."""
    spec = VOICES.get(sound.voice)
    if spec is None:
        raise UnusableDocument(f"There is no voice “{sound.voice}”.")
    return {p.name: float(np.clip(sound.params.get(p.name, p.default), p.low, p.high)) for p in spec.params}


def render_note(sound: Sound, midi: int, length: int, velocity: float, rate_hz: int, variant: int = 0) -> np.ndarray:
    """One note, float32, shape (2, n) with its tail. `length` is the held time in samples.

    The same arguments give the same samples: noise is seeded by them. `variant` picks another take of a hit.
    """
    spec = VOICES[sound.voice]
    params = complete_params(sound)
    text = f"{sound.voice}|{sorted(params.items())}|{midi if spec.pitched else 0}|{variant}"
    seed = int.from_bytes(hashlib.blake2b(text.encode(), digest_size=8).digest(), "big")
    out = spec.render(params, midi, length, velocity, rate_hz, np.random.default_rng(seed))
    return np.asarray(out, np.float32)
