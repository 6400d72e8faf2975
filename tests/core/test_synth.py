"""The synthesiser, its modulation and the shipped sounds, against what their tables say."""

import json

import numpy as np
import pytest

from ersatz.core.errors import UnusableDocument
from ersatz.core.serial import from_json, to_json
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Modulation, Sound
from ersatz.core.voices import VOICES, complete, library, modulation, render_note, song_round_beats, tables
from ersatz.core.voices import oscillators as osc
from ersatz.core.voices.modulation import Envelope, envelope
from ersatz.core.voices.spec import Played
from ersatz.core.voices.synth import PARAMS

RATE = 44_100
PURE = {"osc1_level": 1.0, "velocity_level": 0.0, "env1_attack_ms": 0.5, "filter1_hz": 20_000.0}
SINE = {"osc1_wave": "sine", "osc1_start": "fixed", "filter1_kind": "off"}


def play(params=None, choices=None, mods=(), midi=69, held=RATE, **note):
    sound = Sound("synth", {**PURE, **(params or {})}, {**SINE, **(choices or {})}, tuple(Modulation(*m) for m in mods))
    return render_note(sound, Played(midi, held, **note))


def pitch_hz(x):
    """By the strongest bin's phase advance over a tenth of the signal's length."""
    mono = x.sum(axis=0).astype(np.float64)
    spectrum = np.abs(np.fft.rfft(mono * np.hanning(len(mono)), 1 << 20))
    k = int(spectrum.argmax())
    return k * RATE / (1 << 20)


def test_a_sine_is_a_sine_at_its_note():
    x = play()[0, 500 : RATE - 500]
    np.testing.assert_allclose(x, np.sin(2 * np.pi * 440 * np.arange(500, RATE - 500) / RATE), atol=2e-3)


@pytest.mark.parametrize("params,ratio", [({"osc1_octave": -1.0}, 0.5), ({"osc1_semitones": 7.0}, 2 ** (7 / 12)),
({"osc1_cents": 50.0}, 2 ** (1 / 24)),
                                          ({"pitch_semitones": 12.0}, 2.0)])  # fmt: skip
def test_octave_semitones_and_cents_move_the_pitch(params, ratio):
    assert pitch_hz(play(params)) / 440 == pytest.approx(ratio, rel=2e-4)


def test_a_bend_goes_from_pitch_to_pitch():
    x = play(held=2 * RATE, bend=((0, -12.0), (RATE // 2, -12.0), (RATE // 2 + 100, 0.0)))
    assert pitch_hz(x[:, : RATE // 2]) == pytest.approx(220, rel=1e-3)
    assert pitch_hz(x[:, RATE : 2 * RATE]) == pytest.approx(440, rel=1e-3)


def test_frequency_modulation_has_bessels_sidebands():
    """Index 1: carrier J0(1), sidebands J1(1) and J2(1) on both sides (Chowning 1973)."""
    params = {"fm": 1 / (2 * np.pi), "osc1_octave": 2.0}
    x = play(params, {"osc2_wave": "sine", "osc2_start": "fixed"}, midi=57)[0, :RATE]
    level = np.abs(np.fft.rfft(x[RATE // 4 : RATE * 3 // 4] * np.hanning(RATE // 2)))
    carrier, first, second = (level[round(hz / 2) - 1 : round(hz / 2) + 2].max() for hz in (880, 1100, 1320))
    assert first / carrier == pytest.approx(0.4401 / 0.7652, rel=0.02)
    assert second / carrier == pytest.approx(0.1149 / 0.7652, rel=0.03)


def test_ring_modulation_gives_sum_and_difference():
    params = {"osc1_level": 0.0, "ring": 1.0, "osc2_semitones": 7.0}
    x = play(params, {"osc2_wave": "sine", "osc2_start": "fixed"})[0, :RATE]
    level = np.abs(np.fft.rfft(x * np.hanning(len(x))))
    other = 440 * 2 ** (7 / 12)
    strongest = sorted(np.argsort(level)[-2:].tolist())
    assert strongest == pytest.approx([other - 440, other + 440], abs=1.5)


def test_a_synced_oscillator_has_the_pitch_of_its_master_and_folds_little():
    master = np.full(1 << 16, 441.3 / RATE)
    x = osc.synced(osc.saw_tables(), master, master * 1.71)
    level = np.abs(np.fft.rfft(x[1000:-1000] * np.kaiser(len(x) - 2000, 20)))
    hz = np.arange(len(level)) * RATE / (len(x) - 2000)
    harmonic = np.abs(hz / 441.3 - np.round(hz / 441.3)) * 441.3 < 12
    heard = (hz > 30) & (hz < 16_000)
    assert 20 * np.log10(level[~harmonic & heard].max() / level[heard].max()) < -55


def test_a_unison_stands_in_the_middle_and_is_as_wide_as_its_spread():
    wide, narrow = (
        play({"osc1_voices": 7.0, "osc1_spread": s, "osc1_detune_cents": 20.0}, {"osc1_wave": "saw", "osc1_start": "free"})
        for s in (1.0, 0.0)
    )
    left, right = np.square(wide).mean(axis=1)
    assert 10 * np.log10(left / right) == pytest.approx(0, abs=1.5)
    assert np.corrcoef(wide)[0, 1] < 0.8
    np.testing.assert_array_equal(narrow[0], narrow[1])


@pytest.mark.parametrize("name", tables.TABLES)
def test_every_table_swings_fully_and_holds_several_different_cycles(name):
    frames = tables.frames_of(name)
    assert len(frames) >= 5
    assert np.abs(frames[:, 0]).max(axis=1) == pytest.approx(1.0, abs=0.1)
    for a, b in zip(frames[:-1, 0], frames[1:, 0]):
        assert np.abs(a - b).max() > 0.05


# Envelopes and LFOs --------------------------------------------------------------------------------------------------


def test_an_envelope_takes_its_times():
    e = Envelope(0.1, 0.2, 0.5, 0.3, hold_s=0.05, decay_curve=0.0, release_curve=0.0)
    x = envelope(e, RATE, 2 * RATE, RATE)
    at = lambda s: float(x[int(s * RATE)])  # noqa: E731
    assert at(0.05) == pytest.approx(0.5, abs=1e-3)
    assert at(0.12) == pytest.approx(1.0, abs=1e-3)
    assert at(0.25) == pytest.approx(0.75, abs=1e-3)
    assert at(0.9) == pytest.approx(0.5, abs=1e-3)
    assert at(1.15) == pytest.approx(0.25, abs=1e-3)
    assert at(1.31) == 0


@pytest.mark.parametrize("curve", [-1.0, -0.3, 0.0, 0.6, 1.0])
def test_every_curve_begins_at_0_ends_at_1_and_rises(curve):
    y = modulation.bent(np.linspace(0, 1, 100), curve)
    assert y[[0, -1]] == pytest.approx([0, 1])
    assert (np.diff(y) > 0).all()
    assert (y[50] > 0.52) == (curve > 0.1)


def test_a_note_let_go_in_its_attack_falls_from_where_it_stands():
    x = envelope(Envelope(1.0, 0.2, 0.5, 0.1), RATE // 4, RATE, RATE)
    assert np.abs(np.diff(x)).max() < 2e-3
    assert x.max() == pytest.approx(0.25, abs=0.01)


@pytest.mark.parametrize("rate,beats", modulation.SYNCED_BEATS.items())
def test_synced_rates_are_note_lengths_and_all_come_round(rate, beats):
    assert modulation.cycles_per_second(rate, 1.0, 120.0) == pytest.approx(2 / beats)
    assert modulation.ROUND_BEATS / beats == pytest.approx(round(modulation.ROUND_BEATS / beats))


@pytest.mark.parametrize("shape", modulation.LFO_SHAPES)
def test_every_lfo_shape_stays_in_range_and_repeats(shape):
    phases = np.arange(4000) / 1000
    x = modulation.lfo(shape, phases, 1000.0, np.array([0.0, 1.0, -1.0, 0.5]), seed=3)
    assert np.abs(x).max() <= 1
    assert x.std() > 0.2
    if shape != "random":
        np.testing.assert_allclose(x[1100:1900], x[2100:2900], atol=1e-9)
    else:
        assert len(np.unique(np.round(x[[100, 1100, 2100, 3100]], 6))) == 4
        np.testing.assert_allclose(x[1100:1900], x[1100])


def test_a_modulation_moves_its_target_by_its_amount():
    still = play({"level_db": -6.0})
    moved = play({"level_db": 0.0, "env2_sustain": 1.0, "env2_decay_ms": 1.0}, mods=[("envelope 2", "level_db", -6.0)])
    np.testing.assert_allclose(still[:, 2000:40_000], moved[:, 2000:40_000], atol=1e-3)


def test_velocity_random_and_note_are_sources():
    assert pitch_hz(play(mods=[("velocity", "pitch_semitones", 12.0)], velocity=1.0)) == pytest.approx(880, rel=1e-3)
    assert pitch_hz(play(mods=[("note", "pitch_semitones", -9.0)], midi=72)) == pytest.approx(523.25 * 2 ** (-9 / 12), rel=1e-3)
    takes = {round(pitch_hz(play(mods=[("random", "pitch_semitones", 1.0)], variant=v)), 1) for v in range(3)}
    assert len(takes) == 3


@pytest.mark.parametrize("octaves,cycles", [(0.0, 2), (2.0, 8)])
def test_an_lfos_rate_can_be_moved(octaves, cycles):
    mods = [("lfo 1", "level_db", 12.0), ("velocity", "lfo1_hz", octaves)]
    x = play({"lfo1_hz": 2.0, "level_db": -6.0}, {"lfo1_rate": "Hz"}, mods)[0, :RATE]
    level = np.abs(x).reshape(-1, 441).max(axis=1)
    rises = np.count_nonzero((level[:-1] < 0.5) & (level[1:] >= 0.5))
    assert rises == pytest.approx(cycles, abs=1)


def test_an_lfo_that_runs_with_the_song_depends_on_the_beat():
    mods, choices = [("lfo 1", "level_db", 6.0)], {"lfo1_rate": "1 bar", "lfo1_start": "with the song"}
    one, two, round_ = (play(choices=choices, mods=mods, beat=b) for b in (0.0, 2.0, modulation.ROUND_BEATS))
    assert np.abs(one - two).max() > 0.1
    np.testing.assert_allclose(one, round_, atol=1e-5)
    sound = Sound("synth", {}, choices, (Modulation("lfo 1", "level_db", 6.0),))
    assert song_round_beats(sound) == modulation.ROUND_BEATS
    assert song_round_beats(Sound("synth")) == 0


def test_what_a_voice_does_not_have_is_refused():
    for sound in (Sound("none"), Sound("synth", {}, {"osc1_wave": "none"}), Sound("synth", modulations=(Modulation("none",
    "fm", 1.0),)),
                  Sound("synth", modulations=(Modulation("lfo 1", "osc1_voices", 1.0),))):  # fmt: skip
        with pytest.raises(UnusableDocument):
            complete(sound)


@pytest.mark.parametrize("voice", VOICES)
def test_values_beyond_their_range_are_held_in_it(voice):
    patch = complete(Sound(voice, {p.name: 1e9 for p in VOICES[voice].params}))
    assert all(patch[p.name] == p.high for p in VOICES[voice].params)


def test_every_parameter_of_the_synthesiser_is_named_once():
    names = [p.name for p in PARAMS]
    assert len(set(names)) == len(names)
    assert all(p.low <= p.default <= p.high and p.title for p in PARAMS)


# The library --------------------------------------------------------------------------------------------------------


def test_the_library_has_120_sounds_over_all_roles():
    sounds = library.library()
    assert len(sounds) >= 120
    assert {e.role for e in sounds.values()} == set(library.ROLE_LUFS)
    for role in ("kick", "clap", "hats", "perc", "bass", "chords", "lead"):
        assert {e.brightness for e in sounds.values() if e.role == role} == {"dark", "middle", "bright"}


@pytest.mark.parametrize("name", library.library())
def test_every_shipped_sound_has_its_roles_loudness_clean_ends_and_its_pitch(name):
    entry = library.library()[name]
    note = library.sample_note(entry)
    assert library.loudness_lufs(note) == pytest.approx(library.ROLE_LUFS[entry.role], abs=0.1)
    peak = np.abs(note).max()
    assert np.abs(note[:, 0]).max() < 0.02 * peak
    assert np.abs(note[:, -1]).max() < 1e-3 * peak
    complete(entry.sound)


#: What isn't meant to have one steady pitch.
UNTUNED = {"Air-raid", "Ring buoy", "Gull", "Ship's bell", "Siren deck"}


@pytest.mark.parametrize(
    "name", [n for n, e in library.library().items() if e.role in ("bass", "chords", "lead") and n not in UNTUNED]
)
def test_every_tuned_sound_stands_on_its_note(name):
    """The fundamental, an octave under or over it, or the fifth of an organ: within 15 cents of a harmonic of the note."""
    entry = library.library()[name]
    midi, held = library.TEST_NOTES[entry.role]
    note = render_note(entry.sound, Played(midi, int(2 * held * RATE), 0.9))
    hz = pitch_hz(note[:, 2000:])
    ratio = hz / (440 * 2 ** ((midi - 69) / 12))
    nearest = max(round(ratio * 4), 1) / 4
    assert 1200 * np.log2(ratio / nearest) == pytest.approx(0, abs=15)


def test_songs_of_the_first_format_still_read():
    old = {
        "schema": "ersatz.song/1", "title": "Old", "bpm": 120.0, "tonic": "A", "mode": "minor", "swing_percent": 50.0,
        "sections": [{"id": "s1", "label": "drop", "bars": 4}], "ducking": {"rate": "1/4", "shape": [0.0] * 64},
        "parts": [
            {"id": v, "name": v, "role": "lead", "bus": "music", "patterns": {}, "cells": [],
             "sound": {"voice": v, "params": {"cutoff_hz": 777.0, "vowel": 2.0}}} for v in ("bass", "stack", "pluck", "voice",
             "hat")],
    }  # fmt: skip
    song = Song.from_json(old)
    assert [p.sound.voice for p in song.parts] == ["synth"] * 4 + ["hat"]
    assert {p.sound.params["filter1_hz"] for p in song.parts[:3]} == {777.0}
    assert song.parts[3].sound.params["filter1_vowel"] == 1.0
    for part in song.parts:
        complete(part.sound)
    assert Song.from_json(song.to_json()) == song


def test_a_song_that_was_stored_sounds_the_same_to_the_last_bit():
    for entry in library.library().values():
        stored = from_json(Sound, json.loads(json.dumps(to_json(entry.sound))))
        assert to_json(stored) == to_json(entry.sound)
        assert all(isinstance(v, float) for v in entry.sound.params.values())
    named = Sound("hat", {"noise": 0.55})
    np.testing.assert_array_equal(render_note(named, Played(0, 0)), render_note(Sound("hat"), Played(0, 0)))
