"""Files, documents, edits, forms and addresses that nobody meant: `./run fuzz [--cases N] [--seed S]`.

Each case is made from a seed: something valid, damaged. What counts as handled: audio and documents end in the core's own errors;
every request is answered with something under 500 (507 for a full disk); no song is kept that can't be read; nothing takes longer
than SLOW_S.
"""

from __future__ import annotations

import argparse
import logging
import os
import random
import subprocess
import sys
import tempfile
import time
import traceback
from collections import Counter
from pathlib import Path

from bench.fuzzing.cases import CASES, World
from ersatz.core.errors import ErsatzError

SLOW_S = 20.0


def run_case(world: World, number: int, seed: int) -> tuple[str, str, str | None]:
    """(what was tried, how it ended, what is wrong or None) of a case."""
    chance = random.Random(f"{seed}|{number}")
    names = [name for name, (_, weight) in CASES.items() for _ in range(weight)]
    what = chance.choice(names)
    begun = time.perf_counter()
    try:
        ended = CASES[what][0](world, chance)
    except ErsatzError as error:
        ended = "refused"
        if "\n" in str(error) or not str(error).strip():
            return what, ended, f"case {number}, {what}: no sentence: {error!r}"
    except Exception as error:
        return what, "unhandled", f"case {number}, {what}: {error!r}\n{traceback.format_exc(limit=-6)}"
    took = time.perf_counter() - begun
    return what, ended, f"case {number}, {what}: took {took:.0f} s" if took > SLOW_S else None


def main() -> int:
    parser = argparse.ArgumentParser(prog="./run fuzz", description=__doc__.split("\n\n")[0])
    parser.add_argument("--cases", type=int, default=2000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", type=int, metavar="CASE", help="one case again")
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="ersatz-fuzz-") as folder:
        home = Path(folder) / "home"
        os.environ |= {"ERSATZ_HOME": str(home), "DJANGO_SETTINGS_MODULE": "ersatz.site.settings"}
        subprocess.run([sys.executable, "-m", "ersatz.site.manage", "migrate", "--verbosity", "0"], check=True)
        import django

        django.setup()
        # Every refused request would be a line.
        logging.disable(logging.ERROR)
        from bench.fuzzing.world import prepared

        world = prepared(Path(folder))
        numbers = range(arguments.cases) if arguments.only is None else [arguments.only]
        tried: Counter[str] = Counter()
        refused: Counter[str] = Counter()
        problems = []
        for number in numbers:
            what, ended, problem = run_case(world, number, arguments.seed)
            tried[what] += 1
            refused[what] += ended == "refused" or ended.startswith("4")
            if arguments.only is not None:
                print(what, ended)
            if problem:
                problems.append(problem)
                print(f"FAILED {problem}", flush=True)
    print(", ".join(f"{n} {what} ({refused[what]} refused)" for what, n in tried.items()))
    print(f"{sum(tried.values())} cases, {len(problems)} unhandled")
    return 1 if problems else 0


if __name__ == "__main__":
    sys.exit(main())
