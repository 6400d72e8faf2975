"""Moves: readings with known answers, a model that the rendering confirms, and what was spoiled is found."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest

from bench.spoilings import at, edited, louder
from ersatz.cli import main
from ersatz.core.balance.lanes import Lanes, measure_lane
from ersatz.core.balance.match import balance_song
from ersatz.core.balance.pumping import PHASES, Ducked, recovered
from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.moves import SCHEMA, find_moves, moves_document
from ersatz.core.moves.find import Move, Tried, ranked
from ersatz.core.moves.model import predicted, response_db
from ersatz.core.moves.proposal import steps_of
from ersatz.core.moves.readings import Reading, gap_of, readings, width_of
from ersatz.core.moves.section import measure_again, measure_section
from ersatz.core.song.document import with_each
from ersatz.core.song.strips import MASTER, ducked


@pytest.fixture(scope="module")
def cache():
    return RenderCache()


@pytest.fixture(scope="module")
def balanced(song, club_survey, cache):
    return balance_song(song, club_survey, cache=cache)


@pytest.fixture(scope="module")
def main_place(club_survey):
    return club_survey.main_section()


@pytest.fixture(scope="module")
def mix(balanced, cache, main_place):
    return measure_section(balanced, Mixdown(balanced, cache), main_place, main_place)


def mastered(song, by):
    return edited(song, at("master", "gain_db", song.master.gain_db + by))


def sent(song, by, *roles):
    """More of these roles to the reverb."""
    to = song.return_with("reverb")[0].id
    parts = [p for p in song.parts if p.role in roles]
    return edited(song, *({"kind": "set_send", "strip": p.id, "to": to, "db": min(p.send_db(to), -12.0) + by} for p in parts))


def without_ducking(song):
    return with_each(song, lambda s: replace(s, duck=None))


def twice_as_deep(song):
    return with_each(song, lambda s: replace(s, duck=replace(s.duck, depth_db=s.duck.depth_db * 2.2)) if s.duck else s)


# Readings ------------------------------------------------------------------------------------------------------------


def test_what_ducking_takes_is_read_off_known_powers():
    loose = 1.0 + np.random.default_rng(2).random(PHASES)
    gain = np.minimum(0.0, -9.0 + np.arange(PHASES) * 0.4)
    assert recovered(loose * 10 ** (gain / 10), loose) == pytest.approx(gain, abs=1e-9)
    read = Ducked(("pad",), loose[None], gain)
    assert read.depth_db == pytest.approx(9.0)
    # Within 1 dB of full recovery: (9 - 1) / 0.4 places on.
    assert read.release_beats() == pytest.approx(20 / PHASES)


def test_a_silent_place_of_the_beat_takes_on_what_lies_beside_it():
    loose = np.ones(PHASES)
    gain = np.linspace(-8.0, 0.0, PHASES)
    held = loose * 10 ** (gain / 10)
    loose[20:24], held[20:24] = 1e-9, 1e-9
    assert recovered(held, loose) == pytest.approx(gain, abs=0.05)


@pytest.mark.parametrize("sides, width", [((1.0, 1.0), 0.0), ((1.0, 0.0), 1.0), ((1.0, -1.0), 2.0)])
def test_width_is_the_sides_share_of_the_power(sides, width):
    noise = np.random.default_rng(1).standard_normal(RATE_HZ).astype(np.float32) * 0.1
    lanes = Lanes(1, 1, {MASTER: measure_lane(MASTER, np.stack([noise * side for side in sides]))})
    assert width_of(lanes, 500.0, 8000.0) == pytest.approx(width, abs=1e-3)


def test_a_gap_grows_from_one_tolerance_on_and_little_beyond_three():
    def gap(difference: float, **more: bool) -> float:
        return Reading("Loudness here", "LUFS", -9.0, -9.0 + difference, difference, 1.0, **more).gap

    assert [gap(v) for v in (0.0, 1.0, -1.0, 1.5, -2.0, 3.0)] == [0.0, 0.0, 0.0, 0.75, 1.5, 3.0]
    assert [gap(v) for v in (5.0, 10.0, 40.0)] == pytest.approx([3.4, 4.4, 4.4])
    assert gap(0.4, counts_at_once=True) == pytest.approx(0.4)


def test_the_depth_that_is_set_is_the_depth_that_is_read(balanced, cache, main_place):
    sustained = ("bass", "chords", "lead")
    curve = balanced.curves[0]
    alike = with_each(balanced, lambda s: replace(s, duck=ducked(curve.id, 6.0) if getattr(s, "role", "") in sustained else None))
    read = measure_section(alike, Mixdown(alike, cache), main_place, main_place).ducked
    assert read is not None
    assert read.depth_db == pytest.approx(6.0, abs=0.5)
    free = without_ducking(balanced)
    assert measure_section(free, Mixdown(free, cache), main_place, main_place).ducked.depth_db == pytest.approx(0.0, abs=0.01)


# The model -----------------------------------------------------------------------------------------------------------


def test_faders_cuts_and_bells_respond_as_they_are_set(balanced):
    part = balanced.parts[0]
    assert response_db(replace(part, gain_db=part.gain_db + 6)) - response_db(part) == pytest.approx(6.0)
    cut = response_db(replace(part, low_cut_hz=1000.0)) - response_db(replace(part, low_cut_hz=0.0))
    near = [NOMINAL_HZ.index(hz) for hz in (250, 1000, 4000)]
    # A Butterworth of second order: 12 dB per octave, 3 dB at its corner.
    assert cut[near] == pytest.approx([-24.1, -3.0, 0.0], abs=0.1)
    assert (response_db(replace(part, mute=True)) <= -200).all()


def cut(song, *roles):
    edits = ({"kind": "set_cuts", "part": p.id, "low_cut_hz": 500.0, "high_cut_hz": 0.0} for p in song.parts if p.role in roles)
    return edited(song, *edits)


MOVED = {
    "a fader": lambda song: louder(song, -5.0, "bass"),
    "two faders": lambda song: louder(song, 4.0, "hats", "clap"),
    "a low cut": lambda song: cut(song, "chords", "lead"),
    "the width": lambda song: edited(song, at("master", "width", 0.4)),
    "the master": lambda song: mastered(song, -4.0),
    "a send": lambda song: sent(song, 9.0, "clap", "hats"),
    "mono lows": lambda song: edited(song, *(at(p.id, "mono_below_hz", 200.0) for p in song.parts if p.role in ("bass", "chords"))),
}


@pytest.mark.parametrize("what", MOVED)
def test_the_rendering_confirms_what_the_model_says(what, mix, balanced, cache, club_survey):
    after = MOVED[what](balanced)
    before = readings(mix, club_survey)
    guess, heard = (
        readings(predicted(mix, after), club_survey),
        readings(measure_again(mix, after, Mixdown(after, cache)), club_survey),
    )
    off = [abs(guess[f].remake - heard[f].remake) for f in before if f.startswith("Balance") and f in heard]
    assert np.median(off) < 0.5
    told = []
    for figure, old in before.items():
        moved = heard[figure].remake - old.remake if figure in heard else 0.0
        if figure in guess and not figure.startswith("Clash") and abs(moved) > 0.5 * old.tolerance:
            told.append(guess[figure].remake != old.remake)
            # Peaks are only told where a compressor is set.
            assert told[-1] or figure.startswith("Crest"), figure
            assert not told[-1] or np.sign(guess[figure].remake - old.remake) == np.sign(moved), figure
    assert not told or any(told)


def test_what_is_as_it_was_is_not_measured_anew_and_reads_the_same(mix, balanced, cache, main_place, club_survey):
    after = louder(balanced, -3.0, "bass")
    again = readings(measure_again(mix, after, Mixdown(after, cache)), club_survey)
    whole = readings(measure_section(after, Mixdown(after, cache), main_place, main_place), club_survey)
    assert again.keys() == whole.keys()
    for figure, reading in whole.items():
        assert again[figure].remake == pytest.approx(reading.remake, abs=0.05), figure


# Finding -------------------------------------------------------------------------------------------------------------


def test_the_first_move_closes_what_it_says_and_the_next_is_found_on_what_it_left(balanced, cache, main_place, club_survey):
    song = mastered(louder(balanced, 7.0, "bass"), 9.0)
    before = gap_of(readings(measure_section(song, Mixdown(song, cache), main_place, main_place), club_survey))
    seen = set()
    for _ in range(2):
        move = find_moves(song, Mixdown(song, cache), main_place, club_survey)[0]
        assert move.sentence not in seen
        seen.add(move.sentence)
        song = edited(song, *move.edits)
        now = gap_of(readings(measure_section(song, Mixdown(song, cache), main_place, main_place), club_survey))
        assert now == pytest.approx(before - move.closes, abs=0.15) and now < before
        before = now


def test_in_another_section_only_its_own_is_moved(balanced, cache, main_place, club_survey):
    def playing(place):
        section = balanced.sections[place].id
        return [p for p in balanced.parts if (c := p.cell(section)) is not None and c.on]

    place = next(k for k in range(len(balanced.sections)) if k != main_place and len(playing(k)) > 1)
    section = balanced.sections[place].id
    parts = [p for p in playing(place) if p.role == "hats"] or playing(place)[1:2]
    song = balanced
    for p in parts:
        c = p.cell(section)
        level = {"pattern": c.pattern, "entry_bars": c.entry_bars, "exit_bars": c.exit_bars, "level_db": 11.5}
        song = edited(song, {"kind": "set_cell", "part": p.id, "section": section, **level})
    found = find_moves(song, Mixdown(song, cache), place, club_survey)
    assert any(m.strip in {p.id for p in parts} and "−" in m.sentence for m in found[:3]), [m.sentence for m in found]
    for move in found:
        within = {"set_cell", "put_cells", "put_transition", "set_automation", "shape_automation", "set_effects"}
        assert {e["kind"] for e in move.edits} <= within
        # Every other section of the song is as it was.
        after = edited(song, *move.edits)
        for one, two in zip(song.parts, after.parts):
            assert [c for c in one.cells if c.section != section] == [c for c in two.cells if c.section != section]
            assert one.gain_db == two.gain_db


def test_moves_are_the_same_every_time_and_say_what_they_do(balanced, cache, main_place, club_survey):
    song = louder(balanced, 7.0, "bass")
    first, again = (find_moves(song, Mixdown(song, cache), main_place, club_survey, most=3) for _ in range(2))
    assert first == again
    assert [m.rank for m in first] == sorted((m.rank for m in first), reverse=True)
    document = json.loads(json.dumps(moves_document(first)))
    assert document["schema"] == SCHEMA
    for move in document["moves"]:
        assert move["reasons"] and move["effects"]
        assert {"figure", "section", "unit", "before", "predicted", "measured"} == set(move["effects"][0])


def test_the_smaller_change_and_the_surer_reading_come_first():
    # Worth the same: 12 dB against 3, and a reading that is half as sure.
    assert ranked(2.0, steps_of(-12.0), 1.0) == pytest.approx(ranked(2.0, steps_of(3.0), 1.0) / 2)
    assert ranked(2.0, 1.0, 0.5) == pytest.approx(ranked(2.0, 1.0, 1.0) / 2)
    # What can't be told apart by ear isn't better for being smaller.
    assert steps_of(1.0) == steps_of(0.5) == 1.0


@pytest.mark.parametrize(
    ("closes", "opens", "elsewhere", "size", "serves", "is_offered"),
    [
        (1.0, 0.2, 0.0, 1.0, 0.5, True),
        # Opens as much as it closes; is worth too little for what it changes; opens more elsewhere; does the opposite.
        (0.1, 1.0, 0.0, 1.0, 0.5, False), (0.3, 0.0, 0.0, 4.0, 0.3, False), (1.0, 0.0, 1.2, 1.0, 0.5, False),
        (1.0, 0.0, 0.0, 1.0, -0.3, False),
        # Nearer elsewhere is no reason for a move that does nothing here.
        (0.0, 0.0, -3.0, 1.0, 0.0, False),
    ],
)  # fmt: skip
def test_a_move_is_offered_for_what_it_does_on_the_whole(closes, opens, elsewhere, size, serves, is_offered):
    move = Move("m", "level", "Bass −3 dB", "bass", "s1", (), (), (), closes, elsewhere, size)
    assert Tried(move, opens, serves).is_offered == is_offered


def test_a_silent_section_and_one_that_the_reference_lacks_have_no_moves(balanced, cache, main_place, club_survey):
    silent = replace(balanced, parts=tuple(replace(p, mute=True) for p in balanced.parts))
    assert find_moves(silent, Mixdown(silent, cache), main_place, club_survey) == []
    labels = {s.label for s in club_survey.sections}
    other = next(label for label in ("bridge", "outro", "intro", "breakdown") if label not in labels)
    sections = tuple(replace(s, label=other) if k == main_place else s for k, s in enumerate(balanced.sections))
    alone = replace(balanced, sections=sections)
    assert find_moves(alone, Mixdown(alone, cache), main_place, club_survey) == []


# The command ---------------------------------------------------------------------------------------------------------


def test_moves_are_found_and_taken_by_the_command(balanced, main_place, club_survey, tmp_path, capsys):
    song = louder(balanced, 7.0, "bass")
    (tmp_path / "survey.json").write_text(json.dumps(club_survey.to_json()))
    (tmp_path / "song.json").write_text(json.dumps(song.to_json()))
    paths = [str(tmp_path / name) for name in ("survey.json", "song.json", "moves.json", "better.json")]
    assert main(["moves", paths[0], paths[1], "--section", str(main_place + 1), "--most", "2", "--json", paths[2]]) == 0
    moves = json.loads((tmp_path / "moves.json").read_text())["moves"]
    assert 1 <= len(moves) <= 2
    assert main(["apply", paths[1], paths[2], "--take", "1", "--out", paths[3]]) == 0
    assert json.loads((tmp_path / "better.json").read_text()) == edited(song, *moves[0]["edits"]).to_json()
    # Plain edits, and what can't be taken.
    (tmp_path / "edits.json").write_text(json.dumps([{"kind": "set_swing", "swing_percent": 60}]))
    assert main(["apply", paths[1], str(tmp_path / "edits.json"), "--out", paths[3]]) == 0
    assert json.loads((tmp_path / "better.json").read_text())["swing_percent"] == 60
    for bad in (["--take", "9"], ["--take", "x"]):
        assert main(["apply", paths[1], paths[2], *bad, "--out", paths[3]]) == 2
    assert main(["apply", paths[1], paths[1], "--out", paths[3]]) == 2
    assert main(["moves", paths[0], paths[1], "--section", "99"]) == 2
    assert "there are 1 to" in capsys.readouterr().err
