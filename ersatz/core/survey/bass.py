"""Which note does the bass play, per bar and step by step?

Method: over each bar (or 8th) between the kicks, a harmonic sum over the long spectrum from 30 to 110 Hz picks the fundamental;
the low register's upper partials decide the pitch class where single bins can't. A bar without bass gives None.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import Bass, BassNote
from ersatz.core.survey.drums import Hits
from ersatz.core.survey.shared import LOW_HZ, Shared

MIDI_RANGE = range(26, 53)
#: The bar must hold at least this share of bass, as presence says, to have a note.
MIN_PRESENCE = 0.35
#: Longer than a beat at 120 BPM: a third of a semitone at 55 Hz.
PADDED = 1 << 14


def measure_bass(shared: Shared, bars: BarTable, hits: Hits, presence: tuple[float, ...]) -> Bass:
    low = hits.low_without_kick
    hz = 440 * 2 ** ((np.array(MIDI_RANGE) - 69 + shared.tuning_cents / 100) / 12)
    kicks = hits.kick_mask()
    per_bar: list[int | None] = []
    notes: list[BassNote] = []
    for bar in range(bars.count):
        if presence[bar] < MIN_PRESENCE:
            per_bar.append(None)
            continue
        scores = []
        for eighth in range(8):
            start = bars.edges_s[bar] + eighth * bars.grid.bar_s / 8
            # What the kick covers is left out: start later when one hits on the step.
            if kicks[bar, eighth * 2]:
                start += bars.grid.bar_s / 32
            end = bars.edges_s[bar] + (eighth + 1) * bars.grid.bar_s / 8 + bars.grid.bar_s / 32
            scores.append(_harmonic_sum(low[max(0, int(start * LOW_HZ)) : int(end * LOW_HZ)], hz))
        table = np.array(scores)
        total = table.sum(axis=0)
        per_bar.append(int(MIDI_RANGE[int(np.argmax(total))]))
        notes.extend(_notes(table, bar))
    return Bass(tuple(per_bar), tuple(notes))


def _harmonic_sum(piece: np.ndarray, hz: np.ndarray) -> np.ndarray:
    """Weighted compressed magnitude of the first six partials per candidate note, shape (candidates,)."""
    if len(piece) < 32:
        return np.zeros(len(hz))
    magnitude = np.sqrt(np.abs(np.fft.rfft(piece * np.hanning(len(piece)), PADDED)))
    out = np.zeros(len(hz))
    for partial, weight in ((1, 1.0), (2, 0.9), (3, 0.7), (4, 0.6), (5, 0.35), (6, 0.25)):
        index = np.round(hz * partial / LOW_HZ * PADDED).astype(int)
        out += weight * magnitude[np.minimum(index, len(magnitude) - 1)]
        # What lies between this partial and the next speaks for the octave below, not for this note.
        between = np.round(hz * (partial + 0.5) / LOW_HZ * PADDED).astype(int)
        out -= 0.45 * weight * magnitude[np.minimum(between, len(magnitude) - 1)]
    return np.maximum(out, 0.0)


def _notes(table: np.ndarray, bar: int) -> list[BassNote]:
    """Runs of the same note over the bar's 8ths."""
    best = table.argmax(axis=1)
    level = table.max(axis=1)
    sounding = level > 0.25 * max(float(level.max()), 1e-12)
    out: list[BassNote] = []
    start = 0
    for i in range(1, 9):
        if i == 8 or best[i] != best[start] or sounding[i] != sounding[start]:
            if sounding[start]:
                share = table[start:i, best[start]].sum() / max(float(table[start:i].sum()), 1e-12)
                confidence = float(np.clip(share * 4, 0, 0.95))
                out.append(BassNote(bar * 4 + start / 2, (i - start) / 2, int(MIDI_RANGE[best[start]]),
                                    round(confidence, 2)))  # fmt: skip
            start = i
    return out
