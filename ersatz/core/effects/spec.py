"""What an effect is made of: a table from which validation, defaults, the form on the page and documentation follow.

An effect is a function of a bounded stretch: to give the samples of a bar it is run from `before_s` in front of it to `after_s`
behind it, always the same way, so that a bar rendered alone equals the bar in the whole. Nothing is delayed: what looks ahead
reads ahead.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from ersatz.core.params import Choice, Param
from ersatz.core.song.strips import NO_DRY, Effect


@dataclass(frozen=True)
class Settings:
    """An effect's values, filled in and clipped. Automated ones are arrays, one value per sample."""

    values: dict[str, float | np.ndarray]
    choices: dict[str, str]
    shape: tuple[float, ...] = ()

    def flat(self, name: str) -> float:
        """One number: of an automated value its mean."""
        return self._one(name, np.mean)

    def least(self, name: str) -> float:
        """The lowest figure that a value has."""
        return self._one(name, np.min)

    def most(self, name: str) -> float:
        """The highest."""
        return self._one(name, np.max)

    def _one(self, name: str, of: Callable[[np.ndarray], float]) -> float:
        value = self.values[name]
        return float(of(value) if isinstance(value, np.ndarray) else value)

    def curve(self, name: str, n: int) -> np.ndarray:
        """A value per sample, shape (n,)."""
        return np.full(n, self.values[name], np.float64)

    def is_moving(self, *names: str) -> bool:
        """Whether any of the values is automated."""
        return any(isinstance(self.values[name], np.ndarray) for name in names)


@dataclass(frozen=True)
class Where:
    """The stretch that an effect works on: `start` is the song's sample that its first one is. `sidechain`: the signal of the part
    that steers it, the same shape. `hits`: song samples where that part has its notes, or the effect's own part. `lead`: so many
    samples at the start are only there to be heard by the effect; what it gives for them isn't used."""

    rate: int = 44_100
    bpm: float = 120.0
    start: int = 0
    sidechain: np.ndarray | None = None
    hits: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))
    lead: int = 0

    def steering(self, x: np.ndarray) -> np.ndarray:
        """What levels are measured on: the sidechain where there is one, else the effect's own input."""
        return x if self.sidechain is None else self.sidechain

    def beats(self, n: int) -> np.ndarray:
        """Song position of each sample in beats."""
        return np.asarray((self.start + np.arange(n)) / self.rate * self.bpm / 60)

    def seconds(self, n: int) -> np.ndarray:
        """Since the song's start, per sample."""
        return np.asarray((self.start + np.arange(n)) / self.rate)


#: Whether an effect that adds to its input lets that through.
DRY = Choice("dry", ("kept", NO_DRY), "kept", "Dry sound")
#: (samples (2, n), settings, where) -> (2, n)
Process = Callable[[np.ndarray, Settings, Where], np.ndarray]
#: (settings, bpm) -> seconds
Reach = Callable[[Settings, float], float]


#: Beats after which the effect does the same again to the same input; 0 where it doesn't regard the time, infinite where it never
#: does.
Period = Callable[[Settings], float]


def nothing(settings: Settings, bpm: float) -> float:
    """An effect that hears no other moment."""
    return 0.0


def timeless(settings: Settings) -> float:
    """An effect that does the same at any time."""
    return 0.0


@dataclass(frozen=True)
class EffectSpec:
    """`before_s`: how far back its memory goes, which is also how long it rings on; `after_s`: how far it looks ahead. Both get the
    lowest and the highest figure of a value that moves. `has_sidechain`: whether another part may steer it."""

    name: str
    title: str
    params: tuple[Param, ...]
    process: Process
    choices: tuple[Choice, ...] = ()
    before_s: Reach = nothing
    after_s: Reach = nothing
    period_beats: Period = timeless
    has_sidechain: bool = False

    def settings(self, effect: Effect, moved: dict[str, np.ndarray] | None = None) -> Settings:
        """Raises UnusableDocument for an option that the effect doesn't have."""
        values: dict[str, float | np.ndarray] = {p.name: p.value(effect.params) for p in self.params}
        for p in self.params:
            if moved and p.name in moved and p.moves is not None:
                values[p.name] = np.clip(moved[p.name], p.low, p.high)
        choices = {c.name: c.value(effect.choices, self.name) for c in self.choices}
        return Settings(values, choices, effect.shape)
