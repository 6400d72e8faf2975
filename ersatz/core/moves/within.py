"""What might be changed in one section alone: levels there, the bar that parts enter at, a rise, a low cut that is blended in."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ersatz.core.edits import edit_json
from ersatz.core.edits.automation import SetAutomation, ShapeAutomation
from ersatz.core.edits.sound import SetEffects
from ersatz.core.moves.model import HIGH_PASS, cut_of
from ersatz.core.moves.proposal import STEPS_DB, Found, Proposal, about, best_of, off_by, set_cell, steps_of
from ersatz.core.moves.readings import RISES, difference_db
from ersatz.core.moves.section import HZ, SectionMix
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Cell, Part
from ersatz.core.song.strips import FADER, AutomationPoint, Effect, Target
from ersatz.core.survey.document import ROLES, Survey
from ersatz.core.survey.presence import role_confidence
from ersatz.core.words import minus

#: A part's level in one section is within this of its fader, dB.
MOST_LEVEL_DB = 12.0
#: A low cut for one section: where it is tried, Hz; from how much too much on, dB, and up to which frequency that counts.
CUTS_HZ, TOO_MUCH_DB, LOWS_HZ = (60.0, 90.0, 130.0, 180.0, 250.0, 350.0), 6.0, 400.0
#: The filter that does it, and so many parts that are tried.
CUT, MOST_CUT = "lowcut", 3
#: Whose pattern is another the second time, the most telling first.
VARIED = ("lead", "bass", "chords", "hats", "perc")
#: What rises; how far at most, dB.
RISING, MOST_RISE_DB = ("chords", "lead", "noise", "hats", "perc", "clap"), 18.0


def _playing(mix: SectionMix) -> Iterator[tuple[Part, Cell]]:
    for part in mix.song.parts:
        cell = part.cell(mix.section.id)
        if cell is not None and cell.on and part.id in mix.lanes.lanes:
            yield part, cell


def levels(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """The level that a part has in this section alone."""
    figures = about(found, "Balance", "Loudness")

    def steps() -> Iterator[tuple[float, Proposal]]:
        for part, cell in _playing(mix):
            for by in STEPS_DB:
                level = round(cell.level_db + by, 1)
                if abs(level) <= MOST_LEVEL_DB:
                    edit = set_cell(part, cell, level_db=level)
                    yield by, Proposal("level", part.id, minus(f"{part.name} {by:+.1f} dB here"), (edit,), figures, steps_of(by))

    return best_of(mix, survey, found, steps())


def sure_of_role(mix: SectionMix, survey: Survey, role: str) -> float:
    """How sure the survey is of a role in the section."""
    theirs = survey.sections[mix.theirs]
    return role_confidence(survey.presence.within(role, theirs.start_bar, theirs.end_bar))


def entries(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """Parts of a role enter where the reference's do."""
    for role in ROLES:
        figure = f"Enters: {role}"
        if not off_by(found, figure):
            continue
        bars = int(found[figure].reference)
        rows = [(part, cell) for part, cell in _playing(mix) if part.role == role]
        edits = tuple(set_cell(part, cell, entry_bars=min(bars, mix.section.bars - 1)) for part, cell in rows)
        if edits:
            names = ", ".join(part.name for part, _ in rows)
            where = f"enters {bars} bars into the section" if bars else "plays from the first bar"
            sentence, sure = f"{names} {where}, as in the reference", sure_of_role(mix, survey, role)
            yield Proposal("entry", rows[0][0].id, sentence, edits, (figure,), sure=sure)


def variations(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """Another pattern of a part that has one, where the section is the same as the one before of its label."""
    figure = next((f for f in found if f.startswith("Same as")), "")
    if not off_by(found, figure):
        return
    for role in VARIED:
        for part, cell in _playing(mix):
            other = next((name for name in sorted(part.patterns) if name != cell.pattern), None)
            if part.role == role and other is not None:
                edit = set_cell(part, cell, pattern=other)
                yield Proposal("variation", part.id, f"{part.name} plays pattern {other} here", (edit,), (figure,))


def rises(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """A level that rises or falls over the section, of the part that has most of a band."""
    first, last = _ticks(mix)
    for name, low, high in RISES:
        figure = f"Rise, {name}"
        off = off_by(found, figure)
        parts = [part for part, _ in _playing(mix) if part.role in RISING]
        if not off or not parts:
            continue
        rows = (low <= HZ) & (high > HZ)
        part = max(parts, key=lambda p: float(mix.lanes.lanes[p.id].power[rows].sum()))
        target, by = Target(part.id, FADER, "gain_db"), min(abs(off) * 1.3, MOST_RISE_DB)
        stands, shape = part.gain_db, "rise" if off < 0 else "fall"
        edit = ShapeAutomation(target, shape, first, last, round(stands - by, 1), round(stands, 1))  # type: ignore[arg-type]
        sentence = f"{part.name} {'rises' if off < 0 else 'falls'} by {by:.0f} dB over the section"
        yield Proposal("automation", part.id, sentence, (edit_json(edit),), (figure,), steps_of(by))


def low_cuts(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """What the reference doesn't have in the lows of this section is cut from the parts that have it, in this section alone."""
    off = difference_db(mix, survey)
    too_much = (HZ >= 40) & (HZ <= LOWS_HZ) & (off >= TOO_MUCH_DB)
    if not too_much.any():
        return iter(())
    figures = about(found, "Balance")
    parts = sorted((p for p, _ in _playing(mix)), key=lambda p: -float(mix.lanes.lanes[p.id].power[too_much].sum()))[:MOST_CUT]

    def steps() -> Iterator[tuple[float, Proposal]]:
        for part in parts:
            for hz in CUTS_HZ:
                edits = cut_here(mix.song, part, mix.section.id, hz)
                yield 1.0, Proposal("cut", part.id, f"{part.name}: low cut at {hz:.0f} Hz here", edits, figures)

    return best_of(mix, survey, found, steps())


def cut_here(song: Song, part: Part, section: str, hz: float) -> tuple[dict[str, Any], ...]:
    """A high-pass at the end of the part's chain that is blended in in one section, beside those in which it is already, each at a
    corner of its own."""
    was = part.effect(CUT)
    blends: list[AutomationPoint] = []
    corners: list[AutomationPoint] = []
    bar = song.grid.ticks_per_bar
    for first, found in song.placed():
        start, end = (first - 1) * bar, (first - 1 + found.bars) * bar
        blend, corner = cut_of(part, was, (start + end) / 2) if was is not None else (0.0, hz)
        if found.id == section:
            blend, corner = 1.0, hz
        # Where it isn't heard it waits at the new corner: the fewer it has, the more bars are alike.
        corner = corner if blend else hz
        blends += [AutomationPoint(start, round(blend, 3)), AutomationPoint(end, round(blend, 3))]
        corners += [AutomationPoint(start, round(corner, 1)), AutomationPoint(end, round(corner, 1))]
    chain = (*(e for e in part.chain if e.id != CUT), Effect("sweep", {"cutoff_hz": hz}, {"kind": HIGH_PASS}, id=CUT))
    edits = [edit_json(SetEffects(part.id, chain)), edit_json(SetAutomation(Target(part.id, CUT, "blend"), tuple(blends)))]
    differ = len({p.value for p in corners}) > 1
    if differ or part.curve(CUT, "cutoff_hz") is not None:
        edits.append(edit_json(SetAutomation(Target(part.id, CUT, "cutoff_hz"), tuple(corners) if differ else ())))
    return tuple(edits)


def _ticks(mix: SectionMix) -> tuple[int, int]:
    """Where the section begins and ends."""
    bar = mix.song.grid.ticks_per_bar
    first = next(first for first, s in mix.song.placed() if s.id == mix.section.id)
    return (first - 1) * bar, (first - 1 + mix.section.bars) * bar
