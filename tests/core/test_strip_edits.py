"""Edits of strips, ducking curves, the master, key and swing."""

import json
from dataclasses import replace

import pytest

from ersatz.core.edits import EDITS, edit_json, parse_edit
from ersatz.core.errors import InvalidEdit
from ersatz.core.pitch import Key
from ersatz.core.song.document import (
    BASS,
    DELAY_RETURN,
    DRUMS,
    MUSIC,
    PUMP,
    REVERB_RETURN,
    DuckCurve,
    EqBand,
    Song,
    SongSection,
    Transition,
)
from ersatz.core.song.parts import Note, Part, Pattern, Sound
from ersatz.core.song.strips import MASTER, Automation, AutomationPoint, Duck, Effect, Send
from ersatz.core.song.transform import in_key

SQUARE = (1.0,) * 32 + (0.0,) * 32


def part(part_id, role, out, *midi, **settings):
    notes = tuple(Note(k * 960, 480, m, 1.0) for k, m in enumerate(midi))
    return Part(
        id=part_id,
        name=part_id.capitalize(),
        role=role,
        sound=Sound("synth"),
        out=out,
        patterns={"A": Pattern(1, notes)},
        **settings,
    )


SONG = Song(
    "Test", 120.0, "A", "minor", 50.0, (SongSection("s1", "drop", 4),),
    (
        part("kick", "kick", DRUMS, 60), part("bass", "bass", BASS, 33, 36, 40, 34, duck=Duck(PUMP, 6.0)),
        part("pad", "chords", MUSIC, 57, 60, 64, chain=(Effect("eq"), Effect("compressor", sidechain="kick"))),
    ),
    curves=(DuckCurve(PUMP, "Pump", "1/4", (0.5,) * 64),), transitions=(Transition("t1", "wash", "s1", 4, on=(DRUMS,)),),
)  # fmt: skip

#: An edit, what it says, and what is then true of the song.
CASES = [
    ({"kind": "set_strip", "strip": "bass", "name": "gain_db", "value": -4.5}, "Bass at −4.5 dB",
     lambda s: s.part("bass").gain_db == -4.5),
    ({"kind": "set_strip", "strip": DRUMS, "name": "gain_in_db", "value": 3}, "Drums: Gain in 3 dB",
     lambda s: s.strip(DRUMS).gain_in_db == 3),
    ({"kind": "set_strip", "strip": "pad", "name": "pan", "value": -0.25}, "Pad: Pan −0.25", lambda s: s.part("pad").pan == -0.25),
    ({"kind": "set_strip", "strip": MASTER, "name": "width", "value": 0.9}, "Master: Width 0.9", lambda s: s.master.width == 0.9),
    ({"kind": "set_strip", "strip": BASS, "name": "mono_below_hz", "value": 120}, "Bass: Mono below 120 Hz",
     lambda s: s.strip(BASS).mono_below_hz == 120),
    ({"kind": "mute_strip", "strip": MUSIC, "mute": True}, "Music muted", lambda s: s.strip(MUSIC).mute),
    ({"kind": "set_send", "strip": "pad", "to": DELAY_RETURN, "db": -12.0, "before_fader": True},
     "Pad: send to Delay −12 dB, before the fader",
     lambda s: s.part("pad").sends == {DELAY_RETURN: Send(-12.0, True)}),
    ({"kind": "set_send", "strip": REVERB_RETURN, "to": DELAY_RETURN, "db": -9.0}, "Reverb: send to Delay −9 dB",
     lambda s: s.strip(REVERB_RETURN).send_db(DELAY_RETURN) == -9.0),
    ({"kind": "set_output", "strip": DRUMS, "out": BASS}, "Drums goes to Bass", lambda s: s.strip(DRUMS).out == BASS),
    ({"kind": "set_duck", "strip": "pad", "depth_db": 8.0}, "Pad ducked by 8.0 dB",
     lambda s: s.part("pad").duck == Duck(PUMP, 8.0)),
    ({"kind": "set_duck", "strip": "bass", "depth_db": 0.0}, "Bass not ducked", lambda s: s.part("bass").duck is None),
    ({"kind": "set_duck", "strip": REVERB_RETURN, "depth_db": 4.0, "curve": PUMP}, "Reverb ducked by 4.0 dB along Pump",
     lambda s: s.strip(REVERB_RETURN).duck_db == 4.0),
    ({"kind": "add_bus", "name": "Claps", "out": DRUMS, "of": ["kick"]}, "Bus Claps added",
     lambda s: s.part("kick").out == "bus:1" and s.strip("bus:1").out == DRUMS),
    ({"kind": "add_return", "name": "Hall", "space": "reverb"}, "Return Hall added",
     lambda s: [e.choices["dry"] for r in s.returns[2:] for e in r.chain] == ["taken out"]),
    ({"kind": "rename_strip", "strip": MUSIC, "name": "Tunes"}, "Music is now called Tunes",
     lambda s: s.strip(MUSIC).name == "Tunes"),
    ({"kind": "delete_strip", "strip": DRUMS}, "Drums deleted",
     lambda s: s.strip(DRUMS) is None and s.part("kick").out == MASTER and not s.transitions),
    ({"kind": "delete_strip", "strip": REVERB_RETURN}, "Reverb deleted", lambda s: [r.id for r in s.returns] == [DELAY_RETURN]),
    ({"kind": "copy_chain", "strip": "pad", "to": "kick"}, "Kick: Equaliser, Compressor of Pad added",
     lambda s: [(e.kind, e.sidechain) for e in s.part("kick").chain] == [("eq", ""), ("compressor", "")]),
    ({"kind": "copy_chain", "strip": "pad", "to": MASTER, "instead": True}, "Master: Equaliser, Compressor of Pad loaded",
     lambda s: [(e.id, e.sidechain) for e in s.master.chain] == [("e1", ""), ("e2", "kick")]),
    ({"kind": "switch_chain", "strip": "pad", "on": False, "bypass_db": 3.456}, "Pad: all effects off",
     lambda s: [(e.on, e.bypass_db) for e in s.part("pad").chain] == [(False, 3.46), (False, 0.0)]),
    ({"kind": "set_modulators", "strip": "pad", "modulators": [{"id": "m1", "moves": [
        {"target": {"strip": BASS, "device": "fader", "param": "gain_db"}, "amount": 3.0}]}]}, "Pad: LFO moves Level of Bass",
     lambda s: [m.moves[0].amount for m in s.part("pad").modulators] == [3.0]),
    ({"kind": "set_effects", "strip": MUSIC, "effects": [{"kind": "reverb"}]}, "Music: Reverb added",
     lambda s: [e.id for e in s.strip(MUSIC).chain] == ["e1"]),
    ({"kind": "set_cuts", "part": "pad", "low_cut_hz": 140.0, "high_cut_hz": 0.0}, "Pad: low cut 140 Hz, high cut none",
     lambda s: (s.part("pad").low_cut_hz, s.part("pad").high_cut_hz) == (140.0, 0.0)),
    ({"kind": "add_curve", "name": "Gate", "shape": SQUARE, "rate": "hits", "triggers": ["bass"]}, "Ducking curve Gate added",
     lambda s: s.curve("d1") == DuckCurve("d1", "Gate", "hits", SQUARE, ("bass",))),
    ({"kind": "draw_curve", "curve": PUMP, "shape": SQUARE}, "Pump drawn", lambda s: s.curve(PUMP).shape == SQUARE),
    ({"kind": "set_triggers", "curve": PUMP, "rate": "hits", "triggers": ["kick", "bass"]}, "Pump triggered by Kick and Bass",
     lambda s: s.curve(PUMP).triggers == ("kick", "bass")),
    ({"kind": "set_triggers", "curve": PUMP, "rate": "1/8"}, "Pump triggered by every 1/8", lambda s: s.curve(PUMP).rate == "1/8"),
    ({"kind": "rename_curve", "curve": PUMP, "name": "Breath"}, "Pump is now called Breath",
     lambda s: s.curve(PUMP).name == "Breath"),
    ({"kind": "delete_curve", "curve": PUMP}, "Pump deleted", lambda s: s.curves == () and s.part("bass").duck is None),
    ({"kind": "set_master", "name": "ceiling_dbtp", "value": -0.3}, "Master: Ceiling −0.3 dBTP",
     lambda s: s.master.ceiling_dbtp == -0.3),
    ({"kind": "set_master", "name": "target_lufs", "value": -9}, "Master: Target −9 LUFS", lambda s: s.master.target_lufs == -9),
    ({"kind": "set_master_eq", "bands": [{"hz": 250, "gain_db": -2, "q": 1}]}, "Master EQ: −2 dB at 250 Hz",
     lambda s: s.master.eq == (EqBand(250.0, -2.0, 1.0),)),
    ({"kind": "set_key", "tonic": "C", "mode": "minor"}, "Key C minor, everything transposed",
     lambda s: [n.midi for n in s.part("pad").patterns["A"].notes] == [60, 63, 67]),
    ({"kind": "set_key", "tonic": "C", "mode": "minor", "transpose": False}, "Key C minor",
     lambda s: s.part("pad") == SONG.part("pad") and s.tonic == "C"),
    ({"kind": "set_swing", "swing_percent": 56.0}, "Swing 56.0 %", lambda s: s.swing_percent == 56.0),
]  # fmt: skip


@pytest.mark.parametrize(("edit", "said", "holds"), CASES, ids=[f"{e['kind']} {k}" for k, (e, _, _) in enumerate(CASES)])
def test_an_edit_does_what_it_says_and_comes_back_from_json(edit, said, holds):
    made = parse_edit(json.loads(json.dumps(edit)))
    assert made.sentence(SONG) == said
    song = made.apply(SONG)
    assert holds(song) and not holds(SONG)
    assert parse_edit(json.loads(json.dumps(edit_json(made)))) == made
    assert Song.from_json(json.loads(json.dumps(song.to_json()))) == song


def test_every_edit_of_these_families_is_among_the_cases():
    families = ("edits.strips", "edits.ducking", "edits.whole")
    kinds = {kind for kind, e in EDITS.items() if e.__module__.endswith(families)}
    assert kinds == {edit["kind"] for edit, _, _ in CASES} - {"set_effects"}


@pytest.mark.parametrize(
    ("edit", "said"),
    [
        ({"kind": "set_strip", "strip": "bass", "name": "gain_db", "value": 40.0}, "between"),
        ({"kind": "set_strip", "strip": "nobody", "name": "pan", "value": 0.0}, "no part, bus or return"),
        ({"kind": "set_send", "strip": "pad", "to": DRUMS, "db": -6.0}, "can’t be sent"),
        ({"kind": "set_send", "strip": MASTER, "to": REVERB_RETURN, "db": -6.0}, "can’t be sent"),
        ({"kind": "set_send", "strip": REVERB_RETURN, "to": REVERB_RETURN, "db": -6.0}, "back to itself"),
        ({"kind": "set_output", "strip": DRUMS, "out": DRUMS}, "back to itself"),
        ({"kind": "set_output", "strip": MASTER, "out": DRUMS}, "goes to a bus or to the master"),
        ({"kind": "set_output", "strip": "pad", "out": "kick"}, "goes to a bus or to the master"),
        ({"kind": "set_duck", "strip": "pad", "depth_db": 3.0, "curve": "gone"}, "isn’t there"),
        ({"kind": "set_duck", "strip": "pad", "depth_db": 50.0}, "between 0 and 40"),
        ({"kind": "add_bus", "name": " "}, "1 to 40 characters"),
        ({"kind": "delete_strip", "strip": "pad"}, "no bus and no return"),
        ({"kind": "delete_strip", "strip": MASTER}, "no bus and no return"),
        ({"kind": "copy_chain", "strip": "pad", "to": "pad"}, "another strip"),
        ({"kind": "switch_chain", "strip": "bass", "on": False}, "has no effects"),
        ({"kind": "set_cuts", "part": "pad", "low_cut_hz": 9000.0, "high_cut_hz": 0.0}, "low cut lies"),
        ({"kind": "add_curve", "name": "Short", "shape": [1.0]}, "64 points"),
        ({"kind": "set_triggers", "curve": PUMP, "rate": "hits", "triggers": ["nobody"]}, "no part"),
        ({"kind": "set_master", "name": "ceiling_dbtp", "value": 1.0}, "Ceiling lies"),
        ({"kind": "set_master_eq", "bands": [{"hz": 250, "gain_db": 30, "q": 1}]}, "band lies"),
        ({"kind": "set_key", "tonic": "H", "mode": "minor"}, "no key"),
        ({"kind": "set_swing", "swing_percent": 90.0}, "Swing lies"),
    ],
)
def test_what_can_not_be_is_refused_in_a_sentence(edit, said):
    with pytest.raises(InvalidEdit, match=said):
        parse_edit(edit).apply(SONG)


def test_a_bus_that_sends_by_its_curve_alone_stays_out_of_circles():
    """A bus may not begin to send by a curve: nothing would check where that leads."""
    point = [{"tick": 0, "value": -6.0}]
    target = {"strip": DRUMS, "device": "sends", "param": REVERB_RETURN}
    drawn = parse_edit({"kind": "set_automation", "target": target, "points": point})
    with pytest.raises(InvalidEdit):
        drawn.apply(SONG)
    sent = parse_edit({"kind": "set_send", "strip": DRUMS, "to": REVERB_RETURN, "db": -6.0}).apply(SONG)
    moving = drawn.apply(sent)
    closed = parse_edit({"kind": "set_send", "strip": DRUMS, "to": REVERB_RETURN, "db": -60.0}).apply(moving)
    assert (closed.strip(DRUMS).sends, closed.strip(DRUMS).automation) == ({}, ())


def test_a_fader_takes_its_curve_with_it():
    curve = Automation("fader", "gain_db", (AutomationPoint(0, -10.0), AutomationPoint(3840, 0.0)))
    drawn = replace(SONG, parts=tuple(replace(p, automation=(curve,)) if p.id == "pad" else p for p in SONG.parts))
    moved = parse_edit({"kind": "set_strip", "strip": "pad", "name": "gain_db", "value": 2.0}).apply(drawn)
    assert [p.value for p in moved.part("pad").automation[0].points] == [-8.0, 2.0]


def test_what_goes_through_a_bus_goes_on_where_the_bus_went():
    nested = parse_edit({"kind": "add_bus", "name": "Low", "out": BASS, "of": ["bass", "kick"]}).apply(SONG)
    gone = parse_edit({"kind": "delete_strip", "strip": "bus:1"}).apply(nested)
    assert [gone.part(p).out for p in ("bass", "kick")] == [BASS, BASS]


def test_a_part_that_is_taken_out_triggers_and_steers_nothing_more():
    by_bass = parse_edit({"kind": "set_triggers", "curve": PUMP, "rate": "hits", "triggers": ["bass", "kick"]}).apply(SONG)
    gone = parse_edit({"kind": "delete_part", "part": "bass"}).apply(by_bass)
    assert gone.curve(PUMP).triggers == ("kick",)


@pytest.mark.parametrize(("tonic", "mode", "expected"), [
    ("B", "minor", [59, 62, 66, 60]), ("G", "minor", [55, 58, 62, 56]), ("A", "major", [57, 61, 64, 58]),
    ("E", "minor", [52, 55, 59, 53]),
    ("D", "minor", [62, 65, 69, 63]),
])  # fmt: skip
def test_a_line_keeps_its_degrees_in_another_key(tonic, mode, expected):
    """Tonic, third and fifth, and a note a semitone over the tonic, which lies in neither scale."""
    notes = tuple(Note(k, 1, m, 1.0) for k, m in enumerate((57, 60, 64, 58)))
    old, new = Key("A", "minor"), Key(tonic, mode)
    assert [n.midi for n in in_key(notes, old, new)] == expected
    assert in_key(in_key(notes, old, new), new, old) == notes
