"""A genre's target in the browser: from a style, with a tempo and key of one's own, to a draft."""

import pytest

pytestmark = pytest.mark.browser


def test_a_style_becomes_a_target_and_a_draft(page, house):
    page.goto("/")
    page.get_by_role("link", name="New target").click()
    page.get_by_role("button", name="Make the target").click()
    page.get_by_role("alert").wait_for()
    assert "two references or more" in page.get_by_role("alert").inner_text()
    page.problems.clear()
    page.get_by_label("Style").select_option("future-garage")
    page.get_by_label("Name of the target").fill("Fog horns")
    page.get_by_role("button", name="Make the target").click()
    page.locator("#score svg rect.refbox").first.wait_for()
    # The corridor: hatching between two dashed edges, a line through it.
    assert page.locator("#detail-spectrum path.edge").count() == 2
    assert "128.0 to 136.0" in page.get_by_role("region", name="Tempo").inner_text()
    page.get_by_role("button", name="breakdown 1, bars").click()
    assert page.locator("#detail-name").inner_text() == "breakdown 1, usually 16–32 bars"
    page.locator("#bpm").fill("131")
    page.locator("#tonic").select_option("D")
    page.get_by_role("button", name="Set").click()
    page.get_by_text("chosen").first.wait_for()
    assert "131.00" in page.get_by_role("region", name="Tempo").inner_text()
    assert "D minor" in page.get_by_role("region", name="Key").inner_text()
    page.get_by_role("button", name="Draft a remake").click()
    page.get_by_text("are brought to the target’s").wait_for()
    page.locator("[data-own]").nth(3).wait_for()
    assert page.problems == []
