"""What strips do to sound: gain in, width, mono, mute, sends, nested buses, ducking, in parts, buses, returns and the master."""

import json
import operator
import random
import time
from contextlib import suppress
from dataclasses import replace
from functools import partial, reduce

import numpy as np
import pytest

from ersatz.core.errors import ErsatzError
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.graph import Graph, Node, Plan, fingerprint, hashed
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import (
    DELAY_RETURN,
    DRUMS,
    MUSIC,
    REVERB_RETURN,
    DuckCurve,
    Master,
    Song,
    SongSection,
    standard_buses,
    with_strip,
)
from ersatz.core.song.parts import Cell, Note, Part, Pattern, Sound
from ersatz.core.song.strips import MASTER, Automation, AutomationPoint, Duck, Effect, Send, Strip

BAR = 3840
TONE = Sound("synth", {"osc1_level": 0.3, "env1_release_ms": 1.0}, {"osc1_wave": "sine", "osc1_start": "fixed"})
#: Nothing but its fader: what comes in goes out, until it clips.
OPEN = Master(low_cut_hz=1.0, mono_below_hz=0.0, gain_db=-30.0, ceiling_dbtp=0.0)


def held(part_id, out=MUSIC, midi=57, **settings):
    return Part(
        id=part_id, name=part_id, role="lead", sound=TONE, out=out, patterns={"A": Pattern(4, (Note(0, 4 * BAR, midi, 1.0),))},
        cells=(Cell("s1", "A"),), **settings,
    )  # fmt: skip


def song(*parts, **settings):
    sections = (SongSection("s1", "drop", 4),)
    return Song("Test", 120.0, "A", "minor", 50.0, sections, parts, **({"master": OPEN} | settings))


def of(made, strip_id, **settings):
    return with_strip(made, replace(made.strip(strip_id), **settings))


def level_db(made, strip="master", bar=2):
    mixdown = Mixdown(made)
    samples = mixdown.block(mixdown.song.strip(strip), bar)
    return -np.inf if samples is None else 10 * np.log10(np.square(samples).mean() + 1e-20)


def sides_db(made, strip, bar=2):
    mixdown = Mixdown(made)
    left, right = mixdown.block(mixdown.song.strip(strip), bar)
    return 10 * np.log10(np.mean((left - right) ** 2) / np.mean((left + right) ** 2) + 1e-20)


@pytest.mark.parametrize("strip", ["lead", MUSIC, "master"])
@pytest.mark.parametrize("chain", [(), (Effect("width"),)])
def test_gain_in_and_fader_add_up_in_every_strip(strip, chain):
    """With a chain the gain lies in front of it, without one in the fader: a chain that does nothing hears no difference."""
    plain = of(song(held("lead")), strip, chain=chain)
    louder = of(plain, strip, gain_in_db=4.0, gain_db=plain.strip(strip).gain_db - 1.0)
    assert level_db(louder) - level_db(plain) == pytest.approx(3.0, abs=1e-3)


def test_gain_in_drives_the_chain_and_the_fader_does_not():
    pressed = (Effect("compressor", {"threshold_db": -40.0, "ratio": 20.0}),)
    plain = song(held("lead", chain=pressed))
    assert level_db(of(plain, "lead", gain_db=6.0)) - level_db(plain) == pytest.approx(6.0, abs=1e-3)
    assert level_db(of(plain, "lead", gain_in_db=6.0)) - level_db(plain) < 2.0


@pytest.mark.parametrize("strip", ["lead", MUSIC, REVERB_RETURN])
def test_width_and_mono_below_work_in_every_strip(strip):
    wide = song(held("lead", pan=0.6, sends={REVERB_RETURN: Send(0.0)}))
    if strip == "lead":
        # A part's pan stands behind its width.
        wide = of(wide, "lead", pan=0.0, chain=(Effect("delay", {"left_ms": 1.0, "right_ms": 9.0}, {"mode": "micro-widening"}),))
    before = sides_db(wide, strip)
    assert sides_db(of(wide, strip, width=0.0), strip) < -100
    assert sides_db(of(wide, strip, width=0.5), strip) == pytest.approx(before - 20 * np.log10(2), abs=0.2)
    # The note lies at 220 Hz.
    assert sides_db(of(wide, strip, mono_below_hz=500.0), strip) < before - 25


def test_width_is_automated_as_any_other_value():
    wide = of(song(held("lead", pan=0.6)), MUSIC, automation=(Automation("fader", "width", (AutomationPoint(0, 0.0),)),))
    assert sides_db(wide, MUSIC) < -100


@pytest.mark.parametrize("strip", ["lead", MUSIC, "master"])
def test_what_is_muted_is_silent(strip):
    muted = of(song(held("lead")), strip, mute=True)
    assert level_db(muted, strip) == -np.inf
    assert np.abs(Mixdown(muted).samples(0, RATE_HZ)).max() == 0


def test_a_muted_part_sends_nothing_and_still_triggers():
    curve = DuckCurve("d", "By the kick", "hits", (1.0,) * 32 + (0.0,) * 32, ("hit",))
    hit = replace(held("hit", DRUMS), patterns={"A": Pattern(1, (Note(0, 240, 57, 1.0),))}, sends={REVERB_RETURN: Send(0.0, True)})
    made = song(hit, held("lead", duck=Duck("d", 24.0)), curves=(curve,))
    muted = of(made, "hit", mute=True)
    assert level_db(muted, REVERB_RETURN) == -np.inf < level_db(made, REVERB_RETURN)
    a, b = (Mixdown(s).block(s.strip("lead"), 2) for s in (made, muted))
    np.testing.assert_array_equal(a, b)
    assert np.abs(a[:, 2000:8000]).max() < 0.1 * np.abs(a[:, -8000:]).max()


def test_a_send_before_the_fader_does_not_follow_it():
    behind = song(held("lead", sends={REVERB_RETURN: Send(-6.0)}))
    before = of(behind, "lead", sends={REVERB_RETURN: Send(-6.0, True)})
    for made, moves in ((behind, -20.0), (before, 0.0)):
        by = level_db(of(made, "lead", gain_db=-20.0), REVERB_RETURN) - level_db(made, REVERB_RETURN)
        assert by == pytest.approx(moves, abs=1e-3)


def test_sends_of_buses_and_returns_arrive():
    """lead -> music -> delay -> reverb, each 6 dB under the one before."""
    direct = song(held("lead", sends={DELAY_RETURN: Send(-6.0)}))
    by_bus = of(song(held("lead")), MUSIC, sends={DELAY_RETURN: Send(-6.0)})
    assert level_db(by_bus, DELAY_RETURN, 3) == pytest.approx(level_db(direct, DELAY_RETURN, 3), abs=1e-6)
    on = of(by_bus, DELAY_RETURN, sends={REVERB_RETURN: Send(-6.0)})
    assert level_db(on, REVERB_RETURN, 3) > -60
    assert level_db(on, DELAY_RETURN, 3) == level_db(by_bus, DELAY_RETURN, 3)


def test_a_bus_in_a_bus_sounds_like_one_with_both_faders():
    flat = of(song(held("lead")), MUSIC, gain_db=-5.0)
    inner = Strip(id="bus:inner", name="Inner", out=MUSIC, gain_db=-3.0)
    nested = song(held("lead", out="bus:inner"), buses=(*standard_buses(), inner))
    nested = of(nested, MUSIC, gain_db=-2.0)
    a, b = (Mixdown(s).samples(0, RATE_HZ) for s in (flat, nested))
    np.testing.assert_allclose(a, b, atol=1e-6)
    assert level_db(nested, "bus:inner") == pytest.approx(level_db(nested, MUSIC) + 2.0, abs=1e-3)


@pytest.mark.parametrize("strip", ["lead", MUSIC, REVERB_RETURN, "master"])
def test_every_strip_is_ducked_by_its_depth_along_its_curve(strip):
    curve = DuckCurve("d", "Half a beat", "1/4", (1.0,) * 32 + (0.0,) * 32)
    made = song(held("lead", sends={REVERB_RETURN: Send(0.0)}), curves=(curve,))
    ducked = of(made, strip, duck=Duck("d", 12.0))
    a, b = (Mixdown(s).block(s.strip(strip), 2) for s in (made, ducked))
    beat = RATE_HZ // 2
    for beginning, expected in ((0.1, -12.0), (0.6, 0.0)):
        piece = slice(int((1 + beginning) * beat), int((1 + beginning + 0.3) * beat))
        db = 10 * np.log10(np.square(b[:, piece]).mean() / np.square(a[:, piece]).mean())
        assert db == pytest.approx(expected, abs=0.01)


RISES = (AutomationPoint(0, -20.0), AutomationPoint(4 * BAR, 0.0))


@pytest.mark.parametrize(
    "settings",
    [
        {},
        {"gain_db": -5.0, "pan": -0.4},
        {"pan": 0.7, "duck": Duck("d", 9.0)},
        {"pan": 0.3, "automation": (Automation("fader", "gain_db", RISES),), "duck": Duck("d", 9.0)},
        {"gain_db": -3.0, "automation": (Automation("sends", REVERB_RETURN, RISES),)},
        {"gain_db": -3.0, "duck": Duck("d", 9.0), "automation": (Automation("sends", REVERB_RETURN, RISES),)},
    ],
)
def test_what_a_bus_and_a_return_hear_is_what_leaves_the_strip(settings):
    """Whether the fader stands or moves: at the bus as it is, at the return at the level of its send."""
    curve = DuckCurve("d", "Half a beat", "1/4", (1.0,) * 32 + (0.0,) * 32)
    made = of(song(held("lead", sends={REVERB_RETURN: Send(-6.0)}, **settings), curves=(curve,)), REVERB_RETURN, chain=())
    mixdown = Mixdown(made)
    leaves, bus, reverb = (mixdown.block(mixdown.song.strip(strip), 2) for strip in ("lead", MUSIC, REVERB_RETURN))
    n = bus.shape[1]
    moves = any(a.device == "sends" for a in settings.get("automation", ()))
    send_db = np.linspace(-10.0, -5.0, n, endpoint=False) if moves else -6.0
    assert np.abs(leaves).max() > 0.01
    np.testing.assert_allclose(bus, leaves, atol=1e-6)
    np.testing.assert_allclose(reverb, leaves * 10 ** (np.array(send_db) / 20), atol=1e-5)


def test_a_masters_pan_is_heard():
    left = of(song(held("lead")), "master", pan=-1.0)
    samples = Mixdown(left).samples(RATE_HZ, 2 * RATE_HZ)
    assert np.abs(samples[1]).max() == 0 < np.abs(samples[0]).max()


def test_bars_alone_equal_the_whole_in_nested_strips():
    curve = DuckCurve("d", "Half a beat", "1/4", (1.0,) * 32 + (0.0,) * 32)
    inner = Strip(id="bus:inner", name="Inner", out=MUSIC, chain=(Effect("chorus"),), sends={REVERB_RETURN: Send(-9.0)}, width=1.5)
    lead = held("lead", "bus:inner", sends={DELAY_RETURN: Send(-6.0, True)}, width=0.5, mono_below_hz=200.0, duck=Duck("d", 9.0))
    made = song(lead, curves=(curve,), buses=(*standard_buses(), inner))
    whole = Mixdown(made)
    everything = whole.samples(0, whole.frames)
    for first, last in ((2, 2), (3, 4)):
        start, stop = whole.bar_range(first, last)
        np.testing.assert_array_equal(Mixdown(made, RenderCache()).samples(start, stop), everything[:, start:stop])


# The graph ------------------------------------------------------------------------------------------------------------


def quietly(fraction):
    pass


def rendered(graph, nodes, ahead=4):
    return list(graph.computed([lambda node=node: node for node in nodes], ahead, lambda: None, quietly))


def constant(value, **settings):
    return Node("number", value, lambda: (), lambda inputs: np.full((2, 4), value, np.float32), **settings)


def added(*nodes, **settings):
    return Node("sum", None, lambda: nodes, lambda inputs: np.sum([i for i in inputs if i is not None], axis=0), **settings)


def test_a_key_holds_settings_and_inputs():
    one, two = constant(1.0), constant(2.0)
    assert one.key == constant(1.0).key != two.key
    assert added(one, two).key == added(constant(1.0), constant(2.0)).key
    assert len({added(one, two).key, added(two, one).key, added(one, None).key, added(one).key}) == 4
    assert hashed((1, 2), 3) != hashed(1, (2, 3)) and fingerprint(np.zeros(2)) != fingerprint(np.zeros((2, 1)))
    assert fingerprint(np.zeros(2)) == fingerprint(np.zeros(2)) and fingerprint(3.0) == 3.0


def test_what_is_kept_is_not_computed_again_and_quick_nodes_are_not_waited_for():
    cache = RenderCache()
    graph = Graph(cache)
    quick = added(constant(1.0), constant(2.0), kept="quick")
    top = added(quick, constant(4.0))
    plan = Plan(cache)
    assert plan.want(top, asked=True) == {top.key} and plan.waits_for(top)
    assert set(plan.nodes) == {top.key, *(constant(v).key for v in (1.0, 2.0, 4.0))}
    free = [key for _, key, _ in plan.ready()]
    assert len(free) == 3 and top.key not in free and not plan.ready()
    for key in free:
        assert not plan.ready()
        plan.done(key)
    assert plan.ready() == [(1, top.key, top)]
    plan.done(top.key)
    assert not plan.waits_for(top) and not plan.nodes
    assert rendered(graph, [top, None]) == [top, None]
    computed = cache.computed
    assert graph.samples(top)[0, 0] == 7.0
    again = Plan(cache)
    assert again.want(added(quick, constant(4.0))) == set() and not again.nodes
    assert cache.computed == computed


def test_what_a_node_raises_ends_the_work():
    def broken(inputs):
        raise ValueError("no sound")

    bad = Node("bad", None, lambda: (), broken)
    with pytest.raises(ValueError, match="no sound"):
        rendered(Graph(RenderCache()), [constant(1.0), added(bad, constant(1.0))])


def test_nodes_come_in_order_and_so_many_are_made_ahead_of_them():
    made, forgotten, order = [], [], []

    def make(k):
        made.append(k)
        # The first is made of what takes longest.
        slow = Node("slow", k, lambda: (), lambda inputs: time.sleep(0.02 * (9 - k)) or np.full((2, 4), k, np.float32))
        return None if k == 4 else added(slow, constant(100.0))

    graph = Graph(RenderCache())
    for k, node in enumerate(graph.computed([partial(make, k) for k in range(9)], 3, lambda: forgotten.append(len(made)), quietly)):
        order.append(k)
        assert len(made) <= k + 4
        assert node is None if k == 4 else graph.cache.holds(node.key) and graph.samples(node)[0, 0] == 100 + k
    assert order == made == list(range(9)) and forgotten == [3, 6, 9]


def test_what_is_asked_for_later_and_made_of_what_is_done_waits_for_nothing():
    one = constant(1.0)
    nodes = [one, added(one, constant(2.0)), added(one, one), one]
    graph = Graph(RenderCache())
    assert [graph.samples(node)[0, 0] for node in rendered(graph, nodes, ahead=1)] == [1, 3, 2, 1]
    assert graph.cache.computed == 4


def test_who_stops_listening_ends_the_work():
    graph = Graph(RenderCache())
    nodes = graph.computed([partial(constant, float(k)) for k in range(50)], 2, lambda: None, quietly)
    next(nodes)
    nodes.close()
    assert graph.cache.computed < 10


def test_what_sounds_the_same_is_measured_once(song):
    cache, asked = RenderCache(), []

    def loudest(x):
        asked.append(x.shape)
        return np.abs(x).max(axis=1)

    def measured(played, strip="bass"):
        return Mixdown(played, cache).measured_each("loudest", [(strip, 9, 10)], loudest)[0]

    first = measured(song)
    assert np.array_equal(first, np.abs(Mixdown(song, cache).strip_samples("bass", 9, 10)).max(axis=1))
    # Another part's fader leaves the bass as it was, but not the mix; its own moves both.
    other = next(p for p in song.parts if p.role == "kick")
    louder = with_strip(song, replace(other, gain_db=other.gain_db + 3))
    measured(song, MASTER)
    count = len(asked)
    assert np.array_equal(measured(louder), first) and len(asked) == count
    measured(louder, MASTER)
    assert len(asked) == count + 1
    bass = song.part("bass")
    assert np.allclose(measured(with_strip(song, replace(bass, gain_db=bass.gain_db - 6))), first / 10**0.3, rtol=1e-3)
    assert len(asked) == count + 2


def leaves(document, place=()):
    """Places of all numbers and switches in a JSON document."""
    inside = document.items() if isinstance(document, dict) else enumerate(document) if isinstance(document, list) else ()
    for key, value in inside:
        yield from leaves(value, (*place, key))
    if isinstance(document, int | float):
        yield place


def otherwise(document, place):
    """A copy in which the number or switch at a place is another one."""
    copy = json.loads(json.dumps(document))
    *way, last = place
    inside = reduce(operator.getitem, way, copy)
    value = inside[last]
    inside[last] = not value if isinstance(value, bool) else value + 1 if isinstance(value, int) else value * 0.9 + 0.01
    return copy


def keys_of(made, cache):
    mixdown = Mixdown(made, cache)
    parts = mixdown.song.parts
    return {(p.id, bar): (node := mixdown._strips.chained(p, bar)) and node.key for p in parts for bar in range(made.bars)}


def test_keys_that_stay_from_song_to_song_are_those_that_are_found_anew(song):
    """Whatever is changed in a song, and whatever was rendered before with the same cache."""
    document, cache, chance, moved = song.to_json(), RenderCache(), random.Random(4), 0
    lead = next(p for p in song.parts if p.chain)
    drawn = Automation(lead.chain[0].id, "blend", (AutomationPoint(0, 0.2), AutomationPoint(8 * BAR, 0.9)))
    document = with_strip(song, replace(lead, automation=(*lead.automation, drawn))).to_json()
    known = keys_of(Song.from_json(document), cache)
    # One place of each kind.
    kinds = {tuple("" if isinstance(step, int) else step for step in place): place for place in leaves(document)}
    for place in chance.sample(sorted(kinds.values(), key=str), 40):
        with suppress(ErsatzError):
            changed = Song.from_json(otherwise(document, place))
            keys = keys_of(changed, RenderCache())
            assert keys_of(changed, cache) == keys, place
            moved += keys != known
    assert moved > 3
