"""Convolution with long responses, whose spectra are worked out once.

Partitioned in the frequency domain (Stockham 1966; Gardner 1995, with parts of one length): transforms of 32768 samples stay in the
processor's own memory, where a long one takes four times as long per sample.
"""

from __future__ import annotations

import numpy as np
from scipy import fft

from ersatz.core.compiled import compiled

#: Samples of a part of a response, and of a block of what goes through it.
PART = 16_384


def parts_of(response: np.ndarray) -> np.ndarray:
    """Spectra of the parts of a response of shape (2, m), for `convolved`; complex64, shape (2, parts, PART + 1)."""
    count = -(-response.shape[1] // PART)
    padded = np.pad(response, ((0, 0), (0, count * PART - response.shape[1]))).astype(np.float32)
    return np.asarray(fft.rfft(padded.reshape(2, count, PART), 2 * PART, axis=-1))


@compiled
def _weighed(spectra: np.ndarray, parts: np.ndarray, first: int) -> np.ndarray:  # pragma: no cover - compiled
    """Spectra of the blocks behind the response from `first` on: each block through the first part, the one before it through the
    second, and so on."""
    channels, blocks, bins = spectra.shape
    out = np.zeros((channels, blocks - first, bins), spectra.dtype)
    for c in range(channels):
        for block in range(first, blocks):
            total = out[c, block - first]
            for p in range(min(parts.shape[1], block + 1)):
                part, heard = parts[c, p], spectra[c, block - p]
                for i in range(bins):
                    total[i] += part[i] * heard[i]
    return out


def convolved(x: np.ndarray, parts: np.ndarray, lead: int = 0) -> np.ndarray:
    """The first n samples of x, shape (2, n), through a response (`parts_of`), float32. The first `lead` samples of what comes out
    may be anything."""
    n, count = x.shape[1], parts.shape[1]
    first = lead // PART
    # Blocks that nothing of what is wanted hears are left out.
    skipped = max(0, first - count + 1)
    blocks = -(-n // PART) - skipped
    padded = np.zeros((2, (blocks + 1) * PART), np.float32)
    # A block goes in with the one before it: the first half of what comes out is wrapped round (overlap-save).
    start = max(0, (skipped - 1) * PART)
    padded[:, start - (skipped - 1) * PART :][:, : n - start] = x[:, start:]
    pairs = np.lib.stride_tricks.sliding_window_view(padded, 2 * PART, axis=1)[:, ::PART]
    wet = fft.irfft(_weighed(fft.rfft(pairs, axis=-1), parts, first - skipped), 2 * PART, axis=-1)[..., PART:]
    out = np.zeros((2, n), np.float32)
    out[:, first * PART :] = wet.reshape(2, -1)[:, : n - first * PART]
    return out
