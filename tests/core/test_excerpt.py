"""Half of a song's bars stand for all of them while it is matched."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.balance.excerpt import excerpt_of, mixed_in, whole
from ersatz.core.grid import BarGrid
from ersatz.core.loudness import STEP_S, integrated_lufs, step_energy
from ersatz.core.mixdown.bars import RATE_HZ, Bars
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import PHRASE_BARS, SongSection

STEP = round(STEP_S * RATE_HZ)


def quiet(fraction):
    pass


def of_sections(song, lengths):
    return replace(song, parts=(), sections=tuple(SongSection(f"s{k}", "drop", bars) for k, bars in enumerate(lengths)))


@given(st.lists(st.integers(1, 40), min_size=1, max_size=6))
def test_every_bar_is_heard_for_by_the_nearest_one_of_its_section(song, lengths):
    excerpt = excerpt_of(of_sections(song, lengths))
    assert list(excerpt.bars) == sorted(set(excerpt.bars)) and len(excerpt.heard_for) == sum(lengths)
    assert len(excerpt.bars) <= sum(max(2, bars / 2) for bars in lengths)
    begin = 0
    for bars in lengths:
        own = [b for b in excerpt.bars if begin <= b < begin + bars]
        for bar in range(begin, begin + bars):
            assert abs(excerpt.heard_for[bar] - bar) == min(abs(b - bar) for b in own)
        begin += bars


def test_phrases_of_four_bars_are_heard_in_their_middle(song):
    excerpt = excerpt_of(of_sections(song, [16, 8, 32]))
    assert {bar % PHRASE_BARS for bar in excerpt.bars} == {1, 2} and len(excerpt.bars) == 28
    assert all(bar // PHRASE_BARS == heard // PHRASE_BARS for bar, heard in enumerate(excerpt.heard_for))


@pytest.mark.parametrize("bpm", [121.0, 133.7])
def test_what_is_measured_is_laid_out_over_the_song(song, bpm):
    excerpt, bars = excerpt_of(of_sections(song, [16, 7, 3])), Bars(BarGrid(bpm))
    # Every bar of the excerpt sounds at a level of its own.
    heard = np.repeat(np.array(excerpt.bars, float), excerpt.lengths(bars))
    by_step = heard[: len(heard) // STEP * STEP].reshape(-1, STEP).mean(axis=1)
    laid_out = by_step[excerpt.steps(bars)]
    assert len(laid_out) in (bars.edge(26) // STEP, bars.edge(26) // STEP + 1)
    middles = (np.arange(len(laid_out)) + 0.5) * STEP
    for bar in range(26):
        inside = (middles > bars.edge(bar) + 2 * STEP) & (middles < bars.edge(bar + 1) - 2 * STEP)
        assert inside.sum() >= 12
        assert laid_out[inside] == pytest.approx(excerpt.heard_for[bar], abs=1e-9)


def test_all_bars_are_laid_out_as_they_are(song):
    bars = Bars(BarGrid(121.0))
    steps = whole(of_sections(song, [8])).steps(bars)
    assert np.abs(steps - np.arange(len(steps))).max() <= 1


@pytest.fixture(scope="module")
def mixdown(song):
    return Mixdown(song, RenderCache())


@pytest.mark.xdist_group("excerpt")
def test_a_song_is_as_loud_and_peaks_as_high_by_its_excerpt(mixdown):
    all_of_it = mixdown.mix(0, mixdown.bars.edge(mixdown.song.bars))
    mixed = mixed_in(mixdown, quiet)
    lufs = integrated_lufs(mixed.energies(mixed.samples))
    assert lufs == pytest.approx(integrated_lufs(step_energy(all_of_it, RATE_HZ)), abs=0.3)
    peaks = mixed.peaks_db(mixed.samples)
    assert peaks.max() <= 20 * np.log10(np.abs(all_of_it).max()) + 1e-3
    assert len(peaks) == len(mixed.energies(mixed.samples))
    # Bars of the excerpt are those of the mix.
    first, last = mixed.excerpt.bars[0] + 1, mixed.excerpt.bars[1] + 1
    start, stop = mixdown.bar_range(first, last)
    np.testing.assert_array_equal(mixed.part_of(mixed.samples, first, last), all_of_it[:, start:stop])


@pytest.mark.xdist_group("excerpt")
def test_levels_of_phrases_are_taken_without_rendering(mixdown):
    song = mixdown.song
    moved = replace(song, sections=tuple(replace(s, levels_db=(-2.0, 1.5, 0.5)) for s in song.sections))
    mixed = mixed_in(mixdown, quiet)
    foreseen, rendered = mixed.with_levels_of(moved), mixed_in(mixdown.varied(moved), quiet)
    # But for the ramps at the ends of bars.
    np.testing.assert_allclose(foreseen.energies(foreseen.samples), rendered.energies(rendered.samples), rtol=0.1, atol=1e-7)
    assert foreseen.mixdown.song == moved
