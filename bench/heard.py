"""How soon a touch is heard: on the Balance page in Chromium, on what the page plays.

A bar is looped. What leaves the page is recorded sample by sample; each pass is compared with the one before, so that all that the
loop does anyway falls away. A touch is heard where the difference of two passes rises clearly over what it was before the touch.
"""

from __future__ import annotations

import base64
import math
import statistics
from typing import Any

import numpy as np

from bench.served import opened
from bench.song import bench_song

#: So many bars of the loop, and where in a pass the touch falls.
LOOP_BARS, INTO = 1, 0.45
#: A touch that isn't found in what was recorded is made so often.
TRIES = 3
#: The difference rises by this much, dB, over what two untouched passes differ by.
CLEARLY_DB = 12.0
WINDOW = 128
#: Records the left side of what goes to the output, with the clock's time at its begin: on the audio thread, which misses no block.
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
  const options = { numberOfOutputs: 1, channelCount: 2, channelCountMode: 'explicit' };
  const node = new AudioWorkletNode(context, 'recorder', options);
  node.port.onmessage = ({ data }) => blocks.push(data);
  // As text: figure by figure an array takes seconds on its way out of the page.
  const text = (samples) => {
    const bytes = Array.from(new Uint8Array(samples.buffer), (byte) => String.fromCharCode(byte));
    return btoa(bytes.join(''));
  };
  window.heard = {
    context, player, clear: () => { blocks.length = 0; },
    take: () => [blocks[0][0], text(Float32Array.from(blocks.flatMap(([, s]) => Array.from(s))))],
  };
  const connect = AudioNode.prototype.connect;
  AudioNode.prototype.connect = function (to, ...rest) {
    if (to === context.destination && this !== node) connect.call(this, node);
    return connect.call(this, to, ...rest);
  };
  node.connect(context.destination);
}"""
LOOP = """([from, bars]) => {
  const { player } = window.heard;
  player.loop = { start: from, end: from + bars };
  player.seek(from);
  if (!player.isPlaying) player.play();
}"""
#: Touches by name: what each does on the page, in the lane of the strip that it is given.
TOUCHES = {
    "fader": "hold(-40);",
    "mute": "lane.querySelector('[aria-label^=Mute]').click();",
    "solo": "lane.querySelector('[aria-label^=Solo]').click();",
    "pan": "figure('strip-pan', '-0.8');",
    "width": "figure('strip-width', '0');",
    "send": "figure('send-return:reverb', '6');",
}
TOUCH = """([strip]) => {
  const lane = document.querySelector(`[data-strip="${strip}"]`), fader = lane.querySelector('.fader');
  const hold = (db) => { fader.value = db; fader.dispatchEvent(new Event('input', { bubbles: true })); };
  const figure = (name, value) => {
    const input = document.querySelector(`[data-name="${name}"]`);
    input.value = value;
    input.dispatchEvent(new Event('change', { bubbles: true }));
  };
  const now = window.heard.context.currentTime;
  %s
  return now;
}"""
LET_GO = "lane.querySelector('.fader').dispatchEvent(new Event('change', { bubbles: true }));"
#: What the page does as the pointer comes near: it loads what a touch will need.
NEAR = """async ([strip]) => {
  const { overlay } = window.heard.player;
  await overlay.prefetch(strip);
  await overlay.prefetchSend(strip, 'return:reverb');
}"""
PLAYS_AS_IT_STANDS = "(was) => window.heard.player.overlay.base.listen !== was"


def record(page: Any) -> None:
    """Of a page whose context was made with `bypass_csp`."""
    page.evaluate(RECORD, RECORDER)


def loop(page: Any, first_bar: int) -> None:
    """Plays LOOP_BARS from 1-based `first_bar` on, round and round."""
    page.evaluate(LOOP, [first_bar - 1, LOOP_BARS])


def played(page: Any, seconds: float) -> None:
    """Returns once so much more was played, by the audio's own clock: that one lags where the machine is busy."""
    page.wait_for_function("(until) => window.heard.context.currentTime >= until",
                           arg=page.evaluate("window.heard.context.currentTime") + seconds)  # fmt: skip


def settled(page: Any, seconds: float = 2.0) -> None:
    """Returns once the page plays in time: what the server still measures takes both cores."""
    keeps_up = False
    while not keeps_up:
        begin = page.evaluate("window.heard.context.currentTime")
        page.wait_for_timeout(1000 * seconds)
        keeps_up = page.evaluate("window.heard.context.currentTime") - begin > 0.97 * seconds


def touch(page: Any, strip: str, act: str) -> float:
    """Does something in a strip's lane; the audio clock's time of it."""
    return float(page.evaluate(TOUCH % act, [strip]))


def milliseconds(page: Any, strip: str, what: str, bpm: float) -> float:
    """From a touch to where it is heard, ms; infinity where it isn't within half a pass."""
    length_s = LOOP_BARS * 4 * 60 / bpm
    page.evaluate(NEAR, [strip])
    page.evaluate("window.heard.clear()")
    played(page, (1 + INTO) * length_s)
    touched = touch(page, strip, TOUCHES[what])
    played(page, 0.7 * length_s)
    start, text = page.evaluate("window.heard.take()")
    return heard_after(start, np.frombuffer(base64.b64decode(text), "<f4"), touched, length_s)


def heard_after(start: float, samples: np.ndarray, touched: float, length_s: float, rate_hz: int = 44_100) -> float:
    """`start`: the clock at the first sample. `touched` is of the same clock."""
    x = samples.astype(float)
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
    later = np.flatnonzero((times >= touched) & (level > float(np.percentile(quiet, 98)) + CLEARLY_DB))
    return math.inf if not len(later) else float(1000 * (times[later[0]] - touched))


def true_render_ms(page: Any, strip: str, db: float) -> float:
    """From letting go of a fader at a level to where the true render has taken over, ms: of a level that was rendered before it is
    read, not made."""
    was = page.evaluate("window.heard.player.overlay.base.listen")
    begin = touch(page, strip, f"hold({db}); {LET_GO}")
    page.wait_for_function(PLAYS_AS_IT_STANDS, arg=was)
    return 1000 * (float(page.evaluate("window.heard.context.currentTime")) - begin)


def undo(page: Any) -> None:
    page.wait_for_function("() => !document.body.hasAttribute('data-saving')")
    was = page.evaluate("window.heard.player.overlay.base.listen")
    page.keyboard.press("Control+z")
    page.wait_for_function(PLAYS_AS_IT_STANDS, arg=was)


def touched_once(page: Any, strip: str, what: str, bpm: float) -> float:
    """As `milliseconds`; the page is left as it was found."""
    was = page.evaluate("window.heard.player.overlay.base.listen")
    found = milliseconds(page, strip, what, bpm)
    if what == "solo":
        touch(page, strip, TOUCHES[what])
        page.wait_for_timeout(1500)
        return found
    if what == "fader":
        touch(page, strip, LET_GO)
    page.wait_for_function(PLAYS_AS_IT_STANDS, arg=was)
    undo(page)
    return found


def all_touches(page: Any, strip: str, bpm: float, times: int = 3) -> dict[str, float]:
    """Medians, ms; the lane of the strip is in hand. The page is left as it was found."""
    out: dict[str, list[float]] = {}
    for k in range(times):
        for what in TOUCHES:
            # Where the machine stalls, two passes differ by more than any touch, and none is found: measured again.
            tries = (touched_once(page, strip, what, bpm) for _ in range(TRIES))
            out.setdefault(what, []).append(next(filter(math.isfinite, tries), math.inf))
        out.setdefault("true render", []).append(true_render_ms(page, strip, -12.3 - k))
        undo(page)
    return {what: statistics.median(values) for what, values in out.items()}


def main() -> None:
    song = bench_song(minutes=1.5, parts=12)
    part = next(p for p in song.parts if p.role == "chords")
    with opened(song) as (page, address):
        page.goto(f"{address}balance/?strip={part.id}")
        page.locator(".lane .energy").first.wait_for(timeout=120_000)
        record(page)
        sections = page.evaluate("JSON.parse(document.getElementById('drawing').textContent).sections")
        loop(page, next(s for s in sections if s["name"].startswith("drop"))["last"] - 1)
        settled(page)
        found = all_touches(page, part.id, song.bpm)
        print(f"A touch on Balance, ms to where it is heard in what the page plays ({LOOP_BARS} bar looped, median of 3; the")
        print("output's own delay comes on top):")
        for what, ms in found.items():
            print(f"  {what:12} {ms:6.0f}   target {300 if what == 'true render' else 50}", flush=True)


if __name__ == "__main__":
    main()
