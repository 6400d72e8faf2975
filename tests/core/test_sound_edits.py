"""Edits of sounds, effects and notes: what they change, what they say, what they refuse. And what a key press plays."""

import json
from dataclasses import replace

import numpy as np
import pytest

from ersatz.core.draft.generate import generate
from ersatz.core.edits import EDITS, edit_json, parse_edit
from ersatz.core.edits.automation import SetAutomation, automatable
from ersatz.core.edits.sound import SetEffects
from ersatz.core.effects import EFFECTS
from ersatz.core.effects.pictures import picture_of
from ersatz.core.errors import InvalidEdit, UnusableDocument
from ersatz.core.mixdown.audition import HEARD_LUFS, audition, bypass_db, sounding_as
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import REVERB_RETURN
from ersatz.core.song.parts import Modulation, Note, Sound
from ersatz.core.song.strips import Automation, AutomationPoint, Effect, Target, identified
from ersatz.core.voices import complete, library, render_note
from ersatz.core.voices.pictures import AXIS_HZ, pictures_of
from ersatz.core.voices.spec import Played


def edit(kind, **fields):
    """As it comes over the wire."""
    return parse_edit(json.loads(json.dumps({"kind": kind, **fields})))


def applied(song, kind, **fields):
    return edit(kind, **fields).apply(song).part("lead")


@pytest.mark.parametrize(
    "kind,fields,said",
    [
        ("set_sound_value", {"name": "filter1_hz", "value": 900.0}, "Cutoff 900 Hz"),
        ("set_sound_choice", {"name": "filter1_kind", "option": "notch"}, "Kind notch"),
        ("set_modulations", {"modulations": [{"source": "lfo 1", "target": "pan", "amount": 0.5}]}, "lfo 1 moves Pan"),
        ("set_shape", {"name": "lfo1", "points": [0.0, 1.0, -1.0]}, "LFO 1 drawn"),
        ("load_sound", {"sound": {"voice": "rim", "name": "Rail tap"}}, "plays Rail tap"),
        ("set_effects", {"effects": [{"kind": "reverb"}]}, "Reverb added"),
        (
            "write_notes",
            {"pattern": "A", "bars": 2, "notes": [{"tick": 0, "ticks": 240, "midi": 60, "velocity": 1.0}]},
            "notes changed",
        ),
    ],
)
def test_an_edit_says_what_it_does_and_comes_back_from_json(song, kind, fields, said):
    made = edit(kind, **{"strip" if kind == "set_effects" else "part": "lead"}, **fields)
    assert said in made.sentence(song)
    assert made.apply(song) != song
    assert parse_edit(edit_json(made)) == made


def test_every_other_edit_is_among_these():
    others = {kind for kind, e in EDITS.items() if e.__module__.endswith("edits.sound")}
    assert others == {
        "set_sound_value", "set_sound_choice", "set_modulations", "set_shape", "load_sound", "set_effects",
        "set_sample",
    }  # fmt: skip
    assert all(EDITS[kind].kind == kind for kind in EDITS)


def test_values_go_where_they_belong(song):
    assert applied(song, "set_sound_value", part="lead", name="osc1_octave", value=0.7).sound.params["osc1_octave"] == 1.0
    assert applied(song, "set_shape", part="lead", name="lfo2", points=[0.5, -0.5]).sound.shapes == {"lfo2": (0.5, -0.5)}
    notes = [{"tick": 960, "ticks": 240, "midi": 62, "velocity": 0.5}, {"tick": 0, "ticks": 240, "midi": 60, "velocity": 1.0}]
    pattern = applied(song, "write_notes", part="lead", pattern="A", bars=1, notes=notes).patterns["A"]
    assert [n.tick for n in pattern.notes] == [0, 960]
    assert pattern.bars == 1


@pytest.mark.parametrize(
    "kind,fields",
    [
        ("set_sound_value", {"name": "filter1_hz", "value": 90_000.0}),
        ("set_sound_value", {"name": "none", "value": 1.0}),
        ("set_sound_choice", {"name": "filter1_kind", "option": "none"}),
        ("set_sound_choice", {"name": "none", "option": "none"}),
        ("set_modulations", {"modulations": [{"source": "none", "target": "pan", "amount": 1.0}]}),
        ("set_modulations", {"modulations": [{"source": "lfo 1", "target": "pan", "amount": 1.0}] * 25}),
        ("set_shape", {"name": "lfo1", "points": [2.0, 0.0]}),
        ("load_sound", {"sound": {"voice": "none"}}),
        ("set_effects", {"effects": [{"kind": "none"}]}),
        ("set_effects", {"effects": [{"kind": "reverb", "blend": 2.0}]}),
        ("set_effects", {"effects": [{"kind": "reverb", "above_hz": -5.0}]}),
        ("set_effects", {"effects": [{"kind": "compressor", "sidechain": "lead"}]}),
        ("set_effects", {"effects": [{"kind": "reverb"}] * 13}),
        ("write_notes", {"pattern": "none", "bars": 1, "notes": []}),
        ("write_notes", {"pattern": "A", "bars": 1, "notes": [{"tick": 4000, "ticks": 9, "midi": 60, "velocity": 1.0}]}),
        ("write_notes", {"pattern": "A", "bars": 99, "notes": []}),
    ],
)
def test_what_cannot_be_is_refused_with_a_sentence(song, kind, fields):
    with pytest.raises((InvalidEdit, UnusableDocument)) as refused:
        edit(kind, **{"strip" if kind == "set_effects" else "part": "lead"}, **fields).apply(song)
    assert str(refused.value).endswith(".")


def test_a_chain_says_what_has_changed(song):
    def after(*effects):
        return edit("set_effects", strip="lead", effects=[{"kind": kind, "id": name} for kind, name in effects])

    two = after(("eq", "a"), ("reverb", "b")).apply(song)
    assert after(("reverb", "b"), ("eq", "a")).sentence(two).endswith("in another order")
    assert after(("eq", "a")).sentence(two).endswith("Reverb deleted")
    assert after(("eq", "a"), ("delay", ""), ("reverb", "b")).sentence(two).endswith("Delay added")
    assert after(("delay", ""), ("reverb", "b")).sentence(two).endswith("Delay for Equaliser")
    louder = edit("set_effects", strip="lead", effects=[{"kind": "eq", "id": "a"}, {"kind": "reverb", "id": "b", "blend": 0.5}])
    assert louder.sentence(two).endswith("Reverb changed")


def test_automation_goes_with_its_effect(song):
    moves = (Automation("e1", "blend", (AutomationPoint(0, 0.5),)), Automation("fader", "pan", (AutomationPoint(0, 0.0),)))
    lead = replace(song.part("lead"), chain=(Effect("eq"), Effect("reverb")), automation=moves)
    assert [e.id for e in lead.chain] == ["e1", "e2"]
    made = replace(song, parts=tuple(lead if p.id == "lead" else p for p in song.parts))

    def after(*effects):
        edited = applied(made, "set_effects", strip="lead", effects=[{"kind": kind, "id": name} for kind, name in effects])
        return [e.id for e in edited.chain], [f"{a.device}.{a.param}" for a in edited.automation]

    both = ["e1.blend", "fader.pan"]
    assert after(("reverb", "e2"), ("eq", "e1")) == (["e2", "e1"], both)
    assert after(("delay", ""), ("eq", "e1"), ("reverb", "e2")) == (["e3", "e1", "e2"], both)
    assert after(("eq", ""), ("eq", "e1")) == (["e3", "e1"], both)
    assert after(("reverb", "e2")) == (["e2"], ["fader.pan"])
    # Without ids they are others, which nothing moves.
    assert after(("eq", ""), ("reverb", "")) == (["e3", "e4"], ["fader.pan"])
    with pytest.raises(InvalidEdit, match="there any more"):
        after(("delay", "e1"))


def test_effects_of_a_chain_have_ids_of_their_own():
    assert [e.id for e in identified((Effect("eq"), Effect("eq", id="e1"), Effect("eq", id="x"), Effect("eq", id="x")))] == [
        "e2",
        "e1",
        "x",
        "e3",
    ]
    chain = (Effect("eq", id="a"), Effect("reverb", id="b"))
    assert identified(chain) is chain


def test_every_note_is_heard_at_one_loudness():
    for name in ("Keel", "Long swell", "Rivet", "Main light"):
        entry = library.library()[name]
        midi, held = library.note_of(entry.role)
        for effects in ((), (Effect("saturation", {"drive_db": 24.0}), Effect("reverb", {"decay_s": 0.8}))):
            x = audition(entry.sound, effects, midi, held)
            reached = library.loudness_lufs(x) == pytest.approx(HEARD_LUFS, abs=0.1)
            assert reached or np.abs(x).max() == pytest.approx(10 ** (-1 / 20), rel=1e-3)


def test_bypass_is_measured_by_what_the_effect_does_to_the_loudness(song):
    chain = (Effect("compressor", {"threshold_db": 0.0, "gain_db": 6.0}), Effect("width"))
    assert bypass_db(with_chain(song, chain), "lead", 0, 69) == pytest.approx(6.0, abs=0.1)
    assert bypass_db(with_chain(song, chain), "lead", 1, 69) == pytest.approx(0.0, abs=0.01)
    # One that plays nowhere is measured on a note.
    silent = with_chain(song, chain)
    silent = replace(silent, parts=tuple(replace(p, cells=()) if p.id == "lead" else p for p in silent.parts))
    assert bypass_db(silent, "lead", 0, 69) == pytest.approx(6.0, abs=0.1)


def with_chain(song, effects):
    return replace(song, parts=tuple(replace(p, chain=effects) if p.id == "lead" else p for p in song.parts))


def test_bypass_of_an_effect_that_another_part_steers_is_measured_with_that_part(song):
    ducker = Effect("ducker", {"depth_db": 24.0}, {"trigger": "a part's hits"}, sidechain="kick")
    taken = bypass_db(with_chain(song, (ducker,)), "lead", 0, 69)
    assert -24 < taken < -1.5
    # A gate that the kick opens lets something through; with a silent key it was 60 dB down.
    gate = Effect("gate", {"threshold_db": -30.0, "release_ms": 200.0}, sidechain="kick")
    assert -20 < bypass_db(with_chain(song, (gate,)), "lead", 0, 69) < 0
    # A key press has nothing that steers: it is heard.
    assert np.abs(audition(song.part("lead").sound, (gate,), 69)).max() > 0.05


def test_a_ducker_without_another_part_is_steered_by_its_own_hits(song):
    lead = song.part("lead")
    ducker = Effect("ducker", {"depth_db": 30.0}, {"trigger": "a part's hits", "period": "1/8"})
    plain, ducked = (Mixdown(with_chain(song, chain)) for chain in ((), (ducker,)))
    first = min(plain.plays_in("lead"))
    hit = next(e.start for e in plain.notes.events(plain.song.part("lead")) if e.bar == first)
    a, b = (np.abs(m.before_fader("lead", first + 1, first + 1)).max(axis=0) for m in (plain, ducked))
    at = hit - plain.bars.edge(first)
    assert b[at + 200 : at + 2000].max() < 0.15 * a[at + 200 : at + 2000].max()
    assert np.abs(audition(lead.sound, (ducker,), 69)).max() > 0


def test_an_lfo_moves_the_others_rate_and_never_its_own(song):
    base = {"osc1_level": 0.5, "lfo1_hz": 3.0, "lfo2_hz": 5.0, "filter1_hz": 900.0}
    choices = {"lfo1_rate": "Hz", "lfo2_rate": "Hz", "filter1_kind": "low-pass 12", "osc1_start": "fixed"}

    def note(*moves):
        rows = tuple(Modulation(*m) for m in moves)
        return render_note(Sound("synth", base, choices, rows), Played(60, 30_000))

    for k, other in ((1, 2), (2, 1)):
        heard = (f"lfo {k}", "filter1_hz", 1.0)
        assert not np.allclose(note(heard), note(heard, (f"lfo {other}", f"lfo{k}_hz", 2.0)))
        circle = [{"source": f"lfo {k}", "target": f"lfo{k}_hz", "amount": 1.0}]
        with pytest.raises(InvalidEdit, match="its own rate"):
            applied(song, "set_modulations", part="lead", modulations=circle)
    both = [{"source": "lfo 1", "target": "lfo2_hz", "amount": 1.0}, {"source": "lfo 2", "target": "lfo1_hz", "amount": 1.0}]
    with pytest.raises(InvalidEdit, match="through the other"):
        applied(song, "set_modulations", part="lead", modulations=both)


def test_what_a_part_is_called_changes_nothing_that_is_generated_for_it(song):
    for part in song.parts:
        if part.patterns:
            assert generate(song, replace(part, name="Open stab chop"), 4, 7) == generate(song, part, 4, 7)
    hat = replace(song.part("hats"), sound=library.sound("Steam valve"))
    assert {n.tick % 960 for n in generate(song, hat, 4, 7)} == {480}


def test_pictures_show_the_sound():
    drawn = pictures_of(
        Sound("synth", {"filter1_hz": 1000.0, "env1_attack_ms": 100.0}, {"osc1_wave": "sine", "filter1_kind": "low-pass 24"})
    )
    np.testing.assert_allclose(drawn["cycles"]["osc1"], np.sin(2 * np.pi * np.arange(96) / 96), atol=2e-3)
    response = np.array(drawn["responses"]["filter1"])
    assert np.interp(1000, AXIS_HZ, response) == pytest.approx(-3, abs=0.3)
    assert drawn["responses"]["filter2"] is None
    curve = drawn["envelopes"]["env1"]
    assert curve["stages"]["attack"] == pytest.approx(0.1)
    assert max(curve["values"]) > 0.98
    hit = pictures_of(Sound("kick"))
    assert hit["seconds"] == pytest.approx(0.42, abs=0.01)
    assert all(low <= high for low, high in hit["hit"])
    assert max(high for _, high in hit["hit"][:40]) > 5 * max(high for _, high in hit["hit"][-40:])


@pytest.mark.parametrize("kind", EFFECTS)
def test_an_effects_picture_is_finite_or_missing(kind):
    picture = picture_of(Effect(kind))
    if picture is not None:
        assert np.isfinite(picture["values"]).all()
        assert len(picture["values"]) > 30


def test_a_compressors_picture_is_its_static_curve():
    values = picture_of(Effect("compressor", {"threshold_db": -20.0, "ratio": 4.0, "knee_db": 0.0}))["values"]
    assert values[-1] == pytest.approx(-15.0)
    assert values[0] == pytest.approx(-60.0)


def test_notes_keep_their_bends(song):
    note = {"tick": 0, "ticks": 960, "midi": 60, "velocity": 1.0, "bend": [[0, 0], [480, 12]]}
    written = applied(song, "write_notes", part="lead", pattern="A", bars=1, notes=[note]).patterns["A"].notes[0]
    assert written == Note(0, 960, 60, 1.0, ((0.0, 0.0), (480.0, 12.0)))


def test_what_can_be_automated_depends_on_whose_it_is(song):
    points = (AutomationPoint(0, -12.0), AutomationPoint(3840, 0.0, 0.5))
    wet = SetEffects("lead", (Effect("delay"),)).apply(song)
    assert Target("lead", "e1", "level") in automatable(wet, "lead")
    assert Target(REVERB_RETURN, "e1", "duck_db") in automatable(wet, REVERB_RETURN)
    made = SetAutomation(Target("lead", "fader", "gain_db"), points)
    assert made.apply(wet).part("lead").automation == (Automation("fader", "gain_db", points),)
    assert made.sentence(wet).endswith("Level automated")
    assert SetAutomation(Target("lead", "fader", "gain_db"), ()).apply(made.apply(wet)).part("lead").automation == ()
    drums = SetAutomation(Target("bus:drums", "fader", "gain_db"), points).apply(wet).strip("bus:drums")
    assert drums.automation == (Automation("fader", "gain_db", points),)
    for bad in (
        SetAutomation(Target("nobody", "fader", "gain_db"), points), SetAutomation(Target("master", "fader", "width"), points),
        SetAutomation(Target("lead", "fader", "pan"), points), SetAutomation(Target("lead", "fader", "gain_db"), points[::-1]),
    ):  # fmt: skip
        with pytest.raises(InvalidEdit):
            bad.apply(wet)


def test_a_sound_as_it_was_is_heard_as_loud_as_it_is(song):
    was = song.part("lead")
    quiet = edit("set_sound_value", part="lead", name="level_db", value=-15.0).apply(song)
    heard = sounding_as(quiet, "lead", was, 69).part("lead")
    assert (heard.sound, heard.chain) == (was.sound, was.chain)
    # Copies of a stack of oscillators start anywhere, and elsewhere in a sound of other values.
    assert heard.gain_db == pytest.approx(was.gain_db - 15.0 - complete(was.sound)["level_db"], abs=0.8)
    assert sounding_as(song, "lead", was, 69) == song


def test_what_instrument_a_sound_is_stays_through_its_changes(song):
    lead = replace(song.part("lead"), role="hats", sound=library.sound("Spray"))
    made = replace(song, parts=tuple(lead if p.id == "lead" else p for p in song.parts))
    assert library.kind_of(lead.sound, "hats") == "open hat"
    # Shorter than any open hat, and called otherwise.
    for change in (
        {"kind": "set_sound_value", "name": "decay_ms", "value": 15.0},
        {"kind": "set_sample", "slot": "sample", "sample": "abc123", "name": "rope"},
    ):
        made = parse_edit({"part": "lead", **change}).apply(made)
        sound = made.part("lead").sound
        assert library.kind_of(replace(sound, name="mine"), "hats") == "open hat"
    # Without the field, as in older songs, the shipped name or the voice tells.
    assert library.kind_of(replace(library.sound("Spray"), kind=""), "hats") == "open hat"
    assert library.kind_of(Sound("hat", {"decay_ms": 20.0}), "hats") == "closed hat"
    assert library.kind_of(Sound("synth"), "lead") == "lead"
