"""Kick portrait, hits, transitions and presence on sounds with known answers."""

import numpy as np
import pytest
from scipy import signal

from ersatz.core.audio import Audio
from ersatz.core.grid import BarGrid
from ersatz.core.survey import sections, survey_audio
from ersatz.core.survey.bars import bar_table
from ersatz.core.survey.document import Corrections, SectionCorrection, Source
from ersatz.core.survey.drums import describe_drums, measure_swing
from ersatz.core.survey.events import _fall, _impact, _roll, _sweep, find_gap, upper_edge
from ersatz.core.survey.hits import _weakest, barest, find_hits
from ersatz.core.survey.kick import kick_sound, measure_kick, portrait_of
from ersatz.core.survey.shared import LOW_HZ, prepare
from ersatz.core.survey.tempo import measure_beat
from tests.signals import RATE, both, club_track, kick_hit, noise_hit


@pytest.fixture(scope="module")
def measured():
    shared = prepare(Audio(club_track(126.0, bars=28), RATE))
    beat = measure_beat(shared)
    from ersatz.core.grid import BarGrid

    bars = bar_table(shared, BarGrid(beat.bpm, beat.first_downbeat_s, beat.beats_per_bar))
    return shared, bars, find_hits(shared, bars, 50.0)


def test_hits_stand_on_the_steps_they_were_played_on(measured):
    _, _, hits = measured
    assert [i for i, v in enumerate(np.median(hits.kick, axis=0)) if v > 0.55] == [0, 4, 8, 12]
    assert [i for i, v in enumerate(np.median(hits.clap, axis=0)) if v > 0.5] == [4, 12]
    assert hits.backbeat == (4, 12)
    assert (np.median(hits.hats, axis=0) > 0.3).sum() >= 14


def test_the_kicks_portrait_is_the_kick(measured):
    shared, bars, hits = measured
    portrait = measure_kick(shared, bars, hits)
    assert portrait.fundamental_hz == pytest.approx(50.0, rel=0.03)
    assert portrait.note == "G1"
    # Played four times as high as it settles; seen through half waves.
    assert 90 < portrait.start_hz <= 220
    assert 15 < portrait.fall_ms < 60
    # exp(-t / 90 ms) is 20 dB down after 207 ms.
    assert portrait.decay_ms == pytest.approx(207, abs=35)
    assert portrait.envelope_db[0] > -12
    assert all(b <= a + 3 for a, b in zip(portrait.envelope_db[4:40], portrait.envelope_db[5:41]))


def test_drums_that_play_the_same_again_are_surer_than_drums_that_dont():
    """A kick on every beat, and hats that keep to their steps or change them in every bar."""
    rng = np.random.default_rng(11)
    found = []
    for steps in (lambda bar: (2, 6, 10, 14), lambda bar: rng.choice(16, 6, replace=False)):
        x = np.zeros(int(33 * RATE), np.float32)
        for bar in range(16):
            for beat in range(4):
                _put(x, (bar * 4 + beat) * 0.5, kick_hit())
            for step in steps(bar):
                _put(x, bar * 2.0 + step * 0.125, 0.4 * noise_hit(0.06, 0.02, 7000, 16 * bar + step))
        shared = prepare(Audio(both(x), RATE))
        bars = bar_table(shared, BarGrid(120, 0.0, 4))
        (picture,) = describe_drums(shared, bars, find_hits(shared, bars, 50.0), [(0, 16)], None).patterns
        found.append(picture.confidence)
    assert found[0] >= 0.9
    assert found[1] < 0.6


def _put(x, at_s, hit):
    start = round(at_s * RATE)
    x[start : start + len(hit)] += hit[: len(x) - start].astype(np.float32)


@pytest.mark.parametrize("percent", [50.0, 58.0])
def test_swing_is_sure_where_the_off_16ths_stand_out(percent):
    x = np.zeros(int(33 * RATE), np.float32)
    for k in range(256):
        _put(x, (k // 2) * 0.25 + (k % 2) * 0.25 * percent / 100, 0.4 * noise_hit(0.06, 0.02, 7000, k))
    shared = prepare(Audio(both(x), RATE))
    swing, sure = measure_swing(shared, bar_table(shared, BarGrid(120, 0.0, 4)))
    assert swing == pytest.approx(percent, abs=1)
    assert sure >= 0.9


def test_a_kick_that_is_another_every_time_is_less_sure():
    rng = np.random.default_rng(13)
    t = np.arange(int(0.4 * RATE)) / RATE
    found = []
    for hz in (lambda: 52.0, lambda: rng.uniform(40, 100)):
        pieces = np.array([np.sin(2 * np.pi * hz() * t) * np.exp(-t / 0.2) for _ in range(24)])
        found.append(portrait_of(pieces, RATE).confidence)
    assert found[0] >= 0.95
    assert found[1] < 0.7


def test_the_kick_is_cut_out_clean():
    alone = np.zeros((2, RATE * 14), np.float32)
    times = 0.5 + np.arange(24) * 0.5
    hit = kick_hit().astype(np.float32)
    rng = np.random.default_rng(5)
    for t in times:
        alone[:, round(t * RATE) : round(t * RATE) + len(hit)] += hit
    noisy = alone + rng.normal(0, 0.02, alone.shape).astype(np.float32)
    sound = kick_sound(Audio(noisy, RATE), times)
    error = sound.samples[0, : len(hit)] - hit[: sound.samples.shape[1]]
    assert np.sqrt(np.mean(np.square(error[: RATE // 5]))) < 0.012


@pytest.mark.parametrize("bpm", [121.3, 126.0, 139.7])
def test_the_kick_leaves_the_low_register_wherever_it_falls_between_samples(bpm):
    grid = BarGrid(bpm, 0.5, 4)
    low = np.zeros(RATE * 24, np.float32)
    hit = kick_hit().astype(np.float32)
    t = np.arange(len(low)) / RATE
    for beat in range(int(22 * bpm / 60)):
        start = round((0.5 + beat * 60 / bpm) * RATE)
        low[start : start + len(hit)] += hit
    # From the middle on a bass note sounds between the kicks.
    bass = 0.1 * np.sin(2 * np.pi * 65 * t) * (t > 12) * ((t - 0.5) % (60 / bpm) > 30 / bpm)
    shared = prepare(Audio(both(low + bass).astype(np.float32), RATE))
    without = find_hits(shared, bar_table(shared, grid), 50.0).low_without_kick

    def level(x, first_s, last_s):
        return 10 * np.log10(np.mean(np.square(x[int(first_s * LOW_HZ) : int(last_s * LOW_HZ)])))

    assert level(without, 1, 11) < level(shared.low, 1, 11) - 20
    # The note stays: half of the time at 0.1, that is -26 dB.
    assert level(without, 13, 21) == pytest.approx(-26, abs=1.5)


def test_the_barest_hits_are_those_with_nothing_after_them():
    pieces = np.zeros((40, 100))
    pieces[:, :20] = 1.0
    pieces[10:, 60:] = 0.5
    assert set(barest(pieces)) == set(range(10))


def test_a_climb_of_noise_is_found_with_its_length():
    noise = np.full(80, -60.0)
    noise[32:48] = np.linspace(-58, -20, 16)
    length, climb = sections.ramp(noise, 24)
    assert length == 8
    assert climb > 25
    assert sections.ramp(noise, 40) == (0, 0.0)


@pytest.mark.parametrize("bars", [4, 8, 16])
@pytest.mark.parametrize("exponent", [2.0, 3.0])
def test_a_riser_over_a_noisy_floor_has_its_own_length(bars, exponent):
    noise = np.full(100, 10 ** (15 / 10))
    progress = (np.arange(2 * bars) + 0.5) / (2 * bars)
    noise[80 - 2 * bars : 80] += 10 ** (35 / 10) * progress ** (2 * exponent)
    assert sections.ramp(10 * np.log10(noise), 40)[0] == bars


def test_flat_noise_is_no_riser():
    assert sections.ramp(np.random.default_rng(1).normal(-40, 1, 80), 24) == (0, 0.0)


def test_a_climb_makes_a_build_of_the_breakdowns_end():
    noise = np.full(80, -60.0)
    noise[32:48] = np.linspace(-58, -20, 16)
    starts, labels = sections._builds([0, 8, 24], ["intro", "breakdown", "drop"], noise, 40)
    assert (starts, labels) == ([0, 8, 16, 24], ["intro", "breakdown", "build", "drop"])


def test_the_outro_begins_where_the_tune_stops():
    middle = np.concatenate([np.full(8, -20.0), np.full(16, -10.0), np.full(8, -13.0), np.full(8, -22.0)])
    assert sections._outro_start([0, 8, 32], ["intro", "drop", "outro"], middle) == [0, 8, 24]
    assert sections._outro_start([0, 8, 24], ["intro", "drop", "outro"], middle[:32]) == [0, 8, 24]


def test_a_roll_is_the_run_of_hits_that_the_bars_before_it_lack():
    stabs = np.zeros(16)
    stabs[[0, 3, 6, 10]] = 0.4
    clap = np.tile(stabs, (10, 1))
    assert _roll(clap, 8, 4) == []
    clap[4, ::4] = 0.3
    clap[5:7, ::2] = 0.6
    clap[7] = 0.8
    (roll,) = _roll(clap, 8, 4)
    assert (roll.start_bar, roll.beats) == (5, 16.0)


def test_a_gap_is_where_it_is_quiet_between_two_loud_sides():
    full = np.full(64, -10.0)
    full[30:32] = -40.0
    (gap,) = find_gap(full, 8, 4)
    assert (gap.start_bar, gap.beats) == (8.5, 2.0)
    assert find_gap(np.full(64, -10.0), 8, 4) == []


@pytest.mark.parametrize("beats", [1, 2, 4])
def test_a_gap_in_a_rising_build_is_found_with_its_length(beats):
    full = np.concatenate([np.linspace(-30, -16, 48), np.full(16, 0.0)])
    full[48 - beats : 48] -= 5 + beats
    (gap,) = find_gap(full, 12, 4)
    assert (gap.start_bar, gap.beats) == (13 - beats / 4, beats)


def test_a_rhythms_own_quiet_beat_is_no_gap():
    full = np.tile([-16.0, -16.0, -16.0, -24.0], 16)
    full[32:] += 14
    assert find_gap(full, 8, 4) == []


def test_an_impact_rings_and_is_gone_and_a_fall_sinks():
    noise = np.full(40, -50.0)
    noise[16:20] = [-30, -38, -46, -50]
    (impact,) = _impact(noise, 8, 4)
    assert impact.start_bar == 9
    (fall,) = _fall(noise, 8, 4)
    assert fall.beats == 8.0
    assert _impact(np.full(40, -50.0), 8, 4) == _fall(np.full(40, -50.0), 8, 4) == []


def test_the_upper_edge_follows_a_filter():
    rng = np.random.default_rng(5)
    parts = []
    for cutoff_hz in (1000.0, 2000.0, 4000.0):
        low = signal.butter(8, cutoff_hz, "lowpass", fs=RATE, output="sos")
        parts.append(signal.sosfilt(low, rng.standard_normal(4 * RATE)) * 0.1)
    shared = prepare(Audio(both(np.concatenate(parts).astype(np.float32)), RATE))
    edge = upper_edge(shared, bar_table(shared, BarGrid(120.0)))
    assert np.diff(edge[[0, 2, 4]]) == pytest.approx([1.0, 1.0], abs=0.25)


@pytest.mark.parametrize("octaves", [1.2, -1.2])
def test_a_sweep_is_a_steady_move_of_the_edge(octaves):
    edge = np.full(32, 12.0)
    edge[8:24] += np.linspace(0, octaves, 16)
    (sweep,) = _sweep(edge, sections.Span(8, 16, "breakdown", 1.0, None), 4, [])
    assert (sweep.start_bar, sweep.beats) == (9, 64.0)
    # A riser lifts the edge as well; a jump is a part that comes in.
    assert _sweep(edge, sections.Span(8, 16, "breakdown", 1.0, None), 4, [(9.0, 25.0)]) == []
    jump = np.where(np.arange(32) < 16, 11.0, 12.2)
    assert _sweep(jump, sections.Span(8, 16, "breakdown", 1.0, None), 4, []) == []


@pytest.mark.parametrize(("per_beat", "steps_per_bar"), [(3, 12), (4, 16)])
def test_hats_in_triplets_are_pictured_in_triplets(per_beat, steps_per_bar):
    bpm, bars = 120.0, 16
    out = np.random.default_rng(0).standard_normal(int(bars * 2 * RATE)) * 1e-4
    hat, kick = noise_hit(0.05, 0.012, 7000, 2), kick_hit()
    for step in range(bars * 4 * per_beat):
        i = round(step * 60 / bpm / per_beat * RATE)
        sounds = [(hat, 0.3 if step % per_beat else 0.5), *([(kick, 0.8)] if step % per_beat == 0 else [])]
        for sound, gain in sounds:
            piece = sound[: len(out) - i]
            out[i : i + len(piece)] += gain * piece
    audio = Audio(both(out.astype(np.float32)), RATE)
    known = Corrections(bpm=bpm, first_downbeat_s=0.0, sections=(SectionCorrection("drop", 1, bars),))
    (pattern,) = survey_audio(audio, Source("x.wav", audio.duration_s, RATE, 2, ""), known).drums.patterns
    assert pattern.steps_per_bar == steps_per_bar
    assert all(pattern.hats)
    assert [i for i, v in enumerate(pattern.kick) if v] == list(range(0, steps_per_bar, per_beat))


def test_a_shaker_is_percussion_and_hats_are_not():
    bars, step_s = 24, 60 / 126 / 4
    plain = club_track(126.0, bars=bars)
    shaken = plain.copy()
    band = signal.butter(4, (3500, 9000), "bandpass", fs=RATE, output="sos")
    for bar in range(12, bars):
        for step in range(1, 16, 2):
            noise = np.random.default_rng(step).standard_normal(int(0.07 * RATE)) * np.hanning(int(0.07 * RATE))
            start = round((bar * 16 + step) * step_s * RATE)
            shaken[:, start : start + len(noise)] += 0.12 * signal.sosfilt(band, noise)
    source = Source("x", plain.shape[1] / RATE, RATE, 2, "")
    without, with_shaker = (survey_audio(Audio(x.astype(np.float32), RATE), source).presence.perc for x in (plain, shaken))
    assert max(without) < 0.5
    assert max(with_shaker[:12]) < 0.5
    assert min(with_shaker[12:]) >= 0.5


def test_a_band_that_is_drowned_leaves_the_backbeat_to_the_others():
    clap = np.zeros((2, 16))
    clap[:, [4, 12]] = 1.0
    drowned = clap.copy()
    # In the second bar chords rise all over the lowest band, and hide the clap there.
    drowned[1] = 1.2
    drowned[1, [4, 12]] = 0.1
    strength = _weakest([drowned, clap, clap], [4, 12])
    assert strength[:, [4, 12]] == pytest.approx(1.0)
    assert np.delete(strength, [4, 12], axis=1).max() == 0.0
    # Where the band is quiet and lacks the hit it still decides: no clap.
    silent = clap.copy()
    silent[1] = 0.0
    assert _weakest([silent, clap, clap], [4, 12])[1].max() == 0.0
