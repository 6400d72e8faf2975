"""Are moves the right ones? Remakes are spoiled in known ways; the right move is to be among the first three, and five moves are to
undo most of it. `python -m bench.spoilings TRACK [TRACK ...]`, each drafted and matched first.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from ersatz.core.balance.match import match_song
from ersatz.core.draft import draft_song
from ersatz.core.edits import parse_edit
from ersatz.core.gap.plans import counterparts
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.moves import Move, find_moves
from ersatz.core.moves.readings import gap_of, readings
from ersatz.core.moves.section import measure_section
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song, with_each
from ersatz.core.song.parts import Part
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Survey

#: The right move is among so many; so many are taken, which are to undo this share of what was spoiled.
FIRST, TAKEN, UNDONE = 3, 5, 0.6
#: What spoils less than this, in tolerances, spoils nothing that a figure tells.
LEAST_SPOILED = 0.5
#: Moves that are taken before anything is spoiled.
MOST_SETTLED = 6


@dataclass(frozen=True)
class Spoiling:
    """`spoil(song, place)` of the section at a place; `is_right(move, song)`; `where(song, survey)`: the place, None where the song
    has nothing to spoil in that way."""

    name: str
    spoil: Callable[[Song, int], Song]
    is_right: Callable[[Move, Song], bool]
    where: Callable[[Song, Survey], int | None]


def edited(song: Song, *edits: dict[str, Any]) -> Song:
    for edit in edits:
        song = parse_edit(edit).apply(song)
    return song


def at(strip: str, name: str, value: float) -> dict[str, Any]:
    return {"kind": "set_strip", "strip": strip, "name": name, "value": value}


def louder(song: Song, by: float, *roles: str) -> Song:
    return edited(song, *(at(p.id, "gain_db", p.gain_db + by) for p in song.parts if p.role in roles))


def main_place(song: Song, survey: Survey) -> int | None:
    """The song's counterpart of the reference's main section."""
    theirs = counterparts(song, survey)
    return next((k for k, s in enumerate(song.sections) if theirs.get(s.id) == survey.main_section()), None)


def _main_with(*roles: str) -> Callable[[Song, Survey], int | None]:
    def where(song: Song, survey: Survey) -> int | None:
        place = main_place(song, survey)
        return place if place is not None and _playing(song, place, *roles) else None

    return where


def _playing(song: Song, place: int, *roles: str) -> list[Part]:
    section = song.sections[place].id
    return [p for p in song.parts if (not roles or p.role in roles) and (c := p.cell(section)) is not None and c.on]


def _ducks(song: Song, survey: Survey) -> int | None:
    ducked = any(p.duck is not None and p.duck.depth_db > 1 for p in song.parts)
    return main_place(song, survey) if ducked and survey.pump.depth_db > 2 and survey.pump.told else None


def _second_drop(*roles: str) -> Callable[[Song, Survey], int | None]:
    def where(song: Song, survey: Survey) -> int | None:
        theirs = counterparts(song, survey)
        drops = [k for k, s in enumerate(song.sections) if s.label == "drop" and s.id in theirs]
        if len(drops) < 2:
            return None
        there = survey.sections[theirs[song.sections[drops[1]].id]].presence
        heard = not roles or any(there[r] >= 0.5 for r in roles)
        return drops[1] if heard and _playing(song, drops[1], *roles) else None

    return where


def _risen(song: Song, survey: Survey) -> int | None:
    """A section that a riser leads out of on both sides."""
    theirs = counterparts(song, survey)
    for k, s in enumerate(song.sections):
        there = theirs.get(s.id)
        if there is None or not any(t.kind == "riser" and t.section == s.id for t in song.transitions):
            continue
        end = survey.sections[there].end_bar
        if any(e.kind == "riser" and e.confidence >= 0.5 and abs(e.start_bar + e.beats / 4 - end) <= 0.5 for e in survey.events):
            return k
    return None


def no_low_cuts(song: Song, place: int) -> Song:
    """Chords and leads lose their low cuts, and have lows that needed them."""
    shelf = {"kind": "eq", "params": {"band1_hz": 220.0, "band1_db": 18.0, "band1_q": 0.7}, "choices": {"band1_kind": "low shelf"}}
    edits: list[dict[str, Any]] = []
    for part in song.parts:
        if part.role in ("chords", "lead"):
            edits.append({"kind": "set_cuts", "part": part.id, "low_cut_hz": 0.0, "high_cut_hz": part.high_cut_hz})
            edits.append({"kind": "set_effects", "strip": part.id, "effects": [*to_json(part.chain), shelf]})
    return edited(song, *edits)


def stereo_sub(song: Song, place: int) -> Song:
    wide = (
        at(p.id, name, value) for p in song.parts if p.role == "bass" for name, value in (("width", 1.6), ("mono_below_hz", 0.0))
    )
    spread = {"kind": "chorus", "params": {"depth_ms": 6.0, "delay_ms": 14.0, "width": 1.0}}
    edits = [{"kind": "set_effects", "strip": p.id, "effects": [*_chain(p), spread]} for p in song.parts if p.role == "bass"]
    return edited(song, *edits, *wide, at("master", "mono_below_hz", 20.0))


def _chain(part: Part) -> list[dict[str, Any]]:

    return [to_json(e) for e in part.chain]


def rested(song: Song, place: int, *roles: str) -> Song:
    parts = [p for p in _playing(song, place, *roles) if p.patterns]
    cells = [{"part": p.id, "section": song.sections[place].id, "on": False, "pattern": min(p.patterns)} for p in parts]
    return edited(song, {"kind": "put_cells", "how": "off", "cells": cells})


def as_the_first(song: Song, place: int) -> Song:
    """What plays in the earlier section of the same label, cell by cell."""
    here = song.sections[place]
    first = next(s for s in song.sections if s.label == here.label)

    def of(part: Part) -> Part:
        was = part.cell(first.id)
        others = tuple(c for c in part.cells if c.section != here.id)
        return replace(part, cells=(*others, replace(was, section=here.id)) if was is not None else others)

    return replace(song, parts=tuple(of(p) for p in song.parts))


def without_riser(song: Song, place: int) -> Song:
    gone = [t for t in song.transitions if t.kind == "riser" and t.section == song.sections[place].id]
    return replace(song, transitions=tuple(t for t in song.transitions if t not in gone))


def other_swing(song: Song, place: int) -> Song:
    return edited(song, {"kind": "set_swing", "swing_percent": 64.0 if song.swing_percent < 57 else 50.0})


def other_rate(song: Song, place: int) -> Song:
    curve = song.curves[0]
    rate = "1/8" if curve.rate != "1/8" else "1/4"
    return edited(song, {"kind": "set_triggers", "curve": curve.id, "rate": rate, "triggers": []})


def _of(move: Move, song: Song, *roles: str) -> bool:
    part = song.part(move.strip)
    return part is not None and part.role in roles


TOPS = ("hats", "clap", "perc")
SPOILINGS: tuple[Spoiling, ...] = (
    Spoiling("bass +6 dB", lambda s, k: louder(s, 6.0, "bass"),
             lambda m, s: _of(m, s, "bass") and "−" in m.sentence, _main_with("bass")),
    Spoiling("no low cuts", no_low_cuts, lambda m, s: "cut" in m.sentence.lower(), _main_with("chords", "lead")),
    Spoiling("ducking off", lambda s, k: with_each(s, lambda x: replace(x, duck=None)),
             lambda m, s: m.kind == "ducking depth", _ducks),
    Spoiling("lead −12 dB", lambda s, k: louder(s, -12.0, "lead"),
             lambda m, s: _of(m, s, "lead") and "+" in m.sentence, _main_with("lead")),
    Spoiling("stereo sub", stereo_sub, lambda m, s: "mono" in m.sentence.lower(), _main_with("bass")),
    Spoiling("limiter crushed", lambda s, k: edited(s, at("master", "gain_db", s.master.gain_db + 9.0)),
             lambda m, s: m.kind == "loudness", _main_with()),
    Spoiling("pump rate wrong", other_rate, lambda m, s: m.kind == "ducking rate", _ducks),
    Spoiling("hats missing in drop 2", lambda s, k: rested(s, k, "hats"),
             lambda m, s: m.kind == "presence" and _of(m, s, "hats"), _second_drop("hats")),
    Spoiling("drop 2 equals drop 1", as_the_first, lambda m, s: m.kind in ("variation", "presence", "entry"), _second_drop()),
    Spoiling("swing lost", other_swing, lambda m, s: m.kind == "groove", _main_with()),
    Spoiling("riser missing", without_riser, lambda m, s: m.kind == "transition" and "riser" in m.sentence, _risen),
    Spoiling("highs dull", lambda s, k: louder(s, -10.0, *TOPS), lambda m, s: _of(m, s, *TOPS) and "+" in m.sentence,
             _main_with(*TOPS)),
)  # fmt: skip


@dataclass(frozen=True)
class Outcome:
    """`rank`: of the right move, from 1, None where it isn't offered; gaps in tolerances, of the section."""

    rank: int | None
    before: float
    spoiled: float
    after: float
    moves: tuple[str, ...]

    @property
    def undone(self) -> float:
        return (self.spoiled - self.after) / max(self.spoiled - self.before, 1e-9)

    @property
    def tells(self) -> bool:
        return self.spoiled - self.before >= LEAST_SPOILED


def section_gap(song: Song, survey: Survey, place: int, cache: RenderCache) -> float:
    """Of the section at a place, tolerances."""
    theirs = counterparts(song, survey)[song.sections[place].id]
    return gap_of(readings(measure_section(song, Mixdown(song, cache), place, theirs), survey))


def settled(song: Song, survey: Survey, place: int, cache: RenderCache, most: int = MOST_SETTLED) -> Song:
    """With the moves taken that a section asks for as it is: what is found next is for what was spoiled."""
    for _ in range(most):
        found = find_moves(song, Mixdown(song, cache), place, survey, most=1)
        if not found:
            break
        song = edited(song, *found[0].edits)
    return song


def spoil_and_find(
    spoiling: Spoiling, song: Song, survey: Survey, cache: RenderCache, taken: int = TAKEN, until: float = 1.0
) -> Outcome | None:
    """None where the song has nothing to spoil in that way. So many moves are taken, or fewer once the share `until` is undone."""
    place = spoiling.where(song, survey)
    if place is None:
        return None

    before = section_gap(song, survey, place, cache)
    song = spoiling.spoil(song, place)
    spoiled = after = section_gap(song, survey, place, cache)
    rank, sentences = None, []
    for turn in range(taken):
        found = find_moves(song, Mixdown(song, cache), place, survey, most=FIRST)
        if turn == 0:
            rank = next((k for k, m in enumerate(found, 1) if spoiling.is_right(m, song)), None)
            sentences = [m.sentence for m in found]
        if not found:
            break
        song = edited(song, *found[0].edits)
        after = section_gap(song, survey, place, cache)
        if spoiled - after >= until * (spoiled - before):
            break
    return Outcome(rank, before, spoiled, after, tuple(sentences))


def print_spoilings(name: str, song: Song, survey: Survey, cache: RenderCache) -> tuple[int, int, int]:
    """How many of the right moves were among the first FIRST, how many were undone, of how many."""
    told = right = undone = 0
    good: dict[int, Song] = {}
    for spoiling in SPOILINGS:
        place = spoiling.where(song, survey)
        if place is not None and place not in good:
            good[place] = settled(song, survey, place, cache)
        found = spoil_and_find(spoiling, good[place], survey, cache) if place is not None else None
        if found is None or not found.tells:
            said = "nothing to spoil" if found is None else f"no figure tells it ({found.before:.1f} → {found.spoiled:.1f})"
            print(f"  {name:20} {spoiling.name:24} {said}", flush=True)
            continue
        is_right, is_undone = found.rank is not None and found.rank <= FIRST, found.undone >= UNDONE
        told, right, undone = told + 1, right + is_right, undone + is_undone
        share = f"{found.undone:4.0%} undone"
        gaps = f"{found.before:5.1f} → {found.spoiled:5.1f} → {found.after:5.1f}"
        listed = "" if is_right else f"   {'; '.join(found.moves)}"
        print(f"  {name:20} {spoiling.name:24} right move {found.rank or '-'}   {gaps}   {share}{listed}", flush=True)
    return told, right, undone


def print_table(tracks: Iterable[Path]) -> None:
    """Every track drafted, matched and spoiled."""
    total = [0, 0, 0]
    for track in tracks:
        survey, cache = survey_file(track), RenderCache()
        song = match_song(draft_song(survey), survey, cache)
        total = [a + b for a, b in zip(total, print_spoilings(track.stem, song, survey, cache))]
    told, right, undone = total
    print(
        f"  of {told} spoilings: right move among the first {FIRST} in {right}, {UNDONE:.0%} or more undone in {undone}", flush=True
    )


def main() -> None:
    print_table(map(Path, sys.argv[1:]))


if __name__ == "__main__":
    main()
