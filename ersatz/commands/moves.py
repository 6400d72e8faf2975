"""`ersatz moves`: ranked next moves of a song towards a reference."""

from __future__ import annotations

import argparse
import sys

from ersatz.commands.files import progress, read_json, write_json
from ersatz.commands.references import as_reference
from ersatz.core.errors import UnusableDocument
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.moves import Move, find_moves, moves_document
from ersatz.core.song.document import Song


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableDocument for files that can't be read and for a section that the song hasn't."""
    survey, _ = as_reference(arguments.reference)
    song = Song.from_json(read_json(arguments.song))
    count = len(song.sections)
    if arguments.section is not None and not 1 <= arguments.section <= count:
        raise UnusableDocument(f"The song has sections 1 to {count}.")
    if arguments.most < 1:
        raise UnusableDocument("At least one move has to be asked for.")
    places = range(count) if arguments.section is None else [arguments.section - 1]
    mixdown, show = Mixdown(song, RenderCache.temporary()), progress("moves")
    found: list[Move] = []
    for k, place in enumerate(places):

        def told(fraction: float, k: int = k, place: int = place) -> None:
            show(f"section {place + 1}", (k + fraction) / len(places))

        found += find_moves(song, mixdown, place, survey, arguments.most, told)
    best = sorted(found, key=lambda m: -m.closes)[: arguments.most]
    write_json(moves_document(best), arguments.json)
    for k, move in enumerate(best, 1):
        print(f"{k}. {move.sentence} (closes {move.closes:.1f} tolerances)", file=sys.stderr)
