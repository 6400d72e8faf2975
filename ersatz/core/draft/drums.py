"""What the drums of a draft play: the reference's kick where it makes a pattern, the style's figures for the rest, with accents.

Every part is sixteen bars: velocities have the shape of the figure, or of the reference's own hats; soft ghost hits lie between;
the fourth and eighth bar have a hit more; the sixteenth is a fill. Percussion takes places that kick and backbeat leave.
"""

from __future__ import annotations

import random
from collections.abc import Iterable, Sequence
from dataclasses import replace

from ersatz.core.draft.patterns import BAR, STEP, WRITTEN_BARS, by_energy
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.parts import Note, Pattern
from ersatz.core.styles import BACKBEATS, KICKS, OPEN_HATS, Style

#: (bar, step, velocity)
Hit = tuple[int, int, float]
Row = tuple[float, ...]

#: Closed hats: velocities by 16th.
CLOSED: tuple[Row, ...] = (
    (0.8, 0.35, 0.55, 0.4, 0.75, 0.35, 0.6, 0.45, 0.8, 0.35, 0.55, 0.4, 0.75, 0.4, 0.65, 0.5),
    (0.6, 0.0, 0.8, 0.3, 0.6, 0.0, 0.8, 0.0, 0.6, 0.3, 0.8, 0.0, 0.6, 0.0, 0.8, 0.35),
    (0.7, 0.25, 0.45, 0.6, 0.7, 0.25, 0.45, 0.3, 0.7, 0.6, 0.45, 0.25, 0.7, 0.3, 0.5, 0.6),
    (0.5, 0.0, 0.85, 0.0, 0.5, 0.0, 0.85, 0.35, 0.5, 0.0, 0.85, 0.0, 0.5, 0.3, 0.85, 0.0),
    (0.0, 0.5, 0.8, 0.4, 0.0, 0.5, 0.8, 0.4, 0.0, 0.5, 0.8, 0.4, 0.0, 0.5, 0.8, 0.6),
)  # fmt: skip
#: Rides of the second half of a drop: on the off-beats, or in 8ths that lean on them.
RIDES: tuple[Row, ...] = (
    (0, 0, 0.9, 0) * 4, (0.55, 0, 0.9, 0) * 4, (0.9, 0, 0, 0) * 4,
)  # fmt: skip
#: Ghosts of the backbeat by the family of the kick, and fills of its last bar, (step, velocity).
GHOSTS: dict[str, tuple[int, ...]] = {
    "four": (7, 9, 15), "two-step": (7, 9, 14), "broken": (7, 9, 15), "dembow": (9, 15), "half": (7, 10, 15),
}  # fmt: skip
GHOST_VELOCITY = 0.35
EXTRAS = (((14, 0.6), (15, 0.8)), ((11, 0.5), (15, 0.7)), ((13, 0.6),))
FILLS = (
    ((8, 0.5), (10, 0.6), (11, 0.5), (13, 0.7), (14, 0.75), (15, 0.9)), ((7, 0.45), (10, 0.6), (12, 0.9), (13, 0.6), (15, 0.85)),
    ((10, 0.5), (12, 0.8), (13, 0.6), (14, 0.8), (15, 0.95)), ((6, 0.5), (9, 0.55), (12, 0.9), (14, 0.8)),
)  # fmt: skip
#: Percussion: of so many places it takes some; a fill falls through these semitones.
PERC_HITS = (2, 4)
FALL_SEMITONES = (12.0, 7.0, 0.0)
#: The reference's accents count this much beside the figure's own.
THEIR_ACCENTS = 0.5


def _written(hits: Iterable[Hit], ticks: int = STEP) -> Pattern:
    """One hit a place, the louder of two."""
    loudest: dict[int, float] = {}
    for bar, step, velocity in hits:
        tick = bar * BAR + step * STEP
        loudest[tick] = max(velocity, loudest.get(tick, 0.0))
    return Pattern(WRITTEN_BARS, tuple(Note(t, ticks, 36, round(v, 3)) for t, v in sorted(loudest.items())))


def kick_steps(style: Style, row: Sequence[float], rng: random.Random) -> tuple[int, ...]:
    """The reference's own steps where they make a pattern, else the style's."""
    steps = tuple(i for i, v in enumerate(row) if v > 0)
    return steps if 0 in steps and 1 < len(steps) <= 6 else rng.choice(KICKS[style.kick])


def kick(steps: Sequence[int], family: str, rng: random.Random) -> Pattern:
    """The steps in each bar; the eighth has one more, the sixteenth leaves its last beat to the fill or, where the kick is broken,
    rushes into the next."""
    more = 14 if family == "four" else max(steps) + 3 if max(steps) < 13 else 7
    hits: list[Hit] = [(bar, step, 1.0) for bar in range(WRITTEN_BARS) for step in steps]
    hits.append((7, more, 0.8))
    if family == "four" or rng.random() < 0.5:
        return _written(_ended_early(hits))
    return _written([*hits, (WRITTEN_BARS - 1, more, 0.75), (WRITTEN_BARS - 1, 15, 0.7)])


def _ended_early(hits: list[Hit]) -> list[Hit]:
    """Without what the last bar has on its last beat, or else its last hit."""
    last = [h for h in hits if h[0] == WRITTEN_BARS - 1]
    gone = [h for h in last if h[1] >= 12] or [max(last, key=lambda h: h[1])]
    return [h for h in hits if h not in gone]


def backbeat(family: str, energy: int, rng: random.Random) -> Pattern:
    """Loud on its steps, a ghost in every other bar (in every one where it is busy), one more in the fourth, an end of the eighth
    and a fill in the sixteenth."""
    ghosts = GHOSTS[family]
    ghost = rng.choice(ghosts)
    bars = [b for b in range(WRITTEN_BARS) if energy > 0 or (b % 2 and energy == 0)]
    hits: list[Hit] = [(bar, step, 1.0) for bar in range(WRITTEN_BARS) for step in BACKBEATS[family]]
    hits += [(bar, ghost, GHOST_VELOCITY) for bar in bars]
    hits += [(bar, rng.choice([g for g in ghosts if g != ghost]), 0.42) for bar in (3, 11)]
    hits += [(7, step, v) for step, v in rng.choice(EXTRAS)]
    hits += [(WRITTEN_BARS - 1, step, v) for step, v in rng.choice(FILLS)]
    return _written(hits)


def closed_hats(theirs: Sequence[float], energy: int, rng: random.Random) -> Pattern:
    """A row of accents, leaning to the reference's own `theirs` (strengths by 16th, empty for none) where both strike; every other
    bar softer, the last hit of the eighth and sixteenth bar struck twice and three times."""
    row = rng.choice(by_energy(CLOSED, lambda r: sum(v > 0 for v in r), energy))
    loudest = max(theirs, default=0.0)
    accents = [
        v if not (v and loudest and theirs[k]) else (1 - THEIR_ACCENTS) * v + THEIR_ACCENTS * theirs[k] / loudest
        for k, v in enumerate(row)
    ]
    hits = [(bar, step, v * (1.0 if bar % 2 == 0 else 0.92)) for bar in range(WRITTEN_BARS) for step, v in enumerate(accents) if v]
    pattern = _written(hits)
    return _struck_again(pattern, {7: 2, WRITTEN_BARS - 1: 3})


def _struck_again(pattern: Pattern, repeats: dict[int, int]) -> Pattern:
    """The last hit of some bars struck so often."""
    last = {bar: max(n.tick for n in pattern.notes if n.tick // BAR == bar) for bar in repeats}
    notes = (
        replace(n, velocity=max(n.velocity, 0.6), repeats=repeats[n.tick // BAR]) if last.get(n.tick // BAR) == n.tick else n
        for n in pattern.notes
    )
    return replace(pattern, notes=tuple(notes))


def open_hats(family: str, rng: random.Random) -> Pattern:
    """The family's places; the eighth bar has one more or less, the sixteenth ends early."""
    steps = OPEN_HATS[family]
    hits: list[Hit] = [(bar, step, 0.9) for bar in range(WRITTEN_BARS) for step in steps]
    more = rng.choice([s for s in (3, 7, 11, 15) if s not in steps])
    hits = [*hits, (7, more, 0.7)] if rng.random() < 0.5 else [h for h in hits if (h[0], h[1]) != (7, steps[0])]
    return _written(_ended_early(hits), 2 * STEP)


def ride(family: str, rng: random.Random) -> Pattern:
    """8ths or off-beats; broken kicks have it on the off-beats alone."""
    row = rng.choice(RIDES if family == "four" else RIDES[:2])
    hits = [(bar, step, v) for bar in range(WRITTEN_BARS) for step, v in enumerate(row) if v]
    return _written(_ended_early(hits), 2 * STEP)


def shaker(energy: int, rng: random.Random) -> Pattern:
    """16ths that lean, in 8ths where it is calm; another accent in the fourth bar."""
    row = [0.85, 0.4, 0.6, 0.5] * 4 if energy >= 0 else [0.85, 0.0, 0.6, 0.0] * 4
    places = rng.sample((3, 7, 11), 2)
    hits: list[Hit] = []
    for bar in range(WRITTEN_BARS):
        accented = places[bar % 4 == 3]
        hits += [(bar, s, 0.8 if s == accented else v) for s, v in enumerate(row) if v or s == accented]
    return _struck_again(_written(hits), {7: 2, WRITTEN_BARS - 1: 2})


def percussion(kick_at: Sequence[int], family: str, rng: random.Random) -> Pattern:
    """Answers to the kick: behind it, on steps that neither it nor the backbeat takes; the fourth bar answers otherwise, and the
    sixteenth falls in pitch."""
    taken = {*kick_at, *BACKBEATS[family]}
    free = [s for s in range(1, STEPS_PER_BAR) if s not in taken]
    # Just behind a kick, or an odd 16th, pulls against it.
    weights = [2.0 if (s - 1) % STEPS_PER_BAR in taken or (s - 2) % STEPS_PER_BAR in taken else 1.0 for s in free]
    call, answer = (_places(free, weights, rng) for _ in range(2))
    while answer == call:
        answer = _places(free, weights, rng)
    hits = [(bar, s, 0.6 + 0.35 * rng.random()) for bar in range(WRITTEN_BARS - 1) for s in (answer if bar % 4 == 3 else call)]
    pattern = _written(hits)
    last = WRITTEN_BARS - 1
    steps = sorted({*(s for s in call if s < 8), *rng.choice(((8, 10, 11, 13, 14), (9, 11, 12, 14, 15), (8, 11, 14)))})
    falls = [FALL_SEMITONES[min(2, 3 * k // len(steps))] for k in range(len(steps))]
    fill = [Note(last * BAR + s * STEP, STEP, 36, 0.8, semitones=by) for s, by in zip(steps, falls)]
    return replace(pattern, notes=(*pattern.notes, *fill))


def _places(free: list[int], weights: list[float], rng: random.Random) -> tuple[int, ...]:
    """Some of the free steps, no two side by side."""
    out: list[int] = []
    ranked = sorted(free, key=lambda s: rng.random() ** (1 / weights[free.index(s)]), reverse=True)
    for s in ranked:
        if all(abs(s - other) > 1 for other in out) and len(out) < rng.choice(PERC_HITS) + 1:
            out.append(s)
    return tuple(sorted(out))
