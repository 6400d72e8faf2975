"""Which chord plays in each bar?

Method: binary triad templates over the bar's pitch classes and its bass note, joined by a Viterbi pass that prefers to stay and
prefers the key's own chords.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.pitch import Key, degree_name
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import Chord, Harmony
from ersatz.core.survey.shared import MIDI_LOW, TONAL_HOP, TONAL_HZ, Shared

TONIC_NAMES = ("C", "D♭", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B")
SHAPES = {"": (0, 4, 7), "m": (0, 3, 7)}
MIN_PRESENCE = 0.3
STAY = 0.06
OUTSIDE = 0.08


def measure_harmony(shared: Shared, bars: BarTable, key: Key, chords: tuple[float, ...], bass: tuple[int | None, ...]) -> Harmony:
    per_bar = bars.means(shared.semitones, TONAL_HOP / TONAL_HZ)[48 - MIDI_LOW : 88 - MIDI_LOW]
    chroma = np.zeros((12, bars.count))
    np.add.at(chroma, np.arange(48, 88) % 12, np.sqrt(per_bar))
    chroma -= chroma.min(axis=0, keepdims=True)
    chroma /= np.maximum(chroma.sum(axis=0, keepdims=True), 1e-9)
    names = [(root, shape) for root in range(12) for shape in SHAPES]
    score = np.zeros((len(names), bars.count))
    allowed = set(key.pitch_classes)
    for i, (root, shape) in enumerate(names):
        tones = [(root + step) % 12 for step in SHAPES[shape]]
        score[i] = chroma[tones].sum(axis=0) - (0 if set(tones) <= allowed else OUTSIDE)
        score[i] += [0.08 if note is not None and note % 12 == root else 0.0 for note in bass]
    path = _viterbi(score)
    out: list[Chord] = []
    for bar, state in enumerate(path):
        if chords[bar] < MIN_PRESENCE:
            continue
        root, shape = names[state]
        name = TONIC_NAMES[root] + shape
        if out and out[-1].name == name and out[-1].start_bar + out[-1].bars == bar + 1:
            last = out.pop()
            out.append(Chord(last.start_bar, last.bars + 1, name, last.degree))
        else:
            out.append(Chord(bar + 1, 1, name, degree_name(root, key)))
    return Harmony(tuple(out))


def _viterbi(score: np.ndarray) -> list[int]:
    """Best path through (states, bars) with a bonus for staying."""
    states, bars = score.shape
    total = score[:, 0].copy()
    back = np.zeros((states, bars), int)
    for bar in range(1, bars):
        leap = int(np.argmax(total))
        stay = total + STAY
        back[:, bar] = np.where(stay >= total[leap], np.arange(states), leap)
        total = np.maximum(stay, total[leap]) + score[:, bar]
    path = [int(np.argmax(total))]
    for bar in range(bars - 1, 0, -1):
        path.append(int(back[path[-1], bar]))
    return path[::-1]
