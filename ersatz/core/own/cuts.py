"""Which samples are cut from the reference? Where one lies in it at its own speed, the normalised correlation of the two is 1; a
sample that was stretched, pitched or turned round isn't found."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import scipy
from scipy import fft

from ersatz.core.audio import Audio, resample
from ersatz.core.samples import Samples
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Part, Sound

#: Both are looked at at this rate, without what a cut's own low cut may have taken out; a cut begins between two samples, which the
#: highest partials would feel.
RATE_HZ, BAND_HZ = 22_050, (120.0, 5000.0)
LONGEST_S, SHORTEST_S = 4.0, 0.05
#: Correlation from which a sample is taken for a cut: other music of the same style reaches 0.5 over 50 ms.
ALIKE = 0.8


def cut_from(song: Song, samples: Samples, reference: Callable[[], Audio]) -> tuple[tuple[str, float], ...]:
    """(id of the part, seconds of the reference) of every part that plays a cut of it. The reference is read where the song
    plays a sample at all."""
    # Most songs play none, and the whole track is looked through for one.
    if not any(sound.samples for part in song.parts for sound in _sounds(part)):
        return ()
    long = _plain(reference())
    out = []
    for part in song.parts:
        found = [samples(sha) for sound in _sounds(part) for sha in sound.samples.values()]
        for sample in found:
            if sample is not None and (at := _place(_plain(sample.audio), long)) is not None:
                out.append((part.id, at))
                break
    return tuple(out)


def _sounds(part: Part) -> tuple[Sound, ...]:
    return (part.sound, *(c.sound for c in part.cells if c.sound is not None))


def _plain(audio: Audio) -> np.ndarray:
    x = resample(np.atleast_2d(audio.samples).mean(axis=0, keepdims=True), audio.rate_hz, RATE_HZ)[0]
    return np.asarray(scipy.signal.sosfilt(scipy.signal.butter(2, BAND_HZ, "band", fs=RATE_HZ, output="sos"), x))


def _place(short: np.ndarray, long: np.ndarray) -> float | None:
    """Where the loudest stretch of a sample lies in the reference, seconds; None where it doesn't."""
    short = short[: int(LONGEST_S * RATE_HZ)]
    if len(short) < SHORTEST_S * RATE_HZ or len(short) > len(long) or not np.any(short):
        return None
    size = fft.next_fast_len(len(long) + len(short))
    products = fft.irfft(fft.rfft(long, size) * np.conj(fft.rfft(short, size)), size)[: len(long) - len(short) + 1]
    energy = np.concatenate([[0.0], np.cumsum(np.square(long))])
    there = np.sqrt(np.maximum(energy[len(short) :] - energy[: -len(short)], 1e-9) * np.square(short).sum())
    best = int(np.argmax(np.abs(products) / there))
    return best / RATE_HZ if abs(products[best]) / there[best] >= ALIKE else None
