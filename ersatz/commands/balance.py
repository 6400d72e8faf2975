"""`ersatz balance`: levels, EQ, ducking, width, master of a song solved against a reference."""

from __future__ import annotations

import argparse
import sys

from ersatz.commands.files import progress, read_json, write_json
from ersatz.commands.references import as_reference
from ersatz.core.balance.changes import changes
from ersatz.core.balance.match import balance_song
from ersatz.core.balance.reasons import reasons
from ersatz.core.errors import UnusableDocument
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import Song


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableDocument for files that can't be read, and for strips and sections that the song hasn't."""
    survey, _ = as_reference(arguments.reference)
    song = Song.from_json(read_json(arguments.song))
    locked = frozenset(filter(None, (arguments.lock or "").split(",")))
    unknown = locked - {s.id for s in song.strips()}
    if unknown:
        raise UnusableDocument(f"There is no strip “{sorted(unknown)[0]}” in this song.")
    if arguments.section is not None and not 1 <= arguments.section <= len(song.sections):
        raise UnusableDocument(f"The song has sections 1 to {len(song.sections)}.")
    chosen = None if arguments.section is None else (arguments.section - 1,)
    cache = RenderCache.temporary()
    balanced = balance_song(song, survey, chosen, locked, cache, progress=progress("balance"))
    write_json(balanced.to_json(), arguments.out)
    for change in changes(song, balanced, reasons(song, balanced, survey, Mixdown(song, cache), chosen)):
        print(f"{change.name}: {change.what}{f' ({change.why})' if change.why else ''}", file=sys.stderr)
