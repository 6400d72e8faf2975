"""How much of the reference's drum rhythm is taken over, beyond what every track of its style plays?

Kick, clap and hats bar by bar, on the 16ths that convention leaves free: kicks on the beats, claps on 2 and 4, hats on 8ths say
nothing, nor do hats on all 16ths. On the others, how often both agree on hit or rest beyond chance (Cohen 1960).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.own.played import steps_of
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Role
from ersatz.core.survey.document import DrumPattern, Survey

#: 16ths that convention leaves free.
FREE: dict[Role, tuple[int, ...]] = {
    "kick": tuple(s for s in range(STEPS_PER_BAR) if s % 4),
    "clap": tuple(s for s in range(STEPS_PER_BAR) if s not in (4, 12)),
    "hats": tuple(s for s in range(STEPS_PER_BAR) if s % 2),
}
#: A step of a surveyed pattern is struck from here on.
STRUCK = 0.5
#: Fewer free hits are an ornament.
LEAST_HITS = 2
#: A bar is named as like the reference's from this share on.
ALIKE = 0.5


@dataclass(frozen=True)
class DrumsTaken:
    """`share` 0..1 over the song's bars with free hits, None where there are none; `bars`: 1-based ones of the song that are like
    the reference's, with the first bar of the section they are like."""

    share: float | None
    bars: tuple[tuple[int, int], ...]


def drums_taken(song: Song, reference: Survey) -> DrumsTaken:
    """How much of the free drum hits (those that a style doesn’t ask for) is the reference’s own, bar by bar."""
    theirs = {_free_hits({role: _struck(pattern, role) for role in FREE}): reference.sections[pattern.section].start_bar
              for pattern in reversed(reference.drums.patterns) if pattern.steps_per_bar == STEPS_PER_BAR}  # fmt: skip
    theirs = {bar: start for bar, start in theirs.items() if sum(bar) >= LEAST_HITS}
    played = {role: steps_of(song, role) for role in FREE}
    bars = [_free_hits({role: played[role][bar] for role in FREE}) for bar in range(song.bars)]
    shares: dict[tuple[bool, ...], tuple[float, int]] = {}
    for bar in set(bars):
        if sum(bar) >= LEAST_HITS:
            shares[bar] = max(((max(0.0, kappa(bar, other)), start) for other, start in theirs.items()), default=(0.0, 0))
    counted = [(k + 1, shares[bar]) for k, bar in enumerate(bars) if bar in shares]
    if not counted:
        return DrumsTaken(None, ())
    share = float(np.mean([share for _, (share, _) in counted]))
    return DrumsTaken(share, tuple((bar, start) for bar, (share, start) in counted if share >= ALIKE))


def kappa(one: tuple[bool, ...], other: tuple[bool, ...]) -> float:
    """Agreement beyond chance: 1 where both are alike, 0 where no more is than two that don't know of each other would have."""
    a, b = np.array(one), np.array(other)
    agree, by_chance = float((a == b).mean()), float(a.mean() * b.mean() + (1 - a.mean()) * (1 - b.mean()))
    return (agree - by_chance) / (1 - by_chance) if by_chance < 1 else 0.0


def _struck(pattern: DrumPattern, role: Role) -> frozenset[int]:
    return frozenset(step for step, level in enumerate(getattr(pattern, role)) if level >= STRUCK)


def _free_hits(steps: dict[Role, frozenset[int]]) -> tuple[bool, ...]:
    if steps["hats"].issuperset(FREE["hats"]):
        steps = {**steps, "hats": frozenset()}
    return tuple(step in steps[role] for role, free in FREE.items() for step in free)
