"""Half of a song's bars stand for all of them while it is matched."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ersatz.core.balance.excerpt import SHORT_BARS, excerpt_of, mixed_in, whole
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
def test_every_bar_is_heard_for_by_the_nearest_one_of_its_phrase(song, lengths):
    # Long enough not to be heard whole.
    lengths = [*lengths, SHORT_BARS]
    excerpt = excerpt_of(of_sections(song, lengths))
    assert list(excerpt.bars) == sorted(set(excerpt.bars)) and len(excerpt.heard_for) == sum(lengths)
    begin = 0
    for bars in lengths:
        for first in range(begin, begin + bars, PHRASE_BARS):
            phrase = range(first, min(first + PHRASE_BARS, begin + bars))
            own = [b for b in excerpt.bars if b in phrase]
            assert len(own) == min(2, len(phrase))
            for bar in phrase:
                assert excerpt.heard_for[bar] in own
                assert abs(excerpt.heard_for[bar] - bar) == min(abs(b - bar) for b in own)
        begin += bars


def test_phrases_are_heard_in_their_middle_and_at_their_ends_in_turn(song):
    excerpt = excerpt_of(of_sections(song, [64, 8]))
    assert excerpt.bars[:8] == (1, 2, 4, 7, 9, 10, 12, 15) and excerpt.bars[-4:] == (65, 66, 68, 71)


def test_short_songs_are_heard_whole(song):
    short = of_sections(song, [32, 32])
    assert excerpt_of(short) == whole(short) and excerpt_of(of_sections(song, [32, 33])) != whole(of_sections(song, [32, 33]))


@pytest.mark.parametrize("bpm", [121.0, 133.7])
def test_what_is_measured_is_laid_out_over_the_song(song, bpm):
    excerpt, bars = excerpt_of(of_sections(song, [57, 7, 3])), Bars(BarGrid(bpm))
    # Every bar of the excerpt sounds at a level of its own.
    heard = np.repeat(np.array(excerpt.bars, float), excerpt.lengths(bars))
    by_step = heard[: len(heard) // STEP * STEP].reshape(-1, STEP).mean(axis=1)
    laid_out = by_step[excerpt.steps(bars)]
    assert len(laid_out) in (bars.edge(67) // STEP, bars.edge(67) // STEP + 1)
    middles = (np.arange(len(laid_out)) + 0.5) * STEP
    for bar in range(67):
        inside = (middles > bars.edge(bar) + 2 * STEP) & (middles < bars.edge(bar + 1) - 2 * STEP)
        assert inside.sum() >= 12
        assert laid_out[inside] == pytest.approx(excerpt.heard_for[bar], abs=1e-9)


def test_all_bars_are_laid_out_as_they_are(song):
    bars = Bars(BarGrid(121.0))
    steps = whole(of_sections(song, [8])).steps(bars)
    assert np.abs(steps - np.arange(len(steps))).max() <= 1


@pytest.fixture(scope="module")
def mixdown(song):
    """Of a song that is too long to be heard whole: its sections come three times."""
    turns = ("", "again", "more")
    sections = tuple(replace(s, id=s.id + turn) for turn in turns for s in song.sections)
    parts = tuple(
        replace(p, cells=tuple(replace(c, section=c.section + turn) for turn in turns for c in p.cells)) for p in song.parts
    )
    return Mixdown(replace(song, sections=sections, parts=parts, transitions=()), RenderCache())


def test_a_song_is_as_loud_and_peaks_as_high_by_its_excerpt(mixdown):
    all_of_it = mixdown.mix(0, mixdown.bars.edge(mixdown.song.bars))
    mixed = mixed_in(mixdown, quiet)
    assert mixed.samples.shape[1] < 0.6 * all_of_it.shape[1]
    lufs = integrated_lufs(mixed.energies(mixed.samples))
    assert lufs == pytest.approx(integrated_lufs(step_energy(all_of_it, RATE_HZ)), abs=0.15)
    peaks = mixed.peaks_db(mixed.samples)
    assert peaks.max() == pytest.approx(20 * np.log10(np.abs(all_of_it).max()), abs=1.0)
    assert len(peaks) == len(mixed.energies(mixed.samples))
    # Bars of the excerpt are those of the mix.
    bar = mixed.excerpt.bars[5] + 1
    start, stop = mixdown.bar_range(bar, bar)
    np.testing.assert_array_equal(mixed.bar(mixed.samples, bar), all_of_it[:, start:stop])


def test_levels_of_phrases_are_taken_without_rendering(mixdown):
    song = mixdown.song
    moved = replace(song, sections=tuple(replace(s, levels_db=(-2.0, 1.5, 0.5)) for s in song.sections))
    mixed = mixed_in(mixdown, quiet)
    foreseen, rendered = mixed.with_levels_of(moved), mixed_in(mixdown.varied(moved), quiet)
    # But for the ramps at the ends of bars.
    np.testing.assert_allclose(foreseen.energies(foreseen.samples), rendered.energies(rendered.samples), rtol=0.1, atol=1e-7)
    assert foreseen.mixdown.song == moved
