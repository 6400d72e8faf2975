"""Bar line, metre and steadiness on rhythms with known answers."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.audio import Audio
from ersatz.core.survey import barline, steadiness
from ersatz.core.survey.frames import NOISE_MEAN, band_frames
from ersatz.core.survey.shared import prepare
from ersatz.core.survey.slots import Slots, cut_slots, drum_curves, peaks_at, sustained_rise
from ersatz.core.survey.tempo import measure_beat
from tests.signals import RATE, both, club_track, kick_hit, noise_hit, sine


def rhythm(kick, snare, hats, bars=32, metre=4):
    """Slots of a plain rhythm with a chord per bar; levels change every eight bars."""
    n = bars * 4 * metre
    curves = []
    for steps in (kick, snare, hats):
        curve = np.zeros(n)
        for step in steps:
            curve[step :: 4 * metre] = 1.0
        curves.append(curve)
    bar = np.arange(n) // (4 * metre)
    tonal = np.zeros((24, n))
    tonal[(bar * 5) % 24, np.arange(n)] = 1.0
    level = np.tile(np.sin(bar // 8 * 2.0), (6, 1))
    return Slots(np.arange(n + 1) * 0.12, level, tonal, *curves)


def shifted(slots, by):
    def roll(x):
        return np.roll(x, by, axis=-1)

    return Slots(slots.edges_s, roll(slots.level), roll(slots.tonal), roll(slots.kick), roll(slots.snare), roll(slots.hats))


@pytest.mark.parametrize("by", range(16))
@pytest.mark.parametrize("kick", [(0, 4, 8, 12), (0, 10), (0, 3, 10), (0, 7, 10)])
def test_the_bar_line_follows_the_rhythm_wherever_it_starts(kick, by):
    slots = shifted(rhythm(kick, (4, 12), (2, 6, 10, 14)), by)
    assert int(np.argmax(barline.place_scores(slots))) == by


@pytest.mark.parametrize("at", [0, 3, 10])
def test_the_low_register_begins_on_the_one(at):
    # Four bands under 200 Hz: a bass that sounds for half a bar from `at` on.
    level = np.zeros((21, 16 * 24))
    for k in range(8):
        level[:4, at + k :: 16] = 2.0
    scores = barline.low_scores(level)
    assert int(np.argmax(scores)) == at
    assert scores.max() == 1.0
    assert np.delete(scores, at).max() < 0.1
    level[4:, 5::16] = 9.0  # what rises above it says nothing
    np.testing.assert_array_equal(barline.low_scores(level), scores)


@pytest.mark.parametrize(("metre", "kick", "snare"), [(3, (0, 4, 8), (8,)), (4, (0, 4, 8, 12), (4, 12)), (5, (0, 8, 12), (4, 16))])
def test_the_metre_is_where_bars_repeat(metre, kick, snare):
    found, clear = barline.beats_per_bar(rhythm(kick, snare, range(0, 4 * metre, 2), bars=40, metre=metre))
    assert found == metre
    assert clear > 0


@given(st.lists(st.floats(0, 1), min_size=48, max_size=48))
def test_rhythm_scores_turn_with_the_rhythm(values):
    kick, snare, hats = np.array(values).reshape(3, 16)
    scores = barline.rhythm_scores(kick, snare, hats)
    turned = barline.rhythm_scores(np.roll(kick, 5), np.roll(snare, 5), np.roll(hats, 5))
    np.testing.assert_allclose(turned, np.roll(scores, 5), atol=1e-9)
    assert (np.abs(scores) <= 1 + 1e-9).all()


def test_a_bass_under_an_open_hat_is_no_kick():
    # Half a beat after every kick a bass sets in that is louder below, with the click of a hat on top.
    beat_s = 60 / 125
    out = np.zeros(int(32.5 * beat_s * RATE), np.float32)
    bass = sine(55, beat_s / 2, -3)
    bass *= np.minimum(1, np.minimum(np.arange(len(bass)), np.arange(len(bass))[::-1]) / (0.03 * RATE))
    for beat in range(32):
        for late, hit in ((0, 0.4 * kick_hit()), (0.5, bass), (0.5, 0.3 * noise_hit(0.1, 0.03, 2000, 2))):
            at = int((beat + late) * beat_s * RATE)
            out[at : at + len(hit)] += hit
    shared = prepare(Audio(both(out), RATE))
    kick = cut_slots(shared, drum_curves(shared), 125, 0.0).kick[:128].reshape(32, 4).mean(axis=0)
    assert kick[0] > 2 * kick[2]


def test_half_time_is_heard_from_the_backbeat():
    fast = rhythm((0, 8), (4, 12), range(0, 16, 2))
    slow = Slots(fast.edges_s, fast.level, fast.tonal, *(c[::2].repeat(2) for c in (fast.kick, fast.snare, fast.hats)))
    assert barline.octave_score(fast, 87) > barline.octave_score(slow, 87)


def onsets(bpm_of, seconds=120, rate=172.0):
    """An onset curve with a peak on every 8th of a tempo that may change."""
    out = np.zeros(int(seconds * rate))
    t = 0.5
    while t < seconds - 0.1:
        out[int(t * rate)] = 1.0
        t += 30 / bpm_of(t)
    return np.convolve(out, np.hanning(5), "same"), rate


def still_slots():
    return rhythm((0, 4, 8, 12), (4, 12), (2, 6, 10, 14), bars=48)


def test_a_steady_tempo_has_neither_drift_nor_steps():
    curve, rate = onsets(lambda t: 124.0)
    found = steadiness.measure_steadiness(curve, rate, 124.0, still_slots(), ())
    assert found.changes == ()
    assert not found.drifts


def test_a_step_of_the_tempo_is_told_with_its_place():
    curve, rate = onsets(lambda t: 124.0 if t < 60 else 128.0)
    (change,) = steadiness.measure_steadiness(curve, rate, 124.0, still_slots(), ()).changes
    assert change.bpm == pytest.approx(128.0, abs=0.3)
    assert change.t_s == pytest.approx(60, abs=8)


def test_a_wandering_tempo_drifts():
    curve, rate = onsets(lambda t: 124.0 * (1 + 0.012 * np.sin(t / 8)))
    found = steadiness.measure_steadiness(curve, rate, 124.0, still_slots(), ())
    assert found.drift_percent > 0.5


def slots_at(whole, keep):
    return Slots(np.arange(len(keep) + 1) * 0.12, whole.level[:, keep], whole.tonal[:, keep],
                 whole.kick[keep], whole.snare[keep], whole.hats[keep])  # fmt: skip


@pytest.mark.parametrize("beats", [1, 3])
def test_a_beat_that_was_cut_out_is_told_at_its_bar(beats):
    # A two-step: half a bar later it is another rhythm.
    whole = rhythm((0, 10), (4, 12), range(0, 16, 2), bars=48)
    keep = np.r_[0 : 24 * 16 - 4 * beats, 24 * 16 : whole.count]
    cut = slots_at(whole, keep)
    (jump,) = steadiness.find_jumps(cut, 0)
    assert jump.beats % 4 == (-beats) % 4
    assert abs(jump.slot - (24 * 16 - 4 * beats)) <= 16


def test_without_its_jump_a_cut_track_has_one_bar_line():
    whole = rhythm((0, 10), (4, 12), range(0, 16, 2), bars=48)
    cut = slots_at(whole, np.r_[0 : 24 * 16 - 4, 24 * 16 : whole.count])
    mended = steadiness.without_jumps(cut, (steadiness.Jump(24 * 16 - 4, -1),))
    assert np.array_equal(mended.kick.reshape(-1, 16)[20:28, [0, 10]] > 0.5, np.ones((8, 2), bool))
    doubled = slots_at(whole, np.r_[0 : 24 * 16, 24 * 16 - 4 : whole.count])
    mended = steadiness.without_jumps(doubled, (steadiness.Jump(24 * 16 + 4, 1),))
    assert np.array_equal(mended.hats, whole.hats)
    assert np.array_equal(mended.kick, whole.kick)


def test_the_noise_level_sees_noise_and_not_tones():
    rng = np.random.default_rng(1)
    noise = rng.standard_normal(RATE * 2).astype(np.float32) * 0.1
    tones = sum(sine(hz, 2, -20) for hz in (1210, 1530, 2440, 3890))
    noise_power, noise_level = band_frames(noise, RATE)
    tone_power, tone_level = band_frames(tones, RATE)
    between = slice(10, 300)
    # White noise reads its own power, band by band.
    expected = noise_power[10, between].mean() * (1400 - 1000) / (1300 - 1000)
    assert noise_level[1, between].mean() / NOISE_MEAN == pytest.approx(expected, rel=0.2)
    assert tone_level[1:6, between].sum() < 0.05 * tone_power[8:17, between].sum()


def test_a_sustained_rise_ignores_a_click_and_sees_a_burst():
    def rise_of(sound):
        x = np.random.default_rng(0).standard_normal(RATE).astype(np.float32) * 1e-3
        x[20_000 : 20_000 + len(sound)] += sound.astype(np.float32)
        return float(
            peaks_at(sustained_rise(prepare(Audio(both(x), RATE)).noise(1000, 5600)), np.array([20_000 / RATE]), 256 / RATE)[0]
        )

    assert rise_of(noise_hit(0.2, 0.05, 900, 3)) > 4 * rise_of(noise_hit(0.05, 0.002, 900, 3))


@pytest.mark.parametrize("start_s", [0.0, 0.31, 1.13])
def test_bar_one_of_a_club_track_lies_on_its_kick(start_s):
    found = measure_beat(prepare(Audio(club_track(125.0, bars=24, start_s=start_s), RATE)))
    bar = 240 / 125
    assert abs((found.first_downbeat_s - start_s + bar / 2) % bar - bar / 2) < 0.006
    assert found.beats_per_bar == 4
