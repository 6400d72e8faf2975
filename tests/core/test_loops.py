"""A loop's own tempo and key: made of a known number of beats in a known key."""

import numpy as np
import pytest

from ersatz.core.audio import Audio
from ersatz.core.errors import UnusableAudio
from ersatz.core.pitch import Key
from ersatz.core.survey.loops import measure_loop, semitones_into
from tests.signals import RATE


def loop(bpm, beats, root=220.0):
    """Kicks on the beats, noise on the off-beats, a minor triad that is held under them."""
    n = round(beats * 60 / bpm * RATE)
    t, rng = np.arange(n) / RATE, np.random.default_rng(3)
    x = sum(0.12 * np.sin(2 * np.pi * root * 2 ** (k / 12) * t) for k in (0, 3, 7, 12))
    for k in range(2 * beats):
        start = round(k * 30 / bpm * RATE)
        hit = np.arange(min(9000, n - start))
        if k % 2 == 0:
            x[start : start + len(hit)] += 0.8 * np.sin(2 * np.pi * 55 * hit / RATE) * np.exp(-hit / 2500)
        else:
            x[start : start + len(hit)] += 0.2 * rng.standard_normal(len(hit)) * np.exp(-hit / 900)
    return Audio(np.stack([x, x]).astype(np.float32) * 0.7, RATE)


@pytest.mark.parametrize("bpm, beats", [(124.0, 8), (128.0, 16), (140.0, 8), (96.0, 4), (172.0, 16)])
def test_a_loop_lasts_its_number_of_beats(bpm, beats):
    found = measure_loop(loop(bpm, beats))
    assert found.beats == beats
    assert found.bpm == pytest.approx(bpm, rel=1e-3)


def test_its_key_is_that_of_its_chord():
    assert str(measure_loop(loop(125.0, 8, 220.0)).key) == "A minor"


def test_noise_and_a_tone_have_no_beat():
    rng, t = np.random.default_rng(0), np.arange(4 * RATE) / RATE
    for x in (0.1 * rng.standard_normal(4 * RATE), 0.3 * np.sin(2 * np.pi * 220 * t)):
        assert measure_loop(Audio(np.stack([x, x]).astype(np.float32), RATE)).beats == 0


def test_what_is_no_loop_is_said():
    for audio in (loop(120.0, 1), Audio(np.zeros((2, 4 * RATE), np.float32), RATE)):
        with pytest.raises(UnusableAudio):
            measure_loop(Audio(audio.samples[:, : RATE // 2], RATE) if audio.samples.any() else audio)


@pytest.mark.parametrize("key, song, by", [
    (Key("A", "minor"), Key("Bb", "minor"), 1), (Key("C", "major"), Key("A", "minor"), 0),
    (Key("A", "minor"), Key("C", "major"), 0), (Key("F#", "minor"), Key("C", "minor"), -6),
    (Key("B", "minor"), Key("A", "minor"), -2), (Key("D", "major"), Key("A", "minor"), -2),
])  # fmt: skip
def test_the_way_into_a_key_is_the_shortest(key, song, by):
    assert semitones_into(key, song) == by
    # Every note of the one scale becomes one of the other.
    assert {(c + by) % 12 for c in key.pitch_classes} == set(song.pitch_classes)
