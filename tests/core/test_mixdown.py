"""The render graph: pieces equal the whole, the same song gives the same samples, the master keeps its promises."""

import io
import zipfile
from dataclasses import replace

import numpy as np
import pytest
import soundfile

from ersatz.core.dsp import filters
from ersatz.core.edits import SwitchPart
from ersatz.core.effects import echo, eq, limiter, space
from ersatz.core.effects.ducking import duck_curve_db
from ersatz.core.exchange.stems import READ_ME, write_stems
from ersatz.core.loudness import integrated_lufs, step_energy, true_peak_dbtp
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import HEADROOM_DB, RATE_HZ, Mixdown, stems
from ersatz.core.mixdown.schedule import duck_triggers, schedule_part, sounding_notes
from ersatz.core.song.document import DUCK_POINTS, PUMP, DuckCurve, EqBand, SongSection, Transition
from ersatz.core.song.parts import Groove, Sound
from ersatz.core.song.strips import Duck, ducked
from ersatz.core.voices import VOICES, render_note
from ersatz.core.voices.spec import Played

#: Some stretch that ends inside a bar.
PIECE = 65_000


@pytest.fixture(scope="module")
def short(song):
    """Eight bars with everything on and ducking."""
    sections = (SongSection("s1", "drop", 8),)
    parts = tuple(replace(p, cells=tuple(replace(c, section="s1", on=True, entry_bars=0, exit_bars=0) for c in p.cells[:1]),
                          duck=ducked(PUMP, 6.0 if p.role in ("bass", "chords") else 0.0)) for p in song.parts)  # fmt: skip
    return replace(song, sections=sections, parts=parts, transitions=(), master=replace(song.master, gain_db=6.0))


@pytest.fixture(scope="module")
def whole(short):
    mixdown = Mixdown(short)
    return mixdown.samples(0, mixdown.frames)


def test_bars_rendered_alone_equal_the_same_bars_of_the_whole(short, whole):
    for first, last in ((1, 1), (3, 5), (8, 8)):
        mixdown = Mixdown(short, RenderCache())
        start, stop = mixdown.bar_range(first, last)
        np.testing.assert_array_equal(mixdown.samples(start, stop), whole[:, start:stop])


def test_the_same_song_gives_the_same_samples(short, whole):
    mixdown = Mixdown(short, RenderCache())
    np.testing.assert_array_equal(mixdown.samples(0, PIECE), whole[:, :PIECE])


def test_stems_sum_to_the_mix_before_the_master(short):
    mixdown = Mixdown(short)
    start, stop = mixdown.bar_range(2, 4)
    parts = {strip.id: samples for strip, samples in stems(mixdown, start, stop)}
    assert set(parts) == {p.id for p in short.parts} | {"return:reverb", "return:delay"}
    np.testing.assert_allclose(sum(parts.values()), mixdown.mix(start, stop), atol=1e-5)


def test_an_archive_of_stems_holds_all_of_them_a_known_bit_quieter(short, tmp_path):
    mixdown = Mixdown(short)
    write_stems(mixdown, tmp_path / "stems.zip")
    with zipfile.ZipFile(tmp_path / "stems.zip") as archive:
        files = [soundfile.read(io.BytesIO(archive.read(n)), dtype="float32")[0].T for n in archive.namelist() if n != READ_ME]
    np.testing.assert_allclose(sum(files) * 10 ** (HEADROOM_DB / 20), mixdown.mix(0, mixdown.frames), atol=1e-4)


def test_a_render_through_the_disk_is_the_same(short, whole, tmp_path):
    Mixdown(short, RenderCache(tmp_path)).samples(0, PIECE)
    second = RenderCache(tmp_path)
    np.testing.assert_array_equal(Mixdown(short, second).samples(0, PIECE), whole[:, :PIECE])
    assert second.computed == 0 or second.computed < 10


def test_a_part_off_in_one_section_changes_only_what_it_touches(song):
    cache = RenderCache()
    mixdown = Mixdown(song, cache)
    last = list(song.placed())[-1]
    edited = Mixdown(SwitchPart("kick", last[1].id, not song.part("kick").cell(last[1].id).on).apply(song), cache)
    start, stop = mixdown.bar_range(1, 1)
    before = mixdown.samples(start, stop)
    computed = cache.computed
    np.testing.assert_array_equal(edited.samples(start, stop), before)
    assert cache.computed == computed


def test_trying_a_master_on_a_mix_equals_rendering_with_it(short, whole):
    mixdown = Mixdown(short)
    mix = mixdown.mix(0, mixdown.frames)
    np.testing.assert_allclose(mixdown.limited(mixdown.toned(mix, short.master), short.master), whole, atol=2e-7)


def test_the_ceiling_holds_at_true_peak(short):
    hot = replace(short, master=replace(short.master, gain_db=24.0, ceiling_dbtp=-1.0))
    samples = Mixdown(hot).samples(0, PIECE * 3)
    # The cut at the end is a step of its own, with overshoot of its own: faded, so that the limiter alone is judged.
    samples[:, -400:] *= np.linspace(1, 0, 400, dtype=np.float32)
    assert true_peak_dbtp(samples, RATE_HZ) <= -0.95


def test_stereo_is_mono_below_the_masters_cut(short, whole):
    side = filters.cascade(eq.high_cut(50, RATE_HZ, 4), whole[0] - whole[1])
    mid = filters.cascade(eq.high_cut(50, RATE_HZ, 4), whole[0] + whole[1])
    assert np.square(side).sum() < 1e-3 * np.square(mid).sum()


def test_a_gap_is_silent_for_notes(short):
    gapped = replace(short, transitions=(Transition("t1", "gap", "s1", 2.0),))
    end = gapped.grid.ticks_of_bar(9)
    for part in gapped.parts:
        assert all(n.end <= end - 2 * 960 + (gapped.swing_percent - 50) / 100 * 480 for n in sounding_notes(gapped, part))
    assert duck_triggers(gapped, gapped.curves[0], RATE_HZ).max() < gapped.grid.sample_of_ticks(end - 2 * 960, RATE_HZ)


def test_swing_delays_odd_sixteenths_only(short):
    hats = replace(short.part("hats"), groove=Groove())
    straight = schedule_part(replace(short, swing_percent=50.0), hats, RATE_HZ)
    swung = schedule_part(replace(short, swing_percent=56.0), hats, RATE_HZ)
    moved = {s.start - a.start for a, s in zip(straight, swung)}
    late = round(0.06 * short.grid.beat_s / 2 * RATE_HZ)
    assert moved <= {0, late - 1, late, late + 1}
    assert len(moved) > 1


def test_a_phrase_has_its_level_up_to_the_bar_line(short):
    levelled = replace(short, sections=(replace(short.sections[0], levels_db=(-6.0,)),))
    part = levelled.part("kick")
    start, stop = Mixdown(levelled).bar_range(2, 6)
    loud, soft = (Mixdown(s).solo(part, start, stop) for s in (short, levelled))
    middle = Mixdown(levelled).bar_range(5, 5)[0] - start
    np.testing.assert_allclose(soft[:, : middle - 1000], loud[:, : middle - 1000] * 10 ** (-6 / 20), rtol=1e-5, atol=1e-7)
    np.testing.assert_allclose(soft[:, middle:], loud[:, middle:], rtol=1e-5, atol=1e-7)


def test_ducking_pulls_the_part_down_by_its_depth(short):
    pad = replace(short.part("pad"), duck=Duck("square", 12.0))
    square = DuckCurve("square", "Square", "1/4", tuple([1.0] * 16 + [0.0] * (DUCK_POINTS - 16)))
    deep = replace(short, parts=(pad,), curves=(*short.curves, square))
    open_ = replace(deep, parts=(replace(pad, duck=None),))
    a = Mixdown(deep).solo(deep.parts[0], 0, PIECE)
    b = Mixdown(open_).solo(open_.parts[0], 0, PIECE)
    at = int(0.1 * short.grid.beat_s * RATE_HZ) + short.grid.sample_of_ticks(960, RATE_HZ)
    assert np.abs(a[:, at]).max() == pytest.approx(np.abs(b[:, at]).max() * 10 ** (-12 / 20), rel=1e-3)


def test_the_duck_curve_is_the_same_in_any_piece():
    triggers = np.arange(0, 200_000, 22_050)
    shape = np.linspace(1, 0, DUCK_POINTS)
    whole = duck_curve_db(0, 100_000, triggers, shape, 22_050.0)
    np.testing.assert_array_equal(whole[40_000:60_000], duck_curve_db(40_000, 20_000, triggers, shape, 22_050.0))
    assert whole.max() <= 1.0
    assert np.abs(np.diff(whole)).max() < 0.02


def test_the_limiter_never_exceeds_its_gain_and_leaves_soft_music_alone():
    rng = np.random.default_rng(2)
    soft = (rng.standard_normal((2, 20_000)) * 0.05).astype(np.float32)
    np.testing.assert_allclose(limiter.limit(soft, -1.0), soft, atol=1e-12)
    loud = soft.copy()
    loud[:, 10_000] = 3.0
    out = limiter.limit(loud, -1.0)
    assert np.abs(out).max() <= 10 ** (-1 / 20)
    np.testing.assert_allclose(out[:, : 10_000 - limiter.LOOK_AHEAD - 1], soft[:, : 10_000 - limiter.LOOK_AHEAD - 1], atol=1e-12)


def test_the_clipper_is_linear_under_its_knee_and_bounded_above():
    quiet = (np.random.default_rng(4).standard_normal((2, 4000)) * 0.1).astype(np.float32)
    np.testing.assert_array_equal(limiter.soft_clip(quiet), quiet)
    tone = 2.0 * np.sin(2 * np.pi * 100 * np.arange(8000) / RATE_HZ)
    clipped = limiter.soft_clip(np.stack([tone, tone]))
    assert 1.0 < np.abs(clipped).max() < 1.35


def test_a_bell_has_its_gain_at_its_centre():
    response = eq.response_db(eq.bell(EqBand(500.0, 6.0, 1.5), RATE_HZ)[None], np.array([500.0, 20.0, 15_000.0]), RATE_HZ)
    assert response[0] == pytest.approx(6.0, abs=0.05)
    assert np.abs(response[1:]).max() < 0.15


@pytest.mark.parametrize("decay_s", [0.8, 2.0, 4.0])
def test_the_reverb_decays_in_its_time(decay_s):
    response = space.reverb_response(space.Reverb(decay_s=decay_s, pre_delay_ms=0.0), RATE_HZ)
    middle = filters.cascade(eq.low_cut(1200, RATE_HZ), filters.cascade(eq.high_cut(3500, RATE_HZ), response[0]))
    energy = np.cumsum(np.square(middle)[::-1])[::-1]
    level = 10 * np.log10(energy / energy[0])
    fall = np.flatnonzero(level < -35)[0] - np.flatnonzero(level < -5)[0]
    assert 2 * fall / RATE_HZ == pytest.approx(decay_s, rel=0.1)


def test_echoes_stand_on_the_grid():
    step = 3 * 60 / 120 / 4 * RATE_HZ
    impulse = np.zeros((2, 4 * RATE_HZ))
    impulse[:, 0] = 1.0
    response = echo.alternating(impulse, step, 0.5, 20, 18_000, RATE_HZ)
    for k in (1, 2, 3):
        near = np.abs(response[:, int(k * step) - 30 : int(k * step) + 30]).max(axis=0)
        assert abs(int(near.argmax()) - 30) <= 2
        left, right = np.abs(response[:, int(k * step) - 30 : int(k * step) + 30]).max(axis=1)
        assert left / right == pytest.approx(echo.NEAR / echo.FAR if k % 2 else echo.FAR / echo.NEAR)


def test_echoes_sound_the_same_wherever_a_stretch_begins():
    x = np.random.default_rng(5).standard_normal((2, 3 * RATE_HZ))
    settings = 0.11 * RATE_HZ, 0.6, 40, 5000, RATE_HZ
    whole = echo.alternating(x, *settings)
    rings = 2 * RATE_HZ
    piece = echo.alternating(x[:, -rings - 20_000 :], *settings, lead=rings)
    np.testing.assert_allclose(piece[:, rings:], whole[:, -20_000:], atol=1e-4)


# A sampler without a sample is silent.
@pytest.mark.parametrize("voice", sorted(VOICES.keys() - {"sample"}))
def test_every_voice_is_heard_ends_in_silence_and_repeats_itself(voice):
    note = render_note(Sound(voice), Played(48, RATE_HZ // 2, 0.9))
    assert note.shape[0] == 2
    assert np.isfinite(note).all()
    assert 0.02 < np.abs(note).max() < 4
    assert np.abs(note[:, -1]).max() < 1e-3
    np.testing.assert_array_equal(note, render_note(Sound(voice), Played(48, RATE_HZ // 2, 0.9)))


@pytest.mark.parametrize("voice", ["synth"])
@pytest.mark.parametrize("midi", [45, 57])
def test_pitched_voices_are_in_tune(voice, midi):
    note = render_note(Sound(voice), Played(midi, RATE_HZ * 2, 0.9)).sum(axis=0)
    spectrum = np.abs(np.fft.rfft(note[4000:] * np.hanning(len(note) - 4000), 1 << 19))
    hz = 440 * 2 ** ((midi - 69) / 12)
    width = RATE_HZ / (1 << 19)
    near = slice(int(hz * 0.97 / width), int(hz * 1.03 / width))
    found = (near.start + int(spectrum[near].argmax())) * width
    assert 1200 * np.log2(found / hz) == pytest.approx(0, abs=8)


def test_loudness_of_a_render_is_measurable(whole):
    assert -40 < integrated_lufs(step_energy(whole, RATE_HZ)) < 0
