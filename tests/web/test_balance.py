"""The mix over the wire: what strips add, levels, clashes, fitted ducking, balancing as a job; each for its owner only."""

import io
import json

import numpy as np
import pytest
import soundfile
from django.urls import reverse

from ersatz.core.edits.strips import SetStrip
from ersatz.core.mixdown.render import HEADROOM_DB, Mixdown
from ersatz.core.song.document import PUMP
from ersatz.studio.jobs import work
from ersatz.studio.models import Job, Measurement
from tests.web.addresses import edits


@pytest.fixture
def at(remake):
    """Addresses of the remake as it stands."""
    return lambda name, *more: reverse(name, args=[remake.pk, remake.revision.sha, *more])


@pytest.fixture
def bar(song):
    """One in which the pad plays."""
    return min(Mixdown(song).plays_in("pad")) + 1


def edit(web, remake, **fields):
    body = {"revision": remake.revision.number, "edit": fields}
    return web.post(edits("edit", remake, "balance"), json.dumps(body), content_type="application/json")


def test_the_page_has_every_strip_with_its_figures(web, remake):
    drawing = web.get(reverse("balance", args=[remake.pk])).context["drawing"]
    song = remake.revision.song
    assert [s["id"] for s in drawing["strips"]] == [s.id for s in song.strips()]
    pad = next(s for s in drawing["strips"] if s["id"] == "pad")
    assert pad["figures"]["gain_db"] == song.part("pad").gain_db and pad["kind"] == "part"
    assert {s["kind"] for s in drawing["strips"]} == {"part", "bus", "return", "master"}
    assert len(drawing["sections"]) == len(song.sections)


def test_a_strip_is_sent_by_itself_quieter_by_the_headroom(web, remake, at, bar):
    answer = web.get(at("listen-strip", "pad", bar, bar))
    samples, _ = soundfile.read(io.BytesIO(b"".join(answer.streaming_content)), dtype="float32")
    wanted = Mixdown(remake.revision.song).contribution("pad", bar, bar) * 10 ** (-HEADROOM_DB / 20)
    assert np.abs(wanted).max() > 0.01
    np.testing.assert_allclose(samples.T, wanted, atol=2e-4)


def test_a_send_is_heard_alone_and_moves_with_nothing_else(web, remake, at, bar):
    answer = web.get(at("listen-send", "pad", "return:reverb", bar, bar + 1))
    samples, _ = soundfile.read(io.BytesIO(b"".join(answer.streaming_content)), dtype="float32")
    assert np.abs(samples).max() > 1e-4
    # However loud it is sent in the song: the page scales it.
    edit(web, remake, kind="set_send", strip="pad", to="return:reverb", db=-40.0)
    remake.refresh_from_db()
    again = web.get(reverse("listen-send", args=[remake.pk, remake.revision.sha, "pad", "return:reverb", bar, bar + 1]))
    other, _ = soundfile.read(io.BytesIO(b"".join(again.streaming_content)), dtype="float32")
    np.testing.assert_allclose(other, samples, atol=2e-4)


def test_lanes_meters_and_clashes_are_measured(web, remake, at):
    section = web.get(reverse("balance-state", args=[remake.pk])).json()["sections"][-1]
    lanes = web.get(at("listen-lanes", section["first"], section["last"])).json()
    assert {"master", "pad"} <= set(lanes["strips"]) and len(lanes["strips"]["pad"]) == len(lanes["hz"])
    assert lanes["reference"] is None or len(lanes["reference"]) == len(lanes["hz"])
    meters = web.get(at("listen-meters", section["first"], section["first"])).json()
    assert len(meters["momentary_lufs"]) == 16 == len(meters["strips"]["pad"]["peak_db"]) == len(meters["limited_db"])
    clashes = web.get(at("listen-clashes", len(remake.revision.song.sections) - 1)).json()["clashes"]
    for clash in clashes:
        assert clash["sentence"] and clash["edit"]["kind"] == "several"


def test_the_reference_has_a_fine_spectrum_at_the_mixs_loudness(web, remake, at):
    section = web.get(reverse("balance-state", args=[remake.pk])).json()["sections"][-1]
    bars = (section["first"], section["first"] + 3)
    found = web.get(at("listen-fine", "reference", *bars)).json()
    lanes = web.get(at("listen-lanes", *bars)).json()
    assert len(found["hz"]) == len(found["level_db"]) == 120
    # It lies on the reference's third octaves: a mean over an octave is the same within a few dB.
    for low, high in ((200, 400), (1000, 2000), (4000, 8000)):
        fine = [10 ** (db / 10) for hz, db in zip(found["hz"], found["level_db"]) if low <= hz < high]
        coarse = [10 ** (db / 10) for hz, db in zip(lanes["hz"], lanes["reference"]) if low <= hz < high]
        assert 10 * np.log10(np.mean(fine)) == pytest.approx(10 * np.log10(np.mean(coarse)), abs=4.0), low
    # Without its audio there is none.
    remake.reference.listening_path.unlink()
    assert web.get(at("listen-fine", "reference", *bars)).status_code == 404


def test_a_fine_spectrum_and_what_dynamics_take_are_measured_of_one_strip(web, remake, at):
    section = web.get(reverse("balance-state", args=[remake.pk])).json()["sections"][-1]
    bars = (section["first"], section["first"])
    found = web.get(at("listen-fine", "pad", *bars)).json()
    assert len(found["hz"]) == len(found["level_db"]) == len(found["peak_db"]) == 120
    squeezed = {"kind": "compressor", "params": {"threshold_db": -40.0, "ratio": 8.0}}
    edit(web, remake, kind="set_effects", strip="pad", effects=[squeezed])
    remake.refresh_from_db()
    ids = [e.id for e in remake.revision.song.part("pad").chain]
    address = reverse("listen-reductions", args=[remake.pk, remake.revision.sha, "pad", *bars])
    assert {name: len(row) for name, row in web.get(address).json()["taken"].items()} == {ids[0]: 16}
    assert web.get(at("listen-fine", "nobody", *bars)).status_code == 404
    assert web.get(at("listen-reductions", "nobody", *bars)).status_code == 404


def test_a_chain_is_saved_from_any_strip_and_offered_to_every_one(web, remake):
    address = reverse("balance-keep-chain", args=[remake.pk, "bus:drums"])
    said = web.post(address, {"name": "Glue"})
    assert said.status_code == 400 and "no effects" in said.json()["error"]
    edit(web, remake, kind="set_effects", strip="bus:drums", effects=[{"kind": "compressor"}])
    assert web.post(address, {"name": " "}).status_code == 400
    saved = web.post(address, {"name": "Glue"}).json()["chains"]
    assert [(c["name"], [e["kind"] for e in c["effects"]]) for c in saved] == [("Glue", ["compressor"])]
    page = web.get(reverse("balance", args=[remake.pk])).context["drawing"]
    assert [c["name"] for c in page["chains"]] == ["Glue"]
    level = web.get(reverse("balance-chain-level", args=[remake.pk, "bus:drums"])).json()["db"]
    assert abs(level) < 24


def test_a_curve_is_fitted_to_the_reference_and_to_the_kick(web, remake):
    for to in ("kick", "reference"):
        remake.refresh_from_db()
        before = remake.revision.song.curve(PUMP).shape
        fields = {"revision": remake.revision.number, "curve": PUMP, "to": to}
        assert web.post(reverse("balance-fit", args=[remake.pk]), fields).status_code == 200
        remake.refresh_from_db()
        assert remake.revision.song.curve(PUMP).shape != before


@pytest.mark.parametrize(
    "fields", [{}, {"revision": 1, "curve": "gone", "to": "kick"}, {"revision": 1, "curve": PUMP, "to": "taste"}]
)
def test_what_can_not_be_fitted_is_said_in_one_sentence(web, remake, fields):
    answer = web.post(reverse("balance-fit", args=[remake.pk]), fields)
    assert answer.status_code == 400 and answer.json()["error"].endswith(".")
    assert remake.revision.number == 1


@pytest.mark.parametrize(
    "fields",
    [
        {"kind": "set_output", "strip": "bus:drums", "out": "bus:drums"},
        {"kind": "set_send", "strip": "pad", "to": "return:nowhere", "db": -12},
        {"kind": "set_strip", "strip": "gone", "name": "gain_db", "value": 0},
        {"kind": "set_strip", "strip": "pad", "name": "gain_db", "value": 1e9},
        {"kind": "set_strip", "strip": "pad", "name": "gain_db", "value": "loud"},
    ],
)
def test_bad_input_is_one_sentence_and_changes_nothing(web, remake, fields):
    answer = edit(web, remake, **fields)
    assert answer.status_code == 400 and answer.json()["error"]
    remake.refresh_from_db()
    assert remake.revision.number == 1


def test_a_gain_that_is_no_number_is_refused(web, remake):
    body = '{"revision": 1, "edit": {"kind": "set_strip", "strip": "pad", "name": "gain_db", "value": NaN}}'
    assert web.post(edits("edit", remake, "balance"), body, content_type="application/json").status_code == 400


def test_balancing_is_a_job_that_keeps_what_was_changed_meanwhile(web, remake, monkeypatch):
    answer = web.post(reverse("balance-solve", args=[remake.pk]), {"section": "", "locked": "pad,nowhere"})
    assert answer.status_code == 202
    job = Job.objects.get(pk=answer.json()["job"]["id"])
    assert job.options == {"sections": None, "locked": ["pad"]}

    def quieter(song, survey, sections, locked, cache, samples, progress):
        # The producer moves a fader while it is solved.
        remake.apply(SetStrip("lead", "gain_db", -3.0), remake.head)
        for name in ("bass", "lead"):
            song = SetStrip(name, "gain_db", -30.0).apply(song)
        return song

    monkeypatch.setattr(work, "balance_song", quieter)
    work.run(job.pk)
    remake.refresh_from_db()
    song = remake.revision.song
    assert (song.part("bass").gain_db, song.part("lead").gain_db) == (-30.0, -3.0)
    told = web.get(reverse("job", args=[job.pk])).json()["changes"]
    assert {row["strip"] for row in told} == {"bass", "lead"}
    assert remake.revision.sentence == "Balanced to the reference"
    assert web.post(edits("undo", remake, "balance")).json()["undo"] != "Balanced to the reference"


def test_a_section_that_is_not_there_is_refused(web, remake):
    assert web.post(reverse("balance-solve", args=[remake.pk]), {"section": 99}).status_code == 400


def test_the_mix_of_others_is_not_found(web, remake, other):
    sha = remake.revision.sha
    addresses = [
        reverse("balance", args=[remake.pk]), reverse("balance-state", args=[remake.pk]),
        reverse("listen-strip", args=[remake.pk, sha, "pad", 1, 1]), reverse("listen-lanes", args=[remake.pk, sha, 1, 1]),
        reverse("listen-send", args=[remake.pk, sha, "pad", "return:reverb", 1, 1]),
        reverse("listen-meters", args=[remake.pk, sha, 1, 1]), reverse("listen-clashes", args=[remake.pk, sha, 0]),
        reverse("balance-bypass-level", args=[remake.pk, "pad", 0]), reverse("balance-chain-level", args=[remake.pk, "pad"]),
        *(reverse(name, args=[remake.pk, sha, "pad", 1, 1]) for name in ("listen-fine", "listen-reductions")),
    ]  # fmt: skip
    web.force_login(other)
    assert {web.get(a).status_code for a in addresses} == {404}
    posts = ("edit", "undo", "redo", "balance-preview", "balance-fit", "balance-solve")
    answers = {
        web.post(reverse(name, args=[remake.pk]), {"revision": 1, "curve": PUMP, "to": "kick"}).status_code for name in posts
    }
    assert answers == {404}
    assert web.post(reverse("balance-keep-chain", args=[remake.pk, "pad"]), {"name": "Mine"}).status_code == 404
    assert not Measurement.objects.filter(remake__owner=other).exists()
