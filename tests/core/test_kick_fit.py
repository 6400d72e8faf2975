"""A kick fitted to a portrait: what is played reads as what was measured."""

from __future__ import annotations

import numpy as np
import pytest

from ersatz.core.draft import draft_song
from ersatz.core.draft.kick import fitted_kick, portrait_of_sound
from ersatz.core.song.parts import Sound
from ersatz.core.survey.document import KickPortrait
from ersatz.core.survey.kick import LENGTH_S, portrait_of
from ersatz.core.target import target_of_style
from ersatz.core.voices import complete
from tests.signals import kick_hit

KICKS = (
    {"fundamental_hz": 48.0, "fall_octaves": 1.6, "fall_ms": 16.0, "decay_ms": 200.0, "click": 0.4, "drive": 0.25},
    {"fundamental_hz": 44.0, "fall_octaves": 0.8, "fall_ms": 10.0, "decay_ms": 150.0, "click": 0.1, "drive": 0.05},
    {"fundamental_hz": 57.0, "fall_octaves": 2.4, "fall_ms": 24.0, "decay_ms": 230.0, "click": 0.7, "drive": 0.5},
)


@pytest.mark.parametrize("params", KICKS)
def test_a_kick_of_our_own_is_found_again(params):
    wanted = portrait_of_sound(Sound("kick", dict(params)))
    own = portrait_of_sound(fitted_kick(wanted))
    assert own.fundamental_hz == pytest.approx(wanted.fundamental_hz, rel=0.02)
    assert own.start_hz == pytest.approx(wanted.start_hz, rel=0.15)
    assert own.fall_ms == pytest.approx(wanted.fall_ms, rel=0.2)
    assert own.decay_ms == pytest.approx(wanted.decay_ms, rel=0.08)
    assert own.click_db == pytest.approx(wanted.click_db, abs=3.0)
    assert own.drive_db == pytest.approx(wanted.drive_db, abs=2.0)


def test_the_fit_stays_inside_the_voices_ranges():
    wild = KickPortrait(140.0, "C3", 400.0, 10.0, start_hz=5000.0, fall_ms=390.0, drive_db=20.0, envelope_db=(0.0,) * 80)
    sound = fitted_kick(wild)
    assert complete(sound).params == pytest.approx({**complete(Sound("kick")).params, **sound.params})


def test_a_tail_that_never_falls_keeps_the_styles_drive():
    portrait = KickPortrait(50.0, "G1", 400.0, -20.0, 160.0, 40.0, 15.0, (0.0,) * 80)
    assert fitted_kick(portrait, drive=0.3).params["drive"] == 0.3


def test_a_draft_takes_over_the_measured_kick(club_survey):
    kick = draft_song(club_survey, 1).part("kick")
    own = portrait_of_sound(kick.sound)
    wanted = club_survey.drums.kick
    assert own.fundamental_hz == pytest.approx(wanted.fundamental_hz, rel=0.03)
    assert own.decay_ms == pytest.approx(wanted.decay_ms, rel=0.15)
    assert np.isfinite(list(kick.sound.params.values())).all()


def test_a_style_without_audio_has_its_kick_by_fundamental_and_decay():
    typical = target_of_style("tech-house").typical
    params = draft_song(typical, 1).part("kick").sound.params
    assert (params["fundamental_hz"], params["decay_ms"]) == (typical.drums.kick.fundamental_hz, typical.drums.kick.decay_ms)


def test_what_sounds_under_a_kick_after_it_is_no_part_of_its_pitch():
    rate = 44_100
    t = np.arange(int(LENGTH_S * rate)) / rate
    hit = np.pad(kick_hit(rate), (0, len(t)))[: len(t)]
    bare = portrait_of(np.array([hit] * 4), rate)
    # A bass note that begins as the kick has gone.
    note = 0.3 * np.sin(2 * np.pi * 300 * t) * (t > 0.2)
    over = portrait_of(np.array([hit + note] * 4), rate)
    assert over.start_hz == bare.start_hz
    assert max(ms for ms, _ in over.pitch) < 215
    assert over.fall_ms == bare.fall_ms
