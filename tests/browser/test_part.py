"""A part's sound as a producer uses it: open a block, drag a curve, add and move effects, take a sound, play keys."""

import numpy as np
import pytest
import soundfile

from tests.browser.waits import undo_says

pytestmark = pytest.mark.browser
RATE = 44_100


@pytest.fixture
def part(page, house):
    page.goto(house.own_draft())
    page.get_by_role("link", name="Parts").click()
    page.locator(".stage svg path").first.wait_for()
    return page


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
    part.locator(".device-name", has_text="Equaliser").focus()
    part.keyboard.press("Alt+ArrowLeft")
    undo_says(part, "another order")
    assert part.locator(".device-name").all_inner_texts() == ["Equaliser", "Reverb"]
    part.get_by_role("button", name="Reverb on").click()
    part.get_by_role("button", name="Reverb off").wait_for()

    part.locator("#by-text").fill("ship's bell")
    part.get_by_role("button", name="Load Ship's bell").click()
    undo_says(part, "plays Ship's bell")
    part.get_by_role("heading", name="Ship's bell").wait_for()
    assert not part.problems


def test_a_sound_and_a_chain_are_saved_under_a_name(part):
    part.locator("#keep-sound").click()
    part.get_by_label("Name of the sound").fill("Gangway lead")
    part.keyboard.press("Enter")
    part.get_by_role("button", name="Load Gangway lead").wait_for()
    part.locator("#keep-sound").click()
    part.get_by_label("Name of the sound").fill("nothing")
    part.keyboard.press("Escape")
    assert part.get_by_role("button", name="Load nothing").count() == 0
    part.locator("#add-effect").select_option("reverb")
    undo_says(part, "Reverb added")
    part.locator("#keep-chain").click()
    part.get_by_label("Name of the chain").fill("Hold echo")
    part.keyboard.press("Enter")
    part.locator("#add-chain").select_option(label="Hold echo")
    undo_says(part, "Reverb added")
    assert part.locator(".device-name").all_inner_texts() == ["Reverb", "Reverb"]
    assert not part.problems


def test_tips_come_by_pointer_and_by_keyboard_and_go(part):
    # With its fonts the page is drawn once more.
    part.evaluate("() => document.fonts.ready.then(() => null)")
    name = part.locator(".field:not(.choice-field) span").first
    name.hover()
    part.locator(".tooltip", has_text="Drag sideways").wait_for()
    part.mouse.move(5, 5)
    part.locator(".tooltip").wait_for(state="detached")
    # What is cut off is shown whole.
    name.evaluate("span => Object.assign(span.style, { maxWidth: '12px', display: 'block' }) && null")
    name.hover()
    part.locator(".tooltip", has_text=name.inner_text()).wait_for()
    part.keyboard.press("Escape")
    part.locator(".tooltip").wait_for(state="detached")
    part.locator("#add-effect").select_option("reverb")
    undo_says(part, "Reverb added")
    part.locator("#undo").focus()
    part.keyboard.press("Shift+Tab")
    part.keyboard.press("Tab")
    part.locator(".tooltip", has_text="Reverb added").wait_for()
    assert not part.problems


def test_a_sample_is_brought_played_and_sliced(part, tmp_path):
    rng = np.random.default_rng(1)
    x = np.zeros(2 * RATE)
    for start in range(0, 2 * RATE, RATE // 2):
        x[start : start + 4000] += rng.standard_normal(4000) * np.exp(-np.arange(4000) / 900) * 0.3
    soundfile.write(tmp_path / "Rope break.wav", x, RATE)
    part.locator("#sample-file").set_input_files(tmp_path / "Rope break.wav")
    part.get_by_role("button", name="Load Rope break into this part").click()
    undo_says(part, "plays Rope break")
    part.get_by_role("heading", name="Rope break").wait_for()
    # The start by keyboard alone.
    part.get_by_role("slider", name="Start", exact=True).focus()
    part.keyboard.press("ArrowRight")
    undo_says(part, "Start")
    part.get_by_role("tab", name="Slices").click()
    part.locator("[data-name=slice_mode]").select_option("at hits")
    part.locator(".stage", has_text="Slices").get_by_text("at hits: 4").wait_for()
    # The first slice is on the first key.
    with part.expect_response(lambda answer: "/36.flac" in answer.url) as note:
        part.keyboard.press("Escape")
        part.get_by_role("heading", name="Rope break").click()
        part.keyboard.down("a")
        part.wait_for_timeout(200)
        part.keyboard.up("a")
    assert note.value.status == 200
    assert not part.problems
    (tmp_path / "notes.txt").write_text("nothing to hear")
    part.locator("#sample-file").set_input_files(tmp_path / "notes.txt")
    part.locator("#part-says", has_text="doesn't look like audio").wait_for()


def test_keys_play_and_are_taken_down_along_the_player(part):
    part.locator("#take-down").click()
    part.keyboard.press("Space")
    part.locator("#play.is-playing").wait_for()
    part.wait_for_timeout(1500)
    with part.expect_response(lambda answer: "/note/" in answer.url) as note:
        part.keyboard.down("d")
        part.wait_for_timeout(300)
        part.keyboard.up("d")
    assert note.value.status == 200
    part.get_by_text("1 note recorded").wait_for()
    part.locator("#take-down").click()
    part.get_by_role("button", name="Save to the pattern").click()
    undo_says(part, "recorded")
    assert not part.problems
