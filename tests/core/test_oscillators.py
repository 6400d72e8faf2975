"""Oscillators against their series: harmonics where they belong, nothing where they don't."""

from __future__ import annotations

import numpy as np
import pytest

from ersatz.core.voices import oscillators as osc

RATE = 44_100
N = 1 << 16


def spectrum_db(x: np.ndarray) -> np.ndarray:
    """Levels per bin against the strongest; a window whose side lobes lie under -130 dB."""
    window = np.kaiser(len(x), 22)
    magnitude = np.abs(np.fft.rfft(x * window))
    return 20 * np.log10(magnitude / magnitude.max() + 1e-12)


def phases(increments):
    """In cycles; the first is 0."""
    return np.cumsum(increments) - increments[0]


def steady(hz: float, n: int = N) -> np.ndarray:
    return np.full(n, hz / RATE)


def alias_db(x: np.ndarray, hz: float) -> float:
    """The strongest component that is no harmonic, against the strongest of all."""
    level = spectrum_db(x)
    bins = np.arange(len(level)) * RATE / len(x)
    near = np.abs(bins / hz - np.round(bins / hz)) * hz < 24 * RATE / len(x)
    near |= bins < 24 * RATE / len(x)
    return float(level[~near].max())


@pytest.mark.parametrize("hz", [55.3, 440.7, 1661.2, 5000.3, 9956.1])
@pytest.mark.parametrize("wave", ["saw", "triangle", "pulse"])
def test_aliases_lie_80_db_under_the_fundamental(wave, hz):
    if wave == "pulse":
        x = osc.pulse(steady(hz), 0.27)
    else:
        x = osc.oscillate(osc.saw_tables() if wave == "saw" else osc.triangle_tables(), steady(hz))
    assert alias_db(x, hz) < -80


def test_a_saw_has_harmonics_of_one_over_k():
    hz = 64 * RATE / N * 4
    magnitude = np.abs(np.fft.rfft(osc.oscillate(osc.saw_tables(), steady(hz)))) / (N / 2)
    k = np.arange(1, 40)
    assert magnitude[256 * k] == pytest.approx(2 / np.pi / k, rel=1e-3)


def test_a_triangle_has_odd_harmonics_of_one_over_k_squared():
    hz = 256 * RATE / N
    magnitude = np.abs(np.fft.rfft(osc.oscillate(osc.triangle_tables(), steady(hz)))) / (N / 2)
    assert magnitude[256 * np.array([1, 3, 5, 7])] == pytest.approx(8 / np.pi**2 / np.array([1, 9, 25, 49]), rel=1e-3)
    assert magnitude[256 * np.array([2, 4, 6])].max() < 1e-6


def test_shapes_swing_between_minus_one_and_one():
    low = steady(30.0)
    saw, triangle = osc.oscillate(osc.saw_tables(), low), osc.oscillate(osc.triangle_tables(), low)
    # Gibbs' overshoot belongs to a band-limited jump: nine per cent of it.
    assert np.abs(saw).max() == pytest.approx(1.18, abs=0.02)
    assert np.abs(triangle).max() == pytest.approx(1.0, abs=0.01)
    assert saw[RATE // 60 : RATE // 60 + 300].mean() > saw[200:500].mean()


def test_a_pulse_of_half_width_is_a_square():
    hz = 256 * RATE / N
    magnitude = np.abs(np.fft.rfft(osc.pulse(steady(hz), 0.5))) / (N / 2)
    assert magnitude[256 * np.array([1, 3, 5])] == pytest.approx(4 / np.pi / np.array([1, 3, 5]), rel=1e-3)
    assert magnitude[256 * np.array([2, 4])].max() < 1e-6


def test_a_pulse_is_up_for_its_width():
    x = osc.pulse(steady(20.0), 0.2)
    assert np.mean(x > 0) == pytest.approx(0.2, abs=0.01)
    assert np.median(x[x > 0]) - np.median(x[x < 0]) == pytest.approx(2.0, abs=0.02)


def test_the_bandwidth_follows_a_glide():
    hz = np.geomspace(200, 9000, N)
    x = osc.oscillate(osc.saw_tables(), hz / RATE)
    # A saw that kept its harmonics while it rises would fold them down under the fundamental.
    end = x[-8192:]
    level = spectrum_db(end)
    bins = np.arange(len(level)) * RATE / len(end)
    assert level[bins < 4500].max() < -70


def test_a_mip_map_gives_the_cycle_back_at_low_pitch():
    t = np.arange(2048) / 2048
    cycle = np.sin(2 * np.pi * t) + 0.4 * np.sin(2 * np.pi * 7 * t + 1.0)
    tables = osc.mip_map(cycle)
    assert tables.shape == (osc.LEVELS, osc.TABLE + osc.GUARDS)
    assert tables[0][1:-3:2] == pytest.approx(cycle, abs=1e-6)
    # The narrowest level holds the fundamental alone.
    assert tables[-1][1:-3:2] == pytest.approx(np.sin(2 * np.pi * t), abs=1e-6)


def test_morphing_goes_from_one_cycle_to_the_next():
    t = np.arange(2048) / 2048
    frames = np.stack([osc.mip_map(np.sin(2 * np.pi * t)), osc.mip_map(np.sin(2 * np.pi * 2 * t))])
    rise = steady(110.0)
    first, last = osc.morph(frames, rise, 0.0), osc.morph(frames, rise, 1.0)
    assert osc.morph(frames, rise, 0.25) == pytest.approx(0.75 * first + 0.25 * last, abs=1e-6)
    assert first == pytest.approx(np.sin(2 * np.pi * phases(rise)), abs=1e-6)


def test_phase_modulation_of_a_sine_has_bessel_sidebands():
    carrier, modulator, index = 256 * 8 * RATE / N, 256 * RATE / N, 1.0
    sine = osc.mip_map(np.sin(2 * np.pi * np.arange(2048) / 2048))
    wave = index / (2 * np.pi) * np.sin(2 * np.pi * phases(steady(modulator)))
    magnitude = np.abs(np.fft.rfft(osc.oscillate(sine, steady(carrier), phase_modulation=wave))) / (N / 2)
    # J0(1), J1(1), J2(1); Chowning 1973.
    assert magnitude[256 * np.array([8, 9, 10])] == pytest.approx([0.7652, 0.4401, 0.1149], abs=1e-3)


@pytest.mark.parametrize("voices", [1, 7, 16])
def test_a_unison_has_the_power_of_one_voice(voices):
    rng = np.random.default_rng(2)
    cents, pans = np.linspace(-15, 15, voices), np.linspace(-1, 1, voices) if voices > 1 else np.zeros(1)
    out = osc.unison(osc.saw_tables(), steady(220.0, 4 * N), cents, rng.random(voices), pans)
    one = osc.oscillate(osc.saw_tables(), steady(220.0))
    assert np.square(out).sum(axis=0).mean() == pytest.approx(np.square(one).mean(), rel=0.25)


def test_a_detune_that_stands_does_what_so_many_cents_do():
    cents, starts, pans = np.linspace(-9, 9, 5), np.linspace(0, 0.8, 5), np.linspace(-1, 1, 5)
    for hz in (220.0, 200.0 * 2 ** (np.arange(N) / N)):
        scaled = osc.unison(osc.saw_tables(), steady(hz), 1.5 * cents, starts, pans)
        moved = osc.unison(osc.saw_tables(), steady(hz), cents, starts, pans, detune=np.full(N, 1.5))
        np.testing.assert_allclose(moved, scaled, atol=2e-6)


def test_a_pulse_is_the_difference_of_two_saws_also_where_their_table_changes():
    rise, width = steady(200.0 * 4 ** (np.arange(N) / N)), np.linspace(0.2, 0.7, N)
    saw, late = (osc.oscillate(osc.saw_tables(), rise, phase_modulation=by) for by in (np.zeros(N), -width))
    later = osc.TABLE_FADE
    sharp = np.abs(osc.pulse(rise, width) - (late - saw))
    # A phase that is modulated doesn't fade from table to table.
    assert np.quantile(sharp[later:], 0.9) < 1e-4
    assert sharp.max() < 0.2


def test_a_glide_fades_from_table_to_table_wherever_in_the_note_it_lies():
    held, glide = np.full(osc.TILE, 300.0), 300.0 * 2.0 ** np.clip((np.arange(2048) - 40) / 100, 0, 4)
    early = osc.oscillate(osc.saw_tables(), glide / RATE)
    late = osc.oscillate(osc.saw_tables(), np.concatenate([held, glide]) / RATE, start=-osc.TILE * 300.0 / RATE)
    np.testing.assert_allclose(early, late[osc.TILE :], atol=1e-5)


def test_a_unison_of_too_many_voices_is_refused():
    with pytest.raises(ValueError, match="16"):
        osc.unison(osc.saw_tables(), steady(220.0, 64), np.zeros(17), np.zeros(17), np.zeros(17))


@pytest.mark.parametrize("colour", osc.COLOURS)
def test_noise_falls_as_its_colour_says(colour):
    x = osc.noise(1 << 18, colour, np.random.default_rng(4))
    power = np.square(np.abs(np.fft.rfft(x)))
    octaves = [power[1 << k : 1 << (k + 1)].mean() for k in range(10, 17)]
    slope = np.polyfit(np.arange(len(octaves)), 10 * np.log10(octaves), 1)[0]
    assert slope == pytest.approx(osc.COLOURS[colour], abs=0.1)
    assert np.mean(np.square(x)) == pytest.approx(1.0)


@pytest.mark.parametrize("wave", ["saw", "pulse"])
def test_a_glide_passes_from_table_to_table_without_a_click(wave):
    """What lies above all harmonics and between them in a slow glide: a click is heard there."""
    rise = np.geomspace(3000, 3300, 1 << 16) / RATE
    x = osc.oscillate(osc.saw_tables(), rise) if wave == "saw" else osc.pulse(rise, 0.4)
    # Under the fundamental a glide of harmonics has nothing.
    low = np.fft.irfft(np.fft.rfft(x * np.hanning(len(x))) * (np.fft.rfftfreq(len(x), 1 / RATE) < 2000), len(x))
    assert 20 * np.log10(np.abs(low).max() / np.abs(x).max()) < -75
