"""Layers: parts that play what others play."""

import itertools
from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.edits import parse_edit
from ersatz.core.errors import InvalidEdit
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.mixdown.schedule import Sounding, chosen, root_of, sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.song.document import MUSIC, Song, SongSection
from ersatz.core.song.parts import Cell, Follows, Groove, Note, Part, Pattern, Sound

BAR = 3840
CHORDS = Pattern(1, (
    *(Note(0, 900, m, 1.0) for m in (57, 60, 64)), *(Note(1920, 900, m, 0.7) for m in (60, 65, 69)),
))  # fmt: skip
LEADER = Part(
    id="pad", name="Pad", role="chords", sound=Sound("synth", {"osc1_level": 0.4}), out=MUSIC, patterns={"A": CHORDS},
    cells=(Cell("s1", "A"), Cell("s2", "A", entry_bars=1)), groove=Groove("late", humanise_ms=6.0, humanise_velocity=0.05, seed=3),
)  # fmt: skip


def song(*parts):
    return Song("Test", 120.0, "A", "minor", 50.0, (SongSection("s1", "build", 2), SongSection("s2", "drop", 2)), parts)


def layer(**follows):
    return Part(id="layer", name="Layer", role="chords", sound=LEADER.sound, out=MUSIC, follows=Follows("pad", **follows))


def notes(made, part="layer"):
    played = staged(made)
    return list(sounding_notes(played, played.part(part)))


def test_a_layer_plays_the_others_notes_where_and_when_that_one_does():
    made = song(LEADER, layer())
    assert sorted(notes(made), key=repr) == sorted(notes(made, "pad"), key=repr)
    assert len(notes(made)) == 6 * 3
    a, b = (Mixdown(made).block(made.part(p), 3) for p in ("pad", "layer"))
    np.testing.assert_array_equal(a, b)


def test_a_layer_is_moved_in_pitch_time_and_strength():
    plain = notes(song(LEADER, layer()))
    moved = notes(song(LEADER, layer(semitones=12, cents=7.0, late_ms=10.0, velocity=0.5)))
    for a, b in zip(plain, moved):
        assert b.pitch == pytest.approx(a.pitch + 12.07)
        assert b.start == pytest.approx(a.start + 0.010 / 0.5 * 960) and b.end - b.start == pytest.approx(a.end - a.start)
        assert b.velocity == pytest.approx(a.velocity / 2)


@pytest.mark.parametrize(("only", "expected"), [
    ("all", {57, 60, 64, 65, 69}), ("top", {64, 69}), ("lowest", {57, 60}), ("root", {57, 65}), ("accents", {57, 60, 64}),
])  # fmt: skip
def test_a_layer_takes_some_of_the_notes(only, expected):
    # Notes of a chord that aren't struck at the very same time are one chord.
    flat = replace(LEADER, groove=Groove(humanise_ms=4.0))
    assert {n.midi for n in notes(song(flat, layer(only=only)))} == expected


def test_the_root_is_found_in_every_inversion_and_octave():
    def chord(pitches):
        return [Sounding(0.0, 1.0, p, 1.0, 0) for p in sorted(pitches)]

    for steps in ((0, 4, 7), (0, 3, 7), (0, 3, 7, 10), (0, 4, 7, 11), (0, 3, 6)):
        for octaves in itertools.product((0, 12), repeat=len(steps)):
            root = root_of(chord([48 + s + o for s, o in zip(steps, octaves)]))
            assert root.midi % 12 == 0, (steps, octaves)
    assert chosen([], "root") == []


def test_a_layer_rests_where_it_is_switched_off():
    off = parse_edit({"kind": "switch_part", "part": "layer", "section": "s1", "on": False}).apply(song(LEADER, layer()))
    assert min(n.start for n in notes(off)) >= 2 * BAR
    on = parse_edit({"kind": "switch_part", "part": "layer", "section": "s1", "on": True}).apply(off)
    assert notes(on) == notes(song(LEADER, layer()))


def test_a_layer_follows_what_becomes_of_its_leader():
    """Cells with a sound of their own, a gap, a changed pattern: cached bars of the layer don't go stale."""
    made = song(LEADER, layer(semitones=12))
    own = replace(LEADER, cells=(Cell("s1", "A", sound=Sound("synth", {"osc1_level": 0.2})), Cell("s2", "A")))
    assert len(notes(song(own, layer()))) == 6 * 4
    cache = Mixdown(made).cache
    before = Mixdown(made, cache).block(made.part("layer"), 0)
    other = replace(made, parts=(replace(LEADER, patterns={"A": Pattern(1, (Note(0, 900, 62, 1.0),))}), made.part("layer")))
    after = Mixdown(other, cache).block(other.part("layer"), 0)
    assert not np.array_equal(before, after)
    np.testing.assert_array_equal(after, Mixdown(other).block(other.part("layer"), 0))
    gapped = parse_edit({"kind": "put_transition", "section": "s1", "what": "gap", "beats": 2.0}).apply(made)
    assert all(n.end <= 2 * BAR - 2 * 960 or n.start >= 2 * BAR for n in notes(gapped))


def test_a_layer_of_a_layer_plays_on_and_none_follows_itself():
    second = replace(layer(semitones=12), id="second", follows=Follows("layer", semitones=-24))
    made = song(LEADER, layer(semitones=12), second)
    assert {n.midi for n in notes(made, "second")} == {n.midi - 12 for n in notes(made, "pad")}
    with pytest.raises(InvalidEdit, match="itself"):
        parse_edit({"kind": "set_layer", "part": "layer", "follows": {"part": "second"}}).apply(made)
    with pytest.raises(InvalidEdit, match="no part"):
        parse_edit({"kind": "set_layer", "part": "layer", "follows": {"part": "nobody"}}).apply(made)


def test_a_layer_is_added_beside_its_leader():
    add = parse_edit({"kind": "add_layer", "follows": {"part": "pad", "semitones": 12}, "sound": "Beacon", "name": "Octave"})
    made = add.apply(song(LEADER))
    octave = made.part("octave")
    assert (add.sentence(song(LEADER)), octave.out, octave.sound.name, octave.gain_db) == (
        "Octave added",
        MUSIC,
        "Beacon",
        LEADER.gain_db,
    )
    assert {n.midi for n in notes(made, "octave")} == {n.midi + 12 for n in notes(made, "pad")}
    own = parse_edit({"kind": "add_layer", "follows": {"part": "pad"}}).apply(song(LEADER))
    assert (own.parts[-1].name, own.parts[-1].sound) == ("Pad layer", LEADER.sound)
    assert Song.from_json(made.to_json()) == made


def test_what_a_layer_played_stays_when_its_leader_is_taken_out():
    flat = replace(LEADER, groove=Groove())
    made = song(flat, layer(semitones=12))
    played = {(n.start, n.midi) for n in notes(made)}
    gone = parse_edit({"kind": "delete_part", "part": "pad"}).apply(made)
    assert gone.part("layer").follows is None
    assert {(n.start, n.midi) for n in notes(gone)} == played
    freed = parse_edit({"kind": "set_layer", "part": "layer", "follows": None}).apply(made)
    assert notes(freed) == []
