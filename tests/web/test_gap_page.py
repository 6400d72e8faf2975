"""The Gap page: figures with the largest gaps first, and moves that are found once for a song and taken like any edit."""

from __future__ import annotations

import pytest
from django.urls import reverse

from ersatz.studio.jobs import work
from ersatz.studio.models import Job, Remake
from tests.web.addresses import edits
from tests.web.conftest import drawing


@pytest.fixture
def place(remake, club_survey) -> int:
    return club_survey.main_section()


def louder_bass(web, remake) -> None:
    part = remake.revision.song.part("bass")
    body = {"kind": "set_strip", "strip": "bass", "name": "gain_db", "value": part.gain_db + 8.0}
    answer = web.post(edits("edit", remake, "gap"), {"revision": remake.revision.number, "edit": body}, "application/json")
    assert answer.status_code == 200
    remake.refresh_from_db()


def test_what_is_off_stands_first_and_matched_figures_last(web, remake):
    page = web.get(reverse("gap", args=[remake.pk]))
    order = ["off", "close", "unknown", "matched"]
    verdicts = [order.index(row["verdict"]) for row in page.context["rows"]]
    assert verdicts == sorted(verdicts) and len(verdicts) >= 15


def test_the_map_has_a_cell_for_every_section_and_figure(web, remake, club_survey):
    page = web.get(reverse("gap", args=[remake.pk]), {"section": 1})
    shown, count = page.context["map"], len(club_survey.sections)
    assert len(shown["sections"]) == count and len(set(shown["sections"])) == count
    assert [row["name"] for row in shown["rows"]] == ["Balance, mean", "Balance, worst band", "Loudness", "Roles"]
    assert all(len(row["cells"]) == count for row in shown["rows"])
    html = page.content.decode()
    assert html.count('data-section="1"') == 4 and html.count(' chosen"') == 4
    # The section that the figures below call the worst is the one whose cell is furthest off.
    worst = next(row for row in page.context["rows"] if row["name"] == "Balance, worst section")
    means = [float(cell["shown"]) for cell in shown["rows"][0]["cells"] if cell]
    assert worst["remake"] == shown["sections"][means.index(max(means))]


def test_the_page_knows_where_its_section_lies_in_the_song(web, remake, club_survey):
    for section in range(len(club_survey.sections)):
        page = drawing(web.get(reverse("gap", args=[remake.pk]), {"section": section}))
        placed = list(remake.revision.song.placed())[page["own"]["place"]]
        assert page["own"]["last"] == placed[0] + placed[1].bars - 1
        assert placed[1].label == club_survey.sections[section].label


def test_moves_are_found_once_for_a_song_and_taken_in_one_step(web, remake, place):
    louder_bass(web, remake)
    address = reverse("gap-moves", args=[remake.pk])
    job = web.post(address, {"section": place}).json()["job"]
    assert job["state"] == "queued"
    # Asked again before it has begun, it is the same.
    assert web.post(address, {"section": place}).json()["job"]["id"] == job["id"]
    work.run(job["id"])
    done = web.get(job["url"]).json()
    assert done["state"] == "done"
    first = done["moves"][0]
    assert "Bass" in first["sentence"] and first["closes"] > 0
    known = web.post(address, {"section": place}).json()["job"]
    assert (known["id"], known["moves"]) == (job["id"], done["moves"])
    edit = (
        first["edits"][0] if len(first["edits"]) == 1 else {"kind": "several", "said": first["sentence"], "edits": first["edits"]}
    )
    body = {"revision": remake.revision.number, "edit": edit}
    taken = web.post(edits("edit", remake, "gap"), body, "application/json").json()
    assert taken["undo"] and taken["revision"] == remake.revision.number + 1
    # Another song has moves of its own.
    assert web.post(address, {"section": place}).json()["job"]["id"] != job["id"]


@pytest.mark.parametrize("fields", [{}, {"section": "drop"}, {"section": -1}, {"section": 99}])
def test_moves_of_no_section_are_refused_in_one_sentence(web, remake, fields):
    answer = web.post(reverse("gap-moves", args=[remake.pk]), fields)
    assert answer.status_code == 400 and answer.json()["error"].endswith(".")
    assert not Job.objects.filter(kind=Job.Kind.MOVES).exists()


def test_nobody_asks_for_the_moves_of_another(web, remake, other):
    Remake.objects.filter(pk=remake.pk).update(owner=other)
    assert web.post(reverse("gap-moves", args=[remake.pk]), {"section": 0}).status_code == 404


def gap_page(web, remake, **query):
    page = web.get(reverse("gap", args=[remake.pk]), query)
    assert page.status_code == 200
    return page


def finished(page):
    """Runs the job that a page started; gives its kind."""
    job = page.context["job"]
    work.run(job.pk)
    job.refresh_from_db()
    assert job.state == Job.State.DONE, job.message
    return job.kind


def test_of_a_changed_song_the_section_is_measured_first_and_then_the_whole(web, remake, place):
    before = gap_page(web, remake)
    assert before.context["job"] is None
    louder_bass(web, remake)
    page = gap_page(web, remake)
    # Until then the figures are those from before.
    assert page.context["rows"] == before.context["rows"] and finished(page) == Job.Kind.SECTION
    page = gap_page(web, remake)
    assert page.context["measured_part"] and "is measured as the song is now" in page.content.decode()
    row = {r["name"]: r["remake"] for r in page.context["rows"]}
    was = {r["name"]: r["remake"] for r in before.context["rows"]}
    assert row["Loudness here"] != was["Loudness here"] and row["Loudness"] == was["Loudness"]
    assert finished(page) == Job.Kind.MEASURE
    page = gap_page(web, remake)
    assert (page.context["job"], page.context["measured_part"]) == (None, "")
    assert {r["name"]: r["remake"] for r in page.context["rows"]}["Loudness"] != was["Loudness"]


def test_another_plan_is_measured_as_a_whole(web, remake):
    section = remake.revision.song.sections[0]
    body = {"kind": "resize_section", "section": section.id, "bars": section.bars + 4}
    answer = web.post(edits("edit", remake, "gap"), {"revision": remake.revision.number, "edit": body}, "application/json")
    assert answer.status_code == 200
    assert gap_page(web, remake).context["job"].kind == Job.Kind.MEASURE


def test_the_course_of_the_figures_goes_over_measured_songs_and_kept_versions(web, remake, user):
    # Those that were measured before it was kept are brought up to date in the background.
    gap_page(web, remake)
    work.run(Job.objects.filter(remake=remake, kind=Job.Kind.MEASURE, state=Job.State.QUEUED).get().pk)
    page = drawing(gap_page(web, remake))
    assert [s["isCurrent"] for s in page["songs"]] == [True] and page["figures"] >= 15
    louder_bass(web, remake)
    remake.keep("More bass")
    for _ in range(2):
        finished(gap_page(web, remake))
    page = drawing(gap_page(web, remake))
    assert [(s["isKept"], s["isCurrent"]) for s in page["songs"]] == [(False, False), (True, True)]
    assert page["songs"][1]["name"] == "More bass"
    rows = {r["name"]: r for r in page["rows"]}
    assert all(len(r["off"]) == 2 for r in rows.values())
    assert rows["Key"]["off"] == [None, None] and rows["Loudness here"]["first"] != rows["Loudness here"]["last"]


def test_a_kept_version_that_was_never_measured_is_measured_when_the_page_is_opened(web, remake):
    louder_bass(web, remake)
    milestone = remake.keep("Loud")
    remake.step(-1)
    gap_page(web, remake)
    job = Job.objects.filter(remake=remake, kind=Job.Kind.MEASURE, state=Job.State.QUEUED).get()
    assert job.options["milestone"] == milestone.pk
    work.run(job.pk)
    assert remake.measurements.filter(sha=milestone.sha, section=None).exists()


def test_every_figure_stands_in_its_group_with_its_verdict(web, remake):
    page = gap_page(web, remake)
    groups = page.context["groups"]
    off = [g["matched"] - len(g["rows"]) for g in groups]
    assert off == sorted(off) and {g["name"] for g in groups} >= {"Groove", "Crest by band", "Presence of roles"}
    assert all(row["verdict"] in ("matched", "close", "off") for g in groups for row in g["rows"])
