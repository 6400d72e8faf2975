"""Edits of what happens at the boundaries of sections."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

from ersatz.core.edits.arrangement import fresh_id, section_name, section_of
from ersatz.core.errors import InvalidEdit
from ersatz.core.song.document import Song, Transition, TransitionKind, fitted
from ersatz.core.transitions import TRANSITIONS, carrier

MOST_TRANSITIONS = 400
MIN_BEATS = 0.25


def with_carrier(song: Song, kind: str) -> Song:
    """The song with the part that a transition of this kind needs."""
    if TRANSITIONS[kind].carrier is None or song.part(kind) is not None:
        return song
    return replace(song, parts=(*song.parts, fitted(song, carrier(kind))))


@dataclass(frozen=True)
class PutTransition:
    """A transition at the end of a section: a new one, or where `id` is given another in its place. `beats` 0: as long as usual."""

    kind: ClassVar[str] = "put_transition"
    section: str
    what: TransitionKind
    beats: float = 0.0
    amount: float = 0.7
    on: tuple[str, ...] = ()
    rhythm: str = ""
    seed: int = 0
    id: str = ""

    def apply(self, song: Song) -> Song:
        section = section_of(song, self.section)
        room = section.bars * song.grid.beats_per_bar - (1.0 if self.what == "gap" else 0.0)
        beats = self.beats or min(TRANSITIONS[self.what].usual_beats, room)
        if not MIN_BEATS <= beats <= room:
            raise InvalidEdit(f"Here a {self.what} is {MIN_BEATS} to {room:.0f} beats long.")
        if not 0 <= self.amount <= 1:
            raise InvalidEdit("An amount lies between 0 and 100 %.")
        rhythms = TRANSITIONS[self.what].rhythms
        if self.rhythm and self.rhythm not in rhythms:
            raise InvalidEdit(f"Rhythms of a {self.what} are {', '.join(rhythms)}." if rhythms else f"A {self.what} has no rhythm.")
        for name in self.on:
            if song.strip(name) is None or name in {r.id for r in song.returns}:
                raise InvalidEdit(f"There is no part or bus “{name}” in this song.")
        if self.id and all(t.id != self.id for t in song.transitions):
            raise InvalidEdit("This transition isn’t there any more.")
        if not self.id and len(song.transitions) >= MOST_TRANSITIONS:
            raise InvalidEdit(f"A song has at most {MOST_TRANSITIONS} transitions.")
        name = self.id or fresh_id({t.id for t in song.transitions}, "t")
        made = Transition(name, self.what, section.id, round(beats, 4), round(self.amount, 3), self.on, self.rhythm, self.seed)
        kept = tuple(made if t.id == name else t for t in song.transitions)
        return with_carrier(replace(song, transitions=kept if self.id else (*kept, made)), self.what)

    def sentence(self, song: Song) -> str:
        where = f"at the end of {section_name(song, self.section)}"
        return f"{TRANSITIONS[self.what].title.capitalize()} {where}{' changed' if self.id else ''}"


@dataclass(frozen=True)
class DeleteTransition:
    kind: ClassVar[str] = "delete_transition"
    id: str

    def _found(self, song: Song) -> Transition:
        found = next((t for t in song.transitions if t.id == self.id), None)
        if found is None:
            raise InvalidEdit("This transition isn’t there any more.")
        return found

    def apply(self, song: Song) -> Song:
        self._found(song)
        return replace(song, transitions=tuple(t for t in song.transitions if t.id != self.id))

    def sentence(self, song: Song) -> str:
        found = self._found(song)
        return f"{TRANSITIONS[found.kind].title.capitalize()} at the end of {section_name(song, found.section)} deleted"
