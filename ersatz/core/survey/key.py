"""Which key, and how sure?

Method: pitch-class profile of the sustained part (median-filtered, tuned), each bar weighted equally, correlated with
profiles for dance music after the idea of Faraldo, Gómez, Jordà & Herrera 2016 (minor is natural minor, the raised seventh
is rare, minor is commoner than major), together with a second profile from the bass notes, where the tonic dominates. The
figures of both profiles are our own.
"""

from __future__ import annotations

import numpy as np

from ersatz.core.pitch import TONICS
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.bass import stands_out
from ersatz.core.survey.document import Bass, Key, KeyGuess
from ersatz.core.survey.shared import MIDI_LOW, TONAL_HOP, TONAL_HZ, Shared

PROFILES = {
    "major": np.array([1.0, 0.1, 0.42, 0.08, 0.62, 0.48, 0.1, 0.75, 0.1, 0.42, 0.14, 0.32]),
    "minor": np.array([1.0, 0.12, 0.4, 0.65, 0.08, 0.5, 0.1, 0.72, 0.4, 0.1, 0.5, 0.14]),
}
BASS_PROFILES = {
    "major": np.array([1.0, 0.05, 0.2, 0.05, 0.25, 0.4, 0.05, 0.45, 0.05, 0.25, 0.1, 0.1]),
    "minor": np.array([1.0, 0.08, 0.15, 0.32, 0.05, 0.35, 0.05, 0.42, 0.34, 0.05, 0.34, 0.05]),
}
#: Added to the correlation of minor keys: five of seven club tracks are in minor, ln(2.5) / SHARPNESS.
MINOR_BONUS = 0.1
BASS_WEIGHT = 0.55
#: Loops of four bars come home in their first one, and basses play a chord's root on the bar line.
PHRASE_BARS, PHRASE_WEIGHT, BAR_WEIGHT = 4, 2.0, 1.5
#: Turns score differences into shares; a lead of 0.2 over the next key reads about 0.8.
SHARPNESS = 9.0


def measure_key(shared: Shared, bars: BarTable, bass_notes: Bass) -> Key:
    """Tonic and mode by correlation of pitch classes with key profiles, of the upper register and of the bass; alternatives by
    score."""
    hop_s = TONAL_HOP / TONAL_HZ
    per_bar = bars.means(shared.semitones, hop_s)
    chroma = _chroma(per_bar, 45, 96)
    bass = _bass_profile(bass_notes)
    # A bass that sits on one note must not turn its fifth or itself into the key against the chords.
    bass_weight = BASS_WEIGHT if bass.any() else 0.0
    scores = []
    for mode in ("major", "minor"):
        for tonic in range(12):
            score = _correlation(chroma, np.roll(PROFILES[mode], tonic))
            score += bass_weight * _correlation(bass, np.roll(BASS_PROFILES[mode], tonic))
            scores.append((score + (MINOR_BONUS if mode == "minor" else 0.0), TONICS[tonic], mode))
    scores.sort(reverse=True)
    share = np.exp(SHARPNESS * (np.array([s for s, _, _ in scores]) - scores[0][0]))
    share = share / share.sum()
    # Without any tonal fit the shares say nothing: a drum track has no key.
    trust = float(np.clip(scores[0][0] / 0.9, 0.05, 1.0))
    guesses = [KeyGuess(t, m, round(float(p) * trust, 3)) for (_, t, m), p in zip(scores, share)]
    best = guesses[0]
    return Key(best.tonic, best.mode, best.confidence, tuple(guesses[1:5]), round(shared.tuning_cents, 1),
               tuple(round(float(v), 3) for v in chroma / max(float(chroma.max()), 1e-9)))  # fmt: skip


def _chroma(per_bar: np.ndarray, low: int, high: int) -> np.ndarray:
    """Mean pitch-class profile from `low` to `high` (MIDI), every sounding bar with the same weight, shape (12,)."""
    rows = per_bar[low - MIDI_LOW : high - MIDI_LOW]
    rows = np.sqrt(np.maximum(rows, 0))
    # Partials between the notes are noise floor: what isn't above the neighbourhood doesn't count.
    rows = np.maximum(rows - rows.mean(axis=0, keepdims=True) * 0.6, 0)
    level = rows.sum(axis=0)
    rows = rows[:, level > 0.1 * max(float(level.max()), 1e-12)]
    classes = (np.arange(low, high)) % 12
    out = np.zeros((12, rows.shape[1]))
    np.add.at(out, classes, rows)
    out /= np.maximum(out.sum(axis=0, keepdims=True), 1e-12)
    return np.asarray(out.mean(axis=1)) if out.shape[1] else np.zeros(12)


def _bass_profile(bass: Bass) -> np.ndarray:
    """Share of the bass's time per pitch class, compressed, shape (12,)."""
    out = np.zeros(12)
    for note in bass.notes:
        in_first_bar = int(note.start_beat) // 4 % PHRASE_BARS == 0
        on_bar_line = note.start_beat % 4 == 0
        weight = (PHRASE_WEIGHT if in_first_bar else 1.0) * (BAR_WEIGHT if on_bar_line else 1.0)
        out[note.midi % 12] += note.beats * stands_out(note) * weight
    return np.asarray(np.sqrt(out / max(float(out.sum()), 1e-12)))


def _correlation(a: np.ndarray, b: np.ndarray) -> float:
    a, b = a - a.mean(), b - b.mean()
    return float((a * b).sum() / max(float(np.linalg.norm(a) * np.linalg.norm(b)), 1e-12))
