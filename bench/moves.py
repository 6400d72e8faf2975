"""How right are moves, and how far do they lead? `python -m bench.moves TRACK [TRACK ...]`; `./run accuracy` prints the same.

Per track the sum of gaps over all sections, in tolerances: of the untouched draft, after Balance for me, and after ten moves, each
the first one of the section that is furthest off. Of every move that was rendered on the way, offered or not, what the model
predicted is held against what the rendering measured.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path

import numpy as np

from bench.spoilings import edited, section_gap
from ersatz.core.balance.match import balance_song, match_song
from ersatz.core.draft import draft_song
from ersatz.core.gap.plans import counterparts
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.moves.find import MoveEffect, Tried, try_moves
from ersatz.core.song.document import Song
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Survey

MOVES = 10
#: Not counted: figures that the move sets by itself and no sound is measured for.
SET = ("Swing", "Plays", "Leads out", "Enters", "Same as", "Pump rate")
#: Issue targets: a prediction is near within so many dB or this share of what was measured; the sign is right so often.
NEAR_DB, NEAR_SHARE, SIGN_RIGHT = 0.5, 0.2, 0.97


@dataclass
class Table:
    """Effects of all moves that were rendered, and of those that were offered."""

    tried: list[MoveEffect] = field(default_factory=list)
    offered: list[MoveEffect] = field(default_factory=list)
    moves: int = 0

    def add(self, rows: Iterable[Tried]) -> None:
        for row in rows:
            effects = [e for e in row.move.effects if not e.figure.startswith(SET)]
            self.tried += effects
            self.moves += 1
            if row.is_offered:
                self.offered += effects

    def row(self, name: str, effects: list[MoveEffect]) -> str:
        told = [(e, e.predicted) for e in effects if e.predicted is not None]
        if not told:
            return f"{name}: none"
        db = [abs(guess - e.measured) for e, guess in told if e.unit in ("dB", "LUFS")]
        share = [
            abs(guess - e.measured) / max(abs(e.measured - e.before), 1e-9) for e, guess in told if e.unit not in ("dB", "LUFS")
        ]
        near = [
            abs(guess - e.measured) < NEAR_DB if e.unit in ("dB", "LUFS") else
            abs(guess - e.measured) <= NEAR_SHARE * abs(e.measured - e.before)
            for e, guess in told
        ]  # fmt: skip
        right = [np.sign(guess - e.before) == np.sign(e.measured - e.before) for e, guess in told]
        others = f"{np.median(share):.2f} of the change" if share else "-"
        return (
            f"{name}: {len(told)} effects, median error {np.median(db) if db else 0:.2f} dB, others {others}; "
            f"within {NEAR_DB} dB or {NEAR_SHARE:.0%}: {np.mean(near):.2f}; sign right {np.mean(right):.3f} (target {SIGN_RIGHT}); "
            f"{len(effects) - len(told)} more were measured that the model doesn't tell"
        )


def gap_sums(song: Song, survey: Survey, cache: RenderCache) -> dict[int, float]:
    """Tolerances that each section is off, by its place; those without a counterpart are left out."""
    theirs = counterparts(song, survey)
    return {k: section_gap(song, survey, k, cache) for k, section in enumerate(song.sections) if section.id in theirs}


def ten_moves(song: Song, survey: Survey, cache: RenderCache, table: Table) -> tuple[Song, list[float]]:
    """The song after the first moves in turn, and the sum of gaps at each step."""
    sums = gap_sums(song, survey, cache)
    course, done = [sum(sums.values())], set[int]()
    while len(course) <= MOVES and len(done) < len(sums):
        place = max((k for k in sums if k not in done), key=lambda k: sums[k])
        tried = try_moves(song, Mixdown(song, cache), place, survey)
        table.add(tried)
        offered = sorted((t.move for t in tried if t.is_offered), key=lambda m: -m.rank)
        if not offered:
            done.add(place)
            continue
        song = edited(song, *offered[0].edits)
        sums = gap_sums(song, survey, cache)
        course.append(sum(sums.values()))
    return song, course


def print_moves(tracks: Iterable[Path]) -> None:
    table, rose = Table(), 0
    steps = 0
    for track in tracks:
        survey, cache = survey_file(track), RenderCache()
        drafted = match_song(draft_song(survey), survey, cache)
        balanced = balance_song(drafted, survey, cache=cache)
        first, second = (sum(gap_sums(s, survey, cache).values()) for s in (drafted, balanced))
        _, course = ten_moves(drafted, survey, cache, table)
        ups = sum(b > a + 0.05 for a, b in pairwise(course))
        rose, steps = rose + ups, steps + len(course) - 1
        steps_said = " ".join(f"{v:.1f}" for v in course)
        print(f"  {track.stem:20} gaps: draft {first:.1f}, Balance for me {second:.1f}, moves {steps_said}", flush=True)
    print(f"  {table.row(f'{table.moves} moves rendered', table.tried)}")
    print(f"  {table.row('of those offered', table.offered)}")
    print(f"  steps at which the sum of gaps rose: {rose} of {steps}", flush=True)


def main() -> None:
    print_moves(Path(name) for name in sys.argv[1:])


if __name__ == "__main__":
    main()
