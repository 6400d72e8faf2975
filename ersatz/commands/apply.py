"""`ersatz apply`: moves, or plain edits, taken on a song."""

from __future__ import annotations

import argparse
from typing import Any

from ersatz.commands.files import read_json, write_json
from ersatz.core.edits import parse_edit
from ersatz.core.errors import UnusableDocument
from ersatz.core.moves import SCHEMA
from ersatz.core.song.document import Song


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableDocument for files that can't be read, InvalidEdit for an edit that the song refuses."""
    song = Song.from_json(read_json(arguments.song))
    for edit in _taken(read_json(arguments.moves), arguments.take):
        try:
            song = parse_edit(edit).apply(song)
        except (ValueError, KeyError, TypeError) as error:
            raise UnusableDocument(f"“{arguments.moves.name}” holds an edit that can't be read.") from error
    write_json(song.to_json(), arguments.out)


def _taken(document: Any, take: str | None) -> list[dict[str, Any]]:
    """Edits of the moves that are taken, by their numbers from 1; all of them, and of a list of edits all, where none are named."""
    if isinstance(document, list):
        return document
    if not isinstance(document, dict) or document.get("schema") != SCHEMA or not isinstance(document.get("moves"), list):
        raise UnusableDocument(f"This is neither a document of format “{SCHEMA}” nor a list of edits.")
    moves = document["moves"]
    numbers = range(1, len(moves) + 1) if take is None else [_number(text, len(moves)) for text in take.split(",")]
    return [edit for k in numbers for edit in moves[k - 1].get("edits", [])]


def _number(text: str, most: int) -> int:
    if not text.strip().isdigit() or not 1 <= int(text) <= most:
        raise UnusableDocument(f"“{text}” is no move: there are 1 to {most}." if most else "There is no move to take.")
    return int(text)
