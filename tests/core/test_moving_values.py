"""Values that move: modulators of strips, and a voice's parameters drawn over the song."""

from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

from ersatz.core.edits import parse_edit
from ersatz.core.effects import EFFECTS
from ersatz.core.errors import InvalidEdit
from ersatz.core.grid import BarGrid
from ersatz.core.mixdown import automation
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import MUSIC, REVERB_RETURN, Master, Song, SongSection, settled, with_strip
from ersatz.core.song.parts import Cell, Note, Part, Pattern, Sound
from ersatz.core.song.strips import Automation, AutomationPoint, Effect, Modulator, Move, Send, Target

BAR = 3840
BEAT = RATE_HZ // 2
SINE = Sound(
    "synth", {"osc1_level": 0.3, "env1_release_ms": 1.0}, {"osc1_wave": "sine", "osc1_start": "fixed", "filter1_kind": "off"}
)
OPEN = Master(low_cut_hz=1.0, mono_below_hz=0.0, gain_db=-30.0, ceiling_dbtp=0.0)


def held(part_id="lead", sound=SINE, bars=4, midi=69, **settings):
    pattern = Pattern(bars, (Note(0, bars * BAR, midi, 1.0),))
    return Part(id=part_id, name=part_id.capitalize(), role="lead", sound=sound, out=MUSIC, patterns={"A": pattern},
                cells=(Cell("s1", "A"),), **settings)  # fmt: skip


def song(*parts):
    return Song("Test", 120.0, "A", "minor", 50.0, (SongSection("s1", "drop", 4),), parts, master=OPEN)


def moving(*targets, **settings):
    moves = tuple(Move(Target(strip, device, param), amount) for strip, device, param, amount in targets)
    return (Modulator(**{"id": "m1", "moves": moves} | settings),)


def levels(made, strip="lead", bar=1, pieces=8):
    """dB of the pieces of a bar."""
    mixdown = Mixdown(made)
    samples = mixdown.block(mixdown.song.strip(strip), bar)
    return np.array([10 * np.log10(np.square(p).mean() + 1e-20) for p in np.array_split(samples, pieces, axis=1)])


def test_a_square_lfo_gates_a_level_in_the_songs_time():
    """Half a bar up, half a bar down, by 6 dB each way."""
    plain = song(held())
    gated = song(held(modulators=moving(("lead", "fader", "gain_db", 6.0), shape="square", rate="1 bar")))
    by = levels(gated) - levels(plain)
    np.testing.assert_allclose(by[[0, 1, 2, 4, 5, 6]], [6, 6, 6, -6, -6, -6], atol=0.1)
    half_later = song(held(modulators=moving(("lead", "fader", "gain_db", 6.0), shape="square", rate="1 bar", phase=0.5)))
    np.testing.assert_allclose(levels(half_later) - levels(plain), -by, atol=0.2)


def test_an_lfo_in_hz_runs_on_over_the_bar_line():
    """One cycle takes a bar and a half: bar 3 is what bar 0 was."""
    made = song(held(modulators=moving(("lead", "fader", "gain_db", 6.0), rate="Hz", rate_hz=1 / 3)))
    np.testing.assert_allclose(levels(made, bar=3), levels(made, bar=0), atol=0.05)
    assert np.abs(levels(made, bar=1) - levels(made, bar=0)).max() > 3


def test_bars_in_which_an_lfo_stands_alike_share_a_key():
    cache = RenderCache()
    made = song(held(bars=1, chain=(Effect("sweep"),), modulators=moving(("lead", "e1", "cutoff_hz", 1.0), rate="1/4")))
    mixdown = Mixdown(made, cache)
    mixdown.block(made.part("lead"), 2)
    computed = cache.computed
    mixdown.block(made.part("lead"), 3)
    assert cache.computed == computed


@pytest.mark.parametrize("strip", ["lead", MUSIC, REVERB_RETURN, "master"])
def test_an_lfo_moves_every_kind_of_strip(strip):
    plain = song(held(sends={REVERB_RETURN: Send(0.0)}))
    made = with_strip(
        plain, replace(plain.strip(strip), modulators=moving((strip, "fader", "gain_db", 6.0), shape="square", rate="1 bar"))
    )
    by = levels(made, strip, 2) - levels(plain, strip, 2)
    np.testing.assert_allclose(by[[1, 6]], [6, -6], atol=0.05)


def test_one_lfo_moves_values_of_several_strips():
    """One handle: the part's send and the bus's level."""
    modulators = moving(("lead", "sends", REVERB_RETURN, 20.0), (MUSIC, "fader", "gain_db", -6.0), shape="square", rate="1 bar")
    plain = song(held(sends={REVERB_RETURN: Send(-20.0)}))
    made = with_strip(plain, replace(plain.part("lead"), modulators=modulators))
    assert (levels(made, MUSIC) - levels(plain, MUSIC))[[1, 6]] == pytest.approx([-6, 6], abs=0.05)
    assert (levels(made, REVERB_RETURN, 2) - levels(plain, REVERB_RETURN, 2))[3] > 15


def test_an_lfo_adds_to_what_is_drawn():
    drawn = (Automation("fader", "gain_db", (AutomationPoint(0, -10.0),)),)
    plain = song(held())
    made = song(held(automation=drawn, modulators=moving(("lead", "fader", "gain_db", 6.0), shape="square", rate="1 bar")))
    assert (levels(made) - levels(plain))[[1, 6]] == pytest.approx([-4, -16], abs=0.05)


def test_a_curve_per_hit_plays_once_with_each_hit():
    """Down by 12 dB at each hit, back after an 8th, and it stays back."""
    points = (-1.0,) * 4 + (0.0,) * 4
    hits = Pattern(1, tuple(Note(tick, BAR - tick if tick else 1920, 69, 1.0) for tick in (0, 1920)))
    per_hit = moving(("pad", "fader", "gain_db", 12.0), shape="drawn", rate="1/8", start="with the hits", once=True, points=points)
    lead = replace(held(), patterns={"A": hits}, modulators=per_hit)
    a, b = (levels(song(held("pad"), part), "pad", pieces=32) for part in (replace(lead, modulators=()), lead))
    by = b - a
    np.testing.assert_allclose(by[[0, 16]], [-12, -12], atol=0.3)
    np.testing.assert_allclose(by[[*range(4, 15), *range(20, 31)]], 0, atol=0.01)


def test_moves_follow_what_they_move_and_go_with_it():
    made = song(held(chain=(Effect("sweep"),), modulators=moving(("lead", "e1", "cutoff_hz", 1.0), (MUSIC, "fader", "pan", 0.5))))
    taken = parse_edit({"kind": "set_effects", "strip": "lead", "effects": []}).apply(made)
    assert [m.target.device for m in taken.part("lead").modulators[0].moves] == ["fader"]
    assert settled(made) == made
    gone = parse_edit({"kind": "delete_strip", "strip": MUSIC}).apply(taken)
    assert gone.part("lead").modulators[0].moves == ()


def test_modulators_are_set_by_an_edit_that_says_what_they_move():
    made = song(held(chain=(Effect("sweep"),)))
    one = {"id": "m1", "rate": "1/8", "moves": [{"target": {"strip": "lead", "device": "e1", "param": "cutoff_hz"}, "amount": 1.0}]}
    edit = parse_edit({"kind": "set_modulators", "strip": "lead", "modulators": [one]})
    assert edit.sentence(made) == "Lead: LFO moves Filter sweep: Cutoff"
    there = edit.apply(made)
    assert there.part("lead").modulators[0].rate == "1/8" and Song.from_json(there.to_json()) == there
    assert parse_edit({"kind": "set_modulators", "strip": "lead", "modulators": []}).sentence(there) == "Lead: a modulator less"
    for bad, said in (
        ({**one, "rate": "1/7"}, "rate is one of"), ({**one, "id": ""}, "ids of their own"),
        ({**one, "moves": [{"target": {"strip": "lead", "device": "e9", "param": "x"}, "amount": 1.0}]}, "can’t be moved"),
    ):  # fmt: skip
        with pytest.raises(InvalidEdit, match=said):
            parse_edit({"kind": "set_modulators", "strip": "lead", "modulators": [bad]}).apply(made)


# The voice --------------------------------------------------------------------------------------------------------------


def drawn(param, *points):
    return (Automation("voice", param, tuple(AutomationPoint(tick, value) for tick, value in points)),)


def pitch_hz(samples):
    spectrum = np.abs(np.fft.rfft(samples[0] * np.hanning(samples.shape[1])))
    return spectrum.argmax() * RATE_HZ / samples.shape[1]


def test_a_pitch_drawn_over_the_song_moves_inside_a_note():
    made = song(held(automation=drawn("pitch_semitones", (0, 0.0), (BAR, 0.0), (2 * BAR, 12.0), (4 * BAR, 12.0))))
    x = Mixdown(made).solo(made.part("lead"), 0, 4 * 4 * BEAT)
    assert pitch_hz(x[:, BEAT : 2 * BEAT]) == pytest.approx(440, abs=2)
    assert pitch_hz(x[:, 6 * BEAT - 4000 : 6 * BEAT + 4000]) == pytest.approx(440 * 2**0.5, rel=0.02)
    assert pitch_hz(x[:, 12 * BEAT : 13 * BEAT]) == pytest.approx(880, abs=2)


def test_a_value_that_stands_sounds_as_if_it_were_set():
    at = song(held(sound=replace(SINE, params={**SINE.params, "osc1_semitones": 7.0})))
    moved = song(held(automation=drawn("osc1_semitones", (0, 7.0))))
    a, b = (Mixdown(s).solo(s.part("lead"), 0, 4 * BEAT) for s in (at, moved))
    np.testing.assert_array_equal(a, b)


def test_what_a_voice_does_not_move_is_read_where_a_note_begins():
    """A release drawn longer: the first note's is short, the second's long."""
    two = Pattern(4, (Note(0, 480, 69, 1.0), Note(2 * BAR, 480, 69, 1.0)))
    part = replace(held(), patterns={"A": two}, automation=drawn("env1_release_ms", (0, 1.0), (BAR, 1.0), (BAR + 1, 800.0)))
    x = Mixdown(song(part)).solo(part, 0, 16 * BEAT)
    after = slice(BEAT // 2 + 6000, BEAT // 2 + 10_000)
    assert np.abs(x[:, after]).max() < 1e-3 < 0.05 < np.abs(x[:, 8 * BEAT + after.start : 8 * BEAT + after.stop]).max()


def test_a_drum_takes_its_values_at_each_hit():
    hits = Pattern(4, tuple(Note(k * BAR, 240, 36, 1.0) for k in range(4)))
    longer = drawn("decay_ms", (0, 80.0), (4 * BAR, 900.0))
    kick = replace(held("kick", Sound("kick")), role="kick", patterns={"A": hits}, automation=longer)
    mixdown = Mixdown(song(kick))
    tails = [np.square(mixdown.block(kick, bar)[:, 12_000:20_000]).mean() for bar in range(4)]
    assert all(a < b for a, b in pairwise(tails))


def test_equal_notes_are_rendered_once_where_the_value_stands():
    hits = Pattern(1, (Note(0, 960, 69, 1.0),))
    cache = RenderCache()
    part = replace(held(), patterns={"A": hits}, automation=drawn("filter1_hz", (0, 900.0)))
    mixdown = Mixdown(song(part), cache)
    for bar in range(4):
        mixdown.block(part, bar)
    assert cache.computed == 2


def test_an_lfo_of_the_strip_moves_the_voice_and_its_key():
    plain = song(held(sound=replace(SINE, choices={**SINE.choices, "osc1_wave": "saw", "filter1_kind": "low-pass 24"})))
    cache = RenderCache()

    def moved(rate):
        modulators = moving(("lead", "voice", "filter1_hz", 2.0), shape="square", rate=rate)
        return with_strip(plain, replace(plain.part("lead"), modulators=modulators))

    made, slower = moved("1/2"), moved("1 bar")
    a, b, c = (Mixdown(s, cache).block(s.part("lead"), 1) for s in (plain, made, slower))
    assert np.abs(a - b).max() > 0.02 < np.abs(b - c).max()
    np.testing.assert_array_equal(c, Mixdown(slower).block(slower.part("lead"), 1))


# Followers ------------------------------------------------------------------------------------------------------------


def gate(ticks=960, bars=1, **settings):
    """A sine of A4 at the head of each bar."""
    hits = Pattern(bars, (Note(0, ticks, 81, 1.0),))
    return replace(held("gate", **settings), patterns={"A": hits})


def following(amount, target=("lead", "fader", "gain_db"), **settings):
    return moving((*target, amount), **{"follows": "gate", "attack_ms": 0.0, "release_ms": 20.0} | settings)


def test_a_follower_moves_a_fader_by_the_others_level():
    """Full height would be 0 dB full scale: the gate's level says how much of it there is, and where it rests nothing moves."""
    still, moved = (song(held(modulators=m), gate()) for m in ((), following(-12.0)))
    by = levels(moved) - levels(still)
    peak_db = 20 * np.log10(np.abs(Mixdown(still).block(still.part("gate"), 1)).max())
    assert -30 < peak_db < -6
    assert by[0] == pytest.approx(-12 * (1 + peak_db / 48), abs=0.4)
    np.testing.assert_allclose(by[4:7], 0, atol=1e-6)
    # Quieter by its own fader it moves less, muted as much as before: it is heard by nobody and steers on.
    quieter = song(held(modulators=following(-12.0)), gate(gain_db=-12.0))
    assert (levels(quieter) - levels(still))[0] == pytest.approx(by[0] + 3, abs=0.1)
    muted = song(held(modulators=following(-12.0)), gate(mute=True))
    np.testing.assert_allclose(levels(muted), levels(moved), atol=1e-9)


def test_a_follower_lets_go_in_its_time():
    fast, slow = (song(held(modulators=following(-12.0, release_ms=ms)), gate(ticks=240)) for ms in (10.0, 300.0))
    still = song(held(), gate(ticks=240))
    for made, longest in ((fast, 1), (slow, 4)):
        by = levels(made) - levels(still)
        assert (by[:longest] < -0.3).all()
        assert by[-1] == pytest.approx(0, abs=0.01)
    assert (levels(slow) - levels(fast))[1] < -2


def test_followers_move_effects_and_sends_and_bars_alone_equal_the_whole():
    lead = held(
        chain=(Effect("sweep", {"cutoff_hz": 300.0}),), sends={REVERB_RETURN: Send(-40.0)},
        modulators=moving(("lead", "e1", "cutoff_hz", 3.0), ("lead", "sends", REVERB_RETURN, 30.0), follows="gate"),
    )  # fmt: skip
    made, still = (song(p, gate()) for p in (lead, replace(lead, modulators=())))
    whole = Mixdown(made)
    everything = whole.samples(0, whole.frames)
    start, stop = whole.bar_range(3, 4)
    np.testing.assert_array_equal(Mixdown(made).samples(start, stop), everything[:, start:stop])
    assert np.abs(everything - Mixdown(still).samples(0, whole.frames)).max() > 1e-4


def test_bars_in_which_the_followed_part_does_the_same_share_a_key():
    cache = RenderCache()
    lead = held(bars=1, chain=(Effect("sweep"),), modulators=following(1.0, ("lead", "e1", "cutoff_hz")))
    mixdown = Mixdown(replace(song(lead, gate()), sections=(SongSection("s1", "drop", 6),)), cache)
    mixdown.block(mixdown.song.part("lead"), 3)
    computed = cache.computed
    mixdown.block(mixdown.song.part("lead"), 4)
    assert cache.computed == computed


def test_a_follower_goes_with_the_part_that_it_follows():
    made = song(held(modulators=following(-6.0)), gate())
    left = parse_edit({"kind": "delete_part", "part": "gate"}).apply(made)
    assert left.part("lead").modulators == ()


@pytest.mark.parametrize("changed", [{"follows": "nobody"}, {"follows": "bus:music"}, {"device": "voice", "param": "filter1_hz"}])
def test_what_a_follower_can_not_do_is_said(changed):
    target = {"strip": "lead", "device": "fader", "param": "gain_db"} | {k: v for k, v in changed.items() if k != "follows"}
    wanted = {"id": "m1", "follows": changed.get("follows", "gate"), "moves": [{"target": target, "amount": 1.0}]}
    edit = parse_edit({"kind": "set_modulators", "strip": "lead", "modulators": [wanted]})
    with pytest.raises(InvalidEdit, match=r"^[^.]+\.$"):
        edit.apply(song(held(), gate()))


def test_bars_alone_equal_the_whole_with_everything_moving():
    part = held(
        chain=(Effect("sweep"), Effect("reverb", {"decay_s": 0.5})), sends={REVERB_RETURN: Send(-12.0)}, width=1.2,
        automation=drawn("filter1_hz", (0, 300.0), (4 * BAR, 4000.0)),
        modulators=moving(
            ("lead", "e1", "cutoff_hz", 2.0), ("lead", "e2", "blend", 0.3), ("lead", "fader", "width", 0.5),
            ("lead", "voice", "drive", 0.2), ("lead", "sends", REVERB_RETURN, 6.0), shape="random", rate="1/8 triplet", seed=4,
        ),
    )  # fmt: skip
    whole = Mixdown(song(part))
    everything = whole.samples(0, whole.frames)
    for first, last in ((2, 2), (3, 4)):
        start, stop = whole.bar_range(first, last)
        np.testing.assert_array_equal(Mixdown(song(part)).samples(start, stop), everything[:, start:stop])


MOVABLE = [
    (kind, param, rest, to)
    for kind, spec in EFFECTS.items()
    for param in spec.params
    if param.moves is not None and not param.name.startswith(tuple(f"band{k}" for k in range(2, 9)))
    for rest, to in ((param.low, param.high), (param.high, param.low))
]


@pytest.mark.parametrize("kind, param, rest, to", MOVABLE)
def test_a_value_that_is_drawn_level_sounds_as_if_it_rested_there(kind, param, rest, to):
    """Also across bar lines: each bar is begun so early that what the drawn value rings for has settled."""
    values = {"band1_hz": 60.0, "band1_db": 6.0} if kind == "eq" else {"resonance": 0.4} if kind == "sweep" else {}
    choices = {"band1_kind": "bell"} if kind == "eq" else {}

    def sounding(value, drawn=()):
        effect = Effect(kind, {**values, param.name: value}, choices, id="e1")
        made = song(held(midi=45, chain=(effect,), automation=drawn))
        return Mixdown(made).before_fader("lead", 2, 4)

    level = Automation("e1", param.name, (AutomationPoint(0, to), AutomationPoint(BAR, to)))
    np.testing.assert_allclose(sounding(rest, (level,)), sounding(to), atol=1e-6)


@pytest.mark.parametrize(("before", "n"), [(0, 88_200), (30_000, 150_000), (-20_000, 10_000)])
def test_one_figure_stands_for_a_stretch_in_which_a_curve_does_not_move(before, n):
    """Before its first point, behind its last, between points of one height however bent, and from a jump on."""
    bar, grid = 3840, BarGrid(120.0, 0.0)
    points = ((2, -3.0, 0.0), (4, -3.0, 0.0), (5, 0.0, 0.0), (5, -6.0, 0.5), (8, -6.0, 0.0))
    curve = Automation("fader", "gain_db", tuple(AutomationPoint(k * bar, value, bent) for k, value, bent in points))
    found = []
    for k in range(10):
        first, last = (automation.ticks_at(float(at), grid, k, RATE_HZ) for at in (-before, n - before + automation.CONTROL))
        found.append(automation.standing(curve, first, last))
        values = set(automation.control_values(curve, grid, k, before, n, RATE_HZ).tolist())
        assert values == {found[k]} if found[k] is not None else len(values) > 1
    assert {-3.0, -6.0, None} == set(found)
