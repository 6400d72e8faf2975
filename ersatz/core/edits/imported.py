"""An arrangement from elsewhere, as parts with patterns in the song's sections."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import count
from typing import ClassVar

from ersatz.core.edits.parts import MOST_PARTS, AddPart, SetTempo
from ersatz.core.edits.sections import AdoptPlan, PlannedSection, ResizeSection
from ersatz.core.errors import InvalidEdit
from ersatz.core.song.document import Song
from ersatz.core.song.parts import MOST_PATTERN_BARS, Cell, Note, Pattern, Role

PERIODS = (1, 2, 4, 8, 16, 32)


@dataclass(frozen=True)
class ImportedTrack:
    """`notes` have their ticks from the start of the song. `sound` names a shipped sound, "" for the usual one of the role."""

    name: str
    role: Role
    notes: tuple[Note, ...]
    sound: str = ""


@dataclass(frozen=True)
class ImportArrangement:
    """Tracks become parts with a shipped sound. `sections`: the plan that they come with; without one the song's
    own is kept and lengthened at its end. `bpm` 0: the song's tempo."""

    kind: ClassVar[str] = "import_arrangement"
    name: str
    tracks: tuple[ImportedTrack, ...]
    sections: tuple[PlannedSection, ...] = ()
    bpm: float = 0.0

    def apply(self, song: Song) -> Song:
        if not any(t.notes for t in self.tracks):
            raise InvalidEdit("There are no notes to import.")
        if len(song.parts) + len(self.tracks) > MOST_PARTS:
            raise InvalidEdit(f"A song has at most {MOST_PARTS} parts.")
        if self.bpm:
            song = SetTempo(self.bpm).apply(song)
        if self.sections:
            song = AdoptPlan(self.sections).apply(song)
        bar = song.grid.ticks_per_bar
        ends = -(-max(n.tick + 1 for t in self.tracks for n in t.notes) // bar)
        if ends > song.bars:
            last = song.sections[-1]
            song = ResizeSection(last.id, last.bars + ends - song.bars).apply(song)
        for track in self.tracks:
            if track.notes:
                song = self._with_strip(song, track)
        return song

    def _with_strip(self, song: Song, track: ImportedTrack) -> Song:
        song = AddPart(track.role, track.name[:40], track.sound).apply(song)
        part, bar = song.parts[-1], song.grid.ticks_per_bar
        patterns: dict[str, Pattern] = {}
        cells = []
        for first, section in song.placed():
            start, bars = song.grid.ticks_of_bar(first), min(section.bars, MOST_PATTERN_BARS)
            inside = tuple(replace(n, tick=n.tick - start) for n in track.notes if start <= n.tick < start + bars * bar)
            if inside:
                pattern = _shortest(inside, bars, bar)
                name = next((k for k, p in patterns.items() if p == pattern), None) or _free_name(patterns)
                patterns[name] = pattern
                cells.append(Cell(section.id, name))
        made = replace(part, patterns=patterns, cells=tuple(cells))
        return replace(song, parts=(*song.parts[:-1], made))

    def sentence(self, song: Song) -> str:
        return f"Imported {len(self.tracks)} tracks of {self.name[:80]}"


def _shortest(notes: tuple[Note, ...], bars: int, bar: int) -> Pattern:
    """The pattern, as short as it can be and still play all of it."""
    whole = set(notes)
    for period in PERIODS:
        if period < bars and bars % period == 0:
            once = [n for n in notes if n.tick < period * bar]
            if {replace(n, tick=n.tick + k * period * bar) for n in once for k in range(bars // period)} == whole:
                return Pattern(period, tuple(sorted(once, key=lambda n: (n.tick, n.midi))))
    return Pattern(bars, tuple(sorted(notes, key=lambda n: (n.tick, n.midi))))


def _free_name(used: dict[str, Pattern]) -> str:
    letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
    return next(n for k in count() if (n := letters[k % 26] + (str(k // 26 + 1) if k >= 26 else "")) not in used)
