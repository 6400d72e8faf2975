"""Songs to listen to that no revision holds: a revision with an edit tried on it, or some of its parts alone.

The address of such audio says all of it, so it is immutable like any other: a code made of the edit (or what is asked for) and the
parts that are heard. JSON in the letters of base64, or deflated first and marked so where it is long.
"""

from __future__ import annotations

import base64
import binascii
import zlib
from dataclasses import dataclass
from typing import Any

from ersatz.core.draft.asks import asked_edit
from ersatz.core.edits import Change, parse_edit
from ersatz.core.errors import InvalidEdit
from ersatz.core.serial import read_json
from ersatz.core.song.document import Song
from ersatz.core.survey.document import Survey

#: What fits into an address everywhere.
MOST_CODE = 3000
#: Before a code that was deflated, and what it may become, bytes.
DEFLATED, MOST_BYTES = "z-", 100_000


@dataclass(frozen=True)
class Variant:
    """`heard`: ids of the parts that sound, None for all."""

    song: Song
    heard: frozenset[str] | None


def edit_in(body: dict[str, Any], song: Song, survey: Survey | None) -> Change:
    """The edit that a request names, or asks for. Raises InvalidEdit, UnusableDocument, KeyError."""
    if "ask" not in body:
        return parse_edit(body["edit"])
    if survey is None:
        raise InvalidEdit("There is no survey of the reference to take it from.")
    return asked_edit(body["ask"], song, survey)


def variant_of(code: str, song: Song, survey: Survey | None) -> Variant:
    """Raises InvalidEdit for a code that can't be read, and what the edit raises."""
    try:
        body = read_json(_decoded(code))
        heard = body.get("heard")
        wanted = edit_in(body, song, survey) if "edit" in body or "ask" in body else None
    except (ValueError, binascii.Error, zlib.error, AttributeError, KeyError, TypeError) as error:
        raise InvalidEdit("That can’t be tried.") from error
    if heard is not None and not (isinstance(heard, list) and all(isinstance(h, str) for h in heard)):
        raise InvalidEdit("That can’t be tried.")
    return Variant(wanted.apply(song) if wanted else song, None if heard is None else frozenset(heard))


def _decoded(code: str) -> bytes:
    """Raises ValueError, binascii.Error, zlib.error."""
    if len(code) > MOST_CODE:
        raise ValueError("too long")
    letters = code.removeprefix(DEFLATED)
    found = base64.urlsafe_b64decode(letters + "=" * (-len(letters) % 4))
    return zlib.decompressobj(-zlib.MAX_WBITS).decompress(found, MOST_BYTES) if code.startswith(DEFLATED) else found
