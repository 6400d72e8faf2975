"""The demo producer's own samples: a break from the car deck, a call over the loudspeakers, the ship's horn."""

from __future__ import annotations

import numpy as np

from demo import synth
from demo.synth import RATE_HZ

BREAK_BPM = 128.0


def car_deck_break() -> np.ndarray:
    """Two bars of a shuffled break at BREAK_BPM, as it was found: not at the tempo of any track. Shape (2, n)."""
    rng = np.random.default_rng(9)
    step = 60 / BREAK_BPM / 4 * RATE_HZ
    out = np.zeros(round(32 * step))
    kick, snare = synth.kick(54.0, 0.22, 180, rng), synth.clap(rng, (0.0, 0.008), 210.0, 0.07)
    for bar in (0, 16):
        for place, hit, level in (
            *((bar + s, kick, 0.9) for s in (0, 2, 10)), *((bar + s, snare, 0.7) for s in (4, 12)), (bar + 7, snare, 0.25),
            *((bar + s, synth.hat(rng, 0.03), 0.22 if s % 4 else 0.3) for s in range(0, 16, 2)),
        ):  # fmt: skip
            start = int((place + (0.12 if place % 2 else 0.0)) * step)
            piece = hit[: len(out) - start] * level
            out[start : start + len(piece)] += piece
    return np.stack([out, out]) * 0.8


def deck_call() -> np.ndarray:
    """Four sung vowels over the loudspeakers, shape (2, n)."""
    notes = ((58, 0.45, "a"), (61, 0.3, "e"), (58, 0.3, "o"), (65, 0.7, "a"))
    mono = np.concatenate([np.pad(synth.voice_chop(*note), (0, int(0.05 * RATE_HZ))) for note in notes])
    mono = synth.band(mono / np.abs(mono).max(), 300, 5000)
    return np.stack([mono, mono]) * 0.8


def harbour_horn() -> np.ndarray:
    """One long blast with the bay's echo, shape (2, n)."""
    rng, n = np.random.default_rng(4), int(2.8 * RATE_HZ)
    t = np.arange(n) / RATE_HZ
    shape = np.minimum(1, t / 0.12) * np.where(t < 1.6, 1.0, np.exp(-(t - 1.6) / 0.18))
    mono = synth.band((synth.saw(116.5, n, 2400) + 0.7 * synth.saw(174.6, n, 2400, 0.4)) * shape, 60, 1800)
    out = synth.room(np.stack([mono, mono]), rng, 1.6, 0.25)
    return np.asarray(out / np.abs(out).max() * 0.8)


SAMPLES = {"Car deck break": car_deck_break, "Deck call": deck_call, "Harbour horn": harbour_horn}
