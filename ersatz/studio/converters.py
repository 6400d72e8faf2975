"""What stands in addresses."""

from __future__ import annotations


class Number:
    """A whole number of a size that rows, bars and MIDI notes have: longer ones are no address of ours."""

    regex = "[0-9]{1,9}"

    def to_python(self, value: str) -> int:
        """From the address."""
        return int(value)

    def to_url(self, value: int) -> str:
        """Into the address."""
        return str(value)
