"""The track cut into 16ths before its bar line is known: levels, pitches and drum onsets per slot.

Slot k lasts from `edges_s[k]` to `edges_s[k + 1]`, a quarter of a beat; slot 0 starts within one slot of the file's start. What
decides the octave of the tempo, the metre and the bar line reads from here.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.survey.shared import TONAL_HOP, TONAL_HZ, Shared, frame_means

#: Frames of the two means whose difference is a sustained rise: 12 to 41 ms after the onset against as much before it. A
#: click is over by then, a clap, snare or hat is not.
REACH, SPAN = 2, 5


@dataclass(frozen=True)
class Slots:
    """Curves per slot; `level` (bands, slots) is the natural log of power, `tonal` (semitones, slots) magnitude."""

    edges_s: np.ndarray
    level: np.ndarray
    tonal: np.ndarray
    kick: np.ndarray
    snare: np.ndarray
    hats: np.ndarray

    @property
    def count(self) -> int:
        """Number of slots."""
        return len(self.edges_s) - 1


def sustained_rise(power: np.ndarray) -> np.ndarray:
    """Rise of the amplitude that lasts: mean over the SPAN frames from REACH after each frame less that before it, >= 0."""
    amplitude = np.sqrt(np.maximum(power, 0))
    total = np.concatenate([np.zeros((*amplitude.shape[:-1], 1)), np.cumsum(amplitude, axis=-1, dtype=np.float64)], axis=-1)
    n = amplitude.shape[-1]
    edges = [(0, 0)] * (total.ndim - 1) + [(REACH + SPAN - 1, REACH + SPAN)]
    padded = np.pad(total, edges, mode="edge")

    def until(frames_later: int) -> np.ndarray:
        first = frames_later + REACH + SPAN - 1
        return padded[..., first : first + n]

    after = until(REACH + SPAN) - until(REACH)
    before = until(1 - REACH) - until(1 - REACH - SPAN)
    return np.asarray(np.maximum(after - before, 0) / SPAN)


def peaks_at(curve: np.ndarray, times_s: np.ndarray, hop_s: float, early_s: float = 0.012, late_s: float = 0.024) -> np.ndarray:
    """Largest value of a curve (..., frames) from `early_s` before to `late_s` after each time, shape (..., times)."""
    index = np.round(times_s / hop_s).astype(int)
    reach = range(-round(early_s / hop_s), round(late_s / hop_s) + 1)
    return np.asarray(np.max([curve[..., np.clip(index + d, 0, curve.shape[-1] - 1)] for d in reach], axis=0))


@dataclass(frozen=True)
class Curves:
    """Onset curves of the drums, shape (frames,): what sets in below and above the fundamentals, and noise that lasts."""

    low: np.ndarray
    knock: np.ndarray
    snare: np.ndarray
    hats: np.ndarray


def drum_curves(shared: Shared) -> Curves:
    """The curves of a whole track; they need no tempo."""
    return Curves(
        low=shared.attacks(20, 110),
        knock=shared.attacks(110, 360),
        snare=sustained_rise(shared.noise(1000, 5600)),
        hats=sustained_rise(shared.noise(8000, 16_000)),
    )


def cut_slots(shared: Shared, curves: Curves, bpm: float, anchor_s: float) -> Slots:
    """The grid of 16ths through `anchor_s`, from the file's start to its end."""
    slot_s = 15 / bpm
    count = int((shared.duration_s - anchor_s % slot_s) / slot_s)
    edges = anchor_s % slot_s + np.arange(count + 1) * slot_s
    power = shared.mid_power + shared.side_power
    level = np.log(frame_means(power, edges, shared.hop_s) + 1e-9)
    starts = edges[:-1]
    low, knock, snare, hats = (
        _unit(peaks_at(curve, starts, shared.hop_s)) for curve in (curves.low, curves.knock, curves.snare, curves.hats)
    )
    return Slots(
        edges_s=edges,
        level=level,
        tonal=frame_means(shared.semitones, edges, TONAL_HOP / TONAL_HZ),
        # A kick falls through both in pitch; a bass on the off-beat may set in louder below, but not above.
        kick=np.sqrt(low * knock),
        snare=snare,
        hats=hats,
    )


def _unit(strength: np.ndarray) -> np.ndarray:
    """1 where the strong hits are, never above 1.5."""
    busiest = np.sort(strength)[-max(8, len(strength) // 12) :]
    return np.asarray(np.minimum(strength / max(float(np.median(busiest)), 1e-9), 1.5))
