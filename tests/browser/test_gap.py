"""Moves on the Gap page: found, heard before and after at equal loudness, set aside, taken and undone."""

import pytest

from tests.browser.waits import is_saved, undo_says

pytestmark = pytest.mark.browser


def test_a_move_is_heard_taken_and_undone(page, house):
    page.goto(f"{house.own_draft()}gap/")
    # Measured first, then its moves are found.
    page.locator("#gap-spectrum .ownline").wait_for()
    moves = page.locator("#moves-list li")
    moves.first.wait_for()
    count, said = moves.count(), moves.first.locator("b").inner_text()
    assert "→" in moves.first.locator("p").inner_text()
    page.evaluate("import('/static/studio/frame.js').then(({ player }) => { window.playing = player; })")
    moves.first.get_by_role("button", name="After").click()
    page.wait_for_function("() => window.playing.isPlaying && window.playing.tracks.remake.url.includes('/with/')")
    moves.first.get_by_role("button", name="Before").click()
    page.wait_for_function("() => !window.playing.tracks.remake.url.includes('/with/')")
    if count > 1:
        moves.nth(1).get_by_role("button", name="Set aside").click()
        assert moves.count() == count - 1
    moves.first.get_by_role("button", name="Apply").click()
    # The song is another: the section is measured first, then the whole, and moves are found anew; it plays on all the while.
    page.get_by_text("is measured as the song is now").wait_for()
    assert page.evaluate("window.playing.isPlaying")
    page.wait_for_function("() => document.querySelector('#undo') && !document.querySelector('#undo').disabled")
    page.wait_for_function("() => !document.querySelector('#gap-notice .job')")
    assert page.evaluate("window.playing.isPlaying")
    page.wait_for_function("() => !document.querySelector('#moves-progress .job')")
    assert said not in page.locator("#moves-list li b").all_inner_texts()
    # Two songs are measured now: the figures have a course.
    page.locator("#gap-progress svg path").first.wait_for(state="attached")
    assert "matched over 2 measured songs" in page.locator("#gap-progress caption").inner_text()
    page.locator("#undo").click()
    page.wait_for_function("() => document.querySelector('#redo') && !document.querySelector('#redo').disabled")
    is_saved(page)
    assert not page.problems


def test_the_map_opens_the_section_that_is_chosen_there(page, house):
    page.goto(f"{house.remake}gap/")
    page.locator("#gap-spectrum .ownline").wait_for()
    plan = page.locator("#gap-score [role=button]").first.bounding_box()
    cell = page.locator("#gap-map td[data-section='0']").first
    # On one bar axis with the plan above it.
    assert abs(cell.bounding_box()["x"] - plan["x"]) < 3
    cell.click()
    page.wait_for_url("**section=0")
    page.locator("#gap-map td.chosen[data-section='0']").first.wait_for()
    assert not page.problems


def test_what_is_taken_over_is_seen_and_varied(page, house):
    page.goto(f"{house.copy}gap/")
    hook = page.locator(".own-facet[data-facet='Hook']")
    hook.locator("b.taken").wait_for()
    before = float(hook.locator("b.taken").inner_text())
    assert before > 0.5 and "as the reference’s bars" in hook.locator("p").inner_text()
    assert hook.locator("svg .refbox").count() and hook.locator("svg .ownbox").count()
    hook.get_by_text("Vary this").click()
    take = hook.locator("li").filter(has_text="written anew").first
    page.evaluate("import('/static/studio/frame.js').then(({ player }) => { window.playing = player; })")
    take.get_by_role("button", name="Hear").click()
    page.wait_for_function("() => window.playing.isPlaying && window.playing.tracks.remake.url.includes('/with/')")
    take.get_by_role("button", name="Apply").click()
    undo_says(page, "written anew")
    page.wait_for_function(
        "before => Number(document.querySelector('[data-facet=Hook] b')?.textContent) < before",
        arg=before,
    )
    assert not page.problems
