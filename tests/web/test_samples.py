"""Samples over the wire: brought, listed, played, forgotten, and nobody else's."""

import io
import json

import numpy as np
import pytest
import soundfile
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from ersatz.core.audio import Audio
from ersatz.core.mixdown.render import RATE_HZ
from ersatz.studio.models import OwnSample
from ersatz.studio.shared.renders import mixdown_of
from tests.core.test_loops import loop
from tests.web.addresses import edits


def wav(hz=440.0, seconds=1.0, name="Fog_horn two.wav"):
    t = np.arange(int(seconds * RATE_HZ)) / RATE_HZ
    buffer = io.BytesIO()
    soundfile.write(buffer, 0.5 * np.sin(2 * np.pi * hz * t), RATE_HZ, format="WAV", subtype="PCM_24")
    return SimpleUploadedFile(name, buffer.getvalue())


def bring(web, file):
    return web.post(reverse("sample-bring"), {"file": file, "role": "lead"})


def edit(web, remake, revision, **what):
    body = json.dumps({"revision": revision, "edit": {"part": "lead", **what}})
    return web.post(edits("edit", remake, "sound", "lead"), body, content_type="application/json").json()


def played(web, answer_url):
    answer = web.get(answer_url)
    assert answer.status_code == 200
    return soundfile.read(io.BytesIO(answer.content))[0]


def frequency(x):
    spectrum = np.abs(np.fft.rfft(x[:20_000, 0] * np.hanning(20_000)))
    return np.argmax(spectrum) * RATE_HZ / 20_000


def test_a_sample_is_brought_listed_and_heard(web, user):
    answer = bring(web, wav())
    assert answer.status_code == 201
    [sample] = answer.json()["samples"]
    assert (sample["name"], sample["seconds"]) == ("Fog horn two", 1.0)
    assert frequency(played(web, sample["listen"])) == pytest.approx(440, abs=3)
    # The same file again is the same sample.
    assert len(bring(web, wav(name="again.wav")).json()["samples"]) == 1
    assert OwnSample.objects.count() == 1


def test_a_part_plays_a_sample_and_shows_it(web, remake):
    [sample] = bring(web, wav()).json()["samples"]
    state = edit(web, remake, 1, kind="set_sample", slot="sample", sample=sample["sha"], name=sample["name"])
    assert state["undo"] == "Lead plays Fog horn two"
    assert list(state["sound"]["blocks"])[:4] == ["sample", "time", "loop", "slices"]
    assert state["sound"]["pictures"]["seconds"] == pytest.approx(1.0)
    assert len(state["sound"]["pictures"]["wave"]) > 300
    assert state["sound"]["gone"] == []
    assert frequency(played(web, f"{state['note']}72.flac")) == pytest.approx(880, abs=5)
    state = edit(web, remake, 2, kind="set_sound_choice", name="slice_mode", option="4 parts")
    assert state["sound"]["pictures"]["slices"] == [0.0, 0.25, 0.5, 0.75, 1.0]
    assert state["part"]["middle"] == 36
    # The mixdown of the page and of the worker has it too.
    remake.refresh_from_db()
    song = remake.revision.song
    first = next(s for s, section in song.placed() if (c := song.part("lead").cell(section.id)) and c.on)
    mixdown = mixdown_of(remake, song)
    assert np.abs(mixdown.solo(song.part("lead"), *mixdown.bar_range(first, first + 3))).max() > 1e-3


def test_a_forgotten_sample_is_silent_and_said_and_comes_back(web, remake):
    [sample] = bring(web, wav()).json()["samples"]
    edit(web, remake, 1, kind="set_sample", slot="sample", sample=sample["sha"], name=sample["name"])
    assert web.post(reverse("sound-forget", args=["sample", sample["id"]]), {"role": "lead"}).json()["samples"] == []
    drawing = web.get(reverse("part", args=[remake.pk, "lead"])).context["drawing"]
    assert drawing["sound"]["gone"] == ["sample"]
    assert np.abs(played(web, f"{drawing['note']}60.flac")).max() == 0
    # No browser may keep the silence for when the sample is back.
    assert web.get(f"{drawing['note']}60.flac")["Cache-Control"] == "private, no-store"
    assert web.get(f"{drawing['listen']}1-1.flac")["Cache-Control"] == "private, no-store"
    assert web.get(sample["listen"]).status_code == 404
    bring(web, wav())
    assert "immutable" in web.get(f"{drawing['listen']}1-1.flac")["Cache-Control"]
    assert web.get(reverse("part", args=[remake.pk, "lead"])).context["drawing"]["sound"]["gone"] == []


def test_what_is_no_sample_is_refused_in_a_sentence(web):
    for file, says in (
        (SimpleUploadedFile("notes.txt", b"hello"), "doesn't look like audio"),
        (SimpleUploadedFile("broken.wav", b"hello"), "can’t be read as audio"),
        (wav(seconds=121.0), "up to 2 minutes"),
    ):
        answer = bring(web, file)
        assert answer.status_code == 400
        assert says.replace("’", "'") in answer.json()["error"].replace("’", "'")
    assert web.post(reverse("sample-bring")).status_code == 400
    assert not OwnSample.objects.exists()


def test_nobody_else_hears_or_plays_it(web, client, other, remake):
    [sample] = bring(web, wav()).json()["samples"]
    edit(web, remake, 1, kind="set_sample", slot="sample", sample=sample["sha"], name=sample["name"])
    finder = OwnSample.objects.finder(other)
    assert finder(sample["sha"]) is None
    client.force_login(other)
    assert client.get(sample["listen"]).status_code == 404
    assert client.post(reverse("sound-forget", args=["sample", sample["id"]])).status_code == 404


def test_a_full_disk_is_said(web, monkeypatch):
    def refuse(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(OwnSample, "keep", refuse)
    answer = bring(web, wav())
    assert answer.status_code == 507
    assert "The disk is full" in answer.json()["error"]


def test_a_cycle_becomes_an_oscillators_table(web, remake):
    [sample] = bring(web, wav(hz=44.1, seconds=1000 / RATE_HZ, name="Cycle.wav")).json()["samples"]
    state = edit(web, remake, 1, kind="set_sample", slot="osc1_table", sample=sample["sha"], name="Cycle")
    options = {c["name"]: c["value"] for c in state["sound"]["blocks"]["osc1"]["choices"]}
    assert options["osc1_wave"] == "own table"
    curve = np.array(state["sound"]["pictures"]["cycles"]["osc1"])
    np.testing.assert_allclose(curve, np.sin(2 * np.pi * np.arange(len(curve)) / len(curve)), atol=0.02)


def test_a_loop_is_read_and_fitted_to_the_song(web, user, remake, client, other):
    own = OwnSample.keep(user, "Deck loop", loop(120.0, 8))
    url = reverse("loop-reading", args=[remake.pk, "lead", own.pk])
    edit = {"kind": "set_sample", "part": "lead", "slot": "sample", "sample": own.sha, "name": own.name}
    posted = {"revision": 1, "edit": edit}
    web.post(edits("edit", remake, "sound", "lead"), json.dumps(posted), content_type="application/json")
    found = web.get(url).json()
    assert found["said"].startswith("120.0 BPM, 8 beats, A minor (")
    posted = {"revision": 2, "edit": found["fitsKey"]}
    state = web.post(edits("edit", remake, "sound", "lead"), json.dumps(posted), content_type="application/json").json()
    remake.refresh_from_db()
    params = remake.revision.song.part("lead").sound.params
    assert params["time_beats"] == 8 and state["undo"].startswith("8 beats at")
    short = OwnSample.keep(user, "Tick", Audio(loop(120.0, 1).samples[:, :9000], 44_100))
    assert web.get(reverse("loop-reading", args=[remake.pk, "lead", short.pk])).status_code == 400
    client.force_login(other)
    assert client.get(url).status_code == 404


def test_a_sliced_sample_says_how_many_keys_it_has(web, user, remake):
    own = OwnSample.keep(user, "Deck loop", loop(120.0, 8))
    url = edits("edit", remake, "sound", "rim")
    made = (
        {"kind": "set_sample", "part": "rim", "slot": "sample", "sample": own.sha, "name": own.name},
        {"kind": "set_sound_choice", "part": "rim", "name": "slice_mode", "option": "16 parts"},
    )
    for revision, edit in enumerate(made, 1):
        web.post(url, json.dumps({"revision": revision, "edit": edit}), content_type="application/json")
    text = web.get(reverse("part-notes", args=[remake.pk, "rim"])).content.decode()
    drawing = json.loads(text.split('<script id="drawing" type="application/json">')[1].split("</script>")[0])
    rows = {r["id"]: r for r in drawing["rows"]}
    assert rows["rim"]["slices"] == 16 and rows["rim"]["playsPitch"] and rows["rim"]["middle"] == 36
    assert rows["kick"]["slices"] == 0
