"""Other drafts beside a remake: kept, told apart, heard, taken and matched; never another owner's."""

from __future__ import annotations

from dataclasses import replace

import pytest
from django.urls import reverse

from ersatz.core.draft import draft_song
from ersatz.studio.jobs import work
from ersatz.studio.models import Job, OtherDraft
from ersatz.studio.shared.variants import variant_of
from tests.web.addresses import code


def rows(web, remake):
    return web.get(reverse("other-drafts", args=[remake.pk])).json()


def add(web, remake, **fields):
    return web.post(reverse("add-draft", args=[remake.pk]), fields)


def take(web, row, revision):
    return web.post(row["url"], {"revision": revision})


@pytest.mark.django_db
def test_a_draft_is_kept_with_what_tells_it_from_others(web, remake, club_survey):
    assert rows(web, remake) == {"drafts": [], "most": 3}
    (row,) = add(web, remake, style="grime", energy="1").json()["drafts"]
    drafted = draft_song(club_survey, row["seed"], "grime", remake.title, 1)
    assert row["ask"] == {"kind": "another_draft", "seed": row["seed"], "style": "grime", "energy": 1}
    assert row["seed"] not in (remake.seed, remake.revision.song.seed)
    assert row["said"].startswith("Grime · busier · ") and drafted.part("pad").sound.name in row["said"]
    assert len(row["chords"].split()) == 8
    lead = drafted.part("lead").patterns["A"].notes
    assert row["hook"] == [[n.tick, n.ticks, n.midi] for n in lead if n.tick < 8 * 3840]
    main = club_survey.sections[club_survey.main_section()]
    assert row["bars"] == [main.start_bar, main.start_bar + min(8, main.bars) - 1]
    # What is heard is that draft, and the song stays as it is.
    assert variant_of(code(ask=row["ask"]), remake.revision.song, club_survey).song == drafted
    assert rows(web, remake)["drafts"] == [row]


@pytest.mark.django_db
def test_three_are_kept_and_no_two_from_one_seed(web, remake):
    for _ in range(3):
        answer = add(web, remake)
    kept = answer.json()["drafts"]
    assert len({row["seed"] for row in kept}) == 3
    refused = add(web, remake)
    assert refused.status_code == 400 and "remove one" in refused.json()["error"]
    left = web.delete(kept[1]["url"]).json()["drafts"]
    assert [row["id"] for row in left] == [kept[0]["id"], kept[2]["id"]]
    assert add(web, remake).json()["drafts"][2]["seed"] not in {row["seed"] for row in left}


@pytest.mark.django_db(transaction=True)
def test_a_draft_takes_the_songs_place_is_matched_and_taken_back(web, remake, queued, monkeypatch, club_survey):
    before = remake.revision.song
    (row,) = add(web, remake).json()["drafts"]
    assert take(web, row, 7).status_code == 409
    assert take(web, row, 1).json()["title"] == remake.title
    remake.refresh_from_db()
    assert remake.head == 2 and remake.revision.sentence == f"Another draft, seed {row['seed']}"
    drafted = remake.revision.song
    assert drafted.part("lead").patterns != before.part("lead").patterns
    job = Job.objects.get(pk=queued[-1])
    assert (job.kind, job.options) == (Job.Kind.DRAFT, {"revision": 2})

    def quieter(draft, survey, cache, report):
        assert draft == drafted
        return replace(draft, parts=tuple(replace(p, gain_db=p.gain_db - 3) for p in draft.parts))

    monkeypatch.setattr(work, "match_song", quieter)
    work.run(job.pk)
    remake.refresh_from_db()
    assert remake.head == 3 and remake.revision.song.part("kick").gain_db == drafted.part("kick").gain_db - 3
    assert remake.go_to(1).song == before


@pytest.mark.django_db(transaction=True)
@pytest.mark.parametrize("meanwhile", ["undone", "another taken"])
def test_a_match_of_what_no_longer_stands_is_left_out(web, remake, queued, monkeypatch, meanwhile):
    monkeypatch.setattr(work, "match_song", lambda draft, survey, cache, report: replace(draft, title="matched"))
    kept = [add(web, remake).json()["drafts"][-1] for _ in range(2)]
    take(web, kept[0], 1)
    job = queued[-1]
    if meanwhile == "undone":
        remake.refresh_from_db()
        remake.step(-1)
    else:
        take(web, kept[1], 2)
    remake.refresh_from_db()
    stands = remake.head, remake.revision.sha
    work.run(job)
    remake.refresh_from_db()
    assert (remake.head, remake.revision.sha) == stands


@pytest.mark.django_db
def test_what_cant_be_drafted_is_said_and_not_kept(web, remake, reference):
    assert add(web, remake, style="polka").status_code == 400
    survey = reference.survey_json
    reference.survey_json = {**survey, "tempo": {**survey["tempo"], "beats_per_bar": 3}}
    reference.save()
    answer = add(web, remake)
    assert answer.status_code == 400 and "4/4" in answer.json()["error"]
    assert not OtherDraft.objects.exists()


@pytest.mark.django_db
def test_nobody_reaches_the_drafts_of_another(web, client, remake, other):
    (row,) = add(web, remake).json()["drafts"]
    client.force_login(other)
    assert client.get(reverse("other-drafts", args=[remake.pk])).status_code == 404
    assert client.post(reverse("add-draft", args=[remake.pk])).status_code == 404
    assert client.post(row["url"], {"revision": 1}).status_code == client.delete(row["url"]).status_code == 404
    assert remake.others.count() == 1


@pytest.mark.django_db
def test_the_first_draft_has_the_energy_that_is_chosen(web, reference, queued):
    web.post(reverse("draft", args=[reference.pk]), {"energy": "-1"})
    calm = reference.remakes.get()
    assert calm.energy == -1 and calm.revision.song.part("ride") is None
    assert b'name="energy"' in web.get(reverse("plan", args=[calm.pk])).content
