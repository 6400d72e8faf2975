"""JSON columns as the core's documents, parsed once per value."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ersatz.core.errors import UnusableDocument


class UnreadableRow(UnusableDocument):
    """A stored document that can't be read any more; `row` holds it."""

    def __init__(self, row: Any, reason: Exception):
        super().__init__(str(reason))
        self.row = row


class Document:
    """A read-only attribute that parses the JSON of another field; parsed again only when that field holds another object.

    Raises UnreadableRow where that fails.
    """

    def __init__(self, column: str, parse: Callable[[Any], Any]):
        self.column = column
        self.parse = parse

    def __set_name__(self, owner: type, name: str) -> None:
        self.slot = f"_parsed_{name}"

    def __get__(self, row: Any, owner: type | None = None) -> Any:
        if row is None:
            return self
        data = getattr(row, self.column)
        known = row.__dict__.get(self.slot)
        if known is None or known[0] is not data:
            try:
                known = (data, self.parse(data) if data else None)
            except (UnusableDocument, ValueError, KeyError, TypeError, AttributeError) as error:
                raise UnreadableRow(row, error) from error
            row.__dict__[self.slot] = known
        return known[1]
