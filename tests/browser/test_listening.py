"""Ways of listening on the Gap page: what each lets through, measured; turns, levels and the blind test by keyboard."""

import pytest

pytestmark = pytest.mark.browser

#: What comes out of a way, dB re what goes in, of a sine on the left and one on the right (0: silent).
THROUGH = """async ([way, hz, left, right]) => {
  const { heardThrough } = await import('/static/studio/ways.js');
  const rate = 44100, context = new OfflineAudioContext(2, 2 * rate, rate), buffer = context.createBuffer(2, 2 * rate, rate);
  const sine = (level) => (_, i, x) => { x[i] = level * Math.sin(2 * Math.PI * hz * i / rate); };
  [left, right].forEach((level, c) => buffer.getChannelData(c).forEach(sine(level)));
  const source = new AudioBufferSourceNode(context, { buffer });
  source.connect(heardThrough(context, context.destination, way));
  source.start();
  const out = await context.startRendering();
  // The second half: everything has settled.
  return [0, 1].map((c) => {
    const x = out.getChannelData(c).slice(rate);
    return 10 * Math.log10(x.reduce((sum, v) => sum + v * v, 1e-12) / (rate / 2));
  });
}"""


@pytest.fixture
def gap(page, house):
    page.goto(f"{house.remake}gap/")
    page.locator("#gap-spectrum .ownline").wait_for()
    page.evaluate("import('/static/studio/frame.js').then(({ player }) => { window.playing = player; })")
    page.wait_for_function("() => window.playing")
    return page


def test_every_way_lets_through_what_it_says(gap):
    def level(way, hz, left=1.0, right=1.0):
        return gap.evaluate(THROUGH, [way, hz, left, right])

    assert level({}, 1000, 1, 0.5) == pytest.approx([0, -6.02], abs=0.05)
    # Mid is the mean of both sides, side half their difference: what is mono has no side, what is upside down has no mid.
    assert level({"channel": "mid"}, 1000, 1, 0.5) == pytest.approx([-2.5, -2.5], abs=0.05)
    assert level({"channel": "side"}, 1000, 1, 0.5) == pytest.approx([-12.04, -12.04], abs=0.05)
    assert max(level({"channel": "side"}, 1000)) < -100
    assert max(level({"channel": "mid"}, 1000, 1, -1)) < -100
    inside = {"sub": 50, "bass": 150, "low mids": 450, "mids": 1400, "upper mids": 4200, "highs": 12000}
    for band in inside:
        for other, hz in inside.items():
            heard = level({"band": band}, hz)[0]
            assert heard > -1 if other == band else heard < -12, (band, other, heard)
    # What is left out is what the band alone would have had.
    assert level({"band": "mids", "without": True}, 1400)[0] < -8 < -1 < level({"band": "mids", "without": True}, 150)[0]
    assert level({"speaker": "small"}, 50)[0] < -30 and abs(level({"speaker": "small"}, 700)[0]) < 1.5
    assert level({"speaker": "phone"}, 150)[0] < -30 and level({"speaker": "phone"}, 3000)[0] == pytest.approx(5, abs=0.7)
    assert max(level({"speaker": "phone"}, 1000, 1, -1)) < -60
    # Lows of the club are mono, what lies above isn't.
    assert level({"speaker": "club"}, 45)[0] == pytest.approx(5.5, abs=2) and level({"speaker": "club"}, 45, 1, -1)[0] < -12
    assert level({"speaker": "club"}, 1000, 1, -1)[0] == pytest.approx(0, abs=2.5)
    # An octave above its corner a band is whole: its filters are as flat as can be (Butterworth), 3 dB down at the corner.
    assert level({"band": "highs"}, 7000)[0] == pytest.approx(-3.0, abs=0.2) and abs(level({"band": "highs"}, 14000)[0]) < 0.1
    # 60 phon against 80, by the contours of ISO 226:2003.
    for hz, less in ((50, 8.2), (100, 6.0), (250, 3.2), (1000, 0.0)):
        assert level({"speaker": "quiet"}, hz)[0] == pytest.approx(-less, abs=1.0), hz


HEARD = """async () => {
  const { playing } = window, analyser = new AnalyserNode(playing.context, { fftSize: 32768 });
  playing.output.connect(analyser);
  await new Promise((r) => setTimeout(r, 900));
  const x = new Float32Array(32768);
  analyser.getFloatTimeDomainData(x);
  return 10 * Math.log10(x.reduce((sum, v) => sum + v * v, 1e-12) / x.length);
}"""


def test_levels_bands_and_turns_by_keyboard(gap):
    page = gap

    def chosen(name):
        return page.locator(f"[data-name='listen-{name}']").input_value()

    page.keyboard.press("l")
    page.keyboard.press("Space")
    page.wait_for_function("() => window.playing.segments.length && window.playing.position() > window.playing.loop.start + 0.3")
    whole = page.evaluate(HEARD)
    assert whole > -40
    # The remake of the test's own track is as wide as nothing: its sides are quieter by far than the whole.
    page.keyboard.press("c")
    page.keyboard.press("c")
    assert chosen("channel") == "side"
    assert page.evaluate(HEARD) < whole - 6
    page.keyboard.press("c")
    assert chosen("channel") == "stereo" and page.evaluate(HEARD) > whole - 6
    page.keyboard.press("p")
    assert page.get_by_text("Simulated").is_visible()
    for _ in range(4):
        page.keyboard.press("p")
    assert chosen("speaker") == ""
    page.keyboard.press("e")
    assert page.get_by_text("each as loud as it is").is_visible()
    page.keyboard.press("e")
    # In turn, every bar: the page says who plays.
    page.keyboard.press("a")
    assert chosen("turns") == "1"
    for which in ("reference", "remake", "reference"):
        page.locator(f"#hear-{which}[aria-pressed=true]").wait_for()
    page.keyboard.press("x")
    page.wait_for_function("() => document.querySelector('[data-name=listen-turns]').value === '0'")
    assert not page.problems


def test_a_blind_test_of_twenty_rounds(gap):
    page = gap
    page.keyboard.press("v")
    for k in range(20):
        page.get_by_text(f"round {k + 1} of 20").wait_for()
        assert page.locator("#hear-reference").is_disabled() and page.locator("#hear-remake[aria-pressed=true]").count() == 0
        assert page.locator("#where").inner_text() == ""
        page.keyboard.press("x")
        if k == 0:
            page.wait_for_function("() => window.playing.isPlaying && window.playing.segments.length")
            assert page.evaluate(HEARD) > -40
        # Who hears which of them plays: one of the rounds is got wrong.
        plays = page.evaluate("window.playing.heard")
        right = {"reference": "r", "remake": "m"}
        page.keyboard.press(right[plays] if k else next(key for key in right.values() if key != right[plays]))
    verdict = page.locator(".blind-verdict")
    verdict.wait_for()
    assert "19 of 20 right" in verdict.inner_text() and "You can tell them apart" in verdict.inner_text()
    assert page.locator(".blind-rounds li").count() == 20
    assert page.locator("#hear-reference").is_enabled()
    page.keyboard.press("v")
    page.get_by_text("round 1 of 20").wait_for()
    page.keyboard.press("Escape")
    assert page.locator("#blind").inner_text() == ""
    assert not page.problems
