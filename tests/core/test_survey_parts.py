"""Pieces of the survey against exact cases: folding, attacks, ducking curves, section lengths, chords, widths, odd input."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ersatz.core import bands
from ersatz.core.audio import Audio
from ersatz.core.grid import BarGrid
from ersatz.core.pitch import Key
from ersatz.core.survey import ducking, pump, sections, survey_audio, tempo
from ersatz.core.survey.bars import bar_table
from ersatz.core.survey.bass import MIDI_RANGE, _notes
from ersatz.core.survey.document import Corrections, SectionCorrection, Source
from ersatz.core.survey.frames import EDGES_HZ, FRAME, HOP, band_powers, bin_ranges
from ersatz.core.survey.harmony import STAY, _viterbi, measure_harmony
from ersatz.core.survey.shared import frame_means, prepare
from tests.signals import RATE, both, club_track, kick_hit, moving_levels, noise_hit, sine


def survey(samples, rate=RATE):
    audio = Audio(np.atleast_2d(np.asarray(samples, np.float32)), rate)
    return survey_audio(audio, Source("x.wav", audio.duration_s, rate, audio.channels, ""))


def train(sound: np.ndarray, period_s: float, first_s: float, seconds: float = 30.0) -> np.ndarray:
    out = np.random.default_rng(0).standard_normal(int(seconds * RATE)) * 1e-4
    at = first_s
    while at + 0.4 < seconds:
        i = round(at * RATE)
        out[i : i + len(sound)] += sound
        at += period_s
    return both(out.astype(np.float32))


@pytest.mark.parametrize(
    "sound", [kick_hit(), noise_hit(0.1, 0.001, 200, 5), noise_hit(0.2, 0.03, 800, 6)], ids=["kick", "click", "burst"]
)
@pytest.mark.parametrize("first_s", [0.1, 0.2007, 0.31])
def test_the_beat_lies_on_the_attack(sound, first_s):
    shared = prepare(Audio(train(sound * 0.6, 0.4783, first_s), RATE))
    found = tempo.measure_beat(shared)
    assert found.bpm == pytest.approx(60 / 0.4783, abs=0.01)
    error = (found.first_downbeat_s - first_s + 0.4783 / 2) % 0.4783 - 0.4783 / 2
    assert abs(error) < 0.004


def test_half_and_double_time_are_always_among_the_alternatives():
    found = tempo.measure_beat(prepare(Audio(train(kick_hit() * 0.6, 0.5, 0.1), RATE)))
    others = [g.bpm for g in found.alternatives]
    assert any(abs(b - 60) < 0.1 for b in others)
    assert any(abs(b - 240) < 0.1 for b in others)


def test_a_tempo_that_is_given_is_kept():
    shared = prepare(Audio(train(kick_hit() * 0.6, 0.5, 0.1), RATE))
    assert tempo.measure_beat(shared, 97.25).bpm == 97.25


def test_a_track_that_speeds_up_is_less_sure_than_one_that_doesnt():
    steady = train(kick_hit() * 0.6, 0.5, 0.1)
    out = np.random.default_rng(0).standard_normal(steady.shape[1]) * 1e-4
    at, period = 0.1, 0.56
    while at < 29:
        i = round(at * RATE)
        out[i : i + len(kick_hit())] += kick_hit()[: len(out) - i] * 0.6
        at += period
        period *= 0.994
    sure = tempo.measure_beat(prepare(Audio(steady, RATE))).confidence
    unsure = tempo.measure_beat(prepare(Audio(both(out.astype(np.float32)), RATE))).confidence
    assert unsure < 0.5 < sure


QUARTER = ducking.Trigger("1/4", (0, 64, 128, 192), 1.0)
BEAT_S = 0.48


def ducked_by(depth_db: float, end: float, trigger: ducking.Trigger, recovery: int) -> ducking.Curves:
    return ducking.draw_curves(trigger, BEAT_S, 256, (recovery,), np.array([end]), np.array([0.015]), np.array([depth_db]))


def test_every_candidate_falls_once_and_comes_back():
    curves = ducking.draw_curves(QUARTER, BEAT_S, 256, range(6), np.array([0.3, 0.9]), np.array([0.0, 0.03]), np.array([2.0, 20.0]))
    assert len(curves.gain_db) == 48
    assert (curves.gain_db <= 1e-9).all()
    np.testing.assert_allclose(curves.gain_db.min(axis=1), -curves.depth_db, rtol=0.06)
    for curve in curves.gain_db:
        k = int(curve.argmin())
        assert (np.diff(curve[: k + 1]) <= 1e-9).all() and (np.diff(curve[k:]) >= -1e-9).all()
    # The window never shows more than there is, and the four beats are alike.
    assert (curves.seen_db.min(axis=1) >= -curves.depth_db - 0.01).all() and (curves.seen_db.max(axis=1) <= 0.01).all()
    np.testing.assert_allclose(curves.seen_db[:, :64], curves.seen_db[:, 64:128], atol=0.02)


@pytest.mark.parametrize(("depth_db", "end", "recovery"), [(3.0, 0.8, 2), (6.0, 0.5, 3), (9.0, 0.9, 0), (14.0, 0.6, 5)])
def test_a_curve_laid_over_moving_levels_is_read_back(depth_db, end, recovery):
    truth = ducked_by(depth_db, end, QUARTER, recovery)
    levels = moving_levels(30, 12, 5) + truth.seen_db[0]
    eighths = ducking.Trigger("1/8", tuple(range(0, 256, 32)), 0.5)
    best = ducking.best_fits(ducking.gather(levels), [eighths, QUARTER], BEAT_S)[0]
    assert best.trigger == QUARTER
    assert best.depth_db == pytest.approx(depth_db, abs=max(0.5, 0.1 * depth_db))
    assert pump.probability(best) > 0.9
    found = pump.release_ms(pump._per_point(best.curve_db), BEAT_S)
    assert found == pytest.approx(pump.release_ms(pump._per_point(truth.gain_db[0]), BEAT_S), rel=0.2)


def test_what_isnt_ducked_takes_nothing_from_the_depth():
    truth = ducked_by(8.0, 0.7, QUARTER, 2)
    levels = moving_levels(30, 12, 6)
    levels[:10] += truth.seen_db[0]
    best = ducking.best_fits(ducking.gather(levels), [QUARTER], BEAT_S)[0]
    assert best.depth_db == pytest.approx(8.0, abs=1.0)
    assert best.rows[:10].min() > best.rows[10:].max()
    evidence, rows = ducking.gather(levels), np.arange(30)
    assert ducking.depths_like(evidence, best, BEAT_S, rows < 10, 20.0) == pytest.approx(8.0, abs=1.0)
    assert ducking.depths_like(evidence, best, BEAT_S, rows >= 10, 20.0) < 1.5


def test_parts_of_the_spectrum_agree_on_the_depth_though_one_rests_on_the_beat():
    levels = moving_levels(40, 12, 8) + ducked_by(6.0, 0.7, QUARTER, 2).seen_db[0]
    # A quarter of the rows is a bass that is silent after the beat, another one isn't ducked.
    levels[:10] += 2 * ducked_by(6.0, 0.5, QUARTER, 3).seen_db[0]
    levels[10:20] -= ducked_by(6.0, 0.7, QUARTER, 2).seen_db[0]
    evidence, regions = ducking.gather(levels), np.arange(40) // 10
    alone = ducking.best_fits(evidence, [QUARTER], BEAT_S)[0]
    assert alone.depth_db > 8
    found = ducking.agreed(evidence, alone, BEAT_S, regions, np.array([0.5, 1.0, 1.0, 1.0]))
    assert found.depth_db == pytest.approx(6.0, abs=1.5)
    np.testing.assert_allclose(found.curve_db.min(), -found.depth_db)


@settings(max_examples=15)
@given(st.integers(0, 2**32 - 1))
def test_music_that_follows_nothing_is_hardly_ducking(seed):
    found = ducking.best_fits(ducking.gather(moving_levels(20, 10, seed)), [QUARTER], BEAT_S)[0]
    assert pump.probability(found) < 0.5


def test_unknown_stretches_are_left_out():
    truth = ducked_by(8.0, 0.7, QUARTER, 2)
    levels = moving_levels(30, 12, 7) + truth.seen_db[0]
    levels.reshape(30, 12, 4, 64)[..., :10] = np.nan
    assert ducking.best_fits(ducking.gather(levels), [QUARTER], BEAT_S)[0].depth_db == pytest.approx(8.0, abs=2.0)
    assert not ducking.gather(np.full((3, 4, 256), np.nan)).count.any()


def test_release_runs_from_the_lowest_point_to_one_decibel_under():
    curve = np.concatenate([np.full(4, -10.0), np.linspace(-10, 0, 41), np.zeros(19)])
    # 10 dB in 40 points: 9 dB take 36 points of a 500 ms beat, from the last point at the bottom; the first counts.
    assert pump.release_ms(curve, 0.5) == pytest.approx((36 + 4) / 64 * 500, rel=0.05)
    assert pump.release_ms(np.full(64, -6.0), 0.5) == pytest.approx(500)


@pytest.mark.parametrize("release_s", [0.1, 0.18, 0.26])
def test_release_within_a_fifth(release_s):
    depth = 9.0
    found = survey(club_track(bars=28, duck_db=depth, release_s=release_s)).pump
    assert found.release_ms == pytest.approx(release_s * 1000, rel=0.3)


def test_boundaries_stand_on_the_strongest_lines_at_usual_lengths():
    novelty = np.zeros(64)
    novelty[[16, 24, 56]] = 1.0
    novelty[37] = 0.25
    assert sections._boundaries(novelty, 64) == [0, 16, 24, 56]


def test_an_irregular_length_is_allowed_where_the_evidence_is_strong():
    novelty = np.zeros(60)
    novelty[[16, 28]] = 1.0
    assert sections._boundaries(novelty, 60) == [0, 16, 28]


def test_neighbours_of_the_same_label_become_one():
    starts, labels = sections._merged([0, 8, 16, 24], ["intro", "intro", "drop", "outro"])
    assert (starts, labels) == ([0, 16, 24], ["intro", "drop", "outro"])


def test_the_chord_path_ignores_a_moments_doubt():
    score = np.zeros((3, 12))
    score[0] = 1.0
    score[1, 5] = 1.03
    assert _viterbi(score, np.full(12, STAY)) == [0] * 12
    score[1, 4:8] = 2.0
    assert _viterbi(score, np.full(12, STAY)) == [0] * 4 + [1] * 4 + [0] * 4


def test_chords_that_change_in_the_middle_of_the_bar_are_told():
    half_s, t = 1.0, np.arange(RATE) / RATE
    triads = {"Am": (57, 60, 64), "G": (55, 59, 62)}
    chords = {n: sum(np.sin(2 * np.pi * 440 * 2 ** ((m - 69) / 12) * t) for m in triad) for n, triad in triads.items()}
    plan = ["Am", "Am", "G", "Am", "Am", "Am", "G", "G"]
    shared = prepare(Audio(both(np.concatenate([0.2 * chords[n] for n in plan]).astype(np.float32)), RATE))
    bars = bar_table(shared, BarGrid(240 / (2 * half_s)))
    found = measure_harmony(shared, bars, Key("A", "minor"), (1.0,) * 4, (None,) * 4).chords
    assert [(c.start_bar, c.bars, c.name) for c in found] == [
        (1, 1.0, "Am"), (2, 0.5, "G"), (2.5, 1.5, "Am"), (4, 1.0, "G"),
    ]  # fmt: skip


@pytest.mark.parametrize("on_share", [1.0, 0.25])
def test_the_crest_of_a_band_is_what_its_bursts_stand_over_the_mean(on_share):
    t = np.arange(8 * RATE) / RATE
    tone = 0.5 * np.sin(2 * np.pi * 1000 * t) * ((t % 1.0) < on_share)
    band = next(b for b in survey(both(tone.astype(np.float32))).stereo.bands if b.low_hz <= 1000 < b.high_hz)
    assert band.crest_db == pytest.approx(3.01 - 10 * np.log10(on_share), abs=0.3)


def test_full_energy_is_the_balance_of_the_drops():
    audio = Audio(np.concatenate([both(sine(100, 16, -12)), both(sine(4000, 16, -12))], axis=1), RATE)
    plan = (SectionCorrection("breakdown", 1, 8), SectionCorrection("drop", 9, 8))
    known = Corrections(bpm=120.0, first_downbeat_s=0.0, sections=plan)
    level = survey_audio(audio, Source("x.wav", audio.duration_s, RATE, 2, ""), known).spectrum
    assert level.centers_hz[int(np.argmax(level.full_energy_db))] == 4000
    assert level.full_energy_db == pytest.approx(level.per_section[1].level_db, abs=0.1)


def test_means_between_edges_are_means():
    values = np.arange(100.0)[None]
    means = frame_means(values, np.array([0.0, 1.0, 5.0]), 0.1)
    np.testing.assert_allclose(means, [[np.arange(10).mean(), np.arange(10, 50).mean()]])


@pytest.mark.parametrize("frame", [256, 2048])
def test_band_powers_are_the_shares_of_the_bins_of_every_frame(frame):
    edges = np.array([0.0, 90, 130, 135, 1000, 9000, 20_000])
    frames = np.random.default_rng(4).standard_normal((5, frame)).astype(np.float32)
    bins = np.square(np.abs(np.fft.rfft(frames * np.hanning(frame), axis=1)))
    shares = bands.share_of_bins(frame // 2 + 1, RATE, edges[:-1], edges[1:])
    for at_once in (1, 2, 8):
        np.testing.assert_allclose(
            band_powers(frames, bin_ranges(edges, RATE, frame), at_once), shares @ bins.T, rtol=1e-3, atol=1e-4
        )


def test_band_weights_give_every_bin_to_one_band_at_most():
    weights = bands.band_weights(bands.FRAME // 2 + 1, RATE)
    assert weights.sum(axis=0).max() <= 1 + 1e-9
    assert (weights.sum(axis=1) > 0).all()


def test_band_power_of_a_sine_is_its_power():
    power = bands.band_power(sine(1000, 5, -6)[None], RATE)
    assert 10 * np.log10(power.sum()) == pytest.approx(-6 - 3.01, abs=0.05)
    assert int(power.argmax()) == 17


def test_analysis_bands_tile_the_spectrum():
    shared = prepare(Audio(both(sine(300, 2, -6)), RATE))
    assert shared.mid_power.shape == (len(EDGES_HZ) - 1, 2 * RATE // HOP + 1)
    assert EDGES_HZ[int(shared.mid_power[:, FRAME // HOP * 8].argmax())] == 270
    assert shared.side_power.max() < 1e-6 * shared.mid_power.max()


@pytest.mark.parametrize("cents", [-30, 0, 22])
def test_tuning_is_read_from_the_partials(cents):
    chord = sum(sine(440 * 2 ** ((s + cents / 100) / 12), 12, -18) for s in (0, 3, 7, 12))
    assert prepare(Audio(both(chord), RATE)).tuning_cents == pytest.approx(cents, abs=3)


@pytest.mark.parametrize(
    ("pan", "width", "correlation"),
    [((1, 1), 0.0, 1.0), ((1, -1), 1.0, -1.0), ((1, 0), 1.0, 0.0)],
    ids=["mono", "antiphase", "left"],
)
def test_width_and_correlation(pan, width, correlation):
    tone = sine(1000, 12, -12)
    band = next(b for b in survey(np.stack([tone * p for p in pan])).stereo.bands if b.low_hz <= 1000 < b.high_hz)
    assert band.width == pytest.approx(width, abs=0.01)
    assert band.correlation == pytest.approx(correlation, abs=0.01)


def odd_inputs():
    x = club_track(bars=12)
    click = np.zeros((2, RATE * 12))
    click[:, RATE * 5] = 0.9
    late = np.zeros((2, RATE * 34))
    late[:, RATE * 12 : RATE * 12 + RATE * 22] = x[:, : RATE * 22]
    return {
        "one click": click,
        "constant": np.full((2, RATE * 12), 0.5),
        "antiphase": np.stack([x[0], -x[0]]),
        "left only": np.stack([x[0], 0 * x[0]]),
        "over full scale": 4 * x,
        "very soft": 1e-3 * x,
        "twelve seconds of nothing first": late,
        "ten seconds": x[:, : int(10.1 * RATE)],
    }


@pytest.mark.parametrize("name", odd_inputs())
def test_odd_input_is_surveyed_without_numbers_that_are_none(name):
    found = survey(odd_inputs()[name])
    assert np.isfinite([found.tempo.bpm, found.tempo.first_downbeat_s, found.key.confidence, found.pump.depth_db]).all()
    assert np.isfinite(found.spectrum.level_db).all()
    assert found.sections[-1].end_bar == found.bars + 1
    if name not in ("one click", "constant"):
        assert found.tempo.bpm == pytest.approx(126, abs=0.1)


@pytest.mark.parametrize("rate", [8_000, 96_000])
def test_other_rates_give_the_same_grid(rate):
    from ersatz.core.audio import resample

    found = survey(resample(club_track(bars=16), RATE, rate), rate)
    assert found.tempo.bpm == pytest.approx(126, abs=0.02)
    assert found.source.sample_rate_hz == rate


def test_a_build_in_which_the_ducker_runs_on_without_the_kick_is_told_from_the_breakdown():
    parts = [club_track(126.0, bars=16, duck_db=duck, kick=kick) for duck, kick in ((0, False), (8, False), (8, True))]
    audio = Audio(np.concatenate(parts, axis=1), RATE)
    labels = ("breakdown", "build", "drop")
    plan = tuple(SectionCorrection(label, 1 + 16 * i, 16) for i, label in enumerate(labels))
    known = Corrections(bpm=126.0, first_downbeat_s=0.0, sections=plan)
    found = survey_audio(audio, Source("x.wav", audio.duration_s, RATE, 2, ""), known).pump
    assert found.depth_db == pytest.approx(8.0, abs=1.0)
    assert found.active_sections == (1, 2)
    assert found.per_section[1].depth_db == pytest.approx(8.0, abs=1.5)
    assert found.per_section[0].depth_db < 1.5


def test_a_bass_note_that_is_not_the_bars_own_is_less_sure():
    table = np.full((8, len(MIDI_RANGE)), 0.1)
    table[:6, 4], table[6:, 9] = 1.0, 1.0
    own, other = _notes(table, 0, MIDI_RANGE[4])
    assert (own.midi, other.midi) == (MIDI_RANGE[4], MIDI_RANGE[9])
    assert other.confidence == pytest.approx(own.confidence**2, abs=0.02) and other.confidence < own.confidence


def _chords_of(mixed, rng):
    """Four bars of triads, `mixed` of their level taken by random pitches."""
    bar_s = 2.0
    t = np.arange(int(bar_s * RATE)) / RATE
    bars = []
    for triad in ((57, 60, 64), (53, 57, 60), (60, 64, 67), (55, 59, 62)):
        tones = [*((1 - mixed, m) for m in triad), *((mixed, m) for m in rng.integers(50, 80, 9))]
        bars.append(sum(level * np.sin(2 * np.pi * 440 * 2 ** ((m - 69) / 12) * t) for level, m in tones))
    shared = prepare(Audio(both(0.05 * np.concatenate(bars).astype(np.float32)), RATE))
    table = bar_table(shared, BarGrid(120, 0.0, 4))
    return measure_harmony(shared, table, Key("A", "minor"), (1.0,) * 4, (None,) * 4).chords


def test_chords_among_other_pitches_are_less_sure():
    rng = np.random.default_rng(8)
    clear, hidden = ([c.confidence for c in _chords_of(mixed, rng)] for mixed in (0.0, 0.75))
    assert min(clear) >= 0.9
    assert np.mean(hidden) < 0.75
