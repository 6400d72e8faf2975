"""Does the Plan keep up? Frame times in Chromium with many parts and bars, for `./run bench`.

A song of PARTS parts by BARS bars is opened in a server of its own; the page is scrolled, zoomed and a cell's rectangle dragged,
one step per animation frame, and the time between frames is taken by the page itself. A headless browser draws in software: what
is measured is an upper bound of what a screen would show."""

from __future__ import annotations

import statistics
from dataclasses import replace

from bench.served import opened
from bench.song import bench_song

PARTS, BARS, SECTION_BARS, STEPS = 30, 300, 12, 120
#: One step per frame; resolves to the milliseconds between them.
MEASURE = """async ([name, steps]) => {
  const plan = document.getElementById('plan'), times = [];
  const box = plan.getBoundingClientRect(), cells = [...document.querySelectorAll('.cell')].filter((c) => {
    const b = c.getBoundingClientRect(); return b.left > box.left + 210 && b.right < box.right && b.top > 150 && b.bottom < window.innerHeight - 70; });
  const at = (cell) => { const b = cell.getBoundingClientRect(); return { bubbles: true, button: 0, pointerId: 1, clientX: b.left + b.width / 2, clientY: b.top + 9 }; };
  const act = {
    scroll: (k) => { plan.scrollLeft = k * 40; },
    zoom: (k) => plan.dispatchEvent(new WheelEvent('wheel', { ctrlKey: true, deltaY: k < steps / 2 ? -4 : 4, clientX: box.left + 600, clientY: 300, bubbles: true, cancelable: true })),
    drag: (k) => { if (k === 0) cells[0].dispatchEvent(new PointerEvent('pointerdown', at(cells[0]))); window.dispatchEvent(new PointerEvent('pointermove', at(cells[(k * 7) % cells.length]))); },
    idle: () => {},
  }[name];
  await new Promise((resolve) => { let k = 0, last = performance.now(); const frame = (now) => { times.push(now - last); last = now; if (k >= steps) return resolve(); act(k); k += 1; requestAnimationFrame(frame); }; requestAnimationFrame(frame); });
  if (name === 'drag') { window.dispatchEvent(new PointerEvent('pointermove', at(cells[0]))); document.activeElement.blur(); }
  return times.slice(2);
}"""  # noqa: E501


def big_song():
    """PARTS parts that play in every second of many sections, with transitions."""
    from ersatz.core.edits.transitions import PutTransition
    from ersatz.core.song.document import SongSection
    from ersatz.core.song.parts import Cell

    song = bench_song(minutes=1, parts=PARTS)
    sections = tuple(SongSection(f"s{k + 1}", "drop", SECTION_BARS) for k in range(BARS // SECTION_BARS))
    parts = tuple(
        replace(p, cells=tuple(Cell(s.id, min(p.patterns), (k + i) % 2 == 0) for i, s in enumerate(sections)))
        for k, p in enumerate(song.parts)
        if p.patterns
    )
    song = replace(song, sections=sections, parts=parts, transitions=())
    for section in sections[:-1]:
        song = PutTransition(section.id, "riser", 16.0).apply(song)
    return song


def main() -> None:
    with opened(big_song()) as (page, address):
        page.goto(address)
        page.locator(".cell").first.wait_for()
        page.wait_for_timeout(1500)
        cells = page.locator(".cell").count()
        print(f"Plan with {PARTS} parts and {BARS} bars ({cells} cells), ms between frames; 16.7 is 60 a second:")
        for name in ("idle", "scroll", "zoom", "drag"):
            if name == "scroll":
                for _ in range(5):
                    page.click("#zoom-in")
                page.wait_for_timeout(400)
            times = sorted(page.evaluate(MEASURE, [name, STEPS]))
            late = sum(t > 25 for t in times)
            print(f"  {name:8} median {statistics.median(times):5.1f}   95 % {times[int(0.95 * len(times))]:5.1f}   "
                  f"longest {times[-1]:5.1f}   over 25 ms: {late} of {len(times)}", flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
