"""Every page answers, under the content security policy, to its owner only."""

import re

import pytest
from django.urls import reverse

PAGES = ("shelf", "survey", "plan", "part", "gap", "handover")


def address(page, reference, remake):
    if page == "shelf":
        return reverse("shelf")
    if page == "part":
        return reverse("part", args=[remake.pk, "lead"])
    return reverse(page, args=[reference.pk if page == "survey" else remake.pk])


@pytest.mark.parametrize("page", PAGES)
def test_pages_answer_with_a_policy_and_without_inline_code(web, reference, remake, page):
    answer = web.get(address(page, reference, remake))
    assert answer.status_code == 200
    policy = answer.headers["Content-Security-Policy"]
    assert "script-src 'self'" in policy
    assert "unsafe" not in policy
    html = answer.content.decode()
    assert not re.search(r"<script(?![^>]*(src=|application/json))", html)
    assert not re.search(r"\son\w+=|\sstyle=", html)
    assert not re.search(r"https?://(?!127\.0\.0\.1|www\.w3\.org)", html)


@pytest.mark.parametrize("page", PAGES)
def test_one_step_of_the_rail_is_here_and_images_have_names(web, reference, remake, page):
    html = web.get(address(page, reference, remake)).content.decode()
    assert html.count('aria-current="page"') == 1
    for tag in re.findall(r"<svg[^>]*>", html):
        assert "aria-label" in tag or "aria-hidden" in tag
    for tag in re.findall(r"<button[^>]*></button>", html):
        assert "aria-label" in tag


@pytest.mark.parametrize("page", PAGES[1:])
def test_nothing_of_one_owner_is_reachable_by_another(client, other, reference, remake, page):
    client.force_login(other)
    assert client.get(address(page, reference, remake)).status_code == 404
    assert b"Cold Pier" not in client.get(reverse("shelf")).content


def test_no_action_reaches_anothers_rows(client, other, reference, remake, job_for):
    client.force_login(other)
    job = job_for("survey", reference=reference)
    sha = remake.revision.sha
    posts = [
        reverse(name, args=[reference.pk])
        for name in ("reference-rename", "reference-delete", "reference-restore", "draft", "correct")
    ] + [
        reverse(name, args=[remake.pk]) for name in ("edit", "undo", "redo", "export", "remake-delete", "remake-restore", "redraft")
    ]
    posts.append(reverse("job-cancel", args=[job.pk]))
    gets = [
        reverse("reference-row", args=[reference.pk]),
        reverse("survey-json", args=[reference.pk]),
        reverse("listen-remake", args=[remake.pk, sha, 1, 4]),
        reverse("listen-reference", args=[reference.pk, reference.listening_key(reference.survey), 1, 4]),
        reverse("download", args=[remake.pk, sha, "wav"]),
        reverse("job", args=[job.pk]),
    ]
    assert {client.post(url).status_code for url in posts} == {404}
    assert {client.get(url).status_code for url in gets} == {404}


def test_alone_on_one_machine_the_local_user_is_signed_in_on_loopback_only(client, db):
    assert client.get(reverse("shelf")).status_code == 200
    client.logout()
    assert client.get(reverse("shelf"), REMOTE_ADDR="192.0.2.7").status_code == 403


def test_with_accounts_people_sign_in(client, db, settings, user):
    settings.ACCOUNTS = True
    assert client.get(reverse("shelf")).url.startswith(reverse("login"))
    user.set_password("foghorn at nine")
    user.save()
    answer = client.post(reverse("login"), {"username": "local", "password": "foghorn at nine"})
    assert answer.url == reverse("shelf")


def test_posts_need_the_token(reference, user):
    from django.test import Client

    strict = Client(enforce_csrf_checks=True)
    strict.force_login(user)
    assert strict.post(reverse("reference-delete", args=[reference.pk])).status_code == 403


def test_the_survey_page_says_when_the_beat_is_unsure(web, reference):
    reference.survey_json["tempo"]["confidence"] = 0.2
    reference.save()
    assert b"No steady beat that could be trusted" in web.get(reverse("survey", args=[reference.pk])).content


def test_the_gap_page_compares_the_section_that_was_asked_for(web, remake):
    page = web.get(reverse("gap", args=[remake.pk]), {"section": 0}).content.decode()
    assert "Frequency balance in intro" in page
    assert web.get(reverse("gap", args=[remake.pk]), {"section": "99"}).status_code == 200


def test_the_survey_document_can_be_downloaded(web, reference, club_survey):
    answer = web.get(reverse("survey-json", args=[reference.pk]))
    assert answer.json()["tempo"]["bpm"] == club_survey.tempo.bpm
    assert "attachment" in answer["Content-Disposition"]
