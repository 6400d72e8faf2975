"""Which notes begin on each 16th of a recording, and which pitch classes sound in each bar?

Method: magnitude spectra on an axis of third semitones, one behind the start of each 16th and one before it, are explained as a
sum of harmonic notes and of bands of noise by non-negative factors with a fixed dictionary (harmonic atoms after Vincent, Bertin &
Badeau 2010; multiplicative updates for the Kullback-Leibler divergence, Lee & Seung 2001). A note begins where more of it is needed
behind than before. Overtones that a lower note explains speak for no note of their own, a drum is noise, a chord that goes on
begins nowhere. What a mix buries isn't found.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from math import floor

import numpy as np
import scipy
from scipy import fft

from ersatz.core.audio import Audio, resample
from ersatz.core.grid import BarGrid
from ersatz.core.pitch import midi_hz
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.threads import one_thread_of_algebra

RATE_HZ = 22_050
FRAME, FFT_FRAME = 3072, 8192
LOW_MIDI, HIGH_MIDI = 26, 96
#: The axis: so many bins an octave from here on.
BINS_PER_OCTAVE, FIRST_HZ, OCTAVES = 36, 27.5, 7.5
BINS = int(BINS_PER_OCTAVE * OCTAVES)
#: Partials fall off with these powers of their number: a dull and a bright note.
SLOPES = (0.6, 1.4)
PARTIALS, HIGHEST_PARTIAL_HZ = 12, 7500.0
NOISE_BAND_BINS, NOISE_WIDTH_BINS = 18, 14
UPDATES = 80
#: An attack needs a moment; the frame before ends where the 16th begins.
ATTACK_S, BEFORE = 0.012, 0.9
#: Evidence is relative to the strongest of its 16th, and to this share of what is usual where hardly anything begins.
LEAST_STRONGEST = 0.5
#: Chords are read from here on up: basses walk.
CHORDS_FROM_MIDI = 48
MOST_BARS = 400
#: Sum of a frame's magnitudes under which a recording is silent; share of the loudest bar under which a bar is.
SILENT, QUIET_SHARE = 1e-4, 0.03


@dataclass(frozen=True)
class Heard:
    """`begins`: evidence 0..1 that a note begins, shape (16ths, HIGH_MIDI - LOW_MIDI). `sounds`: how much each pitch class sounds,
    shape (bars, 12), every bar of mean 0 and length 1, or 0 where it is silent."""

    begins: np.ndarray
    sounds: np.ndarray

    @property
    def bars(self) -> int:
        """Number of bars."""
        return len(self.sounds)


@one_thread_of_algebra
def hear(audio: Audio, grid: BarGrid, swing_percent: float = 50.0) -> Heard:
    """The notes of a recording from bar 1 on, up to MOST_BARS bars. `swing_percent`: where the second 16th of two lies."""
    x = resample(audio.samples.mean(axis=0, keepdims=True), audio.rate_hz, RATE_HZ)[0].astype(np.float32)
    bars = max(0, min(MOST_BARS, floor((len(x) / RATE_HZ - grid.first_downbeat_s) / grid.bar_s)))
    step_s = grid.bar_s / STEPS_PER_BAR
    late = np.where(np.arange(bars * STEPS_PER_BAR) % 2, (swing_percent - 50) / 50 * step_s, 0.0)
    starts = grid.first_downbeat_s + np.arange(bars * STEPS_PER_BAR) * step_s + late
    behind = _notes(_spectra(x, starts + ATTACK_S))
    before = _notes(_spectra(x, starts - BEFORE * FRAME / RATE_HZ))
    return Heard(_evidence(np.sqrt(np.maximum(behind - before, 0.0))), _pitch_classes(np.sqrt(behind)))


def _evidence(begins: np.ndarray) -> np.ndarray:
    strongest = begins.max(axis=1, keepdims=True, initial=0.0)
    usual = float(np.percentile(strongest, 80)) if len(begins) else 0.0
    return np.asarray(begins / np.maximum(np.maximum(strongest, LEAST_STRONGEST * usual), 1e-9), dtype=np.float32)


def _pitch_classes(level: np.ndarray) -> np.ndarray:
    notes = np.arange(LOW_MIDI, HIGH_MIDI)
    classes = np.zeros((len(level), 12))
    for note in notes[notes >= CHORDS_FROM_MIDI]:
        classes[:, note % 12] += level[:, note - LOW_MIDI]
    bars = classes.reshape(-1, STEPS_PER_BAR, 12).mean(axis=1)
    sums = bars.sum(axis=1, keepdims=True)
    return unit_rows(np.where(sums > QUIET_SHARE * sums.max(initial=0.0), bars, 0.0))


def unit_rows(rows: np.ndarray) -> np.ndarray:
    """Rows less their mean, of length 1; 0 where all of a row is alike."""
    centred = rows - rows.mean(axis=1, keepdims=True)
    length = np.linalg.norm(centred, axis=1, keepdims=True)
    return np.asarray(np.where(length > 1e-6, centred / np.maximum(length, 1e-6), 0.0))


def _spectra(x: np.ndarray, starts_s: np.ndarray) -> np.ndarray:
    """Magnitudes on the axis of frames that start there, shape (BINS, frames)."""
    padded = np.pad(x, (FRAME, FRAME))
    first = np.clip(np.round(starts_s * RATE_HZ).astype(int) + FRAME, 0, len(padded) - FRAME)
    frames = np.lib.stride_tricks.sliding_window_view(padded, FRAME)[first]
    return _on_axis(frames)


def _on_axis(frames: np.ndarray) -> np.ndarray:
    spectrum = np.abs(fft.rfft(frames * np.hanning(FRAME).astype(np.float32), FFT_FRAME, axis=1))
    return np.asarray(np.sqrt(_axis() @ np.square(spectrum).T))


@cache
def _axis() -> scipy.sparse.csr_matrix:
    """Power of FFT bins summed onto the axis, each bin in proportion; shape (BINS, FFT_FRAME // 2 + 1)."""
    width = RATE_HZ / FFT_FRAME
    rows, columns, shares = [], [], []
    for k in range(1, FFT_FRAME // 2 + 1):
        low, high = (BINS_PER_OCTAVE * np.log2((k + side) * width / FIRST_HZ) for side in (-0.5, 0.5))
        for row in range(max(0, floor(low)), min(BINS - 1, floor(high)) + 1):
            rows.append(row)
            columns.append(k)
            shares.append((min(high, row + 1) - max(low, row)) / (high - low))
    return scipy.sparse.csr_matrix((np.array(shares, np.float32), (rows, columns)), shape=(BINS, FFT_FRAME // 2 + 1))


@cache
def _dictionary() -> tuple[np.ndarray, int]:
    """Spectra of sum 1, shape (BINS, atoms), and how many of the atoms are notes: all SLOPES of each, lowest first."""
    at = np.arange(FRAME) / RATE_HZ
    atoms = []
    for midi in range(LOW_MIDI, HIGH_MIDI):
        hz = midi_hz(midi)
        numbers = [h for h in range(1, PARTIALS + 1) if h * hz <= HIGHEST_PARTIAL_HZ]
        partials = np.square(_on_axis(np.array([np.cos(2 * np.pi * h * hz * at) for h in numbers], np.float32)))
        atoms += [np.sqrt(partials @ np.power(numbers, -2 * slope)) for slope in SLOPES]
    bins = np.arange(BINS)
    noise = [np.exp(-0.5 * np.square((bins - centre) / NOISE_WIDTH_BINS)) for centre in range(0, BINS, NOISE_BAND_BINS)]
    table = np.array([*atoms, *noise], np.float32).T
    return table / table.sum(axis=0), len(atoms)


def _notes(spectra: np.ndarray) -> np.ndarray:
    """How much of each note explains each spectrum, shape (frames, notes)."""
    loud = float(np.percentile(spectra.sum(axis=0), 95)) if spectra.size else 0.0
    if loud < SILENT:
        return np.zeros((spectra.shape[1], HIGH_MIDI - LOW_MIDI), np.float32)
    table, notes = _dictionary()
    x = (spectra / loud + 1e-7).astype(np.float32)
    amounts = np.repeat(x.sum(axis=0, keepdims=True) / table.shape[1], table.shape[1], axis=0)
    for _ in range(UPDATES):
        # The atoms sum to 1, so that nothing else stands under the fraction.
        amounts *= table.T @ (x / (table @ amounts + 1e-9))
    return amounts[:notes].reshape(HIGH_MIDI - LOW_MIDI, len(SLOPES), -1).sum(axis=1).T
