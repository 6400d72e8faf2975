"""The survey on tracks with known answers."""

import json

import numpy as np
import pytest

from ersatz.core.audio import Audio
from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.errors import UnusableDocument
from ersatz.core.survey import survey_audio
from ersatz.core.survey.document import Corrections, SectionCorrection, Source, Survey
from ersatz.core.survey.shared import prepare
from tests.signals import RATE, both, club_track, sine


def survey(samples, corrections=None):
    audio = Audio(np.atleast_2d(samples), RATE)
    return survey_audio(audio, Source("x.wav", audio.duration_s, RATE, audio.channels, ""), corrections or Corrections())


@pytest.mark.parametrize("bpm", [93.7, 121.37, 131.5, 148.0, 174.25])
def test_tempo_to_a_hundredth_and_bar_one_to_milliseconds(bpm):
    found = survey(club_track(bpm, bars=28, start_s=0.4)).tempo
    assert found.bpm == pytest.approx(bpm, abs=0.02)
    bar = 240 / bpm
    error = (found.first_downbeat_s - 0.4 + bar / 2) % bar - bar / 2
    assert abs(error) < 0.012
    assert found.confidence > 0.7


def test_key_of_a_minor_loop(club_survey):
    assert (club_survey.key.tonic, club_survey.key.mode) == ("A", "minor")


@pytest.mark.parametrize("semitones", [-3, 2, 5])
def test_key_follows_a_transposition(semitones):
    found = survey(club_track(bars=24, root_midi=45 + semitones)).key
    assert found.tonic == ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")[(9 + semitones) % 12]
    assert found.mode == "minor"


@pytest.mark.parametrize("depth_db", [5.0, 9.0, 13.0])
def test_pump_depth_within_tolerance(depth_db):
    pump = survey(club_track(bars=28, duck_db=depth_db)).pump
    assert pump.depth_db == pytest.approx(depth_db, abs=1.6)
    assert pump.rate == "1/4"
    assert max(pump.curve_db) == 0.0
    assert min(pump.curve_db) == pytest.approx(-pump.depth_db, abs=0.01)


def test_a_strong_kick_without_ducking_reads_no_pump():
    assert survey(club_track(bars=28, duck_db=0.0)).pump.depth_db == 0.0


def test_a_longer_release_reads_longer():
    short, long = (survey(club_track(bars=28, duck_db=9, release_s=s)).pump.release_ms for s in (0.12, 0.3))
    assert long > 1.5 * short


@pytest.mark.parametrize("swing", [50.0, 56.0, 61.0])
def test_swing_to_a_point(swing):
    assert survey(club_track(bars=24, swing_percent=swing)).tempo.swing_percent == pytest.approx(swing, abs=1.0)


def test_drums_are_on_their_steps(club_survey):
    pattern = club_survey.drums.patterns[club_survey.main_section()]
    assert [i for i, v in enumerate(pattern.kick) if v] == [0, 4, 8, 12]
    assert [i for i, v in enumerate(pattern.clap) if v > 0.5] == [4, 12]
    assert all(v > 0 for v in pattern.hats[::2])
    assert club_survey.drums.kick.fundamental_hz == pytest.approx(50, rel=0.03)


def test_the_boundary_where_the_music_enters_is_found(club_survey):
    assert 9 in [s.start_bar for s in club_survey.sections]
    assert club_survey.sections[-1].end_bar == club_survey.bars + 1
    assert club_survey.sections[club_survey.main_section()].start_bar == 9


def test_sections_cover_every_bar_once(club_survey):
    bar = 1
    for section in club_survey.sections:
        assert section.start_bar == bar
        bar = section.end_bar
    assert bar == club_survey.bars + 1


def test_presence_tells_drums_from_music(club_survey):
    presence = club_survey.presence
    assert np.mean(presence.kick) > 0.8
    assert np.mean(presence.chords[:8]) < 0.25 < 0.7 < np.mean(presence.chords[8:])
    assert np.mean(presence.bass[:8]) < 0.4 < 0.7 < np.mean(presence.bass[8:])


def test_bass_notes_follow_the_roots(club_survey):
    roots = {45 % 12, 41 % 12, 50 % 12, 40 % 12}
    notes = [n for n in club_survey.bass.notes_per_bar[8:] if n is not None]
    assert len(notes) >= 20
    assert sum(n % 12 in roots for n in notes) >= 0.9 * len(notes)


def test_levels_are_the_same_at_any_gain(club_audio, club_survey):
    soft = survey(club_audio.samples * np.float32(0.25))
    assert soft.tempo.bpm == club_survey.tempo.bpm
    np.testing.assert_allclose(soft.spectrum.level_db, club_survey.spectrum.level_db, atol=0.05)
    assert soft.pump.depth_db == pytest.approx(club_survey.pump.depth_db, abs=0.3)


def test_a_sine_stands_in_its_third_octave():
    level = survey(both(sine(1000, 12, -12))).spectrum.level_db
    assert level[17] == pytest.approx(0.0, abs=0.05)
    assert max(level[:15] + level[20:]) < -40


def test_pink_noise_is_flat_in_third_octaves():
    rng = np.random.default_rng(5)
    spectrum = np.fft.rfft(rng.standard_normal((2, RATE * 30)))
    spectrum[:, 1:] /= np.sqrt(np.arange(1, spectrum.shape[1]))
    pink = np.fft.irfft(spectrum)
    level = np.array(survey((pink / np.abs(pink).max()).astype(np.float32)).spectrum.level_db)
    assert np.ptp(level[3:29]) < 1.2


@pytest.mark.parametrize("start_s", [3.0, 3.1, 3.21, 3.37])
def test_what_ends_before_a_span_is_not_heard_in_it(start_s):
    """A kick is a hundred times as loud in its lows as the breakdown that it leads into."""
    low, high = sine(50.0, start_s, -6.0), sine(1000.0, 4.0, -26.0)
    shared = prepare(Audio(both(np.concatenate([low, high])).astype(np.float32), RATE))
    power = shared.third_octaves(start_s, start_s + 4.0)
    level = 10 * np.log10(power / power.max() + 1e-12)
    assert NOMINAL_HZ[int(power.argmax())] == 1000 and level[NOMINAL_HZ.index(50)] < -40


def test_a_drone_has_no_steady_tempo():
    assert not survey(both(sine(110, 20, -12) + sine(220, 20, -20))).tempo.is_steady


def test_speech_like_noise_has_no_steady_tempo():
    rng = np.random.default_rng(11)
    n = RATE * 30
    gates = np.repeat(rng.random(n // 2205) > 0.45, 2205) * np.repeat(rng.random(n // 2205), 2205)
    samples = (rng.standard_normal(len(gates)) * gates * 0.2).astype(np.float32)
    assert not survey(both(samples)).tempo.is_steady


def test_mono_is_narrow_and_counts_as_one_channel(club_audio):
    mono = survey(club_audio.samples.mean(axis=0)[None])
    assert all(b.width == 0 for b in mono.stereo.bands)
    assert mono.source.channels == 1


def test_corrections_move_what_depends_on_them(club_audio, club_survey):
    halved = survey(club_audio.samples, Corrections(bpm=63.0))
    assert halved.tempo.bpm == 63.0
    assert halved.bars == club_survey.bars // 2
    shifted = survey(club_audio.samples, Corrections(bpm=126.0, first_downbeat_s=60 / 126))
    assert shifted.tempo.first_downbeat_s == pytest.approx(60 / 126, abs=1e-4)
    named = survey(
        club_audio.samples,
        Corrections(tonic="D", mode="minor", sections=(SectionCorrection("intro", 1, 8), SectionCorrection("drop", 9, 24))),
    )
    assert str(named.key.pitch_key) == "D minor"
    assert [(s.label, s.bars) for s in named.sections] == [("intro", 8), ("drop", 24)]
    assert named.corrections.tonic == "D"


def test_the_document_survives_json(club_survey):
    assert Survey.from_json(json.loads(json.dumps(club_survey.to_json()))) == club_survey


@pytest.mark.parametrize("damage", ["schema", "tempo", "sections"])
def test_a_damaged_document_is_refused_with_its_place(club_survey, damage):
    data = club_survey.to_json()
    data[damage] = "nonsense"
    with pytest.raises(UnusableDocument):
        Survey.from_json(data)


def test_without_a_beat_nothing_pumps():
    rng = np.random.default_rng(3)
    gates = np.repeat(rng.random(600) > 0.45, 2205)
    found = survey(both((rng.standard_normal(len(gates)) * gates * 0.2).astype(np.float32)))
    assert not found.tempo.is_steady
    assert found.pump.depth_db == 0.0
    assert len(found.pump.per_section) == len(found.sections)


@pytest.mark.parametrize(
    ("per_beat", "rate", "duck_db", "release_s"), [(1, "1/4", 8.0, 0.2), (2, "1/8", 8.0, 0.12), (2, "1/8", 6.0, 0.1)]
)
def test_the_rate_of_the_ducking_is_told(per_beat, rate, duck_db, release_s):
    samples = club_track(126.0, bars=28, duck_db=duck_db, release_s=release_s, per_beat=per_beat)
    pump = survey_audio(Audio(samples, RATE), Source("x", samples.shape[1] / RATE, RATE, 2, "")).pump
    assert pump.rate == rate
    assert pump.depth_db == pytest.approx(duck_db, abs=1.2)
