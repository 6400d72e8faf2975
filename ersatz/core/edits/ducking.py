"""Edits of the song's ducking curves: drawn once, taken by strips at depths of their own."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated, ClassVar

from ersatz.core.edits.arrangement import checked_name, fresh_id, part_of
from ersatz.core.errors import InvalidEdit
from ersatz.core.serial import Most
from ersatz.core.song.bounds import Id, Share
from ersatz.core.song.document import DUCK_POINTS, MOST_CURVES, DuckCurve, Rate, Song, with_each

Shape = Annotated[tuple[Share, ...], Most(DUCK_POINTS)]


def curve_of(song: Song, curve_id: str) -> DuckCurve:
    """Raises InvalidEdit for a ducking curve that the song hasn't."""
    curve = song.curve(curve_id)
    if curve is None:
        raise InvalidEdit("This ducking curve isn’t there any more.")
    return curve


def _with_curve(song: Song, curve: DuckCurve) -> Song:
    return replace(song, curves=tuple(curve if c.id == curve.id else c for c in song.curves))


def _checked(shape: Shape) -> Shape:
    if len(shape) != DUCK_POINTS:
        raise InvalidEdit(f"A ducking curve has {DUCK_POINTS} points.")
    return tuple(round(v, 4) for v in shape)


@dataclass(frozen=True)
class AddCurve:
    kind: ClassVar[str] = "add_curve"
    name: str
    shape: Shape
    rate: Rate = "1/4"
    triggers: Annotated[tuple[Id, ...], Most(32)] = ()

    def apply(self, song: Song) -> Song:
        if len(song.curves) >= MOST_CURVES:
            raise InvalidEdit(f"A song has at most {MOST_CURVES} ducking curves.")
        name = fresh_id({c.id for c in song.curves}, "d")
        triggers = tuple(part_of(song, t).id for t in self.triggers)
        made = DuckCurve(name, checked_name(self.name), self.rate, _checked(self.shape), triggers)
        return replace(song, curves=(*song.curves, made))

    def sentence(self, song: Song) -> str:
        return f"Ducking curve {self.name.strip()} added"


@dataclass(frozen=True)
class DrawCurve:
    """Another shape for every strip that takes the curve."""

    kind: ClassVar[str] = "draw_curve"
    curve: str
    shape: Shape

    def apply(self, song: Song) -> Song:
        return _with_curve(song, replace(curve_of(song, self.curve), shape=_checked(self.shape)))

    def sentence(self, song: Song) -> str:
        return f"{curve_of(song, self.curve).name} drawn"


@dataclass(frozen=True)
class SetTriggers:
    """What triggers a curve: a rate, or ("hits") the notes of parts; of the first kick where none is named."""

    kind: ClassVar[str] = "set_triggers"
    curve: str
    rate: Rate
    triggers: Annotated[tuple[Id, ...], Most(32)] = ()

    def apply(self, song: Song) -> Song:
        triggers = tuple(part_of(song, t).id for t in self.triggers) if self.rate == "hits" else ()
        return _with_curve(song, replace(curve_of(song, self.curve), rate=self.rate, triggers=triggers))

    def sentence(self, song: Song) -> str:
        by = " and ".join(part_of(song, t).name for t in self.triggers) or "the kick"
        return f"{curve_of(song, self.curve).name} triggered by {by if self.rate == 'hits' else f'every {self.rate}'}"


@dataclass(frozen=True)
class RenameCurve:
    kind: ClassVar[str] = "rename_curve"
    curve: str
    name: str

    def apply(self, song: Song) -> Song:
        return _with_curve(song, replace(curve_of(song, self.curve), name=checked_name(self.name)))

    def sentence(self, song: Song) -> str:
        return f"{curve_of(song, self.curve).name} is now called {self.name.strip()}"


@dataclass(frozen=True)
class DeleteCurve:
    """A curve; the strips that it ducked aren't ducked any more."""

    kind: ClassVar[str] = "delete_curve"
    curve: str

    def apply(self, song: Song) -> Song:
        gone = curve_of(song, self.curve).id
        free = with_each(song, lambda strip: replace(strip, duck=None) if strip.duck and strip.duck.curve == gone else strip)
        return replace(free, curves=tuple(c for c in free.curves if c.id != gone))

    def sentence(self, song: Song) -> str:
        return f"{curve_of(song, self.curve).name} deleted"
