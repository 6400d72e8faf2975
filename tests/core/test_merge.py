"""A matched draft and what was changed meanwhile, put together."""

from dataclasses import replace

from ersatz.core.balance.merge import TakeMatch
from ersatz.core.edits import parse_edit
from ersatz.core.song.document import PUMP, REVERB_RETURN, EqBand, with_strip
from ersatz.core.song.strips import FADER, SENDS, Automation, AutomationPoint, Duck, Send


def matched(song):
    """As matching leaves a draft: levels, ducking and master other, everything else the same."""
    levelled = replace(
        song,
        parts=tuple(replace(p, gain_db=p.gain_db - 2, duck=Duck(PUMP, p.duck_db + 1)) for p in song.parts),
        sections=tuple(replace(s, levels_db=(-1.5,)) for s in song.sections),
        master=replace(song.master, gain_db=5.0, eq=(EqBand(100.0, 3.0, 1.0),)),
        curves=(replace(song.curve(PUMP), shape=(0.5,) * 64),),
    )
    return with_strip(levelled, replace(song.strip(REVERB_RETURN), duck=Duck(PUMP, 9.0)))


def edited(song, kind, **fields):
    return parse_edit({"kind": kind, **fields}).apply(song)


def test_a_draft_that_nobody_touched_becomes_the_matched_one(song):
    assert TakeMatch(song, matched(song)).apply(song) == matched(song)


def test_what_was_changed_stays_and_the_rest_is_matched(song):
    first = song.sections[0]
    now = edited(song, "set_strip", strip="bass", name="gain_db", value=-20.0)
    now = edited(now, "resize_section", section=first.id, bars=first.bars + 8)
    now = replace(now, master=replace(now.master, gain_db=-3.0))
    made = TakeMatch(song, matched(song)).apply(now)
    assert made.part("bass").gain_db == -20.0
    assert made.part("bass").duck_db == song.part("bass").duck_db + 1
    assert made.part("kick").gain_db == song.part("kick").gain_db - 2
    assert made.sections[0].levels_db == now.sections[0].levels_db
    assert {s.levels_db for s in made.sections[1:]} == {(-1.5,)}
    assert (made.master.gain_db, made.master.eq) == (-3.0, matched(song).master.eq)
    assert made.bars == now.bars


def test_what_is_drawn_for_a_fader_or_a_send_goes_along(song):
    pad = song.part("pad")
    curves = (
        Automation(FADER, "gain_db", (AutomationPoint(0, pad.gain_db), AutomationPoint(960, pad.gain_db - 6.0))),
        Automation(SENDS, REVERB_RETURN, (AutomationPoint(0, -18.0), AutomationPoint(960, -9.0))),
        Automation(FADER, "pan", (AutomationPoint(0, 0.5),)),
    )
    drawn = with_strip(song, replace(pad, sends={REVERB_RETURN: Send(-18.0)}, automation=curves))
    wetter = with_strip(matched(drawn), replace(matched(drawn).part("pad"), sends={REVERB_RETURN: Send(-15.0)}))
    made = TakeMatch(drawn, wetter).apply(drawn).part("pad")
    assert [p.value for p in made.curve(FADER, "gain_db").points] == [pad.gain_db - 2, pad.gain_db - 8]
    assert [p.value for p in made.curve(SENDS, REVERB_RETURN).points] == [-15.0, -6.0]
    assert made.curve(FADER, "pan").points == curves[2].points
    # A fader that the producer moved meanwhile stays, and with it what is drawn.
    moved = edited(drawn, "set_strip", strip="pad", name="gain_db", value=-30.0)
    assert TakeMatch(drawn, wetter).apply(moved).part("pad").curve(FADER, "gain_db") == moved.part("pad").curve(FADER, "gain_db")


def test_what_was_taken_out_stays_out_and_what_came_in_is_left(song):
    now = edited(song, "delete_part", part="bass")
    now = edited(now, "add_part", role="lead", sound="Beacon", name="Mine", bars=1)
    made = TakeMatch(song, matched(song)).apply(now)
    assert made.part("bass") is None
    assert made.parts[-1] == now.parts[-1]


def test_taken_twice_nothing_more_changes(song):
    edit = TakeMatch(song, matched(song))
    once = edit.apply(edited(song, "set_strip", strip="bass", name="gain_db", value=-20.0))
    assert edit.apply(once) == once
