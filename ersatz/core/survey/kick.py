"""The kick by itself: fundamental, pitch fall, decay, click and drive.

Method: the median of its aligned hits leaves what all of them share. Fundamental: the strongest partial of its tail.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.pitch import hz_midi, note_name
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import KickPortrait
from ersatz.core.survey.hits import Hits
from ersatz.core.survey.shared import Shared


def measure_kick(shared: Shared, bars: BarTable, hits: Hits) -> KickPortrait | None:
    """Fundamental, decay to -20 dB and click level from the aligned median of well separated hits."""
    rate = shared.rate_hz
    strong = np.argwhere(hits.kick > 0.7)
    if len(strong) < 4:
        return None
    length = int(0.3 * rate)
    pieces = []
    for bar, step in strong[:: max(1, len(strong) // 96)]:
        start = round((bars.edges_s[bar] + step * bars.grid.bar_s / bars.steps) * rate)
        if start >= 0 and start + length < len(shared.mid):
            pieces.append(shared.mid[start : start + length])
    if len(pieces) < 4:
        return None
    stack = np.stack(pieces)
    mean = stack.mean(axis=0)
    spectrum = np.abs(np.fft.rfft(mean[int(0.05 * rate) : int(0.25 * rate)] * np.hanning(int(0.25 * rate) - int(0.05 * rate)),
                                  1 << 17))  # fmt: skip
    hz = np.arange(len(spectrum)) * rate / (1 << 17)
    inside = (hz >= 30) & (hz <= 110)
    fundamental = float(hz[inside][np.argmax(spectrum[inside])])
    envelope = np.sqrt(np.convolve(np.square(mean), np.ones(rate // 100) / (rate // 100), "same"))
    top = int(np.argmax(envelope))
    below = np.flatnonzero(envelope[top:] < 0.1 * envelope[top])
    decay_ms = float((below[0] if len(below) else length - top) / rate * 1000)
    power = np.square(np.abs(np.fft.rfft(stack[:, : int(0.012 * rate)].astype(np.float64), axis=1))).mean(axis=0)
    bins = np.arange(len(power)) * rate / int(0.012 * rate)
    click = float(power[(bins >= 2000) & (bins <= 8000)].sum() / max(float(power.sum()), 1e-12))
    return KickPortrait(round(fundamental, 2), note_name(round(hz_midi(fundamental))), round(decay_ms, 1),
                        round(float(10 * np.log10(max(click, 1e-6))), 1))  # fmt: skip
