"""Time and pitch apart: a phase vocoder that leaves hits alone, and grains.

Conventions: samples are (2, n) of any rate, results (2, length) of the same rate; both sides are moved alike.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from scipy import fft

from ersatz.core.compiled import compiled
from ersatz.core.dsp.followers import hermite_both

WINDOW = 2048
HOP = WINDOW // 4
#: What follows a hit is as recorded for this long, seconds.
ATTACK_S = 0.03
#: Neighbouring stretches are faded into each other over this many samples, in front of the hit.
SEAM = 96
#: Frames that are transformed at once.
BLOCK = 512


def vocoded(x: np.ndarray, length: int, kept: int = 0) -> np.ndarray:
    """`x` brought to another length at its own pitch, by a phase vocoder with phases locked around spectral peaks (Laroche & Dolson
    1999). The first `kept` samples are given back as they are: there the frames advance as fast as they were taken.
    """
    n = x.shape[1]
    if length == n or n == 0 or length <= 0:
        return np.array(x[:, : max(length, 0)], np.float64)
    kept = min(kept, n, length)
    frames = length // HOP + 2
    to = np.arange(frames) * HOP
    slope = (n - kept) / max(length - kept, 1)
    taken = np.round(np.where(to <= kept, to, kept + (to - kept) * slope)).astype(np.int64)
    # Frames are centred; one hop earlier is read too, for how far the phases run.
    before = WINDOW // 2 + HOP
    padded = np.pad(np.asarray(x, np.float64), ((0, 0), (before, WINDOW)))
    window = np.hanning(WINDOW + 1)[:WINDOW]
    out = np.zeros((2, (frames - 1) * HOP + WINDOW))
    weight = np.zeros(out.shape[1])
    turn = np.ones(WINDOW // 2 + 1, complex)
    last: np.ndarray | None = None
    for first in range(0, frames, BLOCK):
        places = taken[first : first + BLOCK]
        now = _spectra(padded, np.minimum(places, n) + HOP, window)
        earlier = _spectra(padded, np.minimum(places, n), window).mean(axis=1)
        middle = now.mean(axis=1)
        if last is None:
            last = middle[0]
            # The first frame stands as it is.
            earlier[0] = last
        turns = _turned(middle, earlier, last, turn)
        turn, last = turns[-1], middle[-1]
        pieces = fft.irfft(now * turns[:, None, :], WINDOW, axis=2) * window
        for k, piece in enumerate(pieces):
            at = (first + k) * HOP
            out[:, at : at + WINDOW] += piece
            weight[at : at + WINDOW] += window**2
    out /= np.maximum(weight, 1e-3)
    return out[:, WINDOW // 2 : WINDOW // 2 + length]


def _spectra(padded: np.ndarray, places: np.ndarray, window: np.ndarray) -> np.ndarray:
    """Spectra of both sides at each place, shape (frames, 2, bins)."""
    frames = np.stack([padded[:, p : p + WINDOW] for p in places])
    return np.asarray(fft.rfft(frames * window, axis=2))


@compiled
def _turned(now: np.ndarray, earlier: np.ndarray, last: np.ndarray, turn: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """By how much each bin of each frame is turned, complex of unit size, shape (frames, bins).

    A peak goes on from where it had got to in the frame before: turn' = turn * last / earlier, where `earlier` is this frame's
    spectrum one hop ago. The bins around a peak, to the lowest one between it and the next, turn with it.
    """
    frames, bins = now.shape
    out = np.empty((frames, bins), np.complex128)
    size = np.empty(bins)
    for f in range(frames):
        previous = last if f == 0 else now[f - 1]
        for b in range(bins):
            size[b] = abs(now[f, b])
        low = 0
        peak = -1
        b = 0
        while b < bins:
            higher = (
                size[b] >= size[max(b - 1, 0)]
                and size[b] >= size[max(b - 2, 0)]
                and size[b] > size[min(b + 1, bins - 1)]
                and size[b] > size[min(b + 2, bins - 1)]
            )
            if higher or b == bins - 1:
                # The bins up to the lowest between the last peak and this one belong to the last.
                lowest = b
                if peak >= 0 and b < bins - 1:
                    for c in range(peak, b):
                        if size[c] < size[lowest]:
                            lowest = c
                elif b == bins - 1:
                    lowest = bins
                if peak < 0 and b < bins - 1:
                    lowest = 0
                at = peak if peak >= 0 else b
                step = turn[at] * previous[at] * np.conj(earlier[f, at])
                length = abs(step)
                step = step / length if length > 1e-12 else turn[at]
                for c in range(low, lowest):
                    out[f, c] = step
                low = lowest
                peak = b
            b += 1
        turn = out[f]
    return out


def keeping_hits(x: np.ndarray, length: int, hits: np.ndarray, rate: float) -> np.ndarray:
    """`x` at another length with its hits as sharp as they were: cut at the hits, each stretch vocoded by itself from its hit on,
    which is left as recorded (after Roebel 2003, who resets phases there). `hits` in samples of `x`, in order."""
    n = x.shape[1]
    edges = [0, *(int(h) for h in hits if SEAM < h < n - SEAM), n]
    ratio = length / n
    # Room for the fades in front of the first hit.
    out = np.zeros((2, length + SEAM))
    up = np.linspace(0, 1, SEAM)
    for k, (start, stop) in enumerate(pairwise(edges)):
        begin, end = round(start * ratio), (length if stop == n else round(stop * ratio))
        lead = SEAM if k else 0
        take = x[:, start - lead : stop]
        piece = vocoded(take, end - begin + lead, int(ATTACK_S * rate) + lead)
        if k:
            piece[:, :SEAM] *= up
        if stop < n:
            # The next hit's lead takes over here.
            piece[:, -SEAM:] *= 1 - up
        at = begin - lead + SEAM
        out[:, at : at + piece.shape[1]] += piece
    return out[:, SEAM:]


@compiled
def _grained(
    x: np.ndarray, out: np.ndarray, starts: np.ndarray, places: np.ndarray, size: int, pitch: float
) -> None:  # pragma: no cover - compiled
    """Adds windowed grains: each begins at `starts` of the result and is read from `places` on, `pitch` times as fast."""
    left, right = x[0], x[1]
    for g in range(len(starts)):
        for i in range(size):
            at = starts[g] + i
            if 0 <= at < out.shape[1]:
                weight = 0.5 - 0.5 * np.cos(2.0 * np.pi * (i + 0.5) / size)
                on_left, on_right = hermite_both(left, right, places[g] + i * pitch)
                out[0, at] += weight * on_left
                out[1, at] += weight * on_right


def grains(x: np.ndarray, length: int, pitch: float, size: int, overlap: int, spray: float, rng: np.random.Generator) -> np.ndarray:
    """`x` at another length as overlapping grains of `size` samples, each read `pitch` times as fast from up to `spray` samples off
    its place (granular synthesis after Roads 1988). `overlap` grains sound at a time."""
    step = max(1, size // overlap)
    starts = np.arange(-size + step, length, step)
    centres = (starts + size / 2) / max(length, 1) * x.shape[1]
    places = centres - size / 2 * pitch + rng.uniform(-spray, spray, len(starts))
    places = np.clip(places, 1, max(1.0, x.shape[1] - 3 - size * pitch))
    out = np.zeros((2, length))
    _grained(np.ascontiguousarray(x, np.float64), out, starts, places, size, pitch)
    # Hann windows add up to overlap / 2 where grains agree sample by sample; elsewhere their powers, 3 / 8 each, add up.
    agree = spray == 0 and length == x.shape[1] and pitch == 1
    return out / (overlap / 2 if agree else np.sqrt(overlap * 3 / 8))
