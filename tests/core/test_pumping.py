"""What a song's own ducking does is measured, not guessed: exact depths, rates, releases."""

from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.balance.match import match_song, survey_remake
from ersatz.core.balance.pumping import PHASES, measure_ducked, own_pump, rate_of, recovered
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import DUCK_POINTS, DuckCurve, with_each
from ersatz.core.song.strips import ducked

SUSTAINED = ("bass", "chords", "lead")
#: Down at once, straight back over half a beat.
STRAIGHT = tuple(float(v) for v in np.clip(1 - np.arange(DUCK_POINTS) / (DUCK_POINTS / 2), 0, 1))


@pytest.fixture(scope="module")
def cache():
    return RenderCache()


def drop_of(song):
    return next(k for k, s in enumerate(song.sections) if s.label == "drop")


def ducking(song, depth_db, rate="1/4", triggers=()):
    """Every sustained part ducked alike by a straight curve."""
    curve = DuckCurve("pump", "Pump", rate, STRAIGHT, triggers)
    alike = with_each(song, lambda s: replace(s, duck=ducked("pump", depth_db) if getattr(s, "role", "") in SUSTAINED else None))
    return replace(alike, curves=(curve,))


@pytest.mark.parametrize("depth_db", [3.0, 8.0, 20.0])
def test_the_depth_that_is_set_is_the_depth_that_is_read(song, cache, depth_db):
    found = own_pump(made := ducking(song, depth_db), Mixdown(made, cache), drop_of(song))
    assert found.depth_db == pytest.approx(depth_db, rel=0.06)
    assert found.rate == "1/4" and found.told and found.confidence == 1.0
    # Straight back over half a beat, to within 1 dB of its end.
    beat_ms = 1000 * made.grid.beat_s
    assert found.release_ms == pytest.approx(0.5 * beat_ms * (1 - 1 / depth_db), abs=1.6 * beat_ms / PHASES)
    assert all(band.depth_db == pytest.approx(depth_db, rel=0.15) for band in found.bands.values())
    assert found.active_sections == tuple(k for k, s in enumerate(made.sections) if s.ducks)


def test_at_eighths_the_curve_is_half_a_beats(song, cache):
    found = own_pump(made := ducking(song, 6.0, "1/8"), Mixdown(made, cache), drop_of(song))
    # Before the next trigger a last step of the way back is missing: the depth counts from where it gets to.
    assert found.rate == "1/8" and found.depth_db == pytest.approx(6.0 * (1 - 2 / PHASES), abs=0.4)
    # Its way back is as long as the half beat: at the end it is back, and the next trigger comes.
    assert found.curve_db[-1] > -1.0 and min(found.curve_db[:6]) < -5.0


def test_without_ducking_nothing_ducks_and_without_music_nobody_can_tell(song, cache):
    free = with_each(song, lambda s: replace(s, duck=None))
    found = own_pump(free, Mixdown(free, cache), drop_of(song))
    assert (found.depth_db, found.told, found.active_sections) == (0.0, True, ())
    mute = replace(song, parts=tuple(replace(p, mute=True) if p.role in SUSTAINED else p for p in song.parts))
    assert not own_pump(mute, Mixdown(mute, cache), drop_of(song)).told
    assert measure_ducked(mute, Mixdown(mute, cache), 1, 4) is None


def test_a_curve_that_hits_trigger_is_named_as_a_survey_names_it():
    assert rate_of(None) == "1/4"
    assert rate_of(DuckCurve("p", "P", "1/8", STRAIGHT)) == "1/8"
    assert rate_of(DuckCurve("p", "P", "hits", STRAIGHT, ("kick",))) == "kick"
    assert rate_of(DuckCurve("p", "P", "hits", STRAIGHT, ("kick", "clap"))) == "kick and snare"


def test_where_nothing_sounds_at_all_nothing_is_taken():
    assert recovered(np.zeros(PHASES), np.zeros(PHASES)) == pytest.approx(np.zeros(PHASES))


def test_a_matched_draft_ducks_as_its_reference_and_the_remake_knows_its_key_and_swing(song, club_survey, cache):
    matched = match_song(song, club_survey, cache)
    mixdown = Mixdown(matched, cache)
    found = survey_remake(mixdown.whole(), mixdown)
    assert found.pump.depth_db == pytest.approx(club_survey.pump.depth_db, abs=0.5)
    assert found.pump.release_ms == pytest.approx(club_survey.pump.release_ms, rel=0.15)
    assert (found.key.tonic, found.key.mode) == (matched.tonic, matched.mode)
    assert found.tempo.swing_percent == matched.swing_percent
