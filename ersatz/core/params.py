"""Parameters as tables: what voices and effects are described by, so that validation, forms and documentation follow from one
place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from ersatz.core.errors import UnusableDocument


@dataclass(frozen=True)
class Param:
    """`scale`: "linear" or "log", how a control goes through the range. `step`: 0 for a continuous one.

    `moves`: unit in which it is moved by a modulation or an automation ("octaves", "semitones", or "" for its own); None where it
    can't be moved.
    """

    name: str
    unit: str
    low: float
    high: float
    default: float
    title: str
    scale: str = "linear"
    step: float = 0.0
    moves: str | None = None

    def value(self, given: Mapping[str, float]) -> float:
        """The given value within the range, or the default."""
        return min(max(float(given.get(self.name, self.default)), self.low), self.high)


@dataclass(frozen=True)
class Choice:
    """A parameter that is one of several names."""

    name: str
    options: tuple[str, ...]
    default: str
    title: str

    def value(self, given: Mapping[str, str], owner: str) -> str:
        """The given option or the default. Raises UnusableDocument for one that doesn't exist."""
        chosen = given.get(self.name, self.default)
        if chosen not in self.options:
            raise UnusableDocument(f"“{chosen}” is no {self.title.lower()} of “{owner}”.")
        return chosen
