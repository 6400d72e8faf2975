"""When parts of a draft play, and what happens at its joints: as in the reference, so that the form moves as its form does.

Parts enter and leave with the reference's roles; drops take turns with their patterns, and their second half gains a part or swaps
one; breakdowns carry the hook halved. Builds thin their low end and roll; the last beat before a drop is free.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import replace

import numpy as np

from ersatz.core.draft.trace import played
from ersatz.core.song.document import BASS, DRUMS, SongSection, Transition, TransitionKind
from ersatz.core.song.parts import Cell
from ersatz.core.survey.document import Section, Survey

#: Patterns of the first, second, third and fourth drop.
IN_TURN = {"bass": "ABAB", "lead": "ABBA", "chords": "ABAA"}
#: The pattern of a breakdown, where a part has one: a hook halved, chords on their roots.
CALM = "H"
#: A drop has halves from so many bars on.
HALVES_FROM = 8
RISER_BARS, ROLL_BARS, SWEEP_BARS = 16, 4, 8
FREE_BEATS = 1.0
#: Lows that fall by so much, dB, over a build are thinned on purpose; else ours are at its very end alone, and less.
THINNED_DB, THIN, SLIGHTLY, SLIGHTLY_BARS = 2.0, 0.5, 0.3, 2
#: An event belongs to a section at whose end it ends, within bars.
NEAR_BARS = 0.5
MOST_GAP_BEATS = 8.0


def cells(survey: Survey, sections: tuple[SongSection, ...], role: str, found: Iterable[str]) -> tuple[Cell, ...]:
    """On where the reference plays the role, entering and leaving with it; drops in turn with A and B, so that no two are alike."""
    seen: Counter[str] = Counter()
    names, out = set(found), []
    for measured, section in zip(survey.sections, sections):
        seen[section.label] += 1
        turns = IN_TURN.get(role, "A")
        name = turns[(seen[section.label] - 1) % len(turns)] if section.label == "drop" and "B" in names else "A"
        if section.label == "breakdown" and CALM in names:
            name = CALM
        out.append(Cell(section.id, name, *played(survey, role, measured, section.bars)))
    return tuple(out)


def in_drops(found: tuple[Cell, ...], sections: tuple[SongSection, ...]) -> tuple[Cell, ...]:
    """The cells with all of them off that lie outside drops."""
    return tuple(c if s.label == "drop" else replace(c, on=False) for c, s in zip(found, sections))


def outside_drops(sections: tuple[SongSection, ...]) -> tuple[Cell, ...]:
    """Pattern A in every section that isn't a drop."""
    return tuple(Cell(s.id, "A", s.label != "drop") for s in sections)


def in_second_halves(found: tuple[Cell, ...], sections: tuple[SongSection, ...]) -> tuple[Cell, ...]:
    """In drops alone, from their middle on."""
    return tuple(
        replace(c, entry_bars=max(c.entry_bars, s.bars // 2))
        if c.on and s.bars >= HALVES_FROM and s.bars // 2 + c.exit_bars < s.bars else replace(c, on=False)
        for c, s in zip(in_drops(found, sections), sections)
    )  # fmt: skip


def swapped_in_second_halves(found: tuple[Cell, ...], sections: tuple[SongSection, ...]) -> tuple[Cell, ...]:
    """In the second half of a drop the other of the patterns A and B."""
    return tuple(_swapped(c, s) if s.label == "drop" else c for c, s in zip(found, sections))


def _swapped(cell: Cell, section: SongSection) -> Cell:
    bars = section.bars // 2 - cell.exit_bars
    if not cell.on or section.bars < HALVES_FROM or bars < 1 or cell.entry_bars >= section.bars // 2:
        return cell
    return replace(cell, fill="B" if cell.pattern == "A" else "A", fill_bars=bars)


def transitions(survey: Survey, sections: tuple[SongSection, ...]) -> tuple[Transition, ...]:
    """The reference's gaps, or a beat of nothing before each drop; a riser into it, an impact on its first beat, and where the
    reference has one behind a drop; in builds, and where the reference rolls, a snare roll and a low end that thins."""
    out: list[Transition] = []

    def add(kind: TransitionKind, section: SongSection, beats: float, amount: float = 1.0, on: tuple[str, ...] = ()) -> None:
        out.append(Transition(f"t{len(out) + 1}", kind, section.id, beats, amount, on))

    for measured, section, following in _joints(survey, sections):
        into_drop = following == "drop" and section.label != "drop"
        gap = _beats_into(survey, measured, "gap", min(MOST_GAP_BEATS, measured.bars * 4 - 1.0))
        if gap or (into_drop and section.bars >= ROLL_BARS):
            add("gap", section, gap or FREE_BEATS)
        if into_drop and section.bars >= 2:
            add("riser", section, min(section.bars, RISER_BARS) * 4.0)
        roll = _beats_into(survey, measured, "snare roll", measured.bars * 4.0)
        if into_drop and section.bars >= ROLL_BARS and (roll or section.label == "build"):
            add("snare roll", section, roll or ROLL_BARS * 4.0)
            thinned = _lows_fall_db(survey, measured) >= THINNED_DB
            bars = min(section.bars, SWEEP_BARS) if thinned else SLIGHTLY_BARS
            add("low-cut sweep", section, bars * 4.0, THIN if thinned else SLIGHTLY, (DRUMS, BASS))
        if into_drop or (section.label == "drop" and _lands(survey, measured)):
            add("impact", section, 4.0)
    return tuple(out)


def _joints(survey: Survey, sections: tuple[SongSection, ...]) -> Iterator[tuple[Section, SongSection, str]]:
    """Every section, with the label of the one behind it."""
    labels = [s.label for s in sections[1:]]
    yield from zip(survey.sections, sections, (*labels, ""))


def _beats_into(survey: Survey, section: Section, kind: str, most: float) -> float:
    """Beats of the reference's event of a kind that ends with the section, `most` at most; 0 where it has none."""
    found = (e for e in survey.events if e.kind == kind and _ends_with(e.start_bar + e.beats / 4, section))
    return next((min(e.beats, most) for e in found), 0.0)


def _lands(survey: Survey, section: Section) -> bool:
    """Whether the reference has an impact behind the section."""
    return any(e.kind == "impact" and _ends_with(e.start_bar, section) for e in survey.events)


def _ends_with(bar: float, section: Section) -> bool:
    return abs(bar - section.end_bar) < NEAR_BARS


def _lows_fall_db(survey: Survey, section: Section) -> float:
    """How much quieter the reference's lows are in the section's last quarter than in its first."""
    low = np.asarray(survey.energy.low_db[section.start_bar - 1 : section.end_bar - 1])
    quarter = max(1, len(low) // 4)
    return float(np.median(low[:quarter]) - np.median(low[-quarter:])) if len(low) else 0.0
