"""Effects, automation, choke groups and mono lines inside the render graph: pieces still equal the whole."""

from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.mixdown import automation
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.mixdown.schedule import joined_line, schedule_part
from ersatz.core.song.document import DRUMS, MUSIC, REVERB_RETURN, Song, SongSection, with_strip
from ersatz.core.song.parts import Cell, Modulation, Note, Part, Pattern, Sound
from ersatz.core.song.strips import Automation, AutomationPoint, Effect, sending
from tests.core.test_transitions import SONG

BAR = 3840


def part(part_id, sound, notes, bars=1, **settings):
    pattern = Pattern(bars, tuple(Note(*n) for n in notes))
    cells = tuple(Cell(f"s{k}", "A") for k in (1, 2))
    return Part(id=part_id, name=part_id, role="lead", sound=sound, out=settings.pop("out", MUSIC), patterns={"A": pattern},
                cells=cells, **settings)  # fmt: skip


def with_strip_set(song, strip_id, **settings):
    return with_strip(song, replace(song.strip(strip_id), **settings))


def solo_of(made, bar, cache):
    mixdown = Mixdown(made, cache)
    return mixdown.solo(mixdown.song.parts[0], *mixdown.bar_range(bar, bar))


def song(*parts, bpm=121.0, bars=4, **settings):
    sections = (SongSection("s1", "build", bars), SongSection("s2", "drop", bars))
    return Song("Test", bpm, "A", "minor", 50.0, sections, parts, **settings)


PLUCK = part("lead", Sound("synth", {"env1_sustain": 0.3}), [(k * 480, 300, 60 + k, 0.8) for k in range(8)])
KICK = part("kick", Sound("kick"), [(k * 960, 240, 36, 1.0) for k in range(4)], out=DRUMS)
CHAINS = {
    "frozen": (Effect("reverb", {"decay_s": 0.8, "duck_db": 12.0}, {"freeze": "bar"}, sidechain="kick"), Effect("limiter")),
    "dynamics": (Effect("compressor", {"threshold_db": -30.0}, sidechain="kick"), Effect("transients", {"attack": 0.4})),
    "moving": (Effect("flanger", {"feedback": 0.7}), Effect("tremolo", choices={"rate": "1/8 dotted"})),
    "space": (Effect("delay"), Effect("reverb", {"decay_s": 1.1}), Effect("width", {"mono_below_hz": 150.0})),
    "range": (Effect("saturation", {"drive_db": 18.0}, above_hz=400.0, blend=0.6), Effect("reduction", {"rate_hz": 9000.0})),
    "ducked": (Effect("ducker", {"depth_db": 20.0}, {"trigger": "a part's hits", "period": "1/8"}, sidechain="kick"),),
}


@pytest.mark.parametrize("chain", CHAINS)
def test_bars_rendered_alone_equal_the_whole_with_effects_everywhere(chain):
    effects = CHAINS[chain]
    made = with_strip_set(song(replace(PLUCK, chain=effects), KICK), MUSIC, chain=effects[:1])
    made = with_strip_set(made, "master", chain=(Effect("multiband", {"amount": 0.2}),))
    whole = Mixdown(made)
    everything = whole.samples(0, whole.frames)
    for first, last in ((1, 1), (4, 6), (8, 8)):
        alone = Mixdown(made, RenderCache())
        start, stop = alone.bar_range(first, last)
        np.testing.assert_array_equal(alone.samples(start, stop), everything[:, start:stop])


def test_what_repeats_is_computed_once():
    cache = RenderCache()
    longer = song(PLUCK, KICK, bpm=120.0, bars=32)
    Mixdown(longer, cache).samples(0, Mixdown(longer).bar_range(1, 60)[1])
    few = cache.computed
    assert few < 90


def test_an_effect_that_is_mixed_in_for_a_while_is_gone_as_soon_as_nothing_behind_it_hears_it():
    mixed = Automation(
        "fx", "blend", (AutomationPoint(0, 1.0), AutomationPoint(2 * BAR - 60, 1.0), AutomationPoint(2 * BAR - 30, 0.0))
    )
    # Long tails: the reverb itself hears more than a bar.
    space = Effect("reverb", {"decay_s": 3.0}, id="fx")
    cache = RenderCache()
    for behind in ((), (Effect("delay", {"feedback": 0.1}, {"time": "1/4"}, id="echo"),)):
        made = song(replace(PLUCK, chain=(space, *behind), automation=(mixed,)), bpm=120.0)
        without = song(replace(PLUCK, chain=behind), bpm=120.0)
        # In front of the echo the reverb is still heard in its echoes.
        for bar, gone in ((2, False), (3, not behind), (8, True)):
            expected = solo_of(without, bar, cache)
            computed = cache.computed
            assert np.array_equal(solo_of(made, bar, cache), expected) == gone
            # Where the chain does nothing, it isn't worked out either.
            assert (cache.computed == computed) == (gone and not behind)


def test_a_part_rings_on_through_its_effects_after_its_last_note():
    once = part("lead", Sound("rim"), [(0, 240, 60, 1.0)], bars=4, chain=(Effect("delay", {"feedback": 0.6}, {"time": "1/2"}),))
    made = song(once, bars=8)
    mixdown = Mixdown(made)
    start, stop = mixdown.bar_range(2, 2)
    assert np.abs(mixdown.solo(made.parts[0], start, stop)).max() > 1e-3


def test_automation_follows_its_points_and_meets_the_bar_line():
    curve = Automation("fader", "gain_db", (AutomationPoint(0, -20.0), AutomationPoint(4 * BAR, 0.0)))
    steady = part("lead", Sound("synth", {"osc1_level": 0.5}, {"osc1_wave": "sine"}), [(0, 8 * BAR, 69, 1.0)], bars=8)
    made = song(replace(steady, automation=(curve,)), bpm=120.0)
    flat = song(steady, bpm=120.0)
    mixdown = Mixdown(made)
    a, b = (Mixdown(s).solo(s.parts[0], 0, mixdown.bar_range(4, 4)[1]) for s in (made, flat))
    for bar, wanted in ((2, -15.0), (3, -10.0), (4, -5.0)):
        at = mixdown.bar_range(bar, bar)[0]
        piece = slice(at - 50, at + 50)
        assert 20 * np.log10(np.abs(a[0, piece]).max() / np.abs(b[0, piece]).max()) == pytest.approx(wanted, abs=0.1)


@pytest.mark.parametrize("owner", [MUSIC, "master"])
def test_buses_and_the_master_are_automated(owner):
    steady = part("lead", Sound("synth", {"osc1_level": 0.2}, {"osc1_wave": "sine"}), [(0, 8 * BAR, 69, 1.0)], bars=8)
    curve = Automation("fader", "gain_db", (AutomationPoint(0, -24.0), AutomationPoint(4 * BAR, 0.0)))
    flat = song(steady, bpm=120.0)
    moved = with_strip_set(flat, owner, automation=(curve,))
    whole, plain = (Mixdown(s).samples(0, Mixdown(s).bar_range(4, 4)[1]) for s in (moved, flat))
    for bar, wanted in ((2, -18.0), (3, -12.0), (4, -6.0)):
        at = Mixdown(moved).bar_range(bar, bar)[0]
        piece = slice(at - 50, at + 50)
        assert 20 * np.log10(np.abs(whole[0, piece]).max() / np.abs(plain[0, piece]).max()) == pytest.approx(wanted, abs=0.15)
    a, b = Mixdown(moved).bar_range(3, 3)
    np.testing.assert_array_equal(Mixdown(moved, RenderCache()).samples(a, b), whole[:, a:b])


def test_a_return_and_a_buss_effect_are_automated():
    sent = replace(PLUCK, sends=sending({REVERB_RETURN: 0.0}))
    silent = Automation("fader", "gain_db", (AutomationPoint(0, -60.0),))
    made = with_strip_set(song(sent), REVERB_RETURN, automation=(silent,))
    loud, quiet = (Mixdown(s).solo(s.strip("return:reverb"), 0, 4 * RATE_HZ) for s in (song(sent), made))
    np.testing.assert_allclose(quiet, loud / 1000, atol=1e-6)
    low = (Effect("sweep", {"cutoff_hz": 300.0}, {"kind": "low-pass 24"}),)
    moved = Automation("e1", "cutoff_hz", (AutomationPoint(0, 300.0),))
    open_ = (replace(low[0], params={"cutoff_hz": 9000.0}),)
    a = with_strip_set(song(PLUCK), MUSIC, chain=low)
    b = with_strip_set(song(PLUCK), MUSIC, chain=open_, automation=(moved,))
    np.testing.assert_allclose(*(Mixdown(s).mix(0, 4 * RATE_HZ) for s in (a, b)), atol=1e-5)


def test_bent_automation_keeps_its_ends():
    values = automation.values_at(
        Automation("fader", "pan", (AutomationPoint(0, -1.0, 0.8), AutomationPoint(100, 1.0))), np.arange(0, 101.0)
    )
    assert values[[0, -1]] == pytest.approx([-1, 1])
    assert values[50] > 0.5
    assert (np.diff(values) > 0).all()


def test_an_automated_effect_sounds_like_the_same_effect_at_that_value():
    sweep = Effect("sweep", {"cutoff_hz": 300.0}, {"kind": "low-pass 24"})
    curve = Automation("e1", "cutoff_hz", (AutomationPoint(0, 300.0), AutomationPoint(BAR, 300.0)))
    fixed, moved = (song(replace(PLUCK, chain=(sweep,), automation=a)) for a in ((), (curve,)))
    stop = Mixdown(fixed).bar_range(2, 2)[1]
    np.testing.assert_allclose(*(Mixdown(s).solo(s.parts[0], 0, stop) for s in (fixed, moved)), atol=1e-6)


def test_hits_of_a_choke_group_cut_each_other():
    crash = part("crash", Sound("cymbal"), [(0, 240, 60, 1.0)], choke="metal")
    hat = part("hat", Sound("hat"), [(960, 240, 60, 1.0)], choke="metal")
    made = song(crash, hat, bpm=120.0)
    mixdown = Mixdown(made)
    assert mixdown.notes.events(made.parts[0])[0].cut == RATE_HZ // 2
    alone = mixdown.solo(made.parts[0], 0, RATE_HZ * 2)
    assert np.abs(alone[:, RATE_HZ // 2 - 200 : RATE_HZ // 2]).max() > 1e-3
    assert np.abs(alone[:, RATE_HZ // 2 + 200 : RATE_HZ * 3 // 2]).max() == 0
    free = song(replace(crash, choke=""), hat)
    assert Mixdown(free).notes.events(free.parts[0])[0].cut is None


def mono(mode, notes, glide_ms=50.0):
    sound = Sound("synth", {"glide_ms": glide_ms, "osc1_level": 1.0}, {"mode": mode, "osc1_wave": "sine", "osc1_start": "fixed"})
    return song(part("lead", sound, notes), bpm=120.0)


OVERLAPPING = [(0, 1920, 57, 1.0), (960, 960, 69, 1.0)]


def test_a_mono_line_cuts_the_old_note_and_glides_into_the_new_one():
    events = schedule_part(mono("mono", OVERLAPPING), mono("mono", OVERLAPPING).parts[0], RATE_HZ)
    first, second = events[:2]
    assert first.length == RATE_HZ // 2
    assert second.bend == ((0.0, -12.0), (float(round(0.05 * RATE_HZ)), 0.0))


def test_a_legato_line_is_one_note_that_bends():
    made = mono("legato", OVERLAPPING)
    events = schedule_part(made, made.parts[0], RATE_HZ)
    assert len(events) == 8
    assert events[0].length == RATE_HZ
    assert events[0].bend[-1][1] == 12.0
    x = Mixdown(made).solo(made.parts[0], 0, RATE_HZ)[0]
    crossings = [np.count_nonzero(np.diff(np.sign(x[a : a + 11_025]))) / 2 / 0.25 for a in (5000, 30_000)]
    assert crossings == pytest.approx([220, 440], abs=6)


def test_notes_apart_are_left_apart():
    notes = [(0, 480, 57, 1.0), (960, 480, 69, 1.0)]
    made = mono("legato", notes)
    assert [e.bend for e in schedule_part(made, made.parts[0], RATE_HZ)][:2] == [(), ()]
    assert joined_line([], "mono", 0.0) == []


def test_a_slide_in_the_notes_is_heard():
    made = song(part("lead", Sound("synth", {}, {"osc1_wave": "sine"}), []), bpm=120.0)
    slide = Pattern(1, (Note(0, 1920, 57, 1.0, ((0.0, 0.0), (480.0, 0.0), (960.0, 12.0))),))
    made = replace(made, parts=(replace(made.parts[0], patterns={"A": slide}),))
    x = Mixdown(made).solo(made.parts[0], 0, RATE_HZ)[0]
    crossings = [np.count_nonzero(np.diff(np.sign(x[a : a + 8820]))) / 2 / 0.2 for a in (1000, 30_000)]
    assert crossings == pytest.approx([220, 440], abs=6)
    assert Song.from_json(made.to_json()) == made


def test_the_same_work_is_not_done_by_two_threads():
    from concurrent.futures import ThreadPoolExecutor
    from threading import Event

    cache, calls, go = RenderCache(), [], Event()

    def slow():
        calls.append(1)
        go.wait(5)
        return np.ones(3)

    with ThreadPoolExecutor(3) as pool:
        answers = [pool.submit(cache.get, "key", slow) for _ in range(3)]
        go.set()
        assert all(a.result().sum() == 3 for a in answers)
    assert len(calls) == 1


def test_modulated_notes_follow_the_tempo():
    wobble = Sound("synth", {}, {"lfo1_rate": "1/4"}, (Modulation("lfo 1", "level_db", 12.0),))
    slow, fast = (song(part("lead", wobble, [(0, BAR, 57, 1.0)]), bpm=b) for b in (100.0, 140.0))
    cache = RenderCache()
    a, b = (Mixdown(s, cache).solo(s.parts[0], 0, 60_000) for s in (slow, fast))
    assert np.abs(a - b).max() > 0.05


def test_a_hit_of_the_bar_before_still_ducks_and_is_part_of_the_key():
    """A kick on the last 16th, ducking for a whole bar: what follows is another sound than without it."""
    late = Pattern(1, (Note(3600, 240, 60, 1.0),))
    effect = Effect("ducker", {"depth_db": 24.0}, {"trigger": "a part's hits", "period": "1 bar"}, sidechain="kick")
    pad = replace(SONG.part("pad"), chain=(effect,))
    kick = replace(SONG.part("kick"), patterns={"A": late}, cells=(Cell("s1", "A"),))
    ducked = replace(SONG, parts=(kick, pad))
    free = replace(ducked, parts=(replace(kick, cells=()), pad))
    cache = RenderCache()
    first, second = (Mixdown(s, cache).block(pad, 4) for s in (free, ducked))
    quarter = first.shape[1] // 4
    assert np.square(second[:, :quarter]).sum() < 0.1 * np.square(first[:, :quarter]).sum()
    whole = Mixdown(ducked)
    start, stop = whole.bar_range(4, 5)
    alone = Mixdown(ducked)
    np.testing.assert_array_equal(whole.solo(pad, start, stop)[:, -whole.bars.length(4) :], alone.block(pad, 4))
