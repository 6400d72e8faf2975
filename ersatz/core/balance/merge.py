"""A matched draft brought to the song as it stands by then: matching takes a while, and the draft is heard and changed meanwhile.

Method: a merge of three (the draft as it was, matched, and the song as it stands), value by value of what matching sets (match.py).
A value that the producer has changed meanwhile stays; what was taken out stays out. What is drawn for a fader
or a send that matching moved goes along.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, TypeVar

from ersatz.core.song.document import Song, with_each
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import AnyStrip, drawn_along

Thing = TypeVar("Thing")
#: What matching sets of every strip and of the master.
OF_STRIPS = ("gain_db", "duck", "chain", "sends")
OF_PARTS = ("cells", "low_cut_hz", "patterns")
OF_MASTER = ("eq", "width", "mono_below_hz")


@dataclass(frozen=True)
class TakeMatch:
    """An edit: what matching, or balancing, made of `draft` is `matched`."""

    kind: ClassVar[str] = "take_match"
    draft: Song
    matched: Song
    said: str = "Matched to the reference"

    def apply(self, song: Song) -> Song:
        draft, matched = self.draft, self.matched
        before, after = ({s.id: s for s in made.strips()} for made in (draft, matched))
        levels = {old.id: (old, new) for old, new in zip(draft.sections, matched.sections)}
        sections = tuple(
            _merged(s, *levels[s.id], ("levels_db",)) if s.id in levels and s.bars == levels[s.id][0].bars else s
            for s in song.sections
        )
        curves = {old.id: (old, new) for old, new in zip(draft.curves, matched.curves)}
        merged = replace(
            song,
            sections=sections,
            master=_merged(song.master, draft.master, matched.master, OF_MASTER),
            curves=tuple(_merged(c, *curves[c.id], ("shape",)) if c.id in curves else c for c in song.curves),
        )

        def at_level(strip: AnyStrip) -> AnyStrip:
            known = strip.id in before and strip.id in after
            fields = OF_STRIPS + (OF_PARTS if isinstance(strip, Part) else ())
            return drawn_along(strip, _merged(strip, before[strip.id], after[strip.id], fields)) if known else strip

        return with_each(merged, at_level)

    def sentence(self, song: Song) -> str:
        return self.said


def _merged(now: Thing, old: object, new: object, fields: tuple[str, ...]) -> Thing:
    """`now` with the fields of `new` that it still has as in `old`."""
    changed = {f: getattr(new, f) for f in fields if getattr(now, f) == getattr(old, f) and getattr(old, f) != getattr(new, f)}
    return replace(now, **changed) if changed else now  # type: ignore[type-var]
