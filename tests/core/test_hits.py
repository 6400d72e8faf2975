"""What a single note or hit has of its own: pan, level, and what chance makes of it from one time to the next."""

from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.edits import parse_edit
from ersatz.core.errors import InvalidEdit
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.song.document import DRUMS, Song, SongSection
from ersatz.core.song.parts import Cell, Follows, Groove, Note, Part, Pattern, Sound

BAR = 3840
SINE = Sound("synth", {"osc1_level": 0.4}, {"osc1_wave": "sine", "osc1_start": "fixed"})


def part(*notes, sound=SINE, **settings):
    return Part(id="lead", name="Lead", role="lead", sound=sound, out=DRUMS, patterns={"A": Pattern(1, notes)},
                cells=(Cell("s1", "A"),), **settings)  # fmt: skip


def song(*parts):
    return Song("Test", 120.0, "A", "minor", 50.0, (SongSection("s1", "drop", 8),), parts)


def test_a_hit_has_its_own_place_between_the_sides():
    for pan, left, right in ((-1.0, 2**0.5, 0.0), (0.0, 1.0, 1.0), (1.0, 0.0, 2**0.5)):
        plain, moved = (song(part(Note(0, 960, 69, 1.0, pan=p))) for p in (0.0, pan))
        a, b = (Mixdown(s).block(s.parts[0], 0) for s in (plain, moved))
        np.testing.assert_allclose(b, a * np.array([[left], [right]]), atol=1e-6)


def test_a_level_moves_inside_a_note():
    fading = song(part(Note(0, BAR, 69, 1.0, level=((0, 0.0), (1920, -20.0), (2880, 0.0)))))
    plain = song(part(Note(0, BAR, 69, 1.0)))
    a, b = (Mixdown(s).block(s.parts[0], 0) for s in (plain, fading))

    def db(beat):
        at = slice(int(beat * RATE_HZ / 2) - 200, int(beat * RATE_HZ / 2) + 200)
        return 20 * np.log10(np.abs(b[:, at]).max() / np.abs(a[:, at]).max())

    assert [db(beat) for beat in (1, 2, 2.5, 3.5)] == pytest.approx([-10, -20, -10, 0], abs=0.3)


VARIED = Groove(random_velocity=0.3, random_pan=0.5, random_semitones=0.4, seed=5)


def test_hits_differ_every_time_and_are_the_same_for_the_same_seed():
    made = song(part(*(Note(k * 960, 240, 69, 0.6) for k in range(4)), groove=VARIED))
    notes = list(sounding_notes(made, made.parts[0]))
    assert len(notes) == 32 == len({(n.velocity, n.pan, n.semitones) for n in notes})
    assert notes == list(sounding_notes(made, made.parts[0]))
    other = song(replace(made.parts[0], groove=replace(VARIED, seed=6)))
    assert not {n.pan for n in notes} & {n.pan for n in sounding_notes(other, other.parts[0])}
    for values, middle, spread in (
        ([n.velocity for n in notes], 0.6, 0.3), ([n.pan for n in notes], 0.0, 0.5), ([n.semitones for n in notes], 0.0, 0.4),
    ):  # fmt: skip
        off = np.array(values) - middle
        assert np.abs(off).max() <= spread + 0.005 and np.abs(off).max() > 0.7 * spread and abs(off.mean()) < 0.4 * spread
    assert [n.start for n in notes] == [k * 960 for k in range(32)]


def test_what_humanises_comes_again_and_what_varies_does_not():
    steady, varied = (song(part(Note(0, 240, 69, 0.6), groove=g)) for g in (Groove(humanise_velocity=0.3, seed=5), VARIED))
    assert len({n.velocity for n in sounding_notes(steady, steady.parts[0])}) == 1
    assert len({n.velocity for n in sounding_notes(varied, varied.parts[0])}) == 8


def test_a_layer_varies_as_its_leader_does():
    lead = part(Note(0, 240, 69, 0.6), groove=VARIED)
    layer = Part(id="layer", name="Layer", role="lead", sound=SINE, follows=Follows("lead"))
    made = song(lead, layer)
    assert list(sounding_notes(made, layer)) == list(sounding_notes(made, lead))


def test_any_stretch_equals_the_whole_with_varied_hits():
    made = song(part(*(Note(k * 480, 240, 69, 0.6, pan=0.3) for k in range(8)), groove=VARIED))
    whole = Mixdown(made)
    everything = whole.samples(0, whole.frames)
    start, stop = whole.bar_range(3, 5)
    np.testing.assert_array_equal(Mixdown(made).samples(start, stop), everything[:, start:stop])


def test_notes_keep_pan_and_level_through_edits_and_refuse_what_is_too_much():
    made = song(part(Note(0, 240, 69, 0.6)))
    note = {"tick": 0, "ticks": 960, "midi": 60, "velocity": 1.0, "pan": -0.5, "level": [[0, 0], [480, -6]]}
    write = {"kind": "write_notes", "part": "lead", "pattern": "A", "bars": 1}
    written = parse_edit({**write, "notes": [note]}).apply(made)
    assert written.parts[0].patterns["A"].notes[0] == Note(0, 960, 60, 1.0, pan=-0.5, level=((0, 0.0), (480, -6.0)))
    assert Song.from_json(written.to_json()) == written
    for level in ([[0, 20]], [[480, 0], [0, 0]]):
        with pytest.raises(InvalidEdit, match="level"):
            parse_edit({**write, "notes": [{**note, "level": level}]}).apply(made)
    with pytest.raises(InvalidEdit, match="velocity"):
        parse_edit({"kind": "set_groove", "part": "lead", "groove": {"random_velocity": 0.9}}).apply(made)
