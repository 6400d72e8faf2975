"""Everything in one go: survey, draft, match, mixdown, gap. What the command and the worker both call."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from ersatz.core.audio import Audio
from ersatz.core.balance.match import match_song, survey_remake
from ersatz.core.draft import draft_song
from ersatz.core.gap import Gap, compare
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import Song
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Corrections, Survey

Progress = Callable[[str, float], None]


@dataclass(frozen=True)
class Remake:
    """A finished first remake and how long each stage took, seconds."""

    reference: Survey
    song: Song
    mix: Audio
    remake: Survey
    gap: Gap
    seconds: dict[str, float]


def draft_and_match(
    reference: Survey, seed: int = 1, style: str | None = None, title: str | None = None,
    cache: RenderCache | None = None, progress: Progress = lambda phase, fraction: None, energy: int = 0,
) -> Song:  # fmt: skip
    """A matched draft. Raises NoTempo where the reference has no steady tempo."""
    song = draft_song(reference, seed, style, title, energy)
    return match_song(song, reference, cache, progress)


def remake_file(
    path: str | Path, seed: int = 1, style: str | None = None, corrections: Corrections | None = None,
    progress: Progress = lambda phase, fraction: None,
) -> Remake:  # fmt: skip
    """From an audio file to a mix and its gap. Raises UnusableAudio, NoTempo."""
    cache = RenderCache.temporary()
    seconds: dict[str, float] = {}

    def timed(name: str, started: float) -> None:
        seconds[name] = round(time.perf_counter() - started, 2)

    start = time.perf_counter()
    reference = survey_file(path, corrections or Corrections(), lambda p, f: progress(f"survey: {p}", 0.15 * f))
    timed("survey", start)
    start = time.perf_counter()
    song = draft_and_match(reference, seed, style, None, cache, lambda p, f: progress(f"draft: {p}", 0.15 + 0.6 * f))
    timed("draft", start)
    start = time.perf_counter()
    mixdown = Mixdown(song, cache)
    mix = mixdown.whole(lambda f: progress("mixdown", 0.75 + 0.15 * f))
    timed("mixdown", start)
    start = time.perf_counter()
    progress("gap", 0.92)
    remake = survey_remake(mix, mixdown)
    gap = compare(reference, remake)
    timed("gap", start)
    return Remake(reference, song, mix, remake, gap, seconds)
