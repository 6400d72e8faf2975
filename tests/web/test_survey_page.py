"""The survey page: corrections of sections, tapping, steps back, kick, sheet, two references."""

import io
import json
from dataclasses import replace

import pytest
import soundfile
from django.urls import reverse

from ersatz.core.survey import survey_file
from ersatz.studio.jobs import work
from ersatz.studio.models import Reference
from tests.web.conftest import drawing

pytestmark = pytest.mark.django_db(transaction=True)


def correct(web, reference, queued, **fields):
    answer = web.post(reverse("correct", args=[reference.pk]), fields)
    if answer.status_code == 202:
        work.run(queued[-1])
    reference.refresh_from_db()
    return answer


def sections(*parts):
    out, bar = [], 1
    for label, bars in parts:
        out.append({"label": label, "start_bar": bar, "bars": bars})
        bar += bars
    return json.dumps(out)


def test_sections_drawn_by_hand_replace_the_found_ones_and_step_back(web, reference, queued):
    found = [s.start_bar for s in reference.survey.sections]
    answer = correct(web, reference, queued, what="sections", sections=sections(("intro", 8), ("build", 4), ("drop", 20)))
    assert answer.status_code == 202
    assert [(s.label, s.start_bar) for s in reference.survey.sections] == [("intro", 1), ("build", 9), ("drop", 13)]
    # The measurement is kept beside it, untouched.
    assert [s.start_bar for s in reference.measured.sections] == found
    assert len(reference.survey.drums.patterns) == len(reference.survey.pump.per_section) == 3
    page = web.get(reverse("survey", args=[reference.pk])).content.decode()
    assert "Undo: sections" in page and "All as measured" in page
    assert correct(web, reference, queued, what="back").status_code == 202
    assert [s.start_bar for s in reference.survey.sections] == found
    assert not reference.corrections


@pytest.mark.parametrize(
    "body", [sections(("intro", 8)), sections(("chorus", 32)), "[]", "no json", '[{"label": "drop"}]', '{"a": 1}']
)
def test_sections_that_dont_fit_are_refused_with_a_sentence(web, reference, queued, body):
    answer = correct(web, reference, queued, what="sections", sections=body)
    assert answer.status_code == 400
    assert len(answer.json()["error"]) > 10
    assert not reference.corrections and not queued


def test_a_tapped_tempo_takes_the_measured_one(web, reference, queued):
    correct(web, reference, queued, what="tapped", bpm="63.6")
    assert reference.survey.tempo.bpm == pytest.approx(63.0, abs=0.02)


def test_steps_back_go_one_by_one(web, reference, queued):
    correct(web, reference, queued, what="key", tonic="D", mode="minor")
    correct(web, reference, queued, what="key", tonic="F", mode="major")
    correct(web, reference, queued, what="back")
    assert (reference.survey.key.tonic, reference.survey.key.mode) == ("D", "minor")
    correct(web, reference, queued, what="back")
    assert reference.survey.key.tonic == "A"
    assert correct(web, reference, queued, what="back").status_code == 400


def test_another_metre_is_said_refused_for_remakes_and_corrected(web, reference, queued):
    three = replace(reference.survey, tempo=replace(reference.survey.tempo, beats_per_bar=3))
    reference.survey_json = three.to_json()
    reference.save()
    page = web.get(reverse("survey", args=[reference.pk])).content.decode()
    assert "3 beats to the bar" in page and "Remakes are made in 4/4 so far" in page
    assert "Draft a remake" not in web.get(reverse("shelf")).content.decode()
    for name in ("draft", "start-empty"):
        assert web.post(reverse(name, args=[reference.pk])).url == reverse("survey", args=[reference.pk])
    assert not reference.remakes.exists()
    for wrong in ("1", "8", "x"):
        assert correct(web, reference, queued, what="metre", beats=wrong).status_code == 400
    assert correct(web, reference, queued, what="metre", beats="4").status_code == 202
    assert reference.survey.tempo.beats_per_bar == 4
    assert correct(web, reference, queued, what="metre", beats="3").status_code == 202
    assert reference.survey.tempo.beats_per_bar == 3 and reference.survey.bars == pytest.approx(32 * 4 / 3, abs=1)
    assert "Undo: beats per bar" in web.get(reverse("survey", args=[reference.pk])).content.decode()


def test_a_bar_line_is_put_where_it_is_said(web, reference, queued):
    correct(web, reference, queued, what="bar-one", seconds="1.0")
    grid = reference.survey.tempo.grid
    assert (1.0 - grid.first_downbeat_s) % grid.bar_s == pytest.approx(0, abs=1e-3)


def test_the_kick_can_be_heard(web, reference):
    answer = web.get(reverse("kick", args=[reference.pk]))
    samples, rate = soundfile.read(io.BytesIO(b"".join(answer.streaming_content)))
    assert rate == 44_100
    assert len(samples) == pytest.approx(0.4 * rate, abs=2)
    assert abs(samples).max() > 0.2


def test_the_printed_sheet_says_what_was_found(web, reference):
    page = web.get(reverse("sheet", args=[reference.pk])).content.decode()
    assert "126.00 BPM" in page and "A minor" in page
    assert page.count("<tr>") > len(reference.survey.sections)
    assert "X··· X··· X··· X···" in page


def test_two_references_stand_side_by_side(web, user, reference):
    second = Reference.objects.create(
        owner=user, title="Second Pier", file_name="b.wav", stored_name="b.wav", survey_json=reference.survey_json
    )
    page = web.get(reverse("beside", args=[reference.pk, second.pk])).content.decode()
    assert "Cold Pier" in page and "Second Pier" in page and "126.00 BPM" in page


def test_nothing_of_another_owner_is_reachable(web, other, reference):
    theirs = Reference.objects.create(
        owner=other, title="Theirs", file_name="b.wav", stored_name="b.wav", survey_json=reference.survey_json
    )
    for name in ("sheet", "kick", "survey"):
        assert web.get(reverse(name, args=[theirs.pk])).status_code == 404
    assert web.get(reverse("beside", args=[reference.pk, theirs.pk])).status_code == 404
    assert web.post(reverse("correct", args=[theirs.pk]), {"what": "back"}).status_code == 404


def test_the_pump_is_set_by_hand_and_everything_behind_follows(web, reference, queued):
    measured = reference.survey.pump
    assert correct(web, reference, queued, what="pump", depth_db="4.5", rate="1/8", release_ms="100").status_code == 202
    assert (reference.survey.pump.depth_db, reference.survey.pump.rate) == (4.5, "1/8")
    page = web.get(reverse("survey", args=[reference.pk])).content.decode()
    assert "every half beat" in page and f"measured {measured.depth_db:.1f} dB" in page
    assert "4.5 dB every half beat" in web.get(reverse("sheet", args=[reference.pk])).content.decode()
    for wrong in ({"depth_db": "deep"}, {"depth_db": "61"}, {"rate": "snare"}, {"release_ms": "0"}):
        fields = {"depth_db": "4", "rate": "1/4", "release_ms": "100", **wrong}
        answer = correct(web, reference, queued, what="pump", **fields)
        assert answer.status_code == 400 and "0 to 60 dB" in answer.json()["error"]
    correct(web, reference, queued, what="back")
    # The file's, which holds 16 bits of what the stored survey was measured on.
    assert reference.survey.pump == survey_file(reference.audio_path).pump


def test_every_role_of_every_section_has_its_confidence(web, reference):
    page = drawing(web.get(reverse("survey", args=[reference.pk])))
    assert len(page["roleConfidence"]) == len(page["sections"])
    for section, stated in zip(page["sections"], page["roleConfidence"]):
        assert set(stated) == set(section["presence"])
        assert all(0 <= value <= 1 for value in stated.values())
