"""How much of the reference's arrangement is taken over? Runs of sections of the same label and length; a few in a row are a form
that every club track has."""

from __future__ import annotations

from ersatz.core.song.document import Song
from ersatz.core.survey.document import Survey

#: Fewer sections in a row are convention.
LEAST_RUN = 3


def plan_taken(song: Song, reference: Survey) -> tuple[float, tuple[tuple[int, int, int], ...]]:
    """The share of the song's bars, and the longest run as (1-based bar of the song, bars, bar of the reference) per section."""
    mine = [(s.label, s.bars, bar) for bar, s in song.placed()]
    theirs = [(s.label, s.bars, s.start_bar) for s in reference.sections]
    best: list[tuple[int, int, int]] = []
    for i in range(len(mine)):
        for j in range(len(theirs)):
            run = []
            for (label, bars, bar), (other, others, at) in zip(mine[i:], theirs[j:]):
                if (label, bars) != (other, others):
                    break
                run.append((bar, bars, at))
            if sum(bars for _, bars, _ in run) > sum(bars for _, bars, _ in best) and len(run) >= LEAST_RUN:
                best = run
    return sum(bars for _, bars, _ in best) / max(song.bars, 1), tuple(best)
