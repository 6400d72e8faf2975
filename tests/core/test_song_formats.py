"""Songs of earlier formats: they are read, and sound as they did.

songs/earlier.json.gz holds documents of the formats 1 to 3 (the demo songs, the bench song, twenty made by chance with effects
everywhere) and what the engine of their time made of some of their bars, as sketches: inner products with rows of random signs. The
mean square of a difference of sketches is the energy of the difference of the sounds (Johnson & Lindenstrauss 1984).

"Random 6" draws an EQ, which stepped at bar lines then, by -84 dB of the song: its sketches are of the engine that mended that.
"""

import copy
import gzip
import json
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np
import pytest

from ersatz.core.errors import UnusableDocument
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import DELAY_RETURN, PUMP, REVERB_RETURN, SCHEMA, Song, Transition
from ersatz.core.song.strips import Automation, AutomationPoint, Duck, Effect, Send

ROWS, SEED = 8, 7
#: Above the rounding of the older engine's single-precision sums, far under anything that is heard.
SAME_DB = -100.0


@cache
def earlier():
    text = gzip.decompress((Path(__file__).parent / "songs" / "earlier.json.gz").read_bytes())
    return {row["name"]: row for row in json.loads(text)}


def sketch(samples):
    signs = np.random.default_rng(SEED).integers(0, 2, (ROWS, samples.shape[1])) * 2.0 - 1
    return samples.astype(np.float64) @ signs.T


@pytest.mark.parametrize("name", [f"Random {k}" for k in range(20)] + [
    "Bench", "Remake of Cold Harbour Relay", "Lighthouse Shift", "Format 1", "Format 2",
])  # fmt: skip
def test_an_earlier_song_sounds_as_it_did(name):
    row = earlier()[name]
    mixdown = Mixdown(Song.from_json(row["song"]))
    for bar in row["bars"]:
        samples = mixdown.samples(*mixdown.bar_range(bar["bar"], bar["bar"]))
        energy = np.square(sketch(samples) - np.array(bar["sketch"])).mean() / samples.shape[1]
        assert 10 * np.log10(energy / bar["rms"] ** 2 + 1e-20) < SAME_DB


def test_the_sketch_of_a_difference_tells_its_level():
    rng = np.random.default_rng(1)
    a, b = rng.standard_normal((2, 2, 40_000)).astype(np.float32)
    for db in (-20.0, -80.0):
        other = a + b * np.float32(10 ** (db / 20))
        energy = np.square(sketch(a) - sketch(other)).mean() / a.shape[1]
        assert 10 * np.log10(energy) == pytest.approx(db, abs=4.0)


def third(**changes):
    """A small document of format 3."""
    part = {
        "id": "pad", "name": "Pad", "role": "chords", "bus": "music", "sound": {"voice": "synth"}, "patterns": {}, "cells": [],
        "duck_db": 6.0, "reverb_db": -18.0, "effects": [{"kind": "eq"}, {"kind": "reverb"}],
        "automation": [
            {"target": "effects.1.blend", "points": [{"tick": 0, "value": 0.5}]},
            {"target": "effects.e1.band1_db", "points": [{"tick": 0, "value": 1.0}]},
            {"target": "delay_db", "points": [{"tick": 0, "value": -9.0}]},
        ],
    }  # fmt: skip
    return {
        "schema": "ersatz.song/3", "title": "Old", "bpm": 120.0, "tonic": "A", "mode": "minor", "swing_percent": 50.0,
        "sections": [{"id": "s1", "label": "drop", "bars": 4}], "ducking": {"rate": "kick", "shape": [0.5] * 64}, "parts": [part],
        "buses": {"drums": [{"kind": "eq"}]}, "master": {"gain_db": 3.0},
        "automation": {
            "drums": [{"target": "effects.0.blend", "points": [{"tick": 0, "value": 0.2}]}],
            "master": [{"target": "gain_db", "points": [{"tick": 0, "value": -2.0}]}],
        },
    } | changes  # fmt: skip


def test_what_a_song_of_format_3_says_is_in_its_strips():
    song = Song.from_json(third())
    pad, drums = song.part("pad"), song.strip("bus:drums")
    assert (pad.out, pad.duck, pad.sends) == ("bus:music", Duck(PUMP, 6.0), {REVERB_RETURN: Send(-18.0)})
    assert [(a.device, a.param) for a in pad.automation] == [("e2", "blend"), ("e1", "band1_db"), ("sends", DELAY_RETURN)]
    assert [e.id for e in pad.chain] == ["e1", "e2"]
    assert (drums.chain[0].kind, drums.automation[0].device) == ("eq", "e1")
    # A master's curve lay on top of its level; it is its level now.
    assert song.master.automation == (Automation("fader", "gain_db", (AutomationPoint(0, 1.0),)),)
    assert (song.curve(PUMP).rate, song.curve(PUMP).triggers, set(song.curve(PUMP).shape)) == ("hits", (), {0.5})
    assert song.strip(REVERB_RETURN).duck_db == 4.0 and song.to_json()["schema"] == SCHEMA
    assert Song.from_json(song.to_json()) == song


def test_a_part_with_the_masters_id_gets_another_everywhere():
    old = third()
    named = {**old["parts"][0], "id": "master", "name": "Master"}
    steered = {**old["parts"][0], "effects": [{"kind": "ducker", "key": "master"}], "automation": [],
             "cells": [{"section": "s1", "pattern": "A", "part": "master"}]}  # fmt: skip
    song = Song.from_json(third(parts=[named, steered]))
    assert [p.id for p in song.parts] == ["master-2", "pad"]
    assert song.part("pad").chain[0].sidechain == song.part("pad").cells[0].part == "master-2"


def test_what_steers_an_effect_of_format_4_is_its_sidechain():
    song = Song.from_json(third())
    song = replace(song, master=replace(song.master, chain=(Effect("reverb", sidechain="pad", id="e1"),)))
    old = song.to_json() | {"schema": "ersatz.song/4"}
    for strip in (*old["parts"], old["master"]):
        for effect in strip["chain"]:
            effect["key"] = effect.pop("sidechain")
    assert Song.from_json(old) == song


def test_gaps_of_format_2_are_transitions():
    old = third(schema="ersatz.song/2", sections=[{"id": "s1", "label": "drop", "bars": 4, "gap_beats": 2.0}])
    song = Song.from_json(old)
    assert song.transitions == (Transition("t1", "gap", "s1", 2.0),)
    assert song.gap_beats("s1") == 2.0


@pytest.mark.parametrize("gone", ["parts", "ducking", "bpm", "sections"])
def test_an_earlier_song_that_lacks_something_is_refused_in_a_sentence(gone):
    old = third()
    del old[gone]
    with pytest.raises(UnusableDocument, match="damaged"):
        Song.from_json(old)


def test_reading_leaves_the_document_as_it_was():
    old = third()
    kept = copy.deepcopy(old)
    Song.from_json(old)
    assert old == kept


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"out": "bus:nowhere"}, "no bus"), ({"sends": {"return:x": {"db": 0.0}}}, "no return"),
        ({"duck": {"curve": "x", "depth_db": 3.0}}, "curve"), ({"id": "bus:bass"}, "one id"),
    ],
)  # fmt: skip
def test_strips_are_wired_to_what_is_there(change, said):
    document = Song.from_json(third()).to_json()
    document["parts"][0] |= change
    with pytest.raises(UnusableDocument, match=said):
        Song.from_json(document)


def test_nothing_goes_in_a_circle():
    document = Song.from_json(third()).to_json()
    buses = {bus["id"]: bus for bus in document["buses"]}
    buses["bus:drums"]["out"] = "bus:bass"
    assert Song.from_json(document).strip("bus:drums").out == "bus:bass"
    buses["bus:bass"]["out"] = "bus:drums"
    with pytest.raises(UnusableDocument, match="itself"):
        Song.from_json(document)
    buses["bus:bass"] |= {"out": "master", "sends": {REVERB_RETURN: {"db": -6.0}}}
    document["returns"][0]["out"] = "bus:drums"
    with pytest.raises(UnusableDocument, match="itself"):
        Song.from_json(document)
