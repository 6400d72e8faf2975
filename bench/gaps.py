"""How long does the Gap page take? `python -m bench.gaps`, part of `./run bench`.

A matched draft of a demo reference is opened in a server of its own: how long until a section's moves are there, and how soon one
that a move has changed is measured again.
"""

from __future__ import annotations

import statistics
import time
from typing import Any

from bench.served import opened, reference_survey
from ersatz.core.balance.match import match_song
from ersatz.core.draft import draft_song
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.song.document import Song

#: Seconds, issue targets.
MOVES_S, SECTION_S = 5.0, 3.0
#: However slow the machine.
PATIENCE_MS = 600_000
FOUND = """() => !document.querySelector('#moves-progress .job')
  && (document.querySelector('#moves-list li') || document.querySelector('#moves-says').textContent)"""
SETTLED = "() => !document.querySelector('#gap-notice .job') && !document.querySelector('#moves-progress .job')"


def drafted() -> Song:
    """A matched draft of the reference that `opened` holds it against."""
    survey = reference_survey()
    return match_song(draft_song(survey), survey, RenderCache())


def moves_s(page: Any, address: str, section: int) -> float:
    """From asking for a section's page to its moves."""
    begun = time.perf_counter()
    page.goto(f"{address}gap/?section={section}")
    page.wait_for_function(FOUND, timeout=PATIENCE_MS)
    return time.perf_counter() - begun


def section_s(page: Any) -> float | None:
    """From taking the first move to the figures of the section as it is then; None where no move is offered."""
    apply = page.locator("#moves-list li").first.get_by_role("button", name="Apply")
    if not apply.count():
        return None
    begun = time.perf_counter()
    apply.click()
    page.get_by_text("is measured as the song is now").wait_for(timeout=PATIENCE_MS)
    seconds = time.perf_counter() - begun
    page.wait_for_function(SETTLED, timeout=PATIENCE_MS)
    return seconds


def main() -> None:
    song = drafted()
    with opened(song) as (page, address):
        page.goto(f"{address}gap/")
        page.locator("#gap-spectrum .ownline").wait_for(timeout=PATIENCE_MS)
        page.wait_for_function(SETTLED, timeout=PATIENCE_MS)
        found, measured = [], []
        for section in range(len(song.sections)):
            found.append(moves_s(page, address, section))
            page.wait_for_function(SETTLED, timeout=PATIENCE_MS)
            if (seconds := section_s(page)) is not None:
                measured.append(seconds)
        print(f"Gap, {len(song.parts)} parts, s: moves of a section", *(f"{s:.1f}" for s in found), f"  target {MOVES_S:.0f}")
        print(
            f"  median {statistics.median(found):.1f}; a section measured again after a move",
            *(f"{s:.1f}" for s in measured),
            end="",
        )
        print(f"  target {SECTION_S:.0f}", flush=True)


if __name__ == "__main__":
    main()
