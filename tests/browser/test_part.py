"""A part's sound as a producer uses it: open a block, drag a curve, add and move effects, take a sound, play keys."""

import pytest

from tests.browser.test_journey import upload

pytestmark = pytest.mark.browser
WAIT_MS = 180_000


@pytest.fixture
def part(page, server, real_track):
    upload(page, real_track)
    page.locator("article .portrait path").first.wait_for(timeout=WAIT_MS)
    page.get_by_role("button", name="Draft a remake").first.click()
    page.locator(".plan .cell").first.wait_for(timeout=WAIT_MS)
    page.get_by_role("link", name="Parts").click()
    page.locator(".stage svg path").first.wait_for()
    return page


def undo_says(page, words):
    page.wait_for_function("words => (document.getElementById('undo').title ?? '').includes(words)", arg=words, timeout=30_000)


def test_a_sound_is_shaped_in_the_browser_alone(part):
    part.get_by_role("tab", name="Filter 1").click()
    cutoff = part.locator("[data-name=filter1_hz]")
    before = cutoff.input_value()
    handle = part.get_by_role("slider", name="Cutoff and resonance").first
    box = handle.bounding_box()
    part.mouse.move(box["x"] + 6, box["y"] + 6)
    part.mouse.down()
    part.mouse.move(box["x"] - 60, box["y"] + 6, steps=5)
    part.mouse.up()
    undo_says(part, "Cutoff")
    assert part.locator("[data-name=filter1_hz]").input_value() != before
    # The same by the keyboard alone.
    part.locator("[data-name=filter1_hz]").focus()
    part.keyboard.press("ArrowUp")
    part.keyboard.press("Control+z")

    part.locator("#add-effect").select_option("reverb")
    undo_says(part, "Reverb added")
    part.locator("#add-effect").select_option("eq")
    undo_says(part, "Equaliser added")
    part.locator(".card-name", has_text="Equaliser").focus()
    part.keyboard.press("Alt+ArrowLeft")
    undo_says(part, "another order")
    assert part.locator(".card-name").all_inner_texts() == ["Equaliser", "Reverb"]
    part.get_by_role("button", name="Reverb on").click()
    part.get_by_role("button", name="Reverb off").wait_for()

    part.locator("#by-text").fill("ship's bell")
    part.get_by_role("button", name="Take Ship's bell").click()
    undo_says(part, "plays Ship's bell")
    part.get_by_role("heading", name="Ship's bell").wait_for()
    assert not part.problems


def test_keys_play_and_are_taken_down_along_the_player(part):
    part.locator("#take-down").click()
    part.keyboard.press("Space")
    part.locator("#play.is-playing").wait_for()
    part.wait_for_timeout(1500)
    with part.expect_response(lambda answer: "/listen/note/" in answer.url) as note:
        part.keyboard.down("d")
        part.wait_for_timeout(300)
        part.keyboard.up("d")
    assert note.value.status == 200
    part.get_by_text("1 note taken down").wait_for()
    part.locator("#take-down").click()
    part.get_by_role("button", name="Keep the line").click()
    undo_says(part, "taken down")
    assert not part.problems
