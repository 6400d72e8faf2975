"""The survey page as a producer uses it: pick, correct, take back, listen with click, drone and one band."""

import pytest

from tests.browser.test_journey import HEARD, heard, upload

pytestmark = pytest.mark.browser
WAIT_MS = 60_000


@pytest.fixture
def survey(page, server, real_track):
    upload(page, real_track)
    page.locator("article .portrait path").first.wait_for(timeout=WAIT_MS)
    page.locator("article h2 a").first.click()
    page.locator("#score svg rect.refbox").first.wait_for()
    return page


def test_sections_are_moved_by_keyboard_and_taken_back(survey):
    joint = survey.locator(".joint").first
    before = int(joint.get_attribute("aria-valuenow"))
    joint.focus()
    survey.keyboard.press("ArrowRight")
    assert joint.get_attribute("aria-valuenow") == str(before + 1)
    survey.keyboard.press("Enter")
    survey.get_by_role("button", name="Undo: sections").wait_for(timeout=WAIT_MS)
    assert survey.locator(".joint").first.get_attribute("aria-valuenow") == str(before + 1)
    # Where the measurement had it is still drawn.
    assert survey.locator("line.measured").count() >= 1
    survey.keyboard.press("Control+z")
    survey.get_by_role("button", name="Undo: sections").wait_for(state="detached", timeout=WAIT_MS)
    assert survey.locator(".joint").first.get_attribute("aria-valuenow") == str(before)


def test_a_section_gets_another_name(survey):
    survey.get_by_label("Kind of section").select_option("bridge")
    survey.get_by_role("button", name="Undo: sections").wait_for(timeout=WAIT_MS)
    assert survey.locator("#score").get_by_role("button", name="bridge").count() >= 1


def test_bands_are_heard_alone_and_a_click_can_be_added(survey):
    survey.keyboard.press("Space")
    survey.wait_for_timeout(1200)
    whole = survey.evaluate(HEARD)
    survey.get_by_label("Band to hear alone").select_option("high")
    survey.wait_for_timeout(600)
    high = survey.evaluate(HEARD)
    assert high < whole - 3
    survey.keyboard.press("d")
    assert survey.locator("#aid-drone").get_attribute("aria-pressed") == "true"
    assert heard(survey, high + 1) > high + 1
    survey.keyboard.press("c")
    assert survey.locator("#aid-click").get_attribute("aria-pressed") == "true"
    survey.keyboard.press("Space")
