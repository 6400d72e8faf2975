"""Which chord plays in each half of a bar?

Method: binary triad templates over the half bar's pitch classes and the bar's bass note, joined by a Viterbi pass that prefers the
key's own chords and prefers to stay, within a bar more than from bar to bar.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ersatz.core.pitch import Key, degree_name, pitch_names
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import Chord, Harmony
from ersatz.core.survey.shared import MIDI_LOW, TONAL_HOP, TONAL_HZ, Shared

SHAPES = {"": (0, 4, 7), "m": (0, 3, 7)}
MIN_PRESENCE = 0.3
STAY = 0.06
#: A chord that changes in the middle of a bar must be clearly another one.
STAY_IN_BAR = 0.15
#: What the root in the bass is worth.
BASS_ROOT = 0.08
OUTSIDE = 0.08
#: How often a chord was right on bench/testset, by how far its score leads the next chord's.
LEAD, SURE = (-0.03, 0.05, 0.08, 0.12), (0.35, 0.6, 0.9, 0.97)


def measure_harmony(shared: Shared, bars: BarTable, key: Key, chords: tuple[float, ...], bass: tuple[int | None, ...]) -> Harmony:
    """A chord per half bar by templates on the pitch classes, the bass’s notes regarded; `chords` is their presence per bar."""
    halves = bars.step_means(shared.semitones, TONAL_HOP / TONAL_HZ, 2)[48 - MIDI_LOW : 88 - MIDI_LOW].reshape(40, -1)
    chroma = np.zeros((12, 2 * bars.count))
    np.add.at(chroma, np.arange(48, 88) % 12, np.sqrt(halves))
    chroma -= chroma.min(axis=0, keepdims=True)
    chroma /= np.maximum(chroma.sum(axis=0, keepdims=True), 1e-9)
    spelled = pitch_names(key)
    names = [(root, shape) for root in range(12) for shape in SHAPES]
    score = np.zeros((len(names), 2 * bars.count))
    allowed = set(key.pitch_classes)
    for i, (root, shape) in enumerate(names):
        tones = [(root + step) % 12 for step in SHAPES[shape]]
        score[i] = chroma[tones].sum(axis=0) - (0 if set(tones) <= allowed else OUTSIDE)
        score[i] += np.repeat([BASS_ROOT if note is not None and note % 12 == root else 0.0 for note in bass], 2)
    stay = np.where(np.arange(2 * bars.count) % 2 == 0, 2 * STAY, STAY_IN_BAR)
    path = _viterbi(score, stay)
    others = score.copy()
    others[path, np.arange(2 * bars.count)] = -np.inf
    sure = np.interp(score[path, np.arange(2 * bars.count)] - others.max(axis=0), LEAD, SURE)
    out: list[Chord] = []
    confidences: list[list[float]] = []
    for half, state in enumerate(path):
        if chords[half // 2] < MIN_PRESENCE:
            continue
        start = 1 + half / 2
        root, shape = names[state]
        name = spelled[root] + shape
        if out and out[-1].name == name and out[-1].start_bar + out[-1].bars == start:
            confidences[-1].append(sure[half])
            out[-1] = replace(out[-1], bars=out[-1].bars + 0.5)
        else:
            confidences.append([sure[half]])
            out.append(Chord(start, 0.5, name, degree_name(root, key)))
    return Harmony(tuple(replace(chord, confidence=round(float(np.mean(c)), 2)) for chord, c in zip(out, confidences)))


def _viterbi(score: np.ndarray, stay: np.ndarray) -> list[int]:
    """Best path through (states, steps) with a bonus for staying into each step."""
    states, steps = score.shape
    total = score[:, 0].copy()
    back = np.zeros((states, steps), int)
    for step in range(1, steps):
        leap = int(np.argmax(total))
        kept = total + stay[step]
        back[:, step] = np.where(kept >= total[leap], np.arange(states), leap)
        total = np.maximum(kept, total[leap]) + score[:, step]
    path = [int(np.argmax(total))]
    for step in range(steps - 1, 0, -1):
        path.append(int(back[path[-1], step]))
    return path[::-1]
