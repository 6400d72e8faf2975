"""What does every strip add, on one frequency axis?

Conventions: third octaves of bands.NOMINAL_HZ; levels are dB of mean power re full scale, both channels added. A strip is
measured as it leaves its fader, the master as the finished mix. Frames are FRAME samples long, every HOP, so that what two strips
do at the same time can be told from what they do one after the other.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache

import numpy as np
from scipy import fft

from ersatz.core import bands
from ersatz.core.dsp.levels import FLOOR_DB, to_db
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song
from ersatz.core.song.strips import MASTER
from ersatz.core.survey.document import Survey
from ersatz.core.target.document import in_balance
from ersatz.core.threads import one_thread_of_algebra

#: 93 ms: short enough for hits, long enough for 60 Hz and a third octave around it.
FRAME, HOP = 4096, 2048
#: So many bars of a section are measured: the second half of a drop is the full one.
MOST_BARS = 16
#: Long enough for frames of a spectrum.
STRETCH = 2

PER_OCTAVE = 12
FINE_HZ = 20.0 * 2 ** (np.arange(10 * PER_OCTAVE) / PER_OCTAVE)

Progress = Callable[[float], None]


@dataclass(frozen=True)
class Lane:
    """`power` and `side`: mean power per third octave of both channels and of their difference, shape (BANDS,). `frames`: power by
    time, shape (BANDS, frames)."""

    strip: str
    power: np.ndarray
    side: np.ndarray
    frames: np.ndarray

    @property
    def level_db(self) -> np.ndarray:
        """Per third octave."""
        return to_db(self.power)

    @property
    def peak_db(self) -> np.ndarray:
        """The loudest frame of each third octave: what a held peak shows."""
        return to_db(self.frames.max(axis=1, initial=0.0))

    @property
    def is_silent(self) -> bool:
        """Whether next to nothing is heard."""
        return float(self.power.sum()) <= 10 ** (FLOOR_DB / 10)


@dataclass(frozen=True)
class Lanes:
    """`lanes`: parts, buses, returns that sound, and the master, by id. 1-based bars `first` to `last`."""

    first: int
    last: int
    lanes: dict[str, Lane]

    @property
    def mix(self) -> Lane:
        """The finished mix."""
        return self.lanes[MASTER]


def measured_bars(song: Song, section: int, most: int = MOST_BARS) -> tuple[int, int]:
    """1-based bars of a section (by its place) that stand for it, its last ones."""
    first, found = list(song.placed())[section]
    last = first + found.bars - 1
    return max(first, last - most + 1), last


def spread_bars(song: Song, section: int, most: int) -> list[tuple[int, int]]:
    """Stretches of a section (by its place), first and last bar, 1-based, that together stand for all of it: of STRETCH bars,
    evenly spread, `most` bars together. What enters late or leaves early has its share."""
    first, found = list(song.placed())[section]
    count = max(1, most // STRETCH)
    if found.bars <= count * STRETCH:
        return [(first, first + found.bars - 1)]
    starts = [first + round((k + 0.5) * found.bars / count - STRETCH / 2) for k in range(count)]
    return [(start, start + STRETCH - 1) for start in starts]


@one_thread_of_algebra
def measure_lanes(mixdown: Mixdown, first: int, last: int, progress: Progress = lambda fraction: None) -> Lanes:
    """Every strip of the song over 1-based bars first..last."""
    song = mixdown.song
    ids = list(dict.fromkeys([*(p.id.split("~")[0] for p in song.parts), *(s.id for s in (*song.buses, *song.returns)), MASTER]))
    found = lanes_of(mixdown, ids, first, last, progress)
    return Lanes(first, last, {lane.strip: lane for lane in found if lane.strip == MASTER or not lane.is_silent})


def lane_of(mixdown: Mixdown, strip: str, first: int, last: int) -> Lane:
    """Of one strip over 1-based bars first..last."""
    return lanes_of(mixdown, [strip], first, last)[0]


def lanes_of(
    mixdown: Mixdown, strips: Sequence[str], first: int, last: int, progress: Progress = lambda fraction: None
) -> list[Lane]:  # fmt: skip
    """Of strips over 1-based bars first..last; measured once for what sounds the same."""

    def columns(x: np.ndarray) -> np.ndarray:
        lane = measure_lane("", x)
        return np.column_stack([lane.power, lane.side, lane.frames])

    kept = mixdown.measured_each("lane", [(strip, first, last) for strip in strips], columns, progress)
    return [Lane(strip, table[:, 0], table[:, 1], table[:, 2:]) for strip, table in zip(strips, kept)]


@one_thread_of_algebra
def measure_lane(strip: str, x: np.ndarray) -> Lane:
    """`x`: shape (2, n)."""
    mid, side = (bands.in_bands(spectrum, RATE_HZ) for spectrum in bands.mid_and_side(x))
    return Lane(strip, mid + side, side, _frames(x))


@cache
def _weights() -> np.ndarray:
    return bands.band_weights(FRAME // 2 + 1, RATE_HZ)


def _frames(x: np.ndarray) -> np.ndarray:
    """Power per third octave and frame, shape (BANDS, frames)."""
    if x.shape[1] < FRAME:
        x = np.pad(x, ((0, 0), (0, FRAME - x.shape[1])))
    window = np.hanning(FRAME).astype(np.float32)
    out = 0.0
    for channel in x:
        pieces = np.lib.stride_tricks.sliding_window_view(channel, FRAME)[::HOP]
        spectrum = fft.rfft(pieces * window, axis=1, workers=2)
        power = np.square(spectrum.real) + np.square(spectrum.imag)
        out = out + power @ _weights().T
    # One-sided mean power per sample, as bands.power_spectrum has it.
    return np.asarray(out).T * (2.0 / (FRAME * float(np.square(window).sum())))


@dataclass(frozen=True)
class Fine:
    """Levels at FINE_HZ, dB, in bands of a twelfth of an octave, at the density of a third: they lie on a lane's level_db."""

    hz: list[float]
    level_db: list[float]
    peak_db: list[float]


def measure_fine(x: np.ndarray) -> Fine:
    """`x`: shape (2, n). `peak_db` is of frames of bands.FRAME samples."""
    frames = np.stack([_spectra(channel) for channel in x]).sum(axis=0)
    scale = PER_OCTAVE / 3
    mean, peak = (to_db(power * scale) for power in (frames.mean(axis=0), frames.max(axis=0)))
    return Fine(*([round(float(v), 1) for v in row] for row in (FINE_HZ, mean, peak)))


def fine_beside(x: np.ndarray, mix_db: np.ndarray) -> Fine:
    """A reference's fine spectrum at the loudness of a mix whose third octaves are `mix_db`: as reference_db has it."""
    found, inside = measure_fine(x), in_balance()
    own = to_db(bands.band_power(x, RATE_HZ))
    by = float(mix_db[inside].mean() - own[inside].mean())
    level, peak = ([round(v + by, 1) for v in row] for row in (found.level_db, found.peak_db))
    return Fine(found.hz, level, peak)


def _spectra(mono: np.ndarray) -> np.ndarray:
    """Power in each fine band of half-overlapped Hann frames, shape (frames, len(FINE_HZ))."""
    mono = np.pad(mono, (0, max(0, bands.FRAME - len(mono))))
    window = np.hanning(bands.FRAME).astype(np.float32)
    pieces = np.lib.stride_tricks.sliding_window_view(mono, bands.FRAME)[:: bands.FRAME // 2]
    out = []
    for start in range(0, len(pieces), 32):
        spectrum = fft.rfft(pieces[start : start + 32] * window, axis=1, workers=2)
        out.append((np.square(spectrum.real) + np.square(spectrum.imag)) @ _fine_weights().T)
    return np.concatenate(out) * (2.0 / (bands.FRAME * float(np.square(window).sum())))


@cache
def _fine_weights() -> np.ndarray:
    half = 2 ** (0.5 / PER_OCTAVE)
    return bands.share_of_bins(bands.FRAME // 2 + 1, RATE_HZ, FINE_HZ / half, FINE_HZ * half)


def reference_db(survey: Survey, section: int, mix_db: np.ndarray) -> np.ndarray:
    """The reference's section at the loudness of the mix: its mean over BALANCE_HZ is the mix's, dB per third octave."""
    level = np.array(survey.spectrum.per_section[section].level_db)
    inside = in_balance()
    return np.asarray(level - level[inside].mean() + mix_db[inside].mean())
