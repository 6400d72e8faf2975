"""How fast, and how much memory? `./run bench [TRACK]`, on the longer demo reference unless a track is named.

Each stage as seconds, as a multiple of real time, and in plain passes: multiples of one plain decode plus one 2048/512 short-
time Fourier transform of audio of the same length, so that figures of different machines can be compared. Every stage is run
three times after a warm-up; the median is printed. Renders are kept in memory and on disk, as in the application.
"""

from __future__ import annotations

import os
import platform
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import numpy as np
import soundfile
from scipy import fft

from bench.served import CHUNK_BARS
from bench.song import bench_song
from demo.references import write_references
from ersatz.core.balance.match import match_song
from ersatz.core.draft import draft_song
from ersatz.core.edits.strips import SetStrip
from ersatz.core.garbage import spare_what_stays
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.survey import survey_file

RUNS = 3


def main() -> None:
    spare_what_stays()
    with tempfile.TemporaryDirectory() as folder:
        track = Path(sys.argv[1]) if len(sys.argv) > 1 else write_references(Path(folder))[0]
        _measure(track)
    # In a process of its own: it has a database and a browser.
    for pages in ("bench.frames", "bench.heard", "bench.gaps"):
        subprocess.run([sys.executable, "-m", pages], check=False)


def _measure(track: Path) -> None:
    duration = soundfile.info(str(track)).duration
    print(f"{platform.machine()}, {os.cpu_count()} cores, {len(os.sched_getaffinity(0))} usable; {track.name}, {duration:.0f} s")
    plain = _median(lambda: _plain(track))
    print(f"{'stage':34} {'median s':>9} {'x real time':>12} {'plain passes':>13}   target, plain passes")
    row = _rows(duration, plain)
    row("plain decode and one STFT", plain, "")
    survey = survey_file(track)
    row("survey, everything in it", _median(lambda: survey_file(track)), "2.5 (3.2 at the most)")
    for phase, seconds in _phases(track).items():
        print(f"  {phase:32} {seconds:9.2f}")
    print(f"  {'memory at its peak, MB':32} {_peak_mb():9.0f} {'':26}   1000")
    song = draft_song(survey)
    row("draft, unmatched", _median(lambda: draft_song(survey)), "")
    start = time.perf_counter()
    song = match_song(song, survey)
    row("draft matched to the reference", time.perf_counter() - start, "10")
    Mixdown(song, RenderCache()).samples(0, 1 << 17)
    row("mixdown from nothing", _median(lambda: Mixdown(song, RenderCache.temporary()).whole()), "8")
    row("mixdown after one part changed", _after_a_change(song), "1.5")
    row("a change in an 8-bar loop", _change_in_a_loop(song, survey.sections[survey.main_section()].start_bar), "0.06")
    _render_speed(plain / duration)


def _rows(duration: float, plain: float) -> Callable[[str, float, str], None]:
    """Prints a stage of material of so many seconds, beside one plain pass over as much."""

    def row(name: str, seconds: float, target: str) -> None:
        print(f"{name:34} {seconds:9.3f} {duration / seconds:12.1f} {seconds / plain:13.3f}   {target}", flush=True)

    return row


def _render_speed(plain_per_second: float) -> None:
    """The bench song, each once: from nothing, after a part changed, a change in a loop; then growth with length and parts."""
    song = bench_song()
    length = song.grid.seconds_of_bar(song.bars + 1)
    print(f"bench song, {len(song.parts)} parts, {length:.0f} s:")
    row = _rows(length, plain_per_second * length)
    whole, memory = _alone(6, 16)
    row("  mixdown from nothing", whole, f"8; {memory:.0f} MB (1500)")
    Mixdown(song, RenderCache()).samples(0, 1 << 17)
    row("  after one part changed", _after_a_change(song, "p11"), "1.5")
    row("  a change in an 8-bar loop", _change_in_a_loop(song, 33, "p6"), "0.06")
    for minutes, parts in ((1, 16), (3, 16), (12, 16), (6, 4), (6, 48)):
        seconds, memory = _alone(minutes, parts)
        row = _rows(60 * minutes, plain_per_second * 60 * minutes)
        row(f"  {minutes:2} minutes, {parts:2} parts", seconds, f"{'24' if parts == 48 else ''}; {memory:.0f} MB")


def _alone(minutes: int, parts: int) -> tuple[float, float]:
    """Seconds and the peak of memory, MB, of one mixdown from nothing in a process of its own."""
    with ProcessPoolExecutor(1, get_context("spawn")) as pool:
        return pool.submit(_whole, minutes, parts).result()


def _whole(minutes: int, parts: int) -> tuple[float, float]:
    song = bench_song(minutes=minutes, parts=parts)
    # Compiled code of all parts is read from disk first.
    last = min(song.bars, 34)
    Mixdown(song, RenderCache()).samples(*Mixdown(song).bar_range(last - 1, last))
    spare_what_stays()
    start = time.perf_counter()
    mixdown = Mixdown(song, RenderCache.temporary())
    mixdown.samples(0, mixdown.frames)
    return time.perf_counter() - start, _peak_mb()


def _median(run: Callable[[], object]) -> float:
    run()
    times = []
    for _ in range(RUNS):
        start = time.perf_counter()
        run()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def _plain(track: Path) -> None:
    samples, _ = soundfile.read(str(track), dtype="float32", always_2d=True)
    mono = np.ascontiguousarray(samples.mean(axis=1))
    frames = np.lib.stride_tricks.sliding_window_view(mono, 2048)[::512]
    window = np.hanning(2048).astype(np.float32)
    for start in range(0, len(frames), 2048):
        np.abs(fft.rfft(frames[start : start + 2048] * window, axis=1))


def _phases(track: Path) -> dict[str, float]:
    seconds: dict[str, float] = {}
    last = [time.perf_counter(), ""]

    def report(phase: str, fraction: float) -> None:
        now = time.perf_counter()
        if last[1]:
            seconds[str(last[1])] = now - float(last[0])
        last[:] = [now, phase]

    survey_file(track, progress=report)
    return seconds


def _after_a_change(song, part: str = "lead") -> float:
    times, cache = [], RenderCache.temporary()
    Mixdown(song, cache).whole()
    for gain in (-20.0, -21.0, -22.0):
        edited = SetStrip(part, "gain_db", gain).apply(song)
        start = time.perf_counter()
        Mixdown(edited, cache).whole()
        times.append(time.perf_counter() - start)
    return statistics.median(times)


def _change_in_a_loop(song, first: int, part: str = "bass") -> float:
    """The first bars of a running 8-bar loop from bar `first` on after a level was changed: what the player waits for."""
    cache = RenderCache.temporary()
    start, stop = Mixdown(song, cache).bar_range(first, first + 7)
    Mixdown(song, cache).samples(start, stop)
    times = []
    for gain in (-20.0, -21.0, -22.0):
        edited = SetStrip(part, "gain_db", gain).apply(song)
        begun = time.perf_counter()
        mixdown = Mixdown(edited, cache)
        a, b = mixdown.bar_range(first, first + CHUNK_BARS - 1)
        mixdown.samples(a, b)
        times.append(time.perf_counter() - begun)
    return statistics.median(times)


def _peak_mb() -> float:
    """Of this process alone: the system's usage counters begin with the parent's."""
    status = Path("/proc/self/status")
    if status.exists():
        return int(next(line for line in status.read_text().splitlines() if line.startswith("VmHWM")).split()[1]) / 1024
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


if __name__ == "__main__":
    main()
