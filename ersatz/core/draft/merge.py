"""A matched draft brought to the song as it stands by then: matching takes a while, and the draft is heard and changed meanwhile.

Method: a merge of three (the draft as it was, matched, and the song as it stands), value by value of what matching sets (match.py).
A value that the producer has changed meanwhile stays; what was taken out stays out.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar, TypeVar

from ersatz.core.song.document import Song

Thing = TypeVar("Thing")
#: What matching sets of a part and of the master.
OF_PARTS, OF_MASTER = ("gain_db", "duck_db"), ("eq", "width", "mono_below_hz", "gain_db")


@dataclass(frozen=True)
class TakeMatch:
    """An edit: what matching made of `draft` is `matched`."""

    kind: ClassVar[str] = "take_match"
    draft: Song
    matched: Song

    def apply(self, song: Song) -> Song:
        draft, matched = self.draft, self.matched
        parts = []
        for part in song.parts:
            old, new = draft.part(part.id), matched.part(part.id)
            parts.append(_merged(part, old, new, OF_PARTS) if old and new else part)
        levels = {old.id: (old, new) for old, new in zip(draft.sections, matched.sections)}
        sections = tuple(
            _merged(s, *levels[s.id], ("levels_db",)) if s.id in levels and s.bars == levels[s.id][0].bars else s
            for s in song.sections
        )
        merged = replace(
            song,
            parts=tuple(parts),
            sections=sections,
            master=_merged(song.master, draft.master, matched.master, OF_MASTER),
            reverb=_merged(song.reverb, draft.reverb, matched.reverb, ("duck_db",)),
            delay=_merged(song.delay, draft.delay, matched.delay, ("duck_db",)),
        )
        return _merged(merged, draft, matched, ("ducking",))

    def sentence(self, song: Song) -> str:
        return "Matched to the reference"


def _merged(now: Thing, old: Thing, new: Thing, fields: tuple[str, ...]) -> Thing:
    """`now` with the fields of `new` that it still has as in `old`."""
    changed = {f: getattr(new, f) for f in fields if getattr(now, f) == getattr(old, f) and getattr(old, f) != getattr(new, f)}
    return replace(now, **changed) if changed else now  # type: ignore[type-var]
