"""The grids by hand: hits dragged to their velocity and their timing, rows of their own length, notes moved, lengthened, bent,
locked while the rest is generated anew; parts soloed."""

import base64
import json

import pytest

from tests.browser.conftest import choose
from tests.browser.test_arrange import add_part
from tests.browser.waits import undo_says

pytestmark = pytest.mark.browser
NOTES = """([row]) => [...document.querySelectorAll(`[data-note^='${row}/']`)].map((n) => n.dataset.note.split('/')[1])"""


def keys(page, row):
    return page.evaluate(NOTES, [row])


def drag(page, box, dx, dy, modifier=None):
    x, y = box["x"] + min(5, box["width"] / 2), box["y"] + min(5, box["height"] / 2)
    if modifier:
        page.keyboard.down(modifier)
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + dx, y + dy, steps=5)
    page.mouse.up()
    if modifier:
        page.keyboard.up(modifier)


def test_the_drum_grid_by_hand(empty):
    page = empty
    add_part(page, "kick", "Mooring post")
    add_part(page, "hats", "Salt")
    page.get_by_role("link", name="Kick").click()
    lane = page.locator("[data-lane=kick]")
    lane.wait_for()
    # A click on each beat sets a hit on it.
    box = lane.bounding_box()
    for beat in range(4):
        page.mouse.click(box["x"] + (beat / 4 + 0.01) * box["width"], box["y"] + 30)
        undo_says(page, "a hit more")
        page.wait_for_function("n => document.querySelectorAll(`[data-note^='kick/']`).length === n", arg=beat + 1)
    assert keys(page, "kick") == ["0.60", "960.60", "1920.60", "2880.60"]

    # Up and down is velocity; with Alt sideways timing, as far as the pointer went.
    hit = page.locator("[data-note='kick/960.60']")
    drag(page, hit.bounding_box(), 0, 24)
    undo_says(page, "velocities")
    assert page.locator("[data-name=velocity]").input_value() == "45"
    drag(page, page.locator("[data-note='kick/960.60']").bounding_box(), 18, 0, "Alt")
    undo_says(page, "nudged by")
    nudge = float(page.locator("[data-name=nudge]").input_value())
    bar_ms = 240_000 / page.evaluate("JSON.parse(document.getElementById('drawing').textContent).bpm")
    assert nudge == pytest.approx(18 / box["width"] * bar_ms, abs=1.0)
    # A second click on what is in hand takes it out.
    page.locator("[data-note='kick/960.60']").click()
    undo_says(page, "a note less")
    assert keys(page, "kick") == ["0.60", "1920.60", "2880.60"]

    # A row with a length of its own, by its handle and the keyboard.
    handle = page.get_by_role("slider", name="Hats loop length")
    handle.focus()
    for _ in range(4):
        page.keyboard.press("ArrowLeft")
    page.keyboard.press("Enter")
    undo_says(page, "loop length 12 16ths")
    # 32nds, and triplets.
    page.locator("[data-name=grid]").select_option("8th triplets")
    page.locator("[data-lane=hats]").focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    undo_says(page, "a hit more")
    assert keys(page, "hats") == ["320.60"]
    page.get_by_role("button", name="Hats", exact=True).first.click()
    page.locator("[data-name=choke]").fill("cymbals")
    page.keyboard.press("Enter")
    undo_says(page, "chokes with cymbals")
    assert page.problems == []


def test_the_note_grid_by_hand(empty):
    page = empty
    add_part(page, "bass", "Keel")
    add_part(page, "lead", "Beacon")
    page.get_by_role("link", name="Bass").click()
    lane = page.locator(".pitchrows .barlane")
    lane.wait_for()
    box = lane.bounding_box()
    # Written with its length: pressed at the start of the bar, let go a beat later.
    drag(page, {"x": box["x"], "y": box["y"] + 100, "width": 6, "height": 6}, 0.24 * box["width"], 0)
    undo_says(page, "a note more")
    (first,) = keys(page, "bass")
    assert page.locator("[data-name=length]").input_value() == "4"
    scale = page.evaluate("JSON.parse(document.getElementById('drawing').textContent).scale")
    assert int(first.split(".")[1]) % 12 in scale

    # Moved a beat later, lengthened at its end, an octave up by the keyboard, bent.
    drag(page, page.locator(".note").bounding_box(), 0.25 * box["width"], 0)
    undo_says(page, "notes moved")
    assert keys(page, "bass")[0].startswith("960.")
    end = page.locator(".note .end").bounding_box()
    drag(page, end, 0.25 * box["width"], 0)
    undo_says(page, "lengths")
    assert page.locator("[data-name=length]").input_value() == "8"
    before = int(keys(page, "bass")[0].split(".")[1])
    page.locator(".note").focus()
    page.keyboard.press("Shift+ArrowUp")
    undo_says(page, "notes moved")
    page.wait_for_function("m => document.querySelector('.note')?.dataset.note.endsWith(`.${m}`)", arg=before + 12)
    page.locator("[data-name=slide]").fill("-12")
    page.keyboard.press("Enter")
    undo_says(page, "slides by -12")
    page.locator(".note", has_text="↘12").wait_for()

    # Locked, it stays while the rest is made anew.
    page.locator(".note").focus()
    page.get_by_role("button", name="Lock").click()
    locked = keys(page, "bass")[0]
    takes = []
    for _ in range(2):
        page.get_by_role("group", name="Generate and transform").get_by_role("button", name="New seed").click()
        undo_says(page, f"seed {len(takes) + 2}")
        takes.append(keys(page, "bass"))
    assert all(locked in take for take in takes)

    # Answered by another part, chords by their degree, a part soloed.
    page.locator("[data-name=bars]").fill("4")
    page.keyboard.press("Enter")
    undo_says(page, "4 bars long")
    choose(page, "answer", "Lead")
    undo_says(page, "Bass calls, Lead answers")
    choose(page, "chord", "1")
    undo_says(page, "chord on degree 1")
    with page.expect_request(lambda r: "/with/" in r.url and r.url.endswith(".flac")) as asked:
        page.get_by_role("button", name="Solo this part").click()
        page.locator("#play").click()
    code = asked.value.url.split("/with/")[1].split("/")[0]

    assert json.loads(base64.urlsafe_b64decode(code + "=" * (-len(code) % 4)))["heard"] == ["bass"]
    assert page.problems == []
