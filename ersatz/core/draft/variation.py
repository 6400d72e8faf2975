"""Where does a track stand still, and what could change there?

Method: each bar's signature is everything that is played in it, by part, with its level; a bar is no news where it equals the
one 1, 2, 4 or 8 bars before it. More than QUIET_BARS without news are marked, and so is a drop that equals an earlier one. What
is offered are edits made of the song's own parts and patterns."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from ersatz.core.edits import Edit, Several, edit_json, section_name
from ersatz.core.edits.arrangement import begun
from ersatz.core.edits.cells import PlacedCell, PutCells
from ersatz.core.edits.notes import WriteNotes
from ersatz.core.edits.parts import AddPattern
from ersatz.core.edits.transitions import PutTransition
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.song import transform
from ersatz.core.song.document import Song, SongSection
from ersatz.core.song.parts import Cell, Note, Part, Pattern

#: Listeners are given something new this often.
QUIET_BARS = 8
PERIODS = (1, 2, 4, 8)
MOST_OFFERS = 6


@dataclass(frozen=True)
class Standstill:
    """1-based bars `first` to `last` without anything new (`kind` "no change"), or a whole drop that comes again as it was
    ("same drop"); `section` is the one that it lies in. `offers`: what could change."""

    kind: str
    first: int
    last: int
    section: str
    said: str
    offers: tuple[Several, ...]


def standstills(song: Song) -> tuple[Standstill, ...]:
    """In order of bars; none where nothing is played yet."""
    if not any(cell.on for part in song.parts for cell in part.cells):
        return ()
    signs = _signatures(song)
    out = [_still(song, first, last) for first, last in _quiet(signs)]
    out += _same_drops(song, signs)
    return tuple(sorted(out, key=lambda s: (s.first, s.kind)))


def _signatures(song: Song) -> list[tuple[Any, ...]]:
    """What is played in each bar."""
    played, bar = staged(song), song.grid.ticks_per_bar
    notes: list[dict[str, list[Any]]] = [defaultdict(list) for _ in range(song.bars)]
    for part in played.parts:
        for n in sounding_notes(played, part):
            at = int(n.start // bar)
            if at < song.bars:
                notes[at][part.id].append((round(n.start - at * bar), n.midi, round(n.velocity, 2), n.semitones, n.swell))
            # A held note is what sounds in the bars that it runs through.
            for later in range(at + 1, min(song.bars, int((n.end - 1) // bar) + 1)):
                notes[later][part.id].append((n.midi, round(n.start - later * bar) % (QUIET_BARS * bar)))
    moving = _moving(played, bar)
    out: list[tuple[Any, ...]] = []
    for first, section in song.placed():
        for k in range(section.bars):
            at = first - 1 + k
            levels = [(p.id, c.level_db) for p in song.parts if (c := p.cell(section.id)) and notes[at].get(p.id)]
            sounds = sorted((part, tuple(sorted(events, key=repr))) for part, events in notes[at].items())
            out.append((tuple(sounds), tuple(levels), section.level_db(k), moving.get(at)))
    return out


def _moving(song: Song, bar: int) -> dict[int, float]:
    """Bars in which an automated value moves, each unlike any other."""
    out: dict[int, float] = {}
    curves = [a for strip in song.strips() for a in strip.automation]
    for curve in curves:
        for a, b in zip(curve.points, curve.points[1:]):
            if a.value != b.value:
                for at in range(a.tick // bar, b.tick // bar + 1):
                    out[at] = out.get(at, 0.0) + at + 1
    return out


def _quiet(signs: list[tuple[Any, ...]]) -> Iterator[tuple[int, int]]:
    """1-based stretches of more than QUIET_BARS that bring nothing new."""
    start = None
    for at in range(len(signs) + 1):
        news = at == len(signs) or not any(at >= p and signs[at] == signs[at - p] for p in PERIODS)
        if news:
            if start is not None and at - start > QUIET_BARS:
                yield start + 1, at
            start = None
        elif start is None:
            start = at


def _section_at(song: Song, bar: int) -> SongSection:
    return next(s for first, s in song.placed() if first <= bar < first + s.bars)


def _still(song: Song, first: int, last: int) -> Standstill:
    section = _section_at(song, (first + last) // 2)
    said = f"Bars {first} to {last} bring nothing new"
    return Standstill("no change", first, last, section.id, said, _offers(song, section))


def _same_drops(song: Song, signs: list[tuple[Any, ...]]) -> list[Standstill]:
    drops = [(first, s) for first, s in song.placed() if s.label == "drop"]
    out = []
    for k, (first, section) in enumerate(drops):
        for earlier, other in drops[:k]:
            shared = min(section.bars, other.bars)
            if signs[first - 1 : first - 1 + shared] == signs[earlier - 1 : earlier - 1 + shared]:
                said = f"{begun(section_name(song, section.id))} plays what {section_name(song, other.id)} played"
                last = first + section.bars - 1
                out.append(Standstill("same drop", first, last, section.id, said, _offers(song, section, whole=True)))
                break
    return out


# What could change ---------------------------------------------------------------------------------------------------


def _offers(song: Song, section: SongSection, whole: bool = False) -> tuple[Several, ...]:
    """Changes in the second half of a section, or in all of it."""
    made = [*_another_part(song, section, whole), *_another_pattern(song, section, whole), *_octave_up(song, section, whole)]
    made += [*_dropped_hit(song, section), *_fill(song, section)]
    return tuple(made[:MOST_OFFERS])


def _as_one(said: str, *edits: Edit) -> Several:
    return Several(said, tuple(edit_json(e) for e in edits))


def _half(section: SongSection) -> int:
    return section.bars // 2


def _put(part: Part, section: SongSection, cell: Cell) -> PutCells:
    placed = PlacedCell(
        part.id, section.id, cell.on, cell.pattern, cell.entry_bars, cell.exit_bars, cell.level_db, cell.fill, cell.fill_bars
    )
    return PutCells((placed,), "varied")


def _playing(song: Song, section: SongSection, roles: tuple[str, ...]) -> Iterator[tuple[Part, Cell, Pattern]]:
    for part in song.parts:
        cell = part.cell(section.id)
        if part.role in roles and cell and cell.on and cell.pattern in part.patterns:
            yield part, cell, part.patterns[cell.pattern]


def _another_part(song: Song, section: SongSection, whole: bool) -> Iterator[Several]:
    for part in song.parts:
        cell = part.cell(section.id)
        if part.role in ("perc", "hats", "chords", "lead") and part.patterns and not (cell and cell.on):
            entry = 0 if whole else _half(section)
            name = cell.pattern if cell and cell.pattern in part.patterns else min(part.patterns)
            edit = _put(part, section, Cell(section.id, name, True, entry, 0))
            where = section_name(song, section.id) if whole else f"the second half of {section_name(song, section.id)}"
            yield _as_one(f"{part.name} joins in {where}", edit)
            return


def _second_half(cell: Cell, name: str, section: SongSection, whole: bool) -> Cell:
    if whole:
        return replace(cell, pattern=name, fill="", fill_bars=0)
    return replace(cell, fill=name, fill_bars=min(_half(section), section.bars - cell.entry_bars - cell.exit_bars))


def _another_pattern(song: Song, section: SongSection, whole: bool) -> Iterator[Several]:
    for part, cell, _ in _playing(song, section, ("lead", "bass", "chords", "perc")):
        others = [n for n, p in sorted(part.patterns.items()) if n != cell.pattern and p.notes and n != cell.fill]
        if others:
            edit = _put(part, section, _second_half(cell, others[0], section, whole))
            yield _as_one(f"{part.name} goes to pattern {others[0]} in {section_name(song, section.id)}", edit)
            return


def _octave_up(song: Song, section: SongSection, whole: bool) -> Iterator[Several]:
    for part, cell, pattern in _playing(song, section, ("lead", "chords")):
        yield _with_new_pattern(
            song, part, section, transform.transposed(pattern.notes, 12), pattern, f"{part.name} an octave up",
            lambda name, cell=cell: _second_half(cell, name, section, whole),
        )  # fmt: skip
        return


def _dropped_hit(song: Song, section: SongSection) -> Iterator[Several]:
    """The kick leaves out its last hit before every eighth bar's end."""
    bar = song.grid.ticks_per_bar
    for part, cell, pattern in _playing(song, section, ("kick",)):
        if section.bars < QUIET_BARS or QUIET_BARS % pattern.bars:
            continue
        length = pattern.bars * bar
        notes = [replace(n, tick=n.tick + k * length) for k in range(QUIET_BARS // pattern.bars) for n in pattern.notes]
        last = max((n.tick for n in notes), default=0)
        if last >= (QUIET_BARS - 1) * bar:
            kept = tuple(n for n in notes if n.tick != last)
            yield _with_new_pattern(
                song, part, section, kept, Pattern(QUIET_BARS, ()), f"{part.name} leaves out its last hit of every eighth bar",
                lambda name, cell=cell: replace(cell, pattern=name),
            )  # fmt: skip
        return


def _with_new_pattern(
    song: Song, part: Part, section: SongSection, notes: tuple[Note, ...], like: Pattern, said: str, cell_of: Any
) -> Several:
    add = AddPattern(part.id, like.bars)
    name = next(n for n in add.apply(song).part(part.id).patterns if n not in part.patterns)  # type: ignore[union-attr]
    write = WriteNotes(part.id, name, like.bars, notes, like.loop_ticks)
    return _as_one(f"{said} in {section_name(song, section.id)}", add, write, _put(part, section, cell_of(name)))


def _fill(song: Song, section: SongSection) -> Iterator[Several]:
    has = any(t.section == section.id and t.kind in ("drum fill", "snare roll") for t in song.transitions)
    if not has and any(True for _ in _playing(song, section, ("clap", "perc"))):
        yield _as_one(f"A drum fill at the end of {section_name(song, section.id)}", PutTransition(section.id, "drum fill", 4.0))
