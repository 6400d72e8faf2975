"""Is a copy told from another tune? `python -m bench.likeness TRACK [TRACK ...] [--set DIR] [--modules DIR]`; `./run accuracy`
prints the same.

Recordings whose notes are known: drafts of the tracks in our own mixes, the generated test set, tracker modules that people wrote.
Each recording is held against its own line (in whatever key: that is searched) and against those of the other recordings. A share
of a copy should be 1, of another tune 0; how they are spread is printed, and what the mix buries counts too.
"""

from __future__ import annotations

import argparse
import json
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from bench.material.modules import RATE, fetch_modules, render_module, written_notes
from bench.testset import write_testset
from bench.testset.recipes import recipes
from ersatz.core.audio import Audio, read_audio
from ersatz.core.balance.match import match_song
from ersatz.core.draft import draft_song
from ersatz.core.grid import BarGrid
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.own import Heard, hear
from ersatz.core.own.match import match_line
from ersatz.core.own.played import STRETCH_BARS, Stretch, cut, moves_in_bars, stretches
from ersatz.core.survey import survey_file

#: Other recordings that each is held against, and stretches of each line.
OTHERS, STRETCHES = 6, 4
#: Tracks of the test set, and seconds of a module.
FROM_SET, SECONDS = 16, 90.0
#: A share from which a copy is told, and up to which another tune is.
COPY, OTHER = 0.5, 0.1
BASS_MIDI = 50


@dataclass
class Recording:
    name: str
    heard: Heard
    lines: dict[str, list[Stretch]] = field(default_factory=dict)


def share(line: list[Stretch], heard: Heard) -> float:
    rng = np.random.default_rng(0)
    return float(np.mean([match_line(stretch, heard, rng).share for stretch in line[:STRETCHES]]))


def drafts(tracks: Iterable[Path]) -> Iterator[Recording]:
    for track in tracks:
        survey, cache = survey_file(track), RenderCache()
        song = match_song(draft_song(survey), survey, cache)
        heard = hear(Mixdown(song, cache).whole(), song.grid, song.swing_percent)
        bass = [s for s in stretches(song, "bass") if moves_in_bars(s)]
        yield Recording(track.stem, heard, {"hook": stretches(song, "lead"), "bass line": bass})


def generated(folder: Path | None) -> Iterator[Recording]:
    wanted = [r for r in recipes() if not r.traps][:FROM_SET]
    for path in write_testset(folder, wanted) if folder else []:
        truth = json.loads(path.with_name(f"{path.name.rsplit('.', 1)[0]}.truth.json").read_text())
        tempo = truth["tempo"]
        heard = hear(read_audio(path), BarGrid(tempo["bpm"], tempo["first_downbeat_s"]), tempo["swing_percent"])
        bars = max(s["start_bar"] + s["bars"] - 1 for s in truth["sections"])
        lines = {"hook": truth["lead"]["notes"], "bass line": truth["bass"]["notes"]}
        found = {k: _cut([(round(4 * n["start_beat"]), n["midi"]) for n in notes], bars) for k, notes in lines.items()}
        yield Recording(truth["name"], heard, {**found, "bass line": [s for s in found["bass line"] if moves_in_bars(s)]})


def written(folder: Path | None) -> Iterator[Recording]:
    """Of each module the line of the instrument that plays most different pitches, high and low."""
    for path in fetch_modules(folder) if folder else []:
        module, notes = render_module(path, SECONDS), written_notes(path, SECONDS)
        if module is None or notes is None:
            continue
        mix = np.sum(module.instruments, axis=0).astype(np.float32)
        step_s = module.bar_s / 16
        lines: dict[str, list[Stretch]] = {}
        for found in sorted(notes.values(), key=lambda found: -len({m for _, m in found})):
            name = "bass line" if np.median([m for _, m in found]) < BASS_MIDI else "hook"
            lines.setdefault(name, _cut([(round(s / step_s), m) for s, m in found], module.bars))
        yield Recording(path.stem, hear(Audio(mix, RATE), BarGrid(module.bpm)), lines)


def _cut(notes: list[tuple[int, int]], bars: int) -> list[Stretch]:
    return cut(notes, [(bar, STRETCH_BARS) for bar in range(1, bars - STRETCH_BARS + 2, STRETCH_BARS)])


def print_likeness(tracks: Iterable[Path], testset: Path | None, modules: Path | None) -> None:
    for title, found in (("drafts", drafts(tracks)), ("generated set", generated(testset)), ("tracker modules", written(modules))):
        recordings = list(found)
        for name in ("hook", "bass line"):
            _report(f"{title}, {name}", recordings, name)


def _report(title: str, recordings: list[Recording], name: str) -> None:
    rng = np.random.default_rng(1)
    playing = [r for r in recordings if r.lines.get(name)]
    copies, others = [], []
    for mine in playing:
        copies.append(share(mine.lines[name], mine.heard))
        rest = [r for r in playing if r is not mine]
        others += [share(rest[k].lines[name], mine.heard) for k in rng.permutation(len(rest))[:OTHERS]]
    if not copies or not others:
        print(f"  {title}: too few to tell", flush=True)
        return
    spread = " ".join(f"{v:.2f}" for v in np.percentile(copies, (10, 25, 50, 75, 90)))
    told, left = np.mean(np.array(copies) >= COPY), np.mean(np.array(others) <= OTHER)
    print(f"  {title}: {len(copies)} copies read {spread} (10, 25, 50, 75, 90 %), {told:.2f} of them over {COPY}")
    spread = f"mean {np.mean(others):.2f}, 95 % {np.percentile(others, 95):.2f}, {left:.2f} of them up to {OTHER}"
    print(f"    {len(others)} other tunes: {spread}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.split("\n\n")[0])
    parser.add_argument("tracks", type=Path, nargs="*")
    parser.add_argument("--set", type=Path)
    parser.add_argument("--modules", type=Path)
    wanted = parser.parse_args()
    print_likeness(wanted.tracks, wanted.set, wanted.modules)


if __name__ == "__main__":
    main()
