"""A part's sound over the wire: edits, previews, notes, saved sounds and chains, each for its owner only."""

import io
import json
from dataclasses import replace

import pytest
import soundfile
from django.urls import reverse

from ersatz.core.voices import library
from ersatz.studio.models import Remake, SavedSound
from tests.web.addresses import edits
from tests.web.conftest import drawing


def url(name, remake, *rest):
    return reverse(name, args=[remake.pk, "lead", *rest])


def post(web, address, **body):
    return web.post(address, json.dumps(body), content_type="application/json")


def edited(web, remake, revision, **edit):
    return post(web, edits("edit", remake, "sound", "lead"), revision=revision, edit={"part": "lead", "strip": "lead", **edit})


def test_the_page_opens_on_the_lead_and_lists_all_sounds(web, remake):
    assert web.get(reverse("parts", args=[remake.pk])).url == url("part", remake)
    drawing = web.get(url("part", remake)).context["drawing"]
    assert drawing["part"]["id"] == "lead"
    assert len(drawing["browser"]["sounds"]) == len(library.library())
    assert list(drawing["sound"]["blocks"])[:2] == ["osc1", "osc2"]
    assert web.get(reverse("part", args=[remake.pk, "none"])).status_code == 404


def test_an_edit_answers_with_the_new_sound_and_its_curves(web, remake):
    state = edited(web, remake, 1, kind="set_sound_value", name="filter1_hz", value=700.0).json()
    assert state["revision"] == 2
    assert state["undo"] == "Lead: Cutoff 700 Hz"
    fields = {p["name"]: p["value"] for p in state["sound"]["blocks"]["filter1"]["params"]}
    assert fields["filter1_hz"] == 700.0
    undone = web.post(edits("undo", remake, "sound", "lead")).json()
    assert undone["redo"] == "Lead: Cutoff 700 Hz"
    assert web.post(edits("redo", remake, "sound", "lead")).json()["sha"] == state["sha"]


def test_refused_and_late_edits_say_why(web, remake):
    assert "Cutoff lies between" in edited(web, remake, 1, kind="set_sound_value", name="filter1_hz", value=9e9).json()["error"]
    edited(web, remake, 1, kind="set_effects", effects=[{"kind": "eq"}])
    late = edited(web, remake, 1, kind="set_effects", effects=[])
    assert late.status_code == 409
    assert late.json()["state"]["effects"][0]["title"] == "Equaliser"


def test_a_preview_draws_without_making_a_revision(web, remake):
    answer = post(
        web, url("part-preview", remake), edit={"kind": "set_sound_value", "part": "lead", "name": "env1_attack_ms", "value": 500.0}
    )
    assert answer.json()["sound"]["pictures"]["envelopes"]["env1"]["stages"]["attack"] == pytest.approx(0.5)
    assert remake.revisions.count() == 1
    assert post(web, url("part-preview", remake), edit={"kind": "none"}).status_code == 400


def test_a_note_is_audio_and_an_old_revisions_note_stays_what_it_was(web, remake):
    address = reverse("listen-note", args=[remake.pk, remake.revision.sha, "lead", 69])
    before = web.get(address)
    samples, rate = soundfile.read(io.BytesIO(before.content))
    assert rate == 44_100
    assert abs(samples).max() > 0.02
    edited(web, remake, 1, kind="load_sound", sound={"voice": "rim"})
    assert web.get(address).content == before.content
    remake.refresh_from_db()
    now = web.get(reverse("listen-note", args=[remake.pk, remake.revision.sha, "lead", 69]))
    assert now.content != before.content
    assert web.get(reverse("listen-note", args=[remake.pk, "none", "lead", 69])).status_code == 404


def test_shipped_sounds_are_heard(web):
    assert web.get(reverse("listen-sound", args=["Keel"])).headers["Content-Type"] == "audio/flac"
    assert web.get(reverse("listen-sound", args=["Nothing"])).status_code == 404


def test_a_bypass_level_is_measured(web, remake):
    edited(web, remake, 1, kind="set_effects", effects=[{"kind": "compressor", "params": {"threshold_db": 0, "gain_db": -6}}])
    assert web.get(url("part-bypass-level", remake, 0)).json()["db"] == pytest.approx(-6, abs=0.1)
    assert web.get(url("part-bypass-level", remake, 1)).status_code == 404


def test_sounds_are_saved_replaced_heard_and_forgotten(web, remake, user):
    saved = web.post(url("part-save", remake), {"what": "sound", "name": "Mine"}).json()
    assert saved["sounds"][0]["name"] == "Mine"
    web.post(url("part-save", remake), {"what": "sound", "name": "Mine"})
    own = SavedSound.objects.of(user).get()
    assert own.sound.name == "Mine"
    assert web.get(reverse("listen-saved", args=[own.pk])).status_code == 200
    left = web.post(reverse("sound-forget", args=["sound", own.pk]), {"role": "lead"}).json()
    assert "Mine" not in [s["name"] for s in left["sounds"]]
    assert "1 to 60" in web.post(url("part-save", remake), {"what": "sound", "name": ""}).json()["error"]


def test_chains_are_saved_with_what_steers_them_and_find_it_in_another_song(web, remake, user, reference, song):
    assert "no effects" in web.post(url("part-save", remake), {"what": "chain", "name": "Glue"}).json()["error"]
    edited(web, remake, 1, kind="set_effects", effects=[{"kind": "compressor", "sidechain": "kick"}, {"kind": "reverb"}])
    answer = web.post(url("part-save", remake), {"what": "chain", "name": "Glue"}).json()
    assert [e["kind"] for e in answer["chains"][0]["effects"]] == ["compressor", "reverb"]
    assert [e["sidechain"] for e in answer["chains"][0]["effects"]] == ["kick", ""]
    # In a song whose kick has another id the chain is steered by that; where none plays a kick the page says so.
    parts = tuple(replace(p, id="boom") if p.id == "kick" else p for p in song.parts)
    elsewhere = Remake.objects.create(owner=user, reference=reference, title="Elsewhere")
    elsewhere.start(replace(song, parts=parts), "")
    chain = drawing(web.get(url("part", elsewhere)))["browser"]["chains"][0]
    assert chain["effects"][0]["sidechain"] == "boom" and not chain["lost"]
    elsewhere.start(replace(song, parts=tuple(p for p in song.parts if p.role != "kick")), "")
    chain = drawing(web.get(url("part", elsewhere)))["browser"]["chains"][0]
    assert chain["effects"][0]["sidechain"] == "" and "Compressor was steered by a part that plays kick" in chain["lost"]


def test_no_one_reaches_anothers_parts_and_sounds(client, other, web, remake, user):
    web.post(url("part-save", remake), {"what": "sound", "name": "Mine"})
    own = SavedSound.objects.of(user).get()
    sha = remake.revision.sha
    client.force_login(other)
    gets = [url("part", remake), reverse("parts", args=[remake.pk]), reverse("listen-note", args=[remake.pk, sha, "lead", 60]),
            reverse("listen-saved", args=[own.pk]), url("part-bypass-level", remake, 0)]  # fmt: skip
    assert {client.get(address).status_code for address in gets} == {404}
    posts = [edits(name, remake, "sound", "lead") for name in ("edit", "undo", "redo")]
    posts += [url(name, remake) for name in ("part-preview", "part-save")]
    posts.append(reverse("sound-forget", args=["sound", own.pk]))
    assert {client.post(address, {}).status_code for address in posts} == {404}
    assert SavedSound.objects.of(user).count() == 1


def test_a_sound_is_compared_as_it_was_in_the_loop_at_the_same_loudness(web, remake):
    was = remake.revision.sha
    sha = edited(web, remake, 1, kind="set_sound_value", name="level_db", value=-12.0).json()["sha"]
    asked = {"pk": remake.pk, "sha": sha, "part": "lead", "was": was, "first": 1, "last": 2}
    for change, status in (({}, 200), ({"part": "none"}, 404), ({"was": "0" * 9}, 404)):
        assert web.get(reverse("listen-was", kwargs={**asked, **change})).status_code == status
