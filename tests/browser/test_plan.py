"""The plan in the browser: sections resized at their ends, moved, duplicated, deleted; the reference's plan adopted."""

import pytest

from tests.browser.waits import undo_says

pytestmark = pytest.mark.browser


def test_sections_are_arranged_by_pointer_and_by_keyboard(page, house):
    page.goto(house.own_draft())
    page.locator(".plan .cell").first.wait_for()
    blocks = page.locator("[data-own]")
    count = blocks.count()
    assert page.get_by_role("button", name="Adopt its whole plan").count() == 0

    # The end of the first section by the keyboard, then by typing its length.
    page.locator(".plan .boundary").first.focus()
    page.keyboard.press("PageDown")
    page.keyboard.press("Enter")
    undo_says(page, "long")
    page.locator("[data-tool=bars]").fill("6")
    page.keyboard.press("Enter")
    undo_says(page, "6 bars long")

    page.get_by_role("button", name="As long: ").click()
    undo_says(page, "long")
    page.keyboard.press("Control+z")
    page.get_by_role("button", name="Duplicate", exact=True).click()
    undo_says(page, "duplicated")
    assert blocks.count() == count + 1

    # The first block is dragged behind the second.
    first, second = blocks.nth(0).bounding_box(), blocks.nth(1).bounding_box()
    page.mouse.move(first["x"] + 8, first["y"] + 10)
    page.mouse.down()
    page.mouse.move(second["x"] + second["width"] - 2, first["y"] + 12, steps=5)
    page.mouse.up()
    undo_says(page, "Moved")

    page.get_by_role("button", name="Adopt its whole plan").click()
    undo_says(page, "Adopted a plan")
    assert blocks.count() == count
    page.get_by_role("button", name="Delete", exact=True).click()
    undo_says(page, "deleted")
    page.keyboard.press("Control+z")
    undo_says(page, "Adopted a plan")

    # What a cell plays is changed beneath the plan, by the keyboard alone.
    page.locator(".cell[aria-pressed=true]").first.focus()
    page.locator("[data-name=cell-level]").focus()
    page.keyboard.press("ArrowDown")
    undo_says(page, "−0.5 dB in")
    assert page.evaluate("document.activeElement.dataset.name") == "cell-level"
    # Tempo, key and swing of the whole song.
    page.locator("#song summary").click()
    page.locator("[data-name=song-swing]").fill("57")
    page.keyboard.press("Enter")
    undo_says(page, "Swing 57")
    page.locator("[data-name=song-mode]").select_option("major")
    undo_says(page, "everything transposed")
    page.get_by_text("History").click()
    page.get_by_role("button", name="Return to 1:").click()
    page.locator("#undo:disabled").wait_for()
    page.get_by_role("button", name="Return to 2:").click()
    undo_says(page, "long")
    assert page.problems == []


def test_another_draft_is_told_heard_and_taken(page, house):
    page.goto(house.own_draft())
    page.locator("#another summary").click()
    page.locator("#another [name=energy]").select_option("busier")
    with page.expect_response(lambda answer: "/with/" in answer.url and answer.url.endswith(".flac")) as heard:
        page.get_by_role("button", name="Draft another").click()
    assert heard.value.status == 200
    rows = page.locator(".drafts li")
    page.locator(".drafts [aria-pressed=true][aria-label^='Hear draft']").wait_for()
    assert rows.count() == 2 and "busier" in rows.nth(1).inner_text()
    assert page.locator(".drafts rect.hook").count() > 4
    # The song as it stands, and two more: then there is no room for a fourth.
    page.get_by_role("button", name="Hear the song as it stands").click()
    page.locator(".drafts li:first-child [aria-pressed=true]").wait_for()
    for kept in (3, 4):
        page.get_by_role("button", name="Draft another").click()
        page.wait_for_function("kept => document.querySelectorAll('.drafts li').length === kept", arg=kept)
    assert page.get_by_role("button", name="Draft another").is_disabled()
    page.locator(".drafts").get_by_role("button", name="Remove draft").last.focus()
    page.keyboard.press("Enter")
    page.wait_for_function("() => document.querySelectorAll('.drafts li').length === 3")
    # Taken, it is the song, being matched; taken back, the song is as it was.
    page.get_by_role("button", name="Take draft").first.click()
    page.locator("#matching").wait_for()
    undo_says(page, "Another draft")
    page.get_by_text("History").click()
    page.get_by_role("button", name="Return to 1:").click()
    page.locator("#undo:disabled").wait_for()
    assert page.problems == []
