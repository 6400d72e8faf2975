"""Where is bar 1 beat 1, how many beats has a bar, and which octave of the tempo would a DJ count?

Conventions: places are 16ths of a bar, 0 the first. Method: four kinds of evidence compete at every place of the bar at once.
(1) What hits where: the mean kick, snare and hat of each place against the rhythms of dance music. (2) Sections: the largest
changes of level fall on bar lines (Vande Veire & De Bie 2018; Zehren, Alunno & Bientinesi 2020). (3) Chords change on bar
lines. (4) The low register begins on the one. The octave of the tempo is the one whose bars fit a rhythm best: a backbeat on
beats two and four (Schreiber & Müller 2018 on what goes wrong without). The metre is the distance at which bars resemble each
other.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.survey.frames import EDGES_HZ
from ersatz.core.survey.slots import Slots

PLACES = 16
#: Weights against the rhythm's fit: each alone errs more often than all together. From tracks cut anywhere, of the real set, of
#: modules with plans of ours and of both generated sets. More of the low register helps cuts and loses whole tracks.
CHANGE_WEIGHT, CHORD_WEIGHT, LOW_WEIGHT = 2.0, 0.4, 0.15
LOW_BELOW_HZ = 200
OTHER_METRES = (3, 5, 7)
#: A change (in nepers, over all bands and three spans) counts at most so much, and their sum is taken for at least six of
#: them: where the music stops once is no proof of a bar line.
LARGE_CHANGE, LEAST_CHANGE = 1.5, 9.0
#: Mean log ratio from which on another metre than four is believed.
METRE_MARGIN = 0.3
#: A mean bar that varies less than this share of the whole has no shape of its own.
UNMARKED, MARKED = 0.01, 0.04
#: Centre and spread in octaves of the styles' tempi.
PRIOR_BPM, PRIOR_OCTAVES = 127.0, 0.42
RHYTHM_SHARPNESS = 6.0


@dataclass(frozen=True)
class Rhythm:
    """16ths of kick, backbeat and hats; `weight` is how readily it is believed."""

    kick: tuple[int, ...]
    snare: tuple[int, ...]
    hats: tuple[int, ...]
    weight: float = 1.0


OFF_BEAT, EIGHTHS = (2, 6, 10, 14), (0, 2, 4, 6, 8, 10, 12, 14)
RHYTHMS = (
    Rhythm((0, 4, 8, 12), (4, 12), OFF_BEAT),
    Rhythm((0, 4, 8, 12), (), OFF_BEAT, 0.9),
    Rhythm((0, 4, 8, 12), (3, 6, 11, 14), OFF_BEAT, 0.9),
    Rhythm((0, 10), (4, 12), EIGHTHS),
    Rhythm((0, 8, 10), (4, 12), EIGHTHS),
    Rhythm((0, 6, 10), (4, 12), EIGHTHS),
    Rhythm((0, 3, 10), (4, 12), EIGHTHS),
    Rhythm((0, 7, 10), (4, 12), EIGHTHS),
    Rhythm((0, 8), (4, 12), EIGHTHS),
    Rhythm((0, 10), (8,), EIGHTHS, 0.8),
    Rhythm((0,), (8,), EIGHTHS, 0.8),
)
KICK_WEIGHT, SNARE_WEIGHT, HATS_WEIGHT = 1.0, 1.0, 0.35


def rhythm_scores(kick: np.ndarray, snare: np.ndarray, hats: np.ndarray) -> np.ndarray:
    """How well the best rhythm fits with bar lines at each place, about -1..1, shape (..., 16).

    The arguments are strengths per place, shape (..., 16): of one bar or a mean over many.
    """
    total = KICK_WEIGHT + SNARE_WEIGHT + HATS_WEIGHT
    score = (
        KICK_WEIGHT * _unit_rows(kick) @ KICK_TURNS + SNARE_WEIGHT * _unit_rows(snare) @ SNARE_TURNS
        + HATS_WEIGHT * _unit_rows(hats) @ HATS_TURNS
    ) / total  # fmt: skip
    by_rhythm = score.reshape(*score.shape[:-1], len(RHYTHMS), PLACES) * np.array([r.weight for r in RHYTHMS])[:, None]
    return np.asarray(by_rhythm.max(axis=-2))


def _unit_rows(x: np.ndarray) -> np.ndarray:
    """Mean taken out, length 1 along the last axis; zero where nothing varies."""
    centred = x - x.mean(axis=-1, keepdims=True)
    return np.asarray(centred / np.maximum(np.linalg.norm(centred, axis=-1, keepdims=True), 1e-9))


def _turns(patterns: list[tuple[int, ...]]) -> np.ndarray:
    """Every pattern begun at each of the 16 places, as unit columns, shape (16, patterns * 16)."""
    hits = np.zeros((len(patterns), PLACES))
    for i, pattern in enumerate(patterns):
        hits[i, list(pattern)] = 1
    turned = np.stack([np.roll(hits, place, axis=1) for place in range(PLACES)], axis=1)
    return _unit_rows(turned).reshape(-1, PLACES).T


KICK_TURNS, SNARE_TURNS, HATS_TURNS = (_turns([getattr(r, name) for r in RHYTHMS]) for name in ("kick", "snare", "hats"))


def profile(curve: np.ndarray, period: int = PLACES) -> np.ndarray:
    """Mean per place, shape (period,)."""
    usable = len(curve) // period * period
    return np.asarray(curve[:usable].reshape(-1, period).mean(axis=0))


def change_scores(level: np.ndarray, period: int = PLACES) -> np.ndarray:
    """Share of the large changes of level that peak at each place, shape (period,); sums to 1, to less where little changes.

    Means over whole bars before and after are compared, so that what repeats in every bar cancels.
    """
    n = level.shape[1]
    total = np.concatenate([np.zeros((level.shape[0], 1)), np.cumsum(level, axis=1)], axis=1)
    change = np.zeros(n)
    for bars in (1, 2, 4):
        span = bars * period
        if n < 3 * span:
            break
        k = np.arange(span, n - span + 1)
        k = k[k < n]
        after = (total[:, k + span] - total[:, k]) / span
        before = (total[:, k] - total[:, k - span]) / span
        change[k] += np.square(after - before).mean(axis=0)
    reach = period // 2
    peaks = [k for k in np.argsort(change)[::-1][: max(64, n // 8)] if change[k] > 0]
    kept: list[int] = []
    for peak in peaks:
        if all(abs(peak - other) > reach for other in kept):
            kept.append(int(peak))
        if len(kept) >= max(6, n // (period * 8)):
            break
    out = np.zeros(period)
    for place in kept:
        out[place % period] += min(float(np.sqrt(change[place])), LARGE_CHANGE)
    # A fill or an early crash moves a peak by a slot.
    whole = max(float(out.sum()), LEAST_CHANGE)
    return np.asarray((out + 0.5 * (np.roll(out, 1) + np.roll(out, -1))) / (2 * whole))


def chord_scores(tonal: np.ndarray, period: int = PLACES) -> np.ndarray:
    """How much more the pitches change at each place than elsewhere, standard errors squashed to -1..1, shape (period,)."""
    unit = tonal / np.maximum(np.linalg.norm(tonal, axis=0, keepdims=True), 1e-9)
    n, span = unit.shape[1], period // 2
    if n < 4 * period:
        return np.zeros(period)
    total = np.concatenate([np.zeros((unit.shape[0], 1)), np.cumsum(unit, axis=1)], axis=1)
    mean = total[:, span:] - total[:, :-span]
    mean /= np.maximum(np.linalg.norm(mean, axis=0, keepdims=True), 1e-9)
    change = np.zeros(n)
    change[span : span + mean.shape[1] - span] = 1 - (mean[:, span:] * mean[:, :-span]).sum(axis=0)
    change = np.minimum(change, np.percentile(change, 99.5))
    by_place = profile(change, period)
    error = float(change.std()) / np.sqrt(max(1, n / period)) + 1e-9
    squashed = np.tanh((by_place - by_place.mean()) / error / 6)
    # A chord is heard when its first note is struck, which may be late in the beat and is never early.
    return np.max([np.roll(squashed, -late) for late in range(4)], axis=0)


def low_scores(level: np.ndarray, period: int = PLACES) -> np.ndarray:
    """How far the low register rises at each place, against the place where it rises most, shape (period,)."""
    low = level[: EDGES_HZ.index(LOW_BELOW_HZ)]
    rise = profile(np.maximum(np.diff(low, axis=1, prepend=low[:, :1]), 0).mean(axis=0), period)
    return np.asarray(rise / max(float(rise.max()), 1e-9))


def place_scores(slots: Slots, period: int = PLACES) -> np.ndarray:
    """All evidence for a bar line at each place, shape (period,). Metres other than 4/4 have no known rhythms."""
    scores = CHANGE_WEIGHT * change_scores(slots.level, period) + CHORD_WEIGHT * chord_scores(slots.tonal, period)
    scores += LOW_WEIGHT * low_scores(slots.level, period)
    if period == PLACES:
        return np.asarray(scores + rhythm_scores(*(profile(c) for c in (slots.kick, slots.snare, slots.hats))))
    return np.asarray(scores + profile(slots.kick, period) - profile(slots.snare, period))


def beats_per_bar(slots: Slots) -> tuple[int, float]:
    """4, or the metre in which bars resemble each other more; and how clear that is (0..1).

    Every curve is averaged over bars of each metre; what repeats in every beat is taken out. What is left vanishes in a wrong
    metre, but for noise that grows with the bar's length.
    """
    unit = slots.tonal / np.maximum(np.linalg.norm(slots.tonal, axis=0, keepdims=True), 1e-9)
    chords = np.zeros(slots.count)
    chords[2:-1] = 1 - (unit[:, 3:] * unit[:, :-3]).sum(axis=0)
    curves = [[slots.kick], [slots.snare], [slots.hats], [chords], list(slots.level)]
    four = [_bar_part(group, 4) for group in curves]
    # Against what varies at all: where nothing marks the bars, no metre is clearer than another.
    floor = [UNMARKED * float(sum(np.var(c) for c in group)) + 1e-12 for group in curves]
    ratios = {}
    for other_metre in OTHER_METRES:
        other = [_bar_part(group, other_metre) for group in curves]
        ratios[other_metre] = float(
            np.mean([np.log((o * 4 / other_metre + least) / (f + least)) for o, f, least in zip(other, four, floor)])
        )
    metre = max(ratios, key=lambda m: ratios[m])
    # A metre that nothing but the levels speaks for is no rhythm: at least two kinds of events must mark its bars.
    marked = sum(_bar_part(group, metre) > MARKED * float(np.var(group[0])) for group in curves[:4])
    if ratios[metre] > METRE_MARGIN and marked >= 2:
        return metre, float(np.clip(ratios[metre], 0, 1))
    return 4, float(np.clip(-ratios[metre], 0, 1))


def _bar_part(curves: list[np.ndarray], metre: int) -> float:
    """Energy of the mean bar beyond its mean beat."""
    total = 0.0
    for curve in curves:
        bar = profile(curve, 4 * metre)
        total += float(np.square(bar - np.tile(bar.reshape(metre, 4).mean(axis=0), metre)).mean())
    return total


def octave_score(slots: Slots, bpm: float) -> float:
    """How readily a DJ would count this tempo: the best rhythm's fit and how common the tempo is, as one figure above 0."""
    fit = float(rhythm_scores(*(profile(c) for c in (slots.kick, slots.snare, slots.hats))).max())
    return float(np.exp(RHYTHM_SHARPNESS * fit)) * float(tempo_prior(np.array(bpm)))


def tempo_prior(bpm: np.ndarray) -> np.ndarray:
    """Log-normal over the tempi that dance floors use, 1 at its centre."""
    return np.exp(-0.5 * (np.log2(bpm / PRIOR_BPM) / PRIOR_OCTAVES) ** 2)
