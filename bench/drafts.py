"""How near does an untouched draft come to its reference, and what does Balance for me add? `./run drafts TRACK [TRACK ...]`, each
drafted, mixed and compared; `./run accuracy` prints the same as a table. With `--music`: what drafts play (music.py).

Per track: how many of the gap's figures are matched, the ones TARGETS names with the reference's and the remake's value, the
balance of each section, the greatest gain of the master's EQ, and how long it took.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from bench.music import print_music, print_tracks
from ersatz.core.balance.match import balance_song, survey_remake
from ersatz.core.gap import Gap, compare
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.remake import Remake, remake_file
from ersatz.core.song.document import Song

#: Real tracks of different kinds, of those that the accuracy is measured on.
REAL = ("gr1", "gr2", "gr3", "mcd1", "mcd2", "stg_a", "stg_b", "brokenlight")


@dataclass(frozen=True)
class Stage:
    """A song against its reference: what it is, its gap, seconds that it took."""

    name: str
    song: Song
    gap: Gap
    seconds: float

    @property
    def matched(self) -> int:
        return sum(f.verdict == "matched" for f in self.gap.figures)

    @property
    def master_eq_db(self) -> float:
        return max((abs(b.gain_db) for b in self.song.master.eq), default=0.0)

    def row(self) -> str:
        sections = " ".join(f"{x.label} {x.balance_db:.1f}" for x in self.gap.sections if x.balance_db is not None)
        return (
            f"{self.name:16} {self.matched:2} of {len(self.gap.figures)}   master EQ {self.master_eq_db:3.1f} dB   "
            f"{self.seconds:5.1f} s   balance, dB: {sections}"
        )


def stages(track: Path) -> tuple[Remake, list[Stage]]:
    """The draft as it comes, and after Balance for me."""
    made = remake_file(track)
    drafted = Stage("untouched draft", made.song, made.gap, made.seconds["draft"])
    cache = RenderCache()
    begin = time.perf_counter()
    balanced = balance_song(made.song, made.reference, cache=cache)
    seconds = time.perf_counter() - begin
    mixdown = Mixdown(balanced, cache)
    gap = compare(made.reference, survey_remake(mixdown.whole(), mixdown))
    return made, [drafted, Stage("Balance for me", balanced, gap, seconds)]


def print_table(tracks: Iterable[Path], enough: int = 12) -> None:
    """Both stages of every track, and on how many `enough` figures are matched."""
    good: dict[str, list[bool]] = {}
    for track in tracks:
        for stage in stages(track)[1]:
            print(f"  {track.stem:20} {stage.row()}", flush=True)
            good.setdefault(stage.name, []).append(stage.matched >= enough)
    for name, found in good.items():
        print(f"  {name}: {enough} figures or more on {sum(found)} of {len(found)} tracks", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(prog="./run drafts")
    parser.add_argument("tracks", type=Path, nargs="*")
    parser.add_argument(
        "--music", action="store_true", help="what drafts of twelve styles, and of the tracks, play, beside tunes that people wrote"
    )
    parser.add_argument("--modules", type=Path, help="folder with tracker modules, fetched where they are missing")
    wanted = parser.parse_args()
    if wanted.music:
        print_music(wanted.modules)
        print_tracks(wanted.tracks)
        return
    for track in wanted.tracks:
        made, (drafted, balanced) = stages(track)
        length, seconds = made.mix.duration_s, made.seconds["mixdown"]
        peak = f"peak {made.remake.loudness.true_peak_dbtp:.2f} dBTP"
        print(f"{track.stem}: mixdown of {length:.0f} s in {seconds:.1f} s = {length / seconds:.1f} x, {peak}")
        for stage in (drafted, balanced):
            print(f"  {stage.row()}", flush=True)
        for f in made.gap.figures:
            print(f"  {f.name:24} {f.reference!s:>14} {f.remake!s:>14} {f.difference!s:>10}  {f.verdict}", flush=True)


if __name__ == "__main__":
    main()
