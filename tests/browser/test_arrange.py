"""From an empty remake to an arranged track in the browser alone: plan adopted, drums traced, a bass written, cells painted,
transitions and automation put down; and what two windows on it say to each other."""

import io
import re

import mido
import pytest

from tests.browser.conftest import choose, start_empty
from tests.browser.test_journey import AUDIBLE_DBFS, heard, quiet
from tests.browser.waits import is_saved, undo_says

pytestmark = pytest.mark.browser

#: Pixels to a bar: lanes are as wide as all bars.
PER_BAR = """() => document.querySelector('.barlane').getBoundingClientRect().width
  / Number(document.getElementById('plan').style.getPropertyValue('--bars'))"""


def add_part(page, role, sound):
    page.locator("[data-tool=add-part]").click()
    picker = page.locator("#sound-picker")
    picker.get_by_label("Search sounds").fill(sound)
    picker.get_by_role("button", name=re.compile(f"^Add {sound} as {role}", re.IGNORECASE)).click()
    undo_says(page, "added")
    picker.get_by_role("button", name="Close", exact=True).click()
    page.locator("#sound-picker").wait_for(state="hidden")


def an_empty_lead(page):
    """The notes of a lead in an empty remake."""
    start_empty(page)
    add_part(page, "lead", "Beacon")
    page.get_by_role("link", name="Lead").click()


def tool(page, group, name):
    return page.get_by_role("group", name=group).get_by_role("button", name=name)


def test_an_empty_remake_becomes_a_track(empty):
    page = empty
    assert page.locator("[data-own]").count() == 1
    page.get_by_role("button", name="Adopt its whole plan").click()
    undo_says(page, "Adopted a plan")
    sections = page.locator("[data-own]").count()
    assert sections > 1
    sounds = page.evaluate("JSON.parse(document.getElementById('drawing').textContent).sounds")
    for role in ("kick", "hats", "bass", "lead"):
        add_part(page, role, sounds[role][0]["name"])

    # The kick traced, hats generated around a locked hit, in the drum grid.
    page.get_by_role("link", name="Kick").click()
    page.locator("[data-lane=kick]").wait_for()
    page.locator("[data-name=section]").select_option(label="in drop 1") if sections > 3 else None
    page.get_by_role("button", name="Trace the reference").click()
    undo_says(page, "traced")
    assert page.locator("[data-note^='kick/']").count() >= 4
    page.get_by_role("button", name="Hats", exact=True).first.click()
    page.get_by_role("button", name="Generate").click()
    undo_says(page, "generated")
    # A hit set and made softer by the keyboard alone, then struck three times.
    before = page.locator("[data-note^='kick/']").count()
    page.locator("[data-lane=kick]").focus()
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    undo_says(page, "a hit more")
    assert page.locator("[data-note^='kick/']").count() == before + 1
    page.locator("[data-name=repeats]").fill("3")
    page.keyboard.press("Enter")
    undo_says(page, "struck 3 times")
    choose(page, "groove", "Late backbeat")
    undo_says(page, "groove")

    # A bass line: written with the pointer, moved by the keyboard, an octave layer, taken apart and brought back as MIDI.
    page.locator("#which-part").select_option(label="Bass")
    page.locator(".pitchrows .barlane").wait_for()
    box = page.locator(".pitchrows .barlane").bounding_box()
    for share, height in ((0.02, 0.5), (0.3, 0.55), (0.6, 0.45)):
        page.mouse.click(box["x"] + share * box["width"], box["y"] + height * box["height"])
    undo_says(page, "a note more")
    assert page.locator(".note").count() == 3
    page.locator(".note").first.focus()
    page.keyboard.press("ArrowUp")
    undo_says(page, "notes moved")
    # Answers that are still under way draw the tools anew.
    page.wait_for_load_state("networkidle")
    page.locator("[data-name=way]").select_option("octave layer")
    page.get_by_role("button", name="Apply to").click()
    page.wait_for_function("() => document.querySelectorAll('.note').length >= 4")
    with page.expect_download() as download:
        page.get_by_role("link", name="Export MIDI").click()
    exported = mido.MidiFile(download.value.path())
    assert sum(m.type == "note_on" and m.velocity > 0 for t in exported.tracks for m in t) == page.locator(".note").count()
    page.set_input_files("#pattern-file", {"name": "line.mid", "mimeType": "audio/midi", "buffer": two_notes()})
    undo_says(page, "imported from line.mid")
    assert page.locator(".note").count() == 2

    # A rectangle of cells painted by the keyboard, as in the reference, an alternative flipped, a fill, transitions, a curve.
    page.get_by_role("link", name="Plan").click()
    page.locator("[data-cell='0.0']").focus()
    for _ in range(sections - 1):
        page.keyboard.press("Shift+ArrowRight")
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Enter")
    undo_says(page, "2 parts on")
    page.wait_for_function("n => document.querySelectorAll('.cell[aria-pressed=true]').length === n", arg=2 * sections)
    page.locator("[data-cell='2.0']").focus()
    page.keyboard.press("g")
    undo_says(page, "as in the reference")
    page.locator("[data-cell='3.1']").click()
    undo_says(page, "on in")
    choose(page, "cell-other", "Whistle")
    undo_says(page, "Another version")
    page.locator("[data-cell='3.1']").focus()
    page.keyboard.press("v")
    undo_says(page, "flipped")
    page.locator("[data-cell='3.1']", has_text="Whistle").wait_for()
    choose(page, "add-transition", "riser")
    undo_says(page, "Riser at the end")
    page.locator("[data-transition]").first.focus()
    page.keyboard.press("ArrowRight")
    undo_says(page, "changed")
    tool(page, "Automation", "Show").click()
    choose(page, "automation-shape", "rise")
    undo_says(page, "rise of")
    points = page.locator(".automation .point").count()
    assert points >= 3
    page.locator(".automation .point").first.focus()
    page.keyboard.press("ArrowUp")
    undo_says(page, "automated")

    # Kept under a name, gone on, heard against it, taken up again.
    page.get_by_text("Versions", exact=True).click()
    page.get_by_label("Name of the version").fill("before the cut")
    # A menu that was opened before the answer stays open when it comes.
    held = []
    page.route("**/milestones/keep/", lambda route: held.append(route))
    with page.expect_request("**/milestones/keep/"):
        page.get_by_role("button", name="Save version").click()
    page.locator("[data-name=bars-menu]").click()
    held.pop().continue_()
    is_saved(page)
    page.locator("[data-name=bars-menu] + .dropdown-menu").get_by_text("Delete 1 bar").first.click()
    undo_says(page, "deleted")
    page.get_by_role("button", name="Play before the cut").click()
    page.get_by_role("button", name="Play current").click()
    page.get_by_role("button", name="Restore before the cut").click()
    undo_says(page, "Back to “before the cut”")

    # It plays, zoomed to a bar, with the guide under it.
    page.locator("#zoom-section").click()
    for _ in range(12):
        page.keyboard.press("+")
    assert page.evaluate(PER_BAR) > 400
    page.locator("h1").click()
    page.keyboard.press("u")
    page.keyboard.press("Space")
    page.locator("#play.is-playing").wait_for()
    page.wait_for_timeout(1500)
    page.keyboard.press("Space")
    page.reload()
    page.locator("[data-own]").first.wait_for()
    undo_says(page, "Back to “before the cut”")
    assert page.problems == []


def two_notes() -> bytes:
    file, track = mido.MidiFile(ticks_per_beat=480), mido.MidiTrack()
    for midi in (40, 45):
        track.append(mido.Message("note_on", note=midi, velocity=90, time=0))
        track.append(mido.Message("note_off", note=midi, time=480))
    file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def on(page):
    return page.evaluate("[...document.querySelectorAll('.cell[aria-pressed=true]')].map((c) => c.dataset.cell).sort()")


def test_cells_by_the_rectangle_are_painted_copied_and_pasted(empty):
    page = empty
    page.get_by_role("button", name="Adopt its whole plan").click()
    undo_says(page, "Adopted a plan")
    page.get_by_role("button", name="Duplicate", exact=True).click()
    undo_says(page, "duplicated")
    add_part(page, "kick", "Mooring post")
    add_part(page, "bass", "Keel")
    first, last = (page.locator(f"[data-cell='{at}']").bounding_box() for at in ("0.0", "1.1"))
    page.mouse.move(first["x"] + 4, first["y"] + 8)
    page.mouse.down()
    page.mouse.move(last["x"] + 6, last["y"] + 8, steps=6)
    page.mouse.up()
    assert page.locator(".cell.chosen").count() == 4 and on(page) == []
    page.keyboard.press("a")
    undo_says(page, "2 parts painted in 2 sections")
    page.wait_for_function("() => document.querySelectorAll('.cell[aria-pressed=true]').length === 4")
    page.keyboard.press("0")
    undo_says(page, "2 parts off in 2 sections")
    page.keyboard.press("Control+z")
    undo_says(page, "painted")
    # A column of it is copied to the next section.
    page.locator("[data-cell='0.1']").focus()
    page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Control+c")
    page.locator("[data-cell='0.2']").focus()
    page.keyboard.press("Control+v")
    undo_says(page, "2 parts pasted")
    page.wait_for_function("() => document.querySelectorAll('.cell[aria-pressed=true]').length === 6")
    assert on(page) == ["0.0", "0.1", "0.2", "1.0", "1.1", "1.2"]
    # A click lets a part play, a second one only takes the cell in hand.
    page.locator("[data-cell='1.2']").click()
    page.wait_for_timeout(300)
    assert len(on(page)) == 6
    assert page.problems == []


def test_the_guide_sounds_under_a_silent_remake_only_while_it_is_on(empty):
    page = empty
    page.get_by_role("button", name="Adopt its whole plan").click()
    undo_says(page, "Adopted a plan")
    page.locator("#play").click()
    page.locator("#play.is-playing").wait_for()
    assert quiet(page) < AUDIBLE_DBFS
    page.locator("#guide-on").click()
    assert heard(page) > AUDIBLE_DBFS
    # Left out of this section it is silent again, and so it is when switched off.
    page.get_by_role("group", name="Guide").get_by_role("button", name="in ").click()
    assert quiet(page) < AUDIBLE_DBFS
    page.get_by_role("group", name="Guide").get_by_role("button", name="in ").click()
    assert heard(page) > AUDIBLE_DBFS
    page.locator("#guide-on").click()
    assert quiet(page) < AUDIBLE_DBFS
    assert page.problems == []


def test_keys_on_cells_always_answer_and_touch_the_chosen_ones_only(empty):
    page = empty
    page.get_by_role("button", name="Adopt its whole plan").click()
    undo_says(page, "Adopted a plan")
    add_part(page, "kick", "Mooring post")
    page.locator("[data-cell='0.0']").click()
    undo_says(page, "on in")
    says = page.locator("#plan-says")
    page.keyboard.press("f")
    says.get_by_text("one pattern only").wait_for()
    page.keyboard.press("c")
    says.get_by_text("has no pattern C").wait_for()
    page.keyboard.press("v")
    says.get_by_text("no alternative").wait_for()
    on = "() => [...document.querySelectorAll('.cell')].map(c => c.getAttribute('aria-pressed')).join()"
    before = page.evaluate(on)
    page.keyboard.press("0")
    undo_says(page, "off in")
    page.keyboard.press("g")
    undo_says(page, "as in the reference in")
    assert page.evaluate(on).split(",")[1:] == before.split(",")[1:]


def test_an_edit_whose_answer_cant_be_drawn_says_so_and_the_next_is_made(empty):
    page = empty
    address = page.url.split("?")[0] + "edit/?show=plan"
    page.route(address, lambda route: route.fulfill(json={"revision": 1}), times=1)
    page.get_by_role("button", name="Adopt its whole plan").click()
    page.locator("#plan-says").get_by_text("could not show the last change").wait_for()
    page.get_by_role("button", name="Adopt its whole plan").click()
    undo_says(page, "Adopted a plan")
    assert page.locator("#plan-says").inner_text() == ""


def test_a_point_a_place_of_transitions_and_a_wheel_by_hand(empty):
    """Dragged points and lengths, a line drawn by hand, a pinch."""
    page = empty
    page.get_by_role("button", name="Adopt its whole plan").click()
    undo_says(page, "Adopted a plan")
    tool(page, "Automation", "Show").click()
    page.locator(".automation .barlane").wait_for()
    lane = page.locator(".automation .barlane").bounding_box()
    page.mouse.dblclick(lane["x"] + 0.5 * lane["width"], lane["y"] + 30)
    undo_says(page, "Master: Level automated")
    # A point by itself, between two that hold what stood at the bar lines beside it.
    page.wait_for_function("() => document.querySelectorAll('.automation .point').length === 3")
    # What is drawn anew while a point is dragged takes it out of the hand.
    page.wait_for_load_state("networkidle")
    point = page.locator(".automation .point").nth(1).bounding_box()
    page.mouse.move(point["x"] + 6, point["y"] + 6)
    page.mouse.down()
    page.mouse.move(point["x"] + 90, point["y"] + 30, steps=4)
    page.mouse.up()
    lower = "y => document.querySelectorAll('.automation .point')[1].getBoundingClientRect().y > y + 10"
    page.wait_for_function(lower, arg=point["y"])
    ends = page.locator(".automation .point").evaluate_all("all => [all.at(0), all.at(-1)].map(p => p.getAttribute('aria-label'))")
    assert all("0 dB" in label for label in ends)
    tool(page, "Automation", "Draw").click()
    page.mouse.move(lane["x"] + 60, lane["y"] + 70)
    page.mouse.down()
    page.mouse.move(lane["x"] + 300, lane["y"] + 20, steps=12)
    page.mouse.up()
    page.wait_for_function("() => document.querySelectorAll('.automation .point').length > 8")
    tool(page, "Automation", "Delete curve").click()
    page.wait_for_function("() => document.querySelectorAll('.automation .point').length === 0")
    page.get_by_role("button", name="Point at bar 1").click()
    page.wait_for_function("() => document.querySelectorAll('.automation .point').length === 1")

    choose(page, "add-transition", "snare roll")
    undo_says(page, "Snare roll at the end")
    page.locator("[data-transition]").first.click()
    page.locator("[data-name=transition-beats]").fill("8")
    page.keyboard.press("Enter")
    undo_says(page, "changed")
    start = page.get_by_role("slider", name="Start of snare roll")
    box = start.bounding_box()
    page.mouse.move(box["x"] + 5, box["y"] + 5)
    page.mouse.down()
    page.mouse.move(box["x"] - 80, box["y"] + 5, steps=4)
    page.mouse.up()
    page.wait_for_function("() => Number(document.querySelector('[data-name=transition-beats]')?.value) > 8")

    before = page.evaluate(PER_BAR)
    page.mouse.move(lane["x"] + 200, lane["y"] - 60)
    page.keyboard.down("Control")
    page.mouse.wheel(0, -120)
    page.keyboard.up("Control")
    page.wait_for_function(f"before => ({PER_BAR})() > before + 1", arg=before)
    assert page.problems == []


def test_a_window_that_was_overtaken_says_so_and_shows_the_newer_state(empty):
    other = empty.context.new_page()
    other.goto(empty.url)
    other.get_by_role("button", name="Duplicate", exact=True).click()
    undo_says(other, "duplicated")
    empty.bring_to_front()
    empty.evaluate("window.dispatchEvent(new Event('focus'))")
    empty.get_by_text("changed in another window: drop duplicated").wait_for()
    empty.get_by_role("button", name="Reload").click()
    undo_says(empty, "duplicated")
    # An edit made on the older song would have been refused.
    other.get_by_role("button", name="Duplicate", exact=True).first.click()
    undo_says(other, "duplicated")
    empty.locator("[data-tool=bars]").fill("4")
    empty.keyboard.press("Enter")
    empty.locator("#plan-says", has_text="changed meanwhile").wait_for()


def test_quick_hands_lose_nothing_while_answers_are_slow(page, house):
    page.add_init_script("""
      const at_once = window.fetch;
      window.fetch = async (...asked) => { await new Promise((go) => setTimeout(go, 400)); return at_once(...asked); };
    """)
    an_empty_lead(page)
    page.locator(".pitchrows .barlane").wait_for()
    box = page.locator(".pitchrows .barlane").bounding_box()
    # Two notes before the first is answered, a third whose answer comes while it is being drawn longer.
    places = [(box["x"] + share * box["width"], box["y"] + 0.5 * box["height"]) for share in (0.02, 0.3, 0.6)]
    for x, y in places[:2]:
        page.mouse.click(x, y)
    page.mouse.move(*places[2])
    page.mouse.down()
    is_saved(page)
    page.mouse.move(places[2][0] + 0.2 * box["width"], places[2][1], steps=3)
    page.mouse.up()
    undo_says(page, "a note more")
    keys = "() => [...document.querySelectorAll('.note')].map((n) => n.dataset.note.split('/')[1].split('.').map(Number))"
    written = page.evaluate(keys)
    assert len(written) == 3
    # Two steps up, the second before the first is answered.
    page.locator(".note").first.focus()
    page.keyboard.press("Shift+ArrowUp")
    page.keyboard.press("Shift+ArrowUp")
    undo_says(page, "notes moved")
    moved = dict(page.evaluate(keys))
    assert sorted(moved[tick] - midi for tick, midi in written) == [0, 0, 24]
    assert page.problems == []


def test_notes_come_in_from_a_midi_keyboard_and_are_quantised(page, house):
    """A keyboard that the browser is told of, whose messages come as a real one's would."""
    page.add_init_script("""
      const input = { name: "Deck keys", onmidimessage: null };
      navigator.requestMIDIAccess = async () => ({ inputs: new Map([["a", input]]), onstatechange: null });
      window.deckKeys = (...data) => input.onmidimessage({ data });
    """)
    an_empty_lead(page)
    page.get_by_text("MIDI: Deck keys").wait_for()
    page.get_by_role("button", name="Count in").click()
    page.get_by_role("button", name="Record").click()
    page.locator("#play.is-playing").wait_for()
    page.wait_for_timeout(900)
    page.evaluate("deckKeys(0x90, 69, 100)")
    page.wait_for_timeout(200)
    page.evaluate("deckKeys(0x80, 69, 0)")
    page.get_by_text("1 note recorded").wait_for()
    page.get_by_role("button", name="Stop, save to pattern A").click()
    undo_says(page, "1 note played in")
    (key,) = page.evaluate("[...document.querySelectorAll('.note')].map(n => n.dataset.note.split('/')[1])")
    tick, midi = map(int, key.split("."))
    assert midi == 69 and tick % 240 == 0
    assert page.problems == []
