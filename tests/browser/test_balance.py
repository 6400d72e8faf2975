"""The mix by hand: lanes of the strips, touches that are heard at once, clashes and their cures, ducking, undo."""

import pytest

from bench import heard
from tests.browser.conftest import WAIT_MS, choose, opened
from tests.browser.test_journey import heard as heard_level
from tests.browser.waits import is_saved, undo_says

pytestmark = pytest.mark.browser

#: What a touch may take; CI's machines stall.
AT_ONCE_MS = 150


@pytest.fixture
def mix(chromium, house):
    page = opened(chromium, house.address, bypass_csp=True)
    page.goto(f"{house.own_draft()}balance/")
    page.locator(".lane .energy").first.wait_for()
    yield page
    page.context.close()


def middle_of(page, name):
    """Middle of a handle, read in one go: it may be drawn anew at any moment."""
    return page.evaluate(MIDDLE, name)


def lane(page, strip):
    return page.locator(f"[data-strip='{strip}']")


MIDDLE = """name => {
  const box = document.querySelector(`[role=slider][aria-label='${name}']`).getBoundingClientRect();
  return [box.x + box.width / 2, box.y + box.height / 2];
}"""
LOOP = """async ([start, end]) => {
  const { player } = await import('/static/studio/frame.js');
  player.loop = { start, end };
  player.seek(start);
  player.play();
}"""
LEVEL_AT = """async (hz) => {
  const { player } = await import('/static/studio/frame.js');
  const analyser = new AnalyserNode(player.context, { fftSize: 8192, smoothingTimeConstant: 0 });
  player.output.connect(analyser);
  const spectrum = new Float32Array(analyser.frequencyBinCount), at = Math.round(hz / (player.context.sampleRate / 8192));
  let best = -200;
  for (let k = 0; k < 30; k += 1) {
    await new Promise((r) => setTimeout(r, 100));
    analyser.getFloatFrequencyData(spectrum);
    best = Math.max(best, ...spectrum.slice(at - 3, at + 4));
  }
  return best;
}"""


def level_of_band(page, hz):
    """The highest level around a frequency in what the page plays for three seconds, dB."""
    return page.evaluate(LEVEL_AT, hz)


def test_every_touch_is_heard_while_the_loop_plays(mix):
    page = mix
    state = page.evaluate("JSON.parse(document.getElementById('drawing').textContent)")
    section = next(s for s in state["sections"] if s["name"].startswith("drop"))
    lane(page, "pad").get_by_role("button", name="Pad", exact=True).click()
    heard.record(page)
    heard.loop(page, section["last"] - 1)
    heard.settled(page)
    touches = heard.all_touches(page, "pad", state["bpm"], times=1)
    assert set(touches) == {"fader", "mute", "solo", "pan", "width", "send", "true render"}
    # Solo needs the strip by itself, a send its way through the return: loaded, they are as quick.
    assert all(touches[what] <= AT_ONCE_MS for what in ("fader", "mute", "pan", "width")), touches
    assert all(ms < 3000 for ms in touches.values()), touches
    assert not page.problems


def test_faders_cuts_and_points_are_set_by_keyboard_and_undone(mix):
    page = mix
    fader = page.get_by_label("Fader of Pad")
    before = fader.input_value()
    fader.focus()
    page.keyboard.press("ArrowRight")
    undo_says(page, "Pad at")
    assert fader.input_value() != before
    page.keyboard.press("Control+z")
    page.wait_for_function("v => document.querySelector('[aria-label=\"Fader of Pad\"]')?.value === v", arg=before)

    # The lane in hand: its low cut steps with the arrow keys, a double click adds a point, Delete takes it out.
    lane(page, "pad").get_by_role("button", name="Pad", exact=True).click()
    cut = page.get_by_role("slider", name="Low cut of Pad")
    cut.focus()
    said = cut.get_attribute("aria-valuetext")
    page.keyboard.press("ArrowRight")
    undo_says(page, "low cut")
    once = cut.get_attribute("aria-valuetext")
    # It has the focus still, also when the levels come and the lanes are drawn anew.
    page.evaluate("window.dispatchEvent(new Event('resize'))")
    page.keyboard.press("ArrowRight")
    undo_says(page, "low cut")
    assert len({said, once, cut.get_attribute("aria-valuetext")}) == 3
    picture = lane(page, "pad").locator("svg.lane-picture")
    box = picture.bounding_box()
    picture.dblclick(position={"x": box["width"] * 0.6, "y": 8})
    point = page.get_by_role("slider", name="bell of Pad")
    point.first.wait_for()
    point.first.focus()
    page.keyboard.press("ArrowUp")
    undo_says(page, "changed")
    page.get_by_role("slider", name="bell of Pad").first.focus()
    page.keyboard.press("Delete")
    page.get_by_role("slider", name="bell of Pad").wait_for(state="detached")
    # Space plays wherever the focus is.
    fader.focus()
    page.keyboard.press("Space")
    page.locator("#play.is-playing").wait_for()
    page.keyboard.press("Space")
    assert not page.problems


def test_a_handle_follows_the_pointer_all_the_way(mix):
    page = mix
    lane(page, "pad").get_by_role("button", name="Pad", exact=True).click()
    name = "Low cut of Pad"
    cut = page.get_by_role("slider", name=name)
    cut.wait_for()
    x, y = middle_of(page, name)
    page.mouse.move(x, y)
    page.mouse.down()
    for by in (30, 60, 90):
        page.mouse.move(x + by, y)
        # Levels that come meanwhile draw the lanes anew.
        page.evaluate("window.dispatchEvent(new Event('resize'))")
    assert middle_of(page, name)[0] == pytest.approx(x + 90, abs=3)
    shown = cut.get_attribute("aria-valuetext")
    page.mouse.up()
    undo_says(page, f"low cut {shown}")
    # Given up, it stands where it stood.
    page.mouse.move(x + 90, y)
    page.mouse.down()
    page.mouse.move(x + 30, y, steps=3)
    assert cut.get_attribute("aria-valuetext") != shown
    page.keyboard.press("Escape")
    page.mouse.up()
    assert cut.get_attribute("aria-valuetext") == shown
    # One that is off is taken hold of by its middle too.
    x, y = middle_of(page, "High cut of Pad")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 60, y, steps=3)
    page.mouse.up()
    undo_says(page, "high cut")
    assert not page.problems


def test_a_finger_moves_what_a_mouse_moves(chromium, house):
    page = opened(chromium, house.address, has_touch=True)
    page.goto(f"{house.own_draft()}balance/")
    page.locator(".lane .energy").first.wait_for()
    touch = page.context.new_cdp_session(page)

    def swipe(name, dx, dy):
        x, y = middle_of(page, name)
        touch.send("Input.dispatchTouchEvent", {"type": "touchStart", "touchPoints": [{"x": x, "y": y}]})
        for k in range(1, 6):
            at = {"x": x + dx * k / 5, "y": y + dy * k / 5}
            touch.send("Input.dispatchTouchEvent", {"type": "touchMove", "touchPoints": [at]})
        # Moves are given out a frame at a time.
        page.evaluate("new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")
        moved = [b - a for a, b in zip((x, y), middle_of(page, name))]
        touch.send("Input.dispatchTouchEvent", {"type": "touchEnd", "touchPoints": []})
        return moved

    lane(page, "pad").locator(".lane-name").tap()
    page.get_by_role("slider", name="Low cut of Pad").wait_for()
    lane(page, "pad").locator("svg.lane-picture").dblclick(position={"x": 260, "y": 8})
    page.get_by_role("slider", name="bell of Pad").first.wait_for()
    undo_says(page, "Equaliser")
    # Up and down too, where the page itself would be scrolled.
    assert swipe("bell of Pad", 20, 14) == pytest.approx([20, 14], abs=2)
    undo_says(page, "changed")
    assert swipe("Low cut of Pad", 60, 0) == pytest.approx([60, 0], abs=2)
    undo_says(page, "low cut")
    assert swipe("End of release", -40, 0)[0] == pytest.approx(-40, abs=3)
    undo_says(page, "drawn")
    assert not page.problems
    page.context.close()


def test_what_is_pressed_by_key_keeps_the_focus(mix):
    page = mix
    lane(page, "pad").get_by_role("button", name="Pad", exact=True).click()
    for name, then in (("Solo Pad", "Solo Pad"), ("Lock", "Locked"), ("Fold Music bus", "Unfold Music bus")):
        page.get_by_role("button", name=name, exact=True).focus()
        page.keyboard.press("Enter")
        page.wait_for_function(
            "then => [document.activeElement.ariaLabel, document.activeElement.textContent].includes(then)", arg=then
        )
    assert not page.problems


def test_what_is_being_typed_is_not_drawn_over(mix):
    page = mix
    fader, level = page.get_by_label("Fader of Kick"), page.get_by_label("Level of Pad, dB")
    fader.press("ArrowRight")
    level.click(click_count=3)
    page.keyboard.type("-9")
    is_saved(page)
    assert level.input_value() == "-9"
    page.keyboard.press("Enter")
    undo_says(page, "Pad at")
    assert level.input_value() == "−9.0"
    lane(page, "bus:music").locator(".lane-name").click()
    fader.press("ArrowRight")
    page.get_by_role("button", name="Rename", exact=True).click()
    is_saved(page)
    page.get_by_label("Title").fill("Chords")
    page.keyboard.press("Enter")
    lane(page, "bus:music").get_by_role("button", name="Chords bus", exact=True).wait_for()
    assert not page.problems


def test_figures_that_do_not_fit_are_said_and_change_nothing(mix):
    page = mix
    level = page.get_by_label("Level of Pad, dB")
    before = level.input_value()
    for typed, said in (("abc", "no number"), ("99", "doesn’t fit")):
        level.fill(typed)
        page.keyboard.press("Enter")
        page.locator("#balance-says", has_text=said).wait_for()
        assert level.input_value() == before
    assert page.locator("#undo").get_attribute("data-tip") in (None, "Drafted from the reference")


def test_strips_are_grouped_and_a_chain_is_copied_saved_and_heard_off(mix):
    page = mix
    for strip, keys in (("pad", []), ("bass", ["Control"])):
        lane(page, strip).locator(".lane-name").click(modifiers=keys)
    page.get_by_role("button", name="Group 2 strips").click()
    undo_says(page, "Bus Bass bus added")
    assert page.locator("[data-strip='bus:1']").count() == 1
    page.keyboard.press("Control+z")
    page.locator("[data-strip='bus:1']").wait_for(state="detached")

    lane(page, "pad").locator(".lane-name").click()
    page.locator("#add-effect").select_option("compressor")
    undo_says(page, "Compressor added")
    choose(page, "chain-menu", "Save as")
    page.get_by_label("Name of the chain").fill("Ferry glue")
    # A menu that is opened before the answer is there shows what was there before.
    with page.expect_response(lambda answer: "/chain/" in answer.url):
        page.keyboard.press("Enter")
    page.locator("[data-name=chain-menu]").wait_for()
    choose(page, "chain-menu", "Bass")
    undo_says(page, "of Pad added")
    lane(page, "bass").locator(".lane-name").click()
    choose(page, "chain-menu", "Ferry glue")
    undo_says(page, "Compressor added")

    # All of it off is heard, changes nothing, and is over with the next press.
    page.evaluate("async () => { window.heard = (await import('/static/studio/frame.js')).player.tracks.remake; }")
    undo = page.locator("#undo").get_attribute("data-tip")
    off = page.get_by_role("button", name="Everything off")
    off.click()
    page.wait_for_function("() => window.heard.url.includes('/with/')")
    page.locator("#play.is-playing").wait_for()
    # While the compressor is on, what it takes is shown.
    off.click()
    page.locator(".taken", has_text="dB").first.wait_for()
    page.wait_for_function("() => !window.heard.url.includes('/with/')")
    assert page.locator("#undo").get_attribute("data-tip") == undo
    assert not page.problems


def test_the_analyser_shows_strips_over_the_mix_and_names_the_loudest(mix):
    page = mix
    page.get_by_role("button", name="Analyser").click()
    choose(page, "overlay", "Pad")
    page.locator(".overline").wait_for()
    third = page.locator(".overline").get_attribute("d")
    page.get_by_role("button", name="Fine").click()
    page.wait_for_function("d => document.querySelector('.overline')?.getAttribute('d').length > 2 * d", arg=len(third))
    page.get_by_role("button", name="Held peaks").click()
    page.locator(".heldline").wait_for()
    page.get_by_role("button", name="Loudest two").click()
    named = page.locator(".loudest > span").all_inner_texts()
    assert len(named) == 10 and any("Kick" in n for n in named[:3])
    assert not page.problems


def test_the_keyboard_opens_the_analyser_and_chooses_bands(mix):
    page = mix
    page.keyboard.press("a")
    page.locator(".lane.sum.open").wait_for()
    page.keyboard.press("b")
    assert page.locator("#band").input_value() == "sub"
    page.keyboard.press("n")
    assert page.locator("#without-band").get_attribute("aria-pressed") == "true"
    in_hand = page.locator("[data-strip].picked").get_attribute("data-strip")
    page.keyboard.press("ArrowDown")
    page.locator(f"[data-strip='{in_hand}']:not(.picked)").wait_for()
    assert page.locator("[data-strip].picked .lane-name").get_attribute("aria-pressed") == "true"
    page.keyboard.press("m")
    undo_says(page, "muted")
    assert not page.problems


def test_one_band_is_heard_alone_or_left_out(mix):
    page = mix
    state = page.evaluate("JSON.parse(document.getElementById('drawing').textContent)")
    section = next(s for s in state["sections"] if s["name"].startswith("drop"))
    # Two bars round and round: everything plays there.
    page.evaluate(LOOP, [section["last"] - 2, section["last"]])
    page.locator("#play.is-playing").wait_for()
    whole = heard_level(page, -60)
    page.locator("#band").select_option("sub")
    without = page.locator("#without-band")
    # Chords and leads are loudest about 500 Hz.
    alone = [level_of_band(page, hz) for hz in (45, 500)]
    without.click()
    left = [level_of_band(page, hz) for hz in (45, 500)]
    assert whole > -60 and left[1] > alone[1] + 20 and left[0] < alone[0] - 12, (alone, left)
    assert not page.problems


def test_a_clash_is_shown_tried_and_cured(mix):
    page = mix
    page.get_by_label("Ducking of Bass", exact=True).fill("0")
    page.get_by_label("Ducking of Bass", exact=True).dispatch_event("change")
    undo_says(page, "not ducked")
    level = page.get_by_label("Level of Bass, dB", exact=True)
    level.fill("0")
    page.keyboard.press("Enter")
    undo_says(page, "Bass at")
    clash = page.locator(".clash-said").first
    clash.wait_for()
    page.wait_for_function("() => document.querySelector('#clashes-says')?.textContent.includes('in this section')")
    clash.click()
    page.locator(".clash-frame").wait_for()
    with page.expect_request(lambda r: "/with/" in r.url and r.url.endswith(".flac"), timeout=WAIT_MS):
        page.get_by_role("button", name="Play after").first.click()
    cure = page.locator(".clash-list p").first.inner_text().removeprefix("Cure: ")
    page.get_by_role("button", name="Apply").first.click()
    undo_says(page, cure[:12])
    assert not page.problems


def test_ducking_is_drawn_fitted_and_triggered(mix):
    page = mix
    lane(page, "pad").get_by_role("button", name="Pad", exact=True).click()
    page.get_by_role("slider", name="End of release").focus()
    page.keyboard.press("ArrowLeft")
    undo_says(page, "drawn")
    page.get_by_role("button", name="Fit to the kick").click()
    undo_says(page, "drawn")
    page.locator("[data-name=duck-rate]").select_option("hits of parts")
    undo_says(page, "triggered by")
    assert not page.problems


def test_balance_for_me_says_what_it_changed_and_is_one_undo(mix):
    page = mix
    page.locator("[data-name=solve]").click()
    page.get_by_role("button", name="alone: low cuts, levels and EQ").click()
    page.locator("#changes li, #changes b").first.wait_for()
    assert "Balanced" in page.locator("#changes").inner_text()
    if page.locator("#changes li").count():
        undo_says(page, "Balanced to the reference")
        page.get_by_role("button", name="Undo it").click()
        page.wait_for_function("() => document.querySelector('#redo')?.dataset.tip?.includes('Balanced')")
    assert not page.problems
