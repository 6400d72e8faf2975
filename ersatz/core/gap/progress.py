"""How did the figures go, from one state of a song to the next?

Of every measured state each figure is kept as what it is and how many tolerances it is off; lines are drawn of the latter, so that
figures of different units share one scale.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ersatz.core.gap.compare import Gap
from ersatz.core.gap.figures import Figure

#: More tolerances than this are drawn as this many.
MOST_OFF = 6.0


@dataclass(frozen=True)
class FigureState:
    """A figure of one state: the remake's value, and tolerances that it is off (None where it has none: a key, a plan)."""

    name: str
    unit: str
    remake: float | str | None
    difference: float | None
    off: float | None
    verdict: str


@dataclass(frozen=True)
class FigureCourse:
    """A figure over states, in their order; None where a state has no such figure."""

    name: str
    unit: str
    states: tuple[FigureState | None, ...]

    @property
    def ends(self) -> tuple[FigureState, FigureState] | None:
        """The first and the last state that have it."""
        known = [s for s in self.states if s is not None]
        return (known[0], known[-1]) if known else None


def figure_states(gap: Gap) -> tuple[FigureState, ...]:
    """Of every figure of a gap what is kept to see progress by."""
    return tuple(FigureState(f.name, f.unit, f.remake, f.difference, _off(f), f.verdict) for f in gap.figures)


def courses(states: Sequence[Sequence[FigureState]]) -> list[FigureCourse]:
    """`states` of one song, the oldest first. The figures of the newest in its order, then those that only earlier ones have."""
    names = list(dict.fromkeys(f.name for state in reversed(states) for f in state))
    by_name = [{f.name: f for f in state} for state in states]
    units = {f.name: f.unit for state in states for f in state}
    return [FigureCourse(name, units[name], tuple(found.get(name) for found in by_name)) for name in names]


def matched(state: Sequence[FigureState]) -> int:
    """How many figures are matched."""
    return sum(f.verdict == "matched" for f in state)


def _off(figure: Figure) -> float | None:
    if figure.difference is None or not figure.tolerance:
        return None
    return round(min(abs(figure.difference) / figure.tolerance, MOST_OFF), 3)
