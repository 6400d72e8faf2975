"""Edits that need the reference: what the producer asks for, turned into an edit of the song."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated, Any, ClassVar, get_args

from ersatz.core.draft import trace
from ersatz.core.draft.build import draft_song
from ersatz.core.draft.generate import Mood, generate
from ersatz.core.draft.variation import standstills
from ersatz.core.edits import Change, Edit
from ersatz.core.edits.arrangement import part_of, section_of
from ersatz.core.edits.cells import PutCells
from ersatz.core.edits.notes import WriteNotes, pattern_of
from ersatz.core.edits.parts import SetGroove
from ersatz.core.edits.sections import AdoptPlan, AdoptSection, PlannedSection
from ersatz.core.errors import InvalidEdit
from ersatz.core.serial import Within, from_json
from ersatz.core.song.document import Song
from ersatz.core.survey.document import Survey

#: Seeds of drafts that people are told.
MOST_SEED = 999_999


def _section(survey: Survey, section: int) -> int:
    if not 0 <= section < len(survey.sections):
        raise InvalidEdit("The reference has no such section.")
    return section


@dataclass(frozen=True)
class Trace:
    """The rhythm of a part's role in a section of the reference, into a pattern: drums hit by hit, a bass on the song's tonic."""

    kind: ClassVar[str] = "trace"
    part: str
    pattern: str
    section: int

    def edit(self, song: Song, survey: Survey) -> Edit:
        """The pattern's notes as the reference's section has them."""
        part, section = part_of(song, self.part), _section(survey, self.section)
        bars = pattern_of(part, self.pattern).bars
        said = f"traced from the reference’s {trace.section_title(survey, section)}"
        if part.role == "bass":
            return WriteNotes(part.id, self.pattern, bars, trace.traced_bass(survey, section, song, bars), 0, said)
        one, bar = trace.traced_hits(survey, section, part.role), song.grid.ticks_per_bar
        notes = tuple(replace(n, tick=n.tick + k * bar) for k in range(bars) for n in one)
        return WriteNotes(part.id, self.pattern, bars, notes, 0, said)


@dataclass(frozen=True)
class LoadGroove:
    """The timing of one of the reference's rows, for a part."""

    kind: ClassVar[str] = "load_groove"
    part: str
    section: int
    role: str

    def edit(self, song: Song, survey: Survey) -> Edit:
        """The part's groove with the timing of a role of the reference's section."""
        if self.role not in trace.TRACED:
            raise InvalidEdit(f"The survey times {', '.join(trace.TRACED)}, no others.")
        old = part_of(song, self.part).groove
        taken = trace.groove_of(survey, _section(survey, self.section), self.role)
        kept = replace(old, name=taken.name, timing_ms=taken.timing_ms, swing_percent=taken.swing_percent)
        return SetGroove(self.part, kept)


@dataclass(frozen=True)
class FollowReference:
    """Parts play in some sections where the reference plays their roles; without `sections` in all."""

    kind: ClassVar[str] = "follow_reference"
    parts: tuple[str, ...]
    sections: tuple[str, ...] = ()

    def edit(self, song: Song, survey: Survey) -> Edit:
        """The cells of the parts on and off as what they play is heard in the reference."""
        chosen = [section_of(song, s).id for s in self.sections] or [s.id for s in song.sections]
        cells, refused = [], ""
        for part in (part_of(song, p) for p in self.parts):
            try:
                cells += [c for c in trace.followed(survey, song, part) if c.section in chosen]
            except InvalidEdit as error:
                refused = str(error)
        if not cells:
            raise InvalidEdit(refused or "The reference has no section there to follow.")
        return PutCells(tuple(cells), "as in the reference")


@dataclass(frozen=True)
class AdoptReference:
    """The reference's plan, or one section of it."""

    kind: ClassVar[str] = "adopt_reference"
    section: int | None = None

    def edit(self, song: Song, survey: Survey) -> Edit:
        """The reference's plan, or one section of it, put in at its place."""
        if self.section is None:
            return AdoptPlan(tuple(PlannedSection(s.label, s.bars) for s in survey.sections))
        wanted = survey.sections[_section(survey, self.section)]
        number = sum(s.label == wanted.label for s in survey.sections[: self.section])
        # Behind as many bars of the song's own as lie before it in the reference.
        place = sum(first + s.bars / 2 < wanted.start_bar for first, s in song.placed())
        return AdoptSection(wanted.label, number, wanted.bars, place)


@dataclass(frozen=True)
class Generate:
    """New notes for a pattern, but for those at the locked places of its list. `per_bar` 0: as many as the style's figure has;
    -1: as many as the reference has where it hears the role hit by hit. `mood`: against what stands there now, and before
    `per_bar`."""

    kind: ClassVar[str] = "generate"
    part: str
    pattern: str
    seed: int
    locked: tuple[int, ...] = ()
    per_bar: float = 0.0
    section: int = 0
    mood: Mood = ""

    def edit(self, song: Song, survey: Survey) -> Edit:
        """Notes by rule and seed in place of a pattern's, but for those that are locked."""
        part = part_of(song, self.part)
        pattern = pattern_of(part, self.pattern)
        if not set(self.locked) <= set(range(len(pattern.notes))):
            raise InvalidEdit("These notes aren’t there any more.")
        locked = tuple(n for k, n in enumerate(pattern.notes) if k in set(self.locked))
        per_bar = self.per_bar or None
        if self.per_bar < 0:
            heard = part.role in trace.TRACED
            per_bar = float(len(trace.row_of(survey, _section(survey, self.section), part.role))) if heard else None
        notes = generate(song, part, pattern.bars, self.seed, per_bar, locked, self.mood, pattern.notes)
        said = f"generated{f' {self.mood}' if self.mood else ''}, seed {self.seed}"
        return WriteNotes(part.id, self.pattern, pattern.bars, notes, pattern.loop_ticks, said)


@dataclass(frozen=True)
class Vary:
    """One of the changes that are offered where the song stands still."""

    kind: ClassVar[str] = "vary"
    standstill: int
    offer: int

    def edit(self, song: Song, survey: Survey) -> Edit:
        """One of the variations that are offered where nothing changes for long."""
        found = standstills(song)
        if not 0 <= self.standstill < len(found) or not 0 <= self.offer < len(found[self.standstill].offers):
            raise InvalidEdit("That isn’t offered any more.")
        return found[self.standstill].offers[self.offer]


@dataclass(frozen=True)
class AnotherDraft:
    """A draft from another seed in the place of the song. `style` "" for the one that fits; `energy` 1 busier, -1 calmer."""

    kind: ClassVar[str] = "another_draft"
    seed: Annotated[int, Within(1, MOST_SEED)]
    style: str = ""
    energy: Annotated[int, Within(-1, 1)] = 0

    def edit(self, song: Song, survey: Survey) -> Change:
        """Another draft of the same reference in place of the song."""
        return TakeDraft(draft_song(survey, self.seed, self.style or None, song.title, self.energy))


@dataclass(frozen=True)
class TakeDraft:
    """The song gives way to a draft."""

    draft: Song

    def apply(self, song: Song) -> Song:
        return self.draft

    def sentence(self, song: Song) -> str:
        return f"Another draft, seed {self.draft.seed}"


Ask = Trace | LoadGroove | FollowReference | AdoptReference | Generate | Vary | AnotherDraft
ASKS: dict[str, type[Ask]] = {a.kind: a for a in get_args(Ask)}


def asked_edit(data: Any, song: Song, survey: Survey) -> Change:
    """The edit that is asked for. Raises InvalidEdit, UnusableDocument, OtherMetre for a reference that isn't in 4/4, NoTempo."""
    survey.tempo.check_metre()
    return parse_ask(data).edit(song, survey)


def parse_ask(data: Any) -> Ask:
    """An ask from `{"kind": ..., fields}`. Raises InvalidEdit for an unknown kind, UnusableDocument for bad fields."""
    kind = data.get("kind") if isinstance(data, dict) else None
    if not isinstance(kind, str) or kind not in ASKS:
        raise InvalidEdit(f"There is nothing like “{kind}” to ask for.")
    return from_json(ASKS[kind], data)
