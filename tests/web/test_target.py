"""Targets: made from references or a style, set, drafted from, compared with; never another owner's."""

from __future__ import annotations

from dataclasses import replace

import pytest
from django.urls import reverse

from ersatz.studio.jobs import work
from ersatz.studio.models import Job, Measurement, Reference, Remake


@pytest.fixture
def second(user, club_survey) -> Reference:
    """Another reference, four beats per minute faster."""
    faster = replace(
        club_survey,
        source=replace(club_survey.source, sha256="1" * 64),
        tempo=replace(club_survey.tempo, bpm=club_survey.tempo.bpm + 4),
    )
    return Reference.objects.create(
        owner=user, title="Gangway", file_name="gangway.wav", stored_name="original.wav", survey_json=faster.to_json()
    )


@pytest.fixture
def target(web, reference, second) -> Reference:
    answer = web.post(reverse("target-new"), {"members": [reference.pk, second.pk], "title": "Night watch"})
    assert answer.status_code == 302
    return Reference.objects.targets().get()


def test_a_target_of_two_references_holds_their_medians(web, target, reference, second):
    assert target.title == "Night watch"
    assert target.survey.tempo.bpm == pytest.approx((reference.survey.tempo.bpm + second.survey.tempo.bpm) / 2, abs=0.01)
    assert set(target.as_target.members.all()) == {reference, second}
    page = web.get(reverse("target", args=[target.pk]))
    assert page.status_code == 200
    assert page.context["spans"]["bpm"] == "126.4 to 129.6"
    assert reverse("survey", args=[reference.pk]) in page.content.decode()


def test_the_survey_page_of_a_target_is_the_target(web, target):
    assert web.get(reverse("survey", args=[target.pk])).url == reverse("target", args=[target.pk])


@pytest.mark.parametrize(
    ("fields", "says"),
    [
        ({}, "Pick two references or more, or a style."),
        ({"members": "one"}, "Pick two references or more, or a style."),
        ({"members": "one", "style": "grime"}, "Pick references or a style, not both."),
    ],
)
def test_what_makes_no_target_is_said(web, reference, fields, says):
    fields = {k: (reference.pk if v == "one" else v) for k, v in fields.items()}
    answer = web.post(reverse("target-new"), fields)
    assert answer.status_code == 400
    assert says in answer.content.decode()
    assert not Reference.objects.targets().exists()


def test_a_reference_without_a_beat_is_named(web, reference, second):
    unsteady = replace(second.survey, tempo=replace(second.survey.tempo, confidence=0.1))
    Reference.objects.filter(pk=second.pk).update(survey_json=unsteady.to_json())
    answer = web.post(reverse("target-new"), {"members": [reference.pk, second.pk]})
    assert answer.status_code == 400
    assert "“Gangway” has no steady beat" in answer.content.decode()


def test_a_style_is_a_target_without_audio(web):
    web.post(reverse("target-new"), {"style": "future-garage"})
    made = Reference.objects.targets().get()
    assert (made.title, made.listened) == ("Future garage", None)
    page = web.get(reverse("target", args=[made.pk]))
    assert page.status_code == 200
    assert page.context["player"] is None
    assert "target, style" in web.get(reverse("shelf")).content.decode()


def test_tempo_and_key_of_the_draft_can_be_chosen(web, target, reference):
    fields = {"bpm": "130", "tonic": "D", "mode": "minor", "heard": ""}
    web.post(reverse("target-choose", args=[target.pk]), fields)
    target.refresh_from_db()
    assert (target.survey.tempo.bpm, target.survey.key.tonic) == (130.0, "D")
    assert target.target.typical.tempo.bpm != 130.0
    assert target.listened is None
    typical = target.target.typical
    fields = {"bpm": typical.tempo.bpm, "tonic": typical.key.tonic, "mode": typical.key.mode, "heard": reference.pk}
    web.post(reverse("target-choose", args=[target.pk]), fields)
    target.refresh_from_db()
    assert not target.corrections
    assert target.listened == reference


def test_a_tempo_that_is_none_is_refused(web, target):
    answer = web.post(reverse("target-choose", args=[target.pk]), {"bpm": "fast", "tonic": "D", "mode": "minor"})
    assert answer.status_code == 400


def test_a_remake_is_drafted_from_a_style_in_that_style(web, queued):
    web.post(reverse("target-new"), {"style": "future-garage"})
    made = Reference.objects.targets().get()
    web.post(reverse("draft", args=[made.pk]))
    remake = Remake.objects.get()
    assert (remake.reference, remake.style) == (made, "future-garage")


def test_a_gap_to_a_target_counts_from_the_edge_of_what_is_usual(web, target, song, reference):
    remake = Remake.objects.create(owner=target.owner, reference=target, title="Ebb")
    revision = remake.start(song, "Drafted from the target")
    Measurement.objects.create(remake=remake, sha=revision.sha, survey_json=reference.survey_json)
    page = web.get(reverse("gap", args=[remake.pk]))
    tempo = next(row for row in page.context["rows"] if row["name"] == "Tempo")
    assert tempo["usual"] == "126.40 to 129.60"
    assert tempo["difference"] == "−0.40"
    assert set(page.context["drawing"]["corridors"]) == {"spectrum", "pump", "loudness"}
    assert web.get(reverse("plan", args=[remake.pk])).context["drawing"]["reference"]["usual"]


def test_a_correction_of_a_member_reaches_the_target(web, target, reference, queued):
    before = target.survey.tempo.bpm
    web.post(reverse("correct", args=[reference.pk]), {"what": "tempo", "bpm": reference.survey.tempo.bpm / 2})
    work.run(Job.objects.get(reference=reference).pk)
    target.refresh_from_db()
    assert target.survey.tempo.bpm == pytest.approx(before - 31.5, abs=0.1)


def test_nobody_else_reaches_a_target(client, other, target):
    client.force_login(other)
    assert client.get(reverse("target", args=[target.pk])).status_code == 404
    assert client.get(reverse("target-json", args=[target.pk])).status_code == 404
    assert client.post(reverse("target-choose", args=[target.pk]), {}).status_code == 404
    answer = client.post(reverse("target-new"), {"members": list(target.as_target.members.values_list("pk", flat=True))})
    assert answer.status_code == 400


def test_a_track_has_no_target_page_and_a_target_no_track_pages(web, target, reference):
    assert web.get(reverse("target", args=[reference.pk])).status_code == 404
    for name in ("survey-json", "kick", "sheet"):
        assert web.get(reverse(name, args=[target.pk])).status_code == 404


def test_the_document_can_be_downloaded(web, target):
    assert web.get(reverse("target-json", args=[target.pk])).json()["schema"] == "ersatz.target/1"
