"""Where does the energy lie, and how wide is it?

Levels: long-term average power per third octave relative to the whole track's power (bands.py). Tilt: least squares over 63 Hz
to 10 kHz, dB per octave. Width of a band: 2 S / (M + S) clipped to 0..1 with the powers of side and mid; correlation: (L
R) / sqrt(L L R R), from mid and side powers only. Crest of a band: how far its loudest thousandth of 6 ms frames lies over its
average, plus the 3 dB of a sine within a frame. Onsets of a band: peaks of its onset strength (shared.py) that reach a quarter
of its highest ones and lie a 32nd note apart or more. What lies between the hits of a band: its 10th percentile of 46 ms under its
average.
"""

from __future__ import annotations

import numpy as np
import scipy

from ersatz.core import bands
from ersatz.core.survey.document import Resonance, SectionBands, SectionSpectrum, Spectrum, Stereo, StereoBand
from ersatz.core.survey.frames import EDGES_HZ, band_frames, rows_between
from ersatz.core.survey.shared import Shared

WIDTH_BANDS_HZ = ((20, 110), (110, 270), (270, 770), (770, 2200), (2200, 6000), (6000, 18_000))
#: A band is mono when its side lies this far under its mid.
MONO_DB = -20.0
SINE_CREST_DB = 3.01
#: Of its highest onsets' strength, what counts as one.
ONSET_SHARE = 0.25
#: So many frames of 6 ms make one in which what lies between the hits is looked for.
BETWEEN_FRAMES = 8
MOST_BETWEEN_DB = 60.0


def measure_spectrum(
    shared: Shared, spans_s: list[tuple[float, float]], full: list[int], resonances: tuple[Resonance, ...]
) -> Spectrum:
    """`spans_s` are the sections' starts and ends, `full` the indices of those at full energy."""
    whole = shared.third_octaves(0, shared.duration_s)
    per_section = tuple(SectionSpectrum(_rounded(bands.relative_db(shared.third_octaves(start, end)))) for start, end in spans_s)
    level = bands.relative_db(whole)
    centres = np.array(bands.NOMINAL_HZ)
    inside = (centres >= 63) & (centres <= 10_000)
    tilt = float(np.polyfit(np.log2(centres[inside]), level[inside], 1)[0])
    lengths = [spans_s[i][1] - spans_s[i][0] for i in full]
    drops = np.average([shared.third_octaves(*spans_s[i]) for i in full], axis=0, weights=lengths)
    full_energy = _rounded(bands.relative_db(drops))
    return Spectrum(tuple(float(c) for c in centres), _rounded(level), round(tilt, 2), per_section, full_energy, resonances)


def measure_stereo(shared: Shared, spans_s: list[tuple[float, float]], beat_s: float) -> Stereo:
    """`spans_s` are the sections' starts and ends."""
    whole, *sections = _bands_of(shared, [(0.0, shared.duration_s), *spans_s], beat_s)
    return Stereo(whole, _mono_below(shared), tuple(SectionBands(b) for b in sections))


def _bands_of(shared: Shared, spans_s: list[tuple[float, float]], beat_s: float) -> list[tuple[StereoBand, ...]]:
    out: list[list[StereoBand]] = [[] for _ in spans_s]
    for low, high in WIDTH_BANDS_HZ:
        rows = shared.rows(low, high)
        mid, side = shared.mid_power[rows].sum(axis=0), shared.side_power[rows].sum(axis=0)
        strength = shared.flux[rows].sum(axis=0)
        distance = max(1, round(beat_s / 8 / shared.hop_s))
        struck = scipy.signal.find_peaks(strength, height=ONSET_SHARE * float(np.percentile(strength, 99.5)), distance=distance)[0]
        for bands_of_span, (start_s, end_s) in zip(out, spans_s):
            first = min(int(start_s / shared.hop_s), len(mid) - 1)
            cut = slice(first, max(first + 1, round(end_s / shared.hop_s)))
            count = int(np.count_nonzero((struck >= cut.start) & (struck < cut.stop)))
            bands_of_span.append(_band((low, high), mid[cut], side[cut], round(count * beat_s / max(end_s - start_s, beat_s), 2)))
    return [tuple(row) for row in out]


def bands_of_samples(x: np.ndarray, rate_hz: int) -> tuple[StereoBand, ...]:
    """The same of stereo samples, shape (2, n), without onsets."""
    mid, side = (band_frames(np.asarray(v, np.float32), rate_hz)[0] for v in ((x[0] + x[1]) * 0.5, (x[0] - x[1]) * 0.5))
    return tuple(_band(edges, mid[r := rows_between(*edges)].sum(axis=0), side[r].sum(axis=0), None) for edges in WIDTH_BANDS_HZ)


def between_db(power: np.ndarray) -> float:
    """How far the 10th percentile of powers lies under their mean, dB, at most MOST_BETWEEN_DB; shape (frames,)."""
    low, mean = float(np.percentile(power, 10)), max(float(power.mean()), 1e-20)
    return max(10 * float(np.log10(max(low, 1e-20) / mean)), -MOST_BETWEEN_DB)


def _band(edges_hz: tuple[int, int], mid: np.ndarray, side: np.ndarray, onsets_per_beat: float | None) -> StereoBand:
    """`mid` and `side`: powers by frame."""
    m, s, frames = float(mid.sum()), float(side.sum()), mid + side
    crest_db = 10 * np.log10(max(float(np.percentile(frames, 99.9)), 1e-20) / max(float(frames.mean()), 1e-20)) + SINE_CREST_DB
    width, correlation = min(1.0, 2 * s / max(m + s, 1e-20)), (m - s) / max(m + s, 1e-20)
    pieces = frames[: len(frames) // BETWEEN_FRAMES * BETWEEN_FRAMES].reshape(-1, BETWEEN_FRAMES).mean(axis=1)
    between = round(between_db(pieces if len(pieces) else frames), 1)
    measured = (round(width, 3), round(correlation, 3), round(float(crest_db), 1), onsets_per_beat, between)
    return StereoBand(float(edges_hz[0]), float(edges_hz[1]), *measured)


def _mono_below(shared: Shared) -> float:
    """Upper edge of the lowest run of bands whose side is MONO_DB under the mid, Hz."""
    below = float(EDGES_HZ[0])
    for i in range(len(EDGES_HZ) - 1):
        mid, side = float(shared.mid_power[i].sum()), float(shared.side_power[i].sum())
        if 10 * np.log10(max(side, 1e-20) / max(mid, 1e-20)) > MONO_DB:
            break
        below = float(EDGES_HZ[i + 1])
    return below


def _rounded(level: np.ndarray) -> tuple[float, ...]:
    return tuple(round(float(v), 2) for v in level)
