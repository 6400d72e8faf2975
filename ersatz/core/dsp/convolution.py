"""Convolution with long responses, whose spectra are worked out once."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy import fft


def spectrum_of(response: np.ndarray, size: int) -> np.ndarray:
    """For `convolved`, of a response of shape (2, m)."""
    return np.asarray(fft.rfft(response, size, axis=-1))


def convolved(x: np.ndarray, length: int, spectrum: Callable[[int], np.ndarray], lead: int = 0) -> np.ndarray:
    """The first n samples of x, shape (2, n), through a response of `length` samples, float32. `spectrum` gives its
    own for a size of transform. The first `lead` samples may hold anything: the end of the circle falls on them (overlap-save)."""
    n = x.shape[1]
    size = fft.next_fast_len(max(n, n + length - 1 - lead), real=True)
    # Single precision keeps 130 dB under the loudest sample.
    product = fft.rfft(x.astype(np.float32), size, axis=-1) * spectrum(size)
    return np.asarray(fft.irfft(product, size, axis=-1)[:, :n])
