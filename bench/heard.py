"""How soon a touch is heard: on the Balance page in Chromium, on what the page plays.

Two bars are looped. What leaves the page is recorded sample by sample; each pass is compared with the one before, so that all that the
loop does anyway falls away. A touch is heard where the difference of two passes rises clearly over what it was before the touch.
"""

from __future__ import annotations

import math
import statistics
from typing import Any

import numpy as np

#: So many bars of the loop, and where in a pass the touch falls.
LOOP_BARS, INTO = 1, 0.35
#: The difference rises by this much, dB, over what two untouched passes differ by.
CLEARLY_DB = 12.0
WINDOW = 128
#: Records what goes to the output, with the clock's time of each block: on the audio thread, which misses none.
RECORDER = """registerProcessor('recorder', class extends AudioWorkletProcessor {
  process(inputs) {
    if (inputs[0][0]) this.port.postMessage([currentTime, inputs[0][0].slice()]);
    return true;
  }
});"""
RECORD = """async (recorder) => {
  const { player } = await import('/static/studio/frame.js');
  const context = await player.open(), blocks = [];
  await context.audioWorklet.addModule(URL.createObjectURL(new Blob([recorder], { type: 'text/javascript' })));
  const node = new AudioWorkletNode(context, 'recorder', { numberOfOutputs: 1, channelCount: 1, channelCountMode: 'explicit' });
  node.port.onmessage = ({ data: [time, samples] }) => blocks.push([time, samples]);
  window.heard = { context, player, clear: () => { blocks.length = 0; }, take: () => [blocks[0][0], blocks.map(([t]) => t), blocks.flatMap(([, s]) => Array.from(s, (v) => Math.round(v * 1e5)))] };
  const connect = AudioNode.prototype.connect;
  AudioNode.prototype.connect = function (to, ...rest) {
    if (to === context.destination && this !== node) connect.call(this, node);
    return connect.call(this, to, ...rest);
  };
  node.connect(context.destination);
}"""
#: Touches by name: what each does on the page, of the strip that it is given.
TOUCHES = {
    "fader": "const f = lane.querySelector('.fader'); f.value = -40; f.dispatchEvent(new Event('input', { bubbles: true }));",
    "mute": "lane.querySelector('[aria-label^=Mute]').click();",
    "solo": "lane.querySelector('[aria-label^=Solo]').click();",
    "pan": "figure('strip-pan', '-0.8');",
    "send": "figure('send-return:reverb', '6');",
}
TOUCH = """([strip, what]) => {
  const lane = document.querySelector(`[data-strip="${strip}"]`);
  const figure = (name, value) => {
    const input = document.querySelector(`[data-name="${name}"]`);
    input.value = value;
    input.dispatchEvent(new Event('change', { bubbles: true }));
  };
  const now = window.heard.context.currentTime, began = performance.now();
  %s
  return now;
}"""


def record(page: Any) -> None:
    """Of a page whose context was made with `bypass_csp`."""
    page.evaluate(RECORD, RECORDER)


def loop(page: Any, first_bar: int) -> None:
    """Plays LOOP_BARS from 1-based `first_bar` on, round and round."""
    page.evaluate(
        """([from, bars]) => { const { player } = window.heard; player.loop = { start: from, end: from + bars }; player.seek(from);
        if (!player.isPlaying) player.play(); }""",
        [first_bar - 1, LOOP_BARS],
    )


def milliseconds(page: Any, strip: str, what: str, bpm: float, settle_s: float = 0.0) -> float:
    """From a touch to where it is heard, ms; infinity where it isn't within half a pass."""
    length_s = LOOP_BARS * 4 * 60 / bpm
    page.evaluate("window.heard.clear()")
    page.wait_for_timeout(1000 * ((2 + INTO) * length_s + settle_s))
    touched = page.evaluate(TOUCH % TOUCHES[what], [strip, what])
    page.wait_for_timeout(1000 * 0.7 * length_s)
    return heard_after(page.evaluate("window.heard.take()"), touched, length_s)


def heard_after(recorded: list[Any], touched: float, length_s: float, rate_hz: int = 44_100) -> float:
    """`recorded`: the clock at the first sample, at each block, and the samples in hundred-thousandths. The time of the touch on the
    same clock."""
    start, _, samples = recorded
    x = np.array(samples, float) / 1e5
    lag = length_s * rate_hz
    at = np.arange(math.ceil(lag), len(x))
    before = np.interp(at - lag, np.arange(len(x)), x)
    difference = np.square(x[at] - before)
    windows = len(difference) // WINDOW
    level = 10 * np.log10(difference[: windows * WINDOW].reshape(windows, WINDOW).mean(axis=1) + 1e-12)
    times = start + (at[0] + np.arange(windows) * WINDOW) / rate_hz
    quiet = level[(times < touched - 0.02) & (times > touched - 0.4 * length_s)]
    if not len(quiet):
        return math.nan
    usual = float(np.percentile(quiet, 98))
    later = np.flatnonzero((times >= touched) & (level > usual + CLEARLY_DB))
    return math.inf if not len(later) else 1000 * (times[later[0]] - touched)


def all_touches(page: Any, strip: str, bpm: float, times: int = 3) -> dict[str, float]:
    """Medians, ms. The page is left as it was found."""
    out: dict[str, list[float]] = {}
    for what in TOUCHES:
        for _ in range(times):
            out.setdefault(what, []).append(milliseconds(page, strip, what, bpm))
            print(what, out[what][-1], page.evaluate("[window.heard.player.isPlaying, window.heard.player.loop]"), flush=True)
            if what == "fader":
                page.evaluate("(s) => { const f = document.querySelector(`[data-strip=\"${s}\"] .fader`); f.dispatchEvent(new Event('change', { bubbles: true })); }", strip)
            if what == "solo":
                page.evaluate(TOUCH % TOUCHES[what], [strip, what])
            else:
                page.wait_for_function("() => !document.body.hasAttribute('data-saving')")
                page.keyboard.press("Control+z")
            page.wait_for_timeout(1500)
    return {what: statistics.median(values) for what, values in out.items()}
