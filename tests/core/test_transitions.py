"""What happens at boundaries: where it begins and ends, what it is made of, and that all is as before behind the boundary."""

import json
from dataclasses import replace
from itertools import pairwise
from typing import get_args

import numpy as np
import pytest

from ersatz.core.edits import parse_edit
from ersatz.core.edits.automation import SetAutomation
from ersatz.core.edits.transitions import DeleteTransition, PutTransition
from ersatz.core.errors import InvalidEdit
from ersatz.core.mixdown.automation import values_at
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.mixdown.schedule import duck_triggers, sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.song.document import (
    DELAY_RETURN,
    DRUMS,
    MUSIC,
    PUMP,
    DuckCurve,
    Song,
    SongSection,
    TransitionKind,
    with_strip,
)
from ersatz.core.song.parts import Alternative, Cell, Note, Part, Pattern, Sound
from ersatz.core.song.strips import AutomationPoint, Effect, Target
from ersatz.core.transitions import TRANSITIONS, carrier
from ersatz.core.transitions.drums import RHYTHMS

BAR, BOUNDARY = 3840, 4 * 3840
BEATS = Pattern(1, tuple(Note(k * 960, 240, 60, 1.0) for k in range(4)))
HELD = Pattern(1, (Note(0, 3800, 57, 1.0), Note(0, 3800, 64, 1.0)))
ON = (Cell("s1", "A"), Cell("s2", "A"))


def part(part_id, role, sound, bus, pattern):
    return Part(id=part_id, name=part_id.capitalize(), role=role, sound=sound, out=bus, patterns={"A": pattern}, cells=ON)


SONG = Song(
    "Test", 120.0, "A", "minor", 50.0, (SongSection("s1", "build", 4), SongSection("s2", "drop", 4)),
    (
        part("kick", "kick", Sound("kick"), DRUMS, BEATS),
        part("clap", "clap", Sound("clap"), DRUMS, BEATS),
        part("rim", "perc", Sound("rim"), DRUMS, BEATS),
        part("pad", "chords", Sound("synth", {"osc1_level": 0.5}), MUSIC, HELD),
        part("lead", "lead", Sound("synth", {"osc1_level": 0.5}), MUSIC, BEATS),
    ),
)  # fmt: skip
KINDS = get_args(TransitionKind)


def put(kind, beats, song=SONG, **more):
    return PutTransition("s1", kind, beats, **more).apply(song)


def notes(song, part):
    played = staged(song)
    return sorted(sounding_notes(played, played.part(part)), key=lambda n: n.start)


def test_every_kind_of_the_format_has_its_spec():
    assert tuple(TRANSITIONS) == KINDS


@pytest.mark.parametrize("kind", KINDS)
def test_at_its_usual_length_every_kind_changes_what_is_played(kind):
    made = put(kind, 0)
    assert made.transitions[0].beats == min(TRANSITIONS[kind].usual_beats, 16)
    assert staged(made) != staged(replace(made, transitions=()))


@pytest.mark.parametrize("kind", [k for k in KINDS if not TRANSITIONS[k].rhythms])
def test_only_rolls_have_a_rhythm(kind):
    with pytest.raises(InvalidEdit, match="no rhythm"):
        put(kind, 0, rhythm="8ths")


def test_a_riser_ends_at_the_boundary_and_an_impact_begins_there():
    (riser,) = notes(put("riser", 8), "riser")
    assert (riser.start, riser.end) == (BOUNDARY - 8 * 960, BOUNDARY)
    (impact,) = notes(put("impact", 4), "impact")
    assert impact.start == BOUNDARY
    # The song had neither part; now it has, to be levelled like any other.
    assert put("riser", 8).part("riser") == carrier("riser")


@pytest.mark.parametrize("rhythm", RHYTHMS)
def test_a_roll_is_played_by_the_clap_in_its_rhythm_and_louder_to_the_boundary(rhythm):
    roll = [n for n in notes(put("snare roll", 8, rhythm=rhythm, amount=1.0), "clap") if BOUNDARY - 8 * 960 <= n.start < BOUNDARY]
    steps = {round(b.start - a.start) for a, b in pairwise(roll)}
    assert steps == {step for _, step in RHYTHMS[rhythm]}
    assert all(b.velocity > a.velocity for a, b in pairwise(roll))
    assert BOUNDARY - roll[-1].start <= RHYTHMS[rhythm][-1][1]
    # Nothing else of the clap in between, everything of it before and behind.
    assert sum(n.start < BOUNDARY - 8 * 960 for n in notes(put("snare roll", 8), "clap")) == 8
    assert sum(n.start >= BOUNDARY for n in notes(put("snare roll", 8), "clap")) == 16


def test_a_sweep_on_a_part_without_effects_is_rendered_from_a_cold_cache():
    """Where a chain does nothing its bar is its source's: the same node, which must not wait for itself."""
    swept = put("high-cut sweep", 8, on=("lead",))
    lone = replace(SONG, parts=tuple(replace(p, chain=(Effect("width"),)) if p.id == "lead" else p for p in SONG.parts))
    off = SetAutomation(Target("lead", "e1", "blend"), (AutomationPoint(0, 0.0),)).apply(lone)
    bus = SetAutomation(Target(MUSIC, "e1", "blend"), (AutomationPoint(0, 0.0),)).apply(
        with_strip(SONG, replace(SONG.strip(MUSIC), chain=(Effect("width"),)))
    )
    for song, same in ((swept, False), (off, True), (bus, True)):
        mix = Mixdown(song)
        plain = Mixdown(SONG)
        a, b = (m.samples(*m.bar_range(1, 5)) for m in (mix, plain))
        assert np.array_equal(a, b) == same
        # What is far from the sweep is untouched, to the last bit.
        assert np.array_equal(*(m.mix(*m.bar_range(1, 1)) for m in (mix, plain)))


def test_a_node_that_is_made_of_itself_is_an_error_and_no_endless_wait():
    cache = RenderCache()
    with pytest.raises(RuntimeError, match="made of itself"):
        cache.get("a", lambda: cache.get("a", lambda: np.zeros(1)))
    assert cache.get("a", lambda: np.ones(1))[0] == 1


def own_sound(song, part, section, sound):
    cells = tuple(replace(c, sound=sound) if c.section == section else c for c in song.part(part).cells)
    return replace(song, parts=tuple(replace(p, cells=cells) if p.id == part else p for p in song.parts))


def test_a_transition_that_names_a_part_works_on_cells_with_a_sound_of_their_own():
    song = own_sound(SONG, "lead", "s1", Sound("synth", {"osc1_level": 0.3}))
    gap = notes(put("gap", 2, song, on=("lead",)), "lead~1")
    assert gap and all(n.end <= BOUNDARY - 2 * 960 for n in gap)
    thrown = staged(put("echo throw", 4, song, on=("lead",))).part("lead~1")
    assert [(a.device, a.param) for a in thrown.automation] == [("sends", DELAY_RETURN)]
    swept = staged(put("low-cut sweep", 8, song, on=("lead",)))
    assert [len(swept.part(p).chain) for p in ("lead", "lead~1")] == [1, 1]
    claps = own_sound(SONG, "clap", "s1", Sound("snare"))
    rolled = put("snare roll", 4, claps)
    assert sum(BOUNDARY - 4 * 960 <= n.start < BOUNDARY for n in notes(rolled, "clap~1")) > 8
    assert not any(n.start < BOUNDARY for n in notes(rolled, "clap"))
    # A swell is made of the sound that follows it.
    pads = own_sound(SONG, "pad", "s2", Sound("synth", {"osc1_level": 0.3}))
    assert [n.swell for n in notes(put("reverse swell", 4, pads), "pad~1") if n.start < BOUNDARY] == [True, True]
    # The ducker follows the kick's pattern where its sound is another.
    kicks = own_sound(SONG, "kick", "s1", Sound("kick", {"drive": 0.9}))
    for triggers, hits in (((), 32), (("kick",), 32), (("kick", "rim"), 64)):
        curve = DuckCurve(PUMP, "Pump", "hits", (1.0,) * 64, triggers)
        assert len(duck_triggers(staged(kicks), curve, RATE_HZ)) == hits


def test_a_roll_on_a_sliced_part_goes_through_the_slices_that_it_plays():
    sliced = Sound("sample", choices={"slice_mode": "4 parts"}, samples={"sample": "x"})
    pattern = Pattern(1, (Note(0, 240, 36, 1.0), Note(960, 240, 37, 1.0), Note(1920, 240, 36, 1.0), Note(2880, 240, 38, 1.0)))
    parts = tuple(replace(p, sound=sliced, patterns={"A": pattern}) if p.id == "clap" else p for p in SONG.parts)
    roll = [n for n in notes(put("snare roll", 4, replace(SONG, parts=parts)), "clap") if BOUNDARY - 4 * 960 <= n.start < BOUNDARY]
    assert [n.midi for n in roll if n.start >= BOUNDARY - 960] == [38] * sum(n.start >= BOUNDARY - 960 for n in roll)
    assert {n.midi for n in roll} == {36, 37, 38}


def test_a_gap_silences_the_named_parts_or_all():
    for on, silent in (((), {"kick", "clap", "pad"}), (("kick",), {"kick"}), (("bus:drums",), {"kick", "clap"})):
        gapped = put("gap", 4, on=on)
        for part in ("kick", "clap", "pad"):
            rest = [n for n in notes(gapped, part) if n.start < BOUNDARY and n.end > BOUNDARY - 4 * 960 + 1]
            assert (not rest) == (part in silent)


def test_a_gap_cuts_the_riser_that_leads_into_it():
    gapped = put("gap", 2, put("riser", 8))
    assert notes(gapped, "riser")[0].end == BOUNDARY - 2 * 960


def test_a_fill_replaces_the_backbeat_and_is_the_same_for_the_same_seed():
    one, same, other = (put("drum fill", 4, seed=s) for s in (1, 1, 5))
    assert [notes(one, p) for p in ("clap", "rim")] == [notes(same, p) for p in ("clap", "rim")]
    assert [notes(one, p) for p in ("clap", "rim")] != [notes(other, p) for p in ("clap", "rim")]
    assert {n.semitones for n in notes(one, "rim")} - {0.0}


@pytest.mark.parametrize("kind", ["low-cut sweep", "high-cut sweep", "wash"])
def test_what_sweeps_a_bus_leaves_every_other_bar_as_it_was(kind):
    made, plain = Mixdown(put(kind, 4, on=("bus:drums",))), Mixdown(SONG)
    for bar in range(8):
        changed = not np.array_equal(made.block(made.song.strip("bus:drums"), bar), plain.block(plain.song.strip("bus:drums"), bar))
        assert changed == (bar == 3), bar
    assert np.array_equal(made.block(made.song.strip("bus:music"), 3), plain.block(plain.song.strip("bus:music"), 3))


def spectrum(x):
    power = np.abs(np.fft.rfft(x)) ** 2
    return np.fft.rfftfreq(len(x), 1 / RATE_HZ), power


def test_a_low_cut_sweep_takes_the_lows_away_towards_the_boundary():
    made, plain = (Mixdown(s).block(s.strip("bus:drums"), 3)[0] for s in (put("low-cut sweep", 4, amount=1.0), SONG))
    hz, before = spectrum(plain[-RATE_HZ // 2 : -RATE_HZ // 8])
    after = spectrum(made[-RATE_HZ // 2 : -RATE_HZ // 8])[1]
    low = hz < 120
    assert after[low].sum() < 0.01 * before[low].sum()


def test_a_slow_down_lowers_the_pitch_to_a_stop_and_snaps_back():
    """A held fifth through the master's slow-down: half way it runs at half its speed."""
    song = replace(SONG, parts=tuple(p for p in SONG.parts if p.id == "pad"))
    song = replace(song, parts=(replace(song.parts[0], patterns={"A": Pattern(1, (Note(0, 3840, 69, 1.0),))}),))
    made, plain = Mixdown(put("slow-down", 4, song, amount=1.0)), Mixdown(song)
    bar = made.block(made.song.master, 3)[0]
    half = len(bar) // 2
    hz, power = spectrum(bar[half - 2000 : half + 2000] * np.hanning(4000))
    power[hz < 60] = 0
    assert hz[power.argmax()] == pytest.approx(220, abs=12)
    assert np.array_equal(made.block(made.song.master, 4), plain.block(plain.song.master, 4))


def test_a_reverse_swell_grows_to_the_boundary_and_is_the_parts_own():
    alone = replace(SONG, parts=tuple(replace(p, cells=(Cell("s2", "A"),)) for p in SONG.parts if p.id == "pad"))
    mixdown = Mixdown(put("reverse swell", 4, alone, amount=1.0))
    bar = mixdown.block(mixdown.song.part("pad"), 3)
    levels = [np.sqrt(np.mean(np.square(piece))) for piece in np.array_split(bar, 4, axis=1)]
    assert all(b > 1.4 * a for a, b in pairwise(levels))
    assert mixdown.block(mixdown.song.part("pad"), 2) is None
    pitches = {n.midi for n in notes(put("reverse swell", 4, alone), "pad") if n.swell}
    assert pitches == {57, 64}


def test_an_echo_throw_opens_the_send_for_the_last_hit_alone():
    thrown = staged(put("echo throw", 4, on=("lead",), amount=1.0)).part("lead")
    mixdown = Mixdown(put("echo throw", 4, on=("lead",), amount=1.0))
    send = thrown.curve("sends", DELAY_RETURN)
    inside = np.linspace(3 * BAR, 4 * BAR - 2, 400)
    level = values_at(send, inside)
    assert level.max() == 0.0 and level[: int(0.74 * 400)].max() == -60.0
    assert values_at(send, np.array([0, 3 * BAR - 1, 4 * BAR, 7 * BAR], float)).max() == -60.0
    echoes = [mixdown.block(mixdown.song.strip(DELAY_RETURN), bar) for bar in (2, 4)]
    assert echoes[0] is None and np.abs(echoes[1]).max() > 1e-3


def test_any_stretch_alone_equals_the_whole_with_every_transition_at_once():
    song = SONG
    for kind in KINDS:
        song = put(kind, 2 if kind == "gap" else 4, song)
    whole = Mixdown(song)
    all_of_it = whole.samples(0, whole.frames)
    for first, last in ((1, 1), (4, 4), (5, 6)):
        start, stop = whole.bar_range(first, last)
        np.testing.assert_array_equal(Mixdown(song).samples(start, stop), all_of_it[:, start:stop])
    assert Song.from_json(json.loads(json.dumps(song.to_json()))) == song


def test_transitions_are_put_changed_and_taken_out():
    made = put("riser", 0.0)
    assert made.transitions[0].beats == 16
    changed = PutTransition("s1", "riser", 4, 0.5, id="t1").apply(made)
    assert [(t.id, t.beats, t.amount) for t in changed.transitions] == [("t1", 4, 0.5)]
    assert DeleteTransition("t1").apply(changed).transitions == ()
    assert PutTransition("s1", "riser", id="t1").sentence(made) == "Riser at the end of build changed"
    assert DeleteTransition("t1").sentence(made) == "Riser at the end of build deleted"
    assert parse_edit({"kind": "put_transition", "section": "s1", "what": "gap", "beats": 2.0}).apply(SONG) == put("gap", 2.0)
    for bad in (
        PutTransition("s1", "gap", 16), PutTransition("s9", "gap"), PutTransition("s1", "riser", 99), DeleteTransition("t9"),
        PutTransition("s1", "riser", 4, amount=2), PutTransition("s1", "snare roll", 4, rhythm="waltz"),
        PutTransition("s1", "riser", id="t9"), PutTransition("s1", "wash", on=("nobody",)),
    ):  # fmt: skip
        with pytest.raises(InvalidEdit):
            bad.apply(SONG)


def test_a_cell_with_a_sound_of_its_own_plays_it_in_that_section_alone():
    lead = SONG.part("lead")
    bell = Sound("rim", name="bell")
    cells = (Cell("s1", "A"), Cell("s2", "A", sound=bell, other=Alternative("A")))
    played = staged(replace(SONG, parts=(replace(lead, cells=cells),)))
    assert [(p.id, p.sound.voice, [c.section for c in p.cells]) for p in played.parts] == [
        ("lead", "synth", ["s1"]), ("lead~1", "rim", ["s2"]),
    ]  # fmt: skip


def test_a_cell_that_another_part_plays_is_silent_itself():
    lead, pad = SONG.part("lead"), SONG.part("pad")
    lead = replace(lead, cells=(Cell("s1", "A"), Cell("s2", "A", part="pad")))
    pad = replace(pad, cells=(Cell("s1", "A"), Cell("s2", "A", on=False)))
    played = staged(replace(SONG, parts=(lead, pad)))
    assert [c.section for c in played.part("lead").cells] == ["s1"]
    assert [(c.section, c.on) for c in played.part("pad").cells] == [("s1", True), ("s2", True)]
