"""Patterns of the draft, and the demo references' own studio: what it says is the truth must be it."""

import random

import numpy as np
import pytest
from scipy import signal

from demo import cold_harbour_relay, ferry_at_four, synth
from ersatz.core.draft import patterns
from ersatz.core.pitch import Key
from ersatz.core.styles import BY_NAME, STYLES, kick_family

FOUR = tuple(float(i % 4 == 0) for i in range(16))


@pytest.mark.parametrize("style", STYLES, ids=lambda s: s.name)
def test_kicks_keep_the_references_steps_and_turn_around_in_the_eighth_bar(style):
    row = tuple(float(i in (0, 7, 10)) for i in range(16))
    notes = patterns.kick_pattern(style, row, random.Random(1)).notes
    bars = [{n.tick % patterns.BAR // patterns.STEP for n in notes if n.tick // patterns.BAR == bar} for bar in range(8)]
    assert all(steps == {0, 7, 10} for steps in bars[:7])
    assert bars[7] > bars[0]


def test_a_row_that_is_no_pattern_falls_back_to_the_style():
    notes = patterns.kick_pattern(BY_NAME["tech-house"], (0.0,) * 16, random.Random(1)).notes
    assert {n.tick % patterns.BAR // patterns.STEP for n in notes if n.tick < patterns.BAR} == {0, 4, 8, 12}


@pytest.mark.parametrize(
    ("row", "bpm", "family"),
    [(FOUR, 125, "four"), ((1,) + (0,) * 9 + (1,) + (0,) * 5, 174, "two-step"), ((1, 0, 0, 1) + (0,) * 12, 130, "broken"),
     ((1,) + (0,) * 15, 85, "half"), ((0,) * 16, 125, "four")],
)  # fmt: skip
def test_kick_families(row, bpm, family):
    assert kick_family(row, bpm) == family


@pytest.mark.parametrize("mode", ["minor", "major"])
@pytest.mark.parametrize("seed", range(6))
def test_the_references_own_progression_is_never_taken(mode, seed):
    style, key = BY_NAME["disco-house"], Key("Bb", mode)
    for reference in patterns.PROGRESSIONS["four", mode]:
        for turn in range(4):
            turned = reference[turn:] + reference[:turn]
            assert patterns.progression(style, key, turned, random.Random(seed)) != reference


@pytest.mark.parametrize("style", STYLES, ids=lambda s: s.name)
def test_bass_lines_stay_low_and_follow_the_roots(style):
    key = Key("Eb", "minor")
    pattern = patterns.bass_pattern(style, key, (0, 3, 5, 4), 31, random.Random(4))
    assert all(24 <= n.midi <= 62 for n in pattern.notes)
    for bar, degree in enumerate((0, 3, 5, 4)):
        first = next(n for n in pattern.notes if n.tick // patterns.BAR == bar)
        assert first.midi % 12 in key.pitch_classes
        classes = [n.midi % 12 for n in pattern.notes if n.tick // patterns.BAR == bar]
        assert key.degree_midi(degree, 31) % 12 in classes


def test_notes_never_overrun_their_pattern():
    rng = random.Random(5)
    made = [patterns.closed_hats(rng), patterns.shaker(rng), patterns.rims(rng), patterns.open_hats(BY_NAME["grime"])]
    for pattern in made:
        assert [n.tick for n in pattern.notes] == sorted(n.tick for n in pattern.notes)
        assert max(n.tick for n in pattern.notes) < pattern.bars * patterns.BAR


@pytest.mark.parametrize("module", [ferry_at_four, cold_harbour_relay])
def test_the_demos_ducking_curves_fall_at_once_and_come_back(module):
    assert module.CURVE[0] == 0
    assert module.CURVE[1] == 1
    assert (np.diff(module.CURVE[1:]) <= 1e-9).all()
    assert module.CURVE[-1] == pytest.approx(0, abs=1e-6)
    assert (np.diff(module.CURVE_S) > 0).all()
    assert module.CURVE_S[-1] <= 60 / module.BPM


def test_the_demos_ducker_pulls_down_by_what_the_truth_says():
    triggers = [(1000, 9.0), (30_000, 3.0)]
    gain = synth.duck_gain(60_000, triggers, ferry_at_four.CURVE_S, ferry_at_four.CURVE)
    assert 20 * np.log10(gain[:29_000].min()) == pytest.approx(-9, abs=0.05)
    assert 20 * np.log10(gain[30_000:].min()) == pytest.approx(-3, abs=0.05)
    assert gain[:1000].min() == 1


def test_the_demos_meter_and_ours_agree():
    from ersatz.core.loudness import integrated_lufs, step_energy

    noise = np.random.default_rng(1).standard_normal((2, synth.RATE_HZ * 12)) * 0.1
    ours = integrated_lufs(step_energy(noise.astype(np.float32), synth.RATE_HZ))
    assert synth.loudness_lufs(noise) == pytest.approx(ours, abs=0.05)


def test_the_demos_master_reaches_its_loudness():
    rng = np.random.default_rng(2)
    music = rng.standard_normal((2, synth.RATE_HZ * 15)) * np.repeat(rng.random(150), synth.RATE_HZ // 10) * 0.1
    assert synth.loudness_lufs(synth.master(music, -9.0)) == pytest.approx(-9.0, abs=0.1)


def test_the_demos_kick_has_the_fundamental_that_the_truth_names():
    hit = synth.kick(51.9, 0.34, 210, np.random.default_rng(3))
    tail = hit[int(0.08 * synth.RATE_HZ) : int(0.3 * synth.RATE_HZ)]
    spectrum = np.abs(np.fft.rfft(tail * signal.windows.hann(len(tail)), 1 << 18))
    assert np.argmax(spectrum) * synth.RATE_HZ / (1 << 18) == pytest.approx(51.9, rel=0.02)


@pytest.mark.parametrize("module", [ferry_at_four, cold_harbour_relay])
def test_section_truths_follow_each_other(module):
    rows = ferry_at_four._section_truth(module.SECTIONS, module.BPM, 0.4)
    assert rows[0]["start_s"] == 0.4
    for a, b in zip(rows, rows[1:]):  # noqa: RUF007
        assert b["start_bar"] == a["start_bar"] + a["bars"]
        assert b["start_s"] == pytest.approx(a["end_s"], abs=1e-3)
