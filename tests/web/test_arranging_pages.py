"""Plan and notes over the wire: empty remakes, what is asked of the reference, variants, milestones, MIDI, and nobody else's."""

import io
import json

import mido
import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from ersatz.core.edits import edit_json
from ersatz.core.edits.strips import SetStrip
from ersatz.core.exchange.midi import pattern_midi, write_midi
from ersatz.core.mixdown.render import Mixdown
from ersatz.studio.models import Remake
from tests.tunes import standing_still
from tests.web.addresses import code, edits
from tests.web.conftest import drawing
from tests.web.test_edits_and_listening import edit, flac


def post_json(web, name, remake, args=(), **body):
    return web.post(reverse(name, args=[remake.pk, *args]), json.dumps(body), content_type="application/json")


# Empty remakes -------------------------------------------------------------------------------------------------------


def test_an_empty_remake_has_the_references_tempo_and_key_and_takes_its_plan(web, reference, club_survey):
    answer = web.post(reverse("start-empty", args=[reference.pk]))
    remake = Remake.objects.get()
    assert answer.url == reverse("plan", args=[remake.pk])
    song = remake.revision.song
    assert (song.bpm, song.tonic, song.mode) == (club_survey.tempo.bpm, club_survey.key.tonic, club_survey.key.mode)
    assert song.parts == () and song.bars == 16
    assert web.get(answer.url).status_code == 200
    assert web.get(reverse("parts", args=[remake.pk])).url == reverse("plan", args=[remake.pk])
    state = post_json(web, "edit", remake, revision=1, ask={"kind": "adopt_reference", "section": None}).json()
    assert [s["bars"] for s in state["sections"]] == [s.bars for s in club_survey.sections]
    assert all(d["later_bars"] == d["longer_bars"] == 0 for d in state["differences"])
    silent = flac(web.get(reverse("listen-remake", args=[remake.pk, state["sha"], 1, 2])))
    assert not silent.any()


# Asked for ----------------------------------------------------------------------------------------------------------


def test_what_is_asked_of_the_reference_becomes_an_edit(web, remake, club_survey):
    main = club_survey.main_section()
    state = post_json(
        web, "edit", remake, revision=1, ask={"kind": "trace", "part": "hats", "pattern": "A", "section": main}
    ).json()
    assert "traced from the reference" in state["undo"]
    refused = post_json(web, "edit", remake, revision=2, ask={"kind": "trace", "part": "rim", "pattern": "A", "section": main})
    assert refused.status_code == 400 and "hit by hit" in refused.json()["error"]
    stale = post_json(web, "edit", remake, revision=1, ask={"kind": "follow_reference", "parts": ["kick"]})
    assert stale.status_code == 409
    assert post_json(web, "edit", remake, revision=2, ask={"kind": "guess"}).status_code == 400


def test_standstills_are_told_heard_and_taken(web, remake):
    remake.start(standing_still(remake.revision.song), "Drafted from the reference")
    section = max(remake.revision.song.sections, key=lambda s: s.bars).id
    edit(web, remake, 1, kind="resize_section", section=section, bars=64)
    remake.refresh_from_db()
    found = web.get(reverse("standing-still", args=[remake.pk])).json()["found"]
    assert found and found[0]["offers"]
    ask = {"kind": "vary", "standstill": 0, "offer": 0}
    sha = remake.revision.sha
    tried = web.get(reverse("listen-variant", args=[remake.pk, sha, code(ask=ask), found[0]["first"], found[0]["first"]]))
    flac(tried)
    state = post_json(web, "edit", remake, revision=2, ask=ask).json()
    assert state["undo"] == found[0]["offers"][0]


# Variants -----------------------------------------------------------------------------------------------------------


def test_a_variant_is_the_mixdown_of_the_edited_song(web, remake, song):
    tried = SetStrip("kick", "gain_db", -30.0)
    got = flac(web.get(reverse("listen-variant", args=[remake.pk, song.sha(), code(edit=edit_json(tried)), 9, 9])))
    mixdown = Mixdown(tried.apply(song))
    np.testing.assert_allclose(got, mixdown.samples(*mixdown.bar_range(9, 9)), atol=2 / 32768)


def test_parts_that_are_not_heard_still_steer_and_the_heard_ones_are_the_mix(web, remake, song):
    def bars(*heard):
        return flac(web.get(reverse("listen-variant", args=[remake.pk, song.sha(), code(heard=list(heard)), 9, 9])))

    every = [p.id for p in song.parts]
    whole = flac(web.get(reverse("listen-remake", args=[remake.pk, song.sha(), 9, 9])))
    np.testing.assert_array_equal(bars(*every), whole)
    assert not bars().any()
    assert np.abs(bars("kick")).max() > 0.01


@pytest.mark.parametrize("bad", ["!!", "bm9wZQ", code(edit={"kind": "explode"}), code(heard="kick"), code(ask={"kind": "vary"})])
def test_variants_that_cant_be_read_are_not_found(web, remake, song, bad):
    assert web.get(f"/listen/remake/{remake.pk}/{song.sha()}/with/{bad}/1-1.flac").status_code == 404


def test_levels_behind_curves_are_the_parts_own(web, remake, song):
    answer = web.get(reverse("listen-peaks", args=[remake.pk, song.sha(), "kick", 9, 10]))
    levels = answer.json()["peaks"]
    assert "immutable" in answer["Cache-Control"] and len(levels) == 32
    mixdown = Mixdown(song)
    block = mixdown.block(song.part("kick"), 8)
    assert max(levels[:16]) == pytest.approx(np.abs(block).max(), abs=0.001)
    for owner in ("bus:drums", "reverb", "master"):
        assert max(web.get(reverse("listen-peaks", args=[remake.pk, song.sha(), owner, 9, 10])).json()["peaks"]) > 0


# Kept songs ---------------------------------------------------------------------------------------------------------


def test_a_kept_song_outlives_the_history_and_is_taken_up_again(web, remake, song):
    state = web.post(reverse("milestone", args=[remake.pk, "keep"]), {"name": "before new lead"}).json()
    (kept,) = state["milestones"]
    edit(web, remake, 1, kind="set_strip", strip="lead", name="gain_db", value=-30.0)
    web.post(reverse("undo", args=[remake.pk]))
    # An edit after going back drops what was undone, and no milestone.
    changed = edit(web, remake, 1, kind="set_strip", strip="bass", name="gain_db", value=-3.0).json()
    assert changed["milestones"] == [kept]
    assert flac(web.get(f"{kept['listen']}9-9.flac")).any()
    taken = web.post(reverse("milestone", args=[remake.pk, "take"]), {"milestone": kept["id"]}).json()
    assert (taken["sha"], taken["undo"]) == (song.sha(), "Back to “before new lead”")
    assert web.post(reverse("undo", args=[remake.pk])).json()["sha"] == changed["sha"]
    gone = web.post(reverse("milestone", args=[remake.pk, "forget"]), {"milestone": kept["id"]}).json()
    assert gone["milestones"] == []
    assert web.post(reverse("milestone", args=[remake.pk, "keep"]), {"name": " "}).status_code == 400
    assert web.post(reverse("milestone", args=[remake.pk, "take"]), {"milestone": 99}).status_code == 404


def test_two_songs_of_a_remake_are_brought_to_one_loudness(web, remake, song, client, other):
    changed = edit(web, remake, 1, kind="set_strip", strip="kick", name="gain_db", value=-30.0).json()["sha"]
    url = reverse("listen-louder", args=[remake.pk, song.sha(), changed, 9, 12])
    louder = web.get(url).json()["db"]
    assert louder > 0.5
    assert web.get(reverse("listen-louder", args=[remake.pk, changed, song.sha(), 9, 12])).json()["db"] == pytest.approx(-louder)
    assert web.get(reverse("listen-louder", args=[remake.pk, changed, changed, 9, 12])).json()["db"] == 0
    client.force_login(other)
    assert client.get(url).status_code == 404


def test_where_the_song_stands_is_told_to_other_windows(web, remake):
    edit(web, remake, 1, kind="set_strip", strip="bass", name="gain_db", value=-3.0)
    now = web.get(reverse("now", args=[remake.pk])).json()
    assert (now["revision"], now["sentence"]) == (2, "Bass at −3.0 dB")


# Automation ---------------------------------------------------------------------------------------------------------


def test_what_can_be_automated_has_names_units_and_ranges(web, remake):
    rows = {t: row for t, *row in web.get(reverse("automation-targets", args=[remake.pk, "lead"])).json()["targets"]}
    assert rows["fader.pan"] == ["Pan", "", -1.0, 1.0, remake.revision.song.part("lead").pan]
    assert rows["fader.gain_db"][:2] == ["Level", "dB"] and rows["sends.return:reverb"][0] == "Send to Reverb"
    drums = web.get(reverse("automation-targets", args=[remake.pk, "bus:drums"])).json()["targets"]
    assert [t for t, *_ in drums] == ["fader.gain_db", "fader.pan", "fader.width"]
    assert web.get(reverse("automation-targets", args=[remake.pk, "nobody"])).status_code == 404


# Notes and MIDI -----------------------------------------------------------------------------------------------------


def test_the_notes_page_shows_all_drums_together_and_a_pitched_part_alone(web, remake, club_survey):
    drums = drawing(web.get(reverse("part-notes", args=[remake.pk, "kick"])))
    assert not drums["pitched"] and {"kick", "clap", "hats"} <= {r["id"] for r in drums["rows"]}
    bass = drawing(web.get(reverse("part-notes", args=[remake.pk, "bass"])))
    assert bass["pitched"] and [r["id"] for r in bass["rows"]] == ["bass"]
    main = club_survey.main_section()
    assert bass["reference"][main]["bass"]
    kick = next(p for p in club_survey.drums.patterns if p.section == main).kick
    assert [h[1] for h in drums["reference"][main]["hits"]["kick"]] == [v for v in kick if v]
    # A part that only plays for the boundaries has nothing to show, and says so.
    assert drawing(web.get(reverse("part-notes", args=[remake.pk, "riser"])))["rows"]


def test_notes_are_edited_from_their_page(web, remake):
    notes = [{"tick": 0, "ticks": 240, "midi": 40, "velocity": 0.9, "repeats": 2}]
    body = {"kind": "write_notes", "part": "bass", "pattern": "A", "bars": 1, "notes": notes}
    state = web.post(
        edits("edit", remake, "notes", "bass"), json.dumps({"revision": 1, "edit": body}), content_type="application/json"
    ).json()
    assert state["rows"][0]["patterns"]["A"]["notes"][0]["repeats"] == 2
    assert web.post(edits("undo", remake, "notes", "bass")).json()["revision"] == 1
    assert web.post(edits("redo", remake, "notes", "bass")).json()["revision"] == 2


def test_a_pattern_goes_out_and_comes_in_as_midi(web, remake, song):
    out = web.get(reverse("pattern-file", args=[remake.pk, "bass", "A"]))
    assert out["Content-Disposition"].endswith('-bass-a.mid"')
    read = mido.MidiFile(file=io.BytesIO(out.content))
    assert sum(m.type == "note_on" and m.velocity > 0 for m in read.tracks[0]) == len(song.part("bass").patterns["A"].notes)
    url = reverse("pattern-bring", args=[remake.pk, "lead", "A"])
    state = web.post(url, {"revision": 1, "file": SimpleUploadedFile("bass.mid", out.content)}).json()
    assert len(state["rows"][0]["patterns"]["A"]["notes"]) == len(song.part("bass").patterns["A"].notes)
    assert web.post(url, {"revision": 1, "file": SimpleUploadedFile("bass.mid", out.content)}).status_code == 409
    refused = web.post(url, {"revision": 2, "file": SimpleUploadedFile("x.mid", b"no midi")})
    assert refused.status_code == 400 and "MIDI" in refused.json()["error"]
    assert web.post(url, {"revision": 2}).status_code == 400
    assert web.get(reverse("pattern-file", args=[remake.pk, "bass", "Z"])).status_code == 404


def test_a_whole_arrangement_comes_in_as_midi(web, remake, song, tmp_path):
    write_midi(song, tmp_path / "song.mid")
    data = (tmp_path / "song.mid").read_bytes()
    url = reverse("midi-bring", args=[remake.pk])
    state = web.post(url, {"revision": 1, "file": SimpleUploadedFile("song.mid", data)}).json()
    assert len(state["parts"]) > len(song.parts)
    assert state["undo"].startswith("Imported")
    assert web.post(url, {"revision": 1, "file": SimpleUploadedFile("song.mid", data)}).status_code == 409
    assert web.post(url, {"revision": 2, "file": SimpleUploadedFile("x.mid", b"?")}).status_code == 400


# Nobody else's ------------------------------------------------------------------------------------------------------


def test_nothing_of_a_remake_is_reached_by_another(client, other, remake, song):
    client.force_login(other)
    sha, pk = song.sha(), remake.pk
    for name, args in (
        ("part-notes", ["kick"]), ("pattern-file", ["bass", "A"]), ("now", []), ("standing-still", []),
        ("automation-targets", ["lead"]), ("listen-peaks", [sha, "kick", 1, 1]), ("listen-variant", [sha, code(heard=[]), 1, 1]),
    ):  # fmt: skip
        assert client.get(reverse(name, args=[pk, *args])).status_code == 404, name
    midi = pattern_midi(song, song.part("bass"), "A")
    for name, args in (
        ("edit", []), ("undo", []), ("milestone", ["keep"]), ("milestone", ["take"]), ("midi-bring", []),
        ("pattern-bring", ["bass", "A"]),
    ):  # fmt: skip
        fields = {"name": "x", "milestone": 1, "revision": 1, "file": SimpleUploadedFile("a.mid", midi)}
        assert client.post(reverse(name, args=[pk, *args]), fields).status_code == 404, name
    assert client.post(reverse("start-empty", args=[remake.reference.pk])).status_code == 404
    assert remake.revisions.count() == 1
