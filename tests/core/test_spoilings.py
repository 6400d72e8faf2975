"""Spoil and find: what was done to a remake is among the first three moves, and five moves undo most of it.

One remake, spoiled in three ways of the twelve; `./run test -m long` spoils four remakes in all twelve, `./run accuracy` drafts of
four tracks.
"""

from __future__ import annotations

from dataclasses import replace

import pytest

from bench.spoilings import FIRST, SPOILINGS, UNDONE, settled, spoil_and_find
from ersatz.core.balance.match import match_song
from ersatz.core.draft import draft_song
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.song.document import Song
from ersatz.core.survey import survey_audio
from ersatz.core.survey.document import Corrections, Event, SectionCorrection, Source
from tests.signals import RATE

ALL = tuple(s.name for s in SPOILINGS)
#: Seed of a remake and what is spoiled in it.
REMAKES = [
    (7, ("hats missing in drop 2", "riser missing", "stereo sub")),
    *(pytest.param(seed, ALL, marks=pytest.mark.long) for seed in (3, 7, 8, 11)),
]
#: The parts that a remake keeps here, by role: fewer are measured sooner.
KEPT = ("kick", "clap", "hats", "bass", "chords", "lead")


@pytest.fixture(scope="module")
def two_drops(club_audio):
    """The club track said to have a build and two drops, a riser before the second."""
    lengths = (("intro", 1, 8), ("drop", 9, 4), ("build", 13, 4), ("drop", 17, 4), ("outro", 21, 12))
    plan = tuple(SectionCorrection(*section) for section in lengths)
    survey = survey_audio(club_audio, Source("club.wav", club_audio.duration_s, RATE, 2, "1" * 64), Corrections(sections=plan))
    return replace(survey, events=(Event("riser", 15.0, 8.0, 0.9),))


@pytest.mark.parametrize(("seed", "names"), REMAKES)
def test_what_was_spoiled_is_found_and_undone(seed, names, two_drops):
    song = draft_song(two_drops, seed=seed)
    first = {role: next((p.id for p in song.parts if p.role == role), "") for role in KEPT}
    cache = RenderCache()
    song = match_song(replace(song, parts=tuple(p for p in song.parts if p.id in first.values())), two_drops, cache)
    # Unspoiled, with the moves taken that it asks for itself, by the place that is spoiled.
    good: dict[int, Song] = {}
    for spoiling in (s for s in SPOILINGS if s.name in names):
        place = spoiling.where(song, two_drops)
        assert place is not None, spoiling.name
        if place not in good:
            good[place] = settled(song, two_drops, place, cache, most=2)
        found = spoil_and_find(spoiling, good[place], two_drops, cache, until=UNDONE)
        assert found is not None and found.tells, (spoiling.name, found)
        assert found.rank is not None and found.rank <= FIRST, (spoiling.name, found)
        assert found.undone >= UNDONE, (spoiling.name, found)
