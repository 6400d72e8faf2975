"""How near does an untouched draft come to its reference? `./run drafts TRACK [TRACK ...]`, each drafted, mixed and compared.

Per track: how many of the gap's figures are matched, the ones TARGETS names with the reference's and the remake's value, and how
fast the mixdown was rendered, in multiples of real time.
"""

from __future__ import annotations

import sys
from pathlib import Path

from ersatz.core.remake import remake_file


def main() -> None:
    for name in sys.argv[1:]:
        track = Path(name)
        made = remake_file(track)
        figures = made.gap.figures
        matched = sum(f.verdict == "matched" for f in figures)
        length = made.mix.duration_s
        seconds = made.seconds
        speed = f"mixdown of {length:.0f} s in {seconds['mixdown']:.1f} s = {length / seconds['mixdown']:.1f} x"
        peak = f"peak {made.remake.loudness.true_peak_dbtp:.2f} dBTP"
        print(f"{track.stem}: {matched} of {len(figures)} matched; draft {seconds['draft']:.1f} s, {speed}, {peak}", flush=True)
        by_section = ", ".join(f"{x.label} {x.balance_db:.1f}" for x in made.gap.sections if x.balance_db is not None)
        most = max((abs(b.gain_db) for b in made.song.master.eq), default=0.0)
        print(f"  balance by section, dB: {by_section}; master EQ at most {most:.1f} dB", flush=True)
        for f in figures:
            print(f"  {f.name:24} {f.reference!s:>14} {f.remake!s:>14} {f.difference!s:>10}  {f.verdict}", flush=True)


if __name__ == "__main__":
    main()
