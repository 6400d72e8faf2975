"""The survey page as a producer uses it: pick, correct, take back, listen with click, drone and one band."""

import pytest

from tests.browser.test_journey import heard, quiet

pytestmark = pytest.mark.browser


@pytest.fixture
def survey(page, house):
    page.goto(house.own_reference())
    page.locator("#score svg rect.refbox").first.wait_for()
    return page


def test_sections_are_moved_by_keyboard_and_taken_back(survey):
    boundary = survey.locator(".boundary").first
    before = int(boundary.get_attribute("aria-valuenow"))
    boundary.focus()
    survey.keyboard.press("ArrowRight")
    assert boundary.get_attribute("aria-valuenow") == str(before + 1)
    survey.keyboard.press("Enter")
    survey.get_by_role("button", name="Undo: sections").wait_for()
    assert survey.locator(".boundary").first.get_attribute("aria-valuenow") == str(before + 1)
    # Where the measurement had it is still drawn.
    assert survey.locator("line.measured").count() >= 1
    survey.keyboard.press("Control+z")
    survey.get_by_role("button", name="Undo: sections").wait_for(state="detached")
    assert survey.locator(".boundary").first.get_attribute("aria-valuenow") == str(before)


def test_a_section_gets_another_name(survey):
    survey.get_by_label("Kind of section").select_option("bridge")
    survey.get_by_role("button", name="Undo: sections").wait_for()
    assert survey.locator("#score").get_by_role("button", name="bridge").count() >= 1


def test_a_correction_leaves_the_page_where_it_is(survey):
    """The section in hand, what is typed and what plays stay; the grid moves at once."""
    survey.locator("#score [role=button]").last.click()
    name = survey.locator("#detail-name").inner_text()
    survey.get_by_label("Depth in dB").fill("3.3")
    # Round and round: the track may be over before a slow machine has measured it.
    survey.get_by_role("button", name="Loop section").click()
    survey.keyboard.press("Space")
    survey.locator("#play.is-playing").wait_for()
    survey.evaluate("import('/static/studio/frame.js').then(({ player }) => { window.playing = player.tracks; })")
    before = survey.evaluate("window.playing.reference.firstS")
    survey.get_by_role("button", name="+5 ms").click()
    survey.wait_for_function("b => window.playing.reference.firstS !== b", arg=before)
    assert survey.evaluate("window.playing.reference.firstS") == pytest.approx(before + 0.005, abs=1e-4)
    # Pressed again before anything is measured on the new grid, and back: each counts.
    survey.get_by_role("button", name="+5 ms").click()
    survey.wait_for_function("b => Math.abs(window.playing.reference.firstS - b - 0.01) < 1e-4", arg=before)
    survey.get_by_role("button", name="−5 ms").click()
    survey.wait_for_function("b => Math.abs(window.playing.reference.firstS - b - 0.005) < 1e-4", arg=before)
    survey.get_by_role("button", name="Undo: bar 1").wait_for()
    assert survey.locator("#play.is-playing").count() == 1
    assert survey.locator("#detail-name").inner_text().split(",")[0] == name.split(",")[0]
    assert survey.get_by_label("Depth in dB").input_value() == "3.3"
    # A reload shows the same section.
    survey.reload()
    survey.locator("#score svg rect.refbox").first.wait_for()
    assert survey.locator("#detail-name").inner_text().split(",")[0] == name.split(",")[0]
    assert not survey.problems


def test_bands_are_heard_alone_and_a_click_can_be_added(survey):
    survey.keyboard.press("Space")
    whole = heard(survey)
    survey.get_by_label("Band to hear alone").select_option("high")
    high = quiet(survey, whole - 3)
    assert high < whole - 3
    survey.keyboard.press("d")
    assert survey.locator("#aid-drone").get_attribute("aria-pressed") == "true"
    assert heard(survey, high + 1) > high + 1
    survey.keyboard.press("c")
    assert survey.locator("#aid-click").get_attribute("aria-pressed") == "true"
    survey.keyboard.press("Space")


#: Loudest and quietest 23 ms of what a page plays by itself during a second, dBFS.
PLAYED = """async () => {
  const { player } = await import('/static/studio/frame.js');
  const context = await player.open();
  const tap = new AnalyserNode(context, { fftSize: 1024 });
  const connect = AudioNode.prototype.connect;
  AudioNode.prototype.connect = function (to, ...rest) {
    if (to === context.destination) connect.call(this, tap);
    return connect.call(this, to, ...rest);
  };
  document.getElementById('pump-hear').click();
  const levels = [], data = new Float32Array(1024), from = context.currentTime + 0.1;
  while (context.currentTime < from + 1) {
    await new Promise((r) => setTimeout(r, 5));
    tap.getFloatTimeDomainData(data);
    if (context.currentTime > from) levels.push(10 * Math.log10(data.reduce((s, v) => s + v * v, 0) / data.length + 1e-12));
  }
  return [Math.max(...levels), Math.min(...levels)];
}"""


def test_the_pump_is_set_by_hand_heard_and_taken_back(survey):
    survey.get_by_label("Depth in dB").fill("20")
    survey.get_by_label("Back after, ms").fill("250")
    survey.locator("form[data-what=pump]").get_by_role("button", name="Set").click()
    survey.get_by_role("button", name="Undo: pump").wait_for()
    survey.locator("#score svg rect.refbox").first.wait_for()
    assert "20.0 dB" in survey.locator("[aria-labelledby=f-pump]").inner_text()
    loud, low = survey.evaluate(PLAYED)
    assert loud > -25 and loud - low > 8
    survey.keyboard.press("Control+z")
    survey.get_by_role("button", name="Undo: pump").wait_for(state="detached")
    assert not survey.problems
