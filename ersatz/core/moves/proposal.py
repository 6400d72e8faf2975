"""A proposal: edits as the pages send them, with the sentence that names them and the figures that they are about.

Whether one helps is not its business: the model (model.py) and a rendering (find.py) judge that.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from ersatz.core.edits import parse_edit
from ersatz.core.errors import ErsatzError
from ersatz.core.moves.model import predicted
from ersatz.core.moves.readings import Reading, gap_of, readings
from ersatz.core.moves.section import SectionMix
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Cell, Part
from ersatz.core.survey.document import Survey

#: Levels are tried so far from where they stand, dB.
STEPS_DB = (-12.0, -9.0, -6.0, -4.5, -3.0, -2.0, -1.0, 1.0, 2.0, 3.0, 4.5, 6.0, 9.0, 12.0)
#: A change of level of this much is one step.
STEP_DB = 3.0
#: What a step is worth that closes as much as a smaller one, in tolerances per dB.
PER_DB = 0.02
#: A step that is tried has to close this much by the model, in tolerances; so many parts' are proposed.
LEAST_GAIN, MOST_PARTS = 0.25, 4


@dataclass(frozen=True)
class Proposal:
    """`figures`: the readings that it is about; `size`: how much it changes, in steps that are plainly heard (STEP_DB of a level, a
    filter, a part that enters); `sure`: how sure the reading of the reference is that it rests on, 0..1."""

    kind: str
    strip: str
    sentence: str
    edits: tuple[dict[str, Any], ...]
    figures: tuple[str, ...]
    size: float = 1.0
    sure: float = 1.0

    def applied(self, song: Song) -> Song | None:
        """None where an edit doesn't fit the song."""
        try:
            for edit in self.edits:
                song = parse_edit(edit).apply(song)
        except (ErsatzError, ValueError, KeyError, TypeError):
            return None
        return song


def steps_of(db: float) -> float:
    """The size of a change of level."""
    return max(1.0, abs(db) / STEP_DB)


Found = dict[str, Reading]
Rule = Callable[[SectionMix, Survey, Found], Iterator[Proposal]]


def best_of(mix: SectionMix, survey: Survey, found: Found, steps: Iterable[tuple[float, Proposal]]) -> Iterator[Proposal]:
    """Of steps that are tried (their size in dB, and what they propose) the ones that close most by the model, the best of each
    strip; of two that close alike the smaller."""
    before = gap_of(found)
    rows: list[tuple[float, Proposal]] = []
    for size, proposal in steps:
        after = proposal.applied(mix.song)
        if after is not None and after != mix.song:
            rows.append((before - gap_of(readings(predicted(mix, after), survey)) - PER_DB * abs(size), proposal))
    seen: set[str] = set()
    for gained, proposal in sorted(rows, key=lambda row: -row[0]):
        if gained < LEAST_GAIN or len(seen) == MOST_PARTS:
            return
        if proposal.strip not in seen:
            seen.add(proposal.strip)
            yield proposal


def off_by(found: Found, figure: str) -> float:
    """How far a figure is off where it isn't matched, in its own unit; 0 where it is."""
    reading = found.get(figure)
    return reading.difference if reading is not None and reading.gap > 0 else 0.0


def about(found: Found, *beginnings: str) -> tuple[str, ...]:
    """Figures that are off and begin so; the mean balance where none is."""
    return tuple(f for f, r in found.items() if f.startswith(beginnings) and r.gap > 0) or ("Balance, mean",)


def set_strip(strip: str, name: str, value: float) -> dict[str, Any]:
    """The edit document that sets one value of a strip."""
    return {"kind": "set_strip", "strip": strip, "name": name, "value": round(value, 2)}


def set_cell(part: Part, cell: Cell, **changes: Any) -> dict[str, Any]:
    """A part's cell with something changed."""
    stands = {name: getattr(cell, name) for name in ("pattern", "entry_bars", "exit_bars", "level_db", "fill", "fill_bars")}
    return {"kind": "set_cell", "part": part.id, "section": cell.section, **stands, **changes}
