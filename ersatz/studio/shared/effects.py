"""Effects and values as the pages draw them: tables with values, and a curve where one says it all."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.effects.chain import spec_of
from ersatz.core.effects.pictures import EffectPicture, picture_of
from ersatz.core.params import Choice, Param
from ersatz.core.song.strips import Effect


@dataclass(frozen=True)
class Figure:
    """A number to set: its parameter (core/params.py) and where it stands."""

    name: str
    unit: str
    low: float
    high: float
    value: float
    title: str
    scale: str
    step: float
    moves: str | None


@dataclass(frozen=True)
class Options:
    """A choice to make, and what is chosen."""

    name: str
    options: tuple[str, ...]
    value: str
    title: str


@dataclass(frozen=True, kw_only=True)
class EffectState(Effect):
    """An effect as the song has it, with what its panel shows. `has_sidechain`: another part may steer it."""

    title: str
    has_sidechain: bool
    picture: EffectPicture | None
    fields: list[Figure]
    options: list[Options]


def figure(param: Param, value: float) -> Figure:
    """A parameter at a value, as a page draws its control."""
    return Figure(param.name, param.unit, param.low, param.high, value, param.title, param.scale, param.step, param.moves)


def options(choice: Choice, value: str) -> Options:
    """A choice at a value, as a page draws its control."""
    return Options(choice.name, choice.options, value, choice.title)


def effect_state(effect: Effect) -> EffectState:
    """An effect with all of its controls and its picture."""
    spec = spec_of(effect)
    return EffectState(
        **vars(effect), title=spec.title, has_sidechain=spec.has_sidechain, picture=picture_of(effect),
        fields=[figure(p, p.value(effect.params)) for p in spec.params],
        options=[options(c, c.value(effect.choices, spec.name)) for c in spec.choices],
    )  # fmt: skip
