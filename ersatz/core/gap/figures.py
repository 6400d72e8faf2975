"""A figure of both tracks: how far apart they are and whether it matters."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.target.document import Span

#: A figure over tolerance but under this many tolerances is close.
CLOSE = 2.0
#: What counts as matched (TARGETS): depth of the pump in dB, its release as a share of the reference's, width per band, swing in
#: points.
DEPTH_TOLERANCE_DB, RELEASE_TOLERANCE, WIDTH_TOLERANCE, SWING_TOLERANCE = 1.5, 0.2, 0.1, 1.0


def release_tolerance_ms(release_ms: float) -> float:
    """A share of the reference's release, that of a millisecond at the least."""
    return RELEASE_TOLERANCE * max(release_ms, 1.0)


@dataclass(frozen=True)
class Figure:
    """One row: values as the page prints them, numeric difference where there is one, tolerance, verdict.

    `span` is what is usual where the reference is a target; the difference then counts from its edge.
    """

    name: str
    unit: str
    reference: float | str | None
    remake: float | str | None
    difference: float | None
    tolerance: float | None
    verdict: str  # "matched", "close", "off" or "unknown"
    span: Span | None = None


def verdict(difference: float, tolerance: float) -> str:
    """matched, close (within two tolerances) or off."""
    size = abs(difference)
    if size <= tolerance + 1e-9:
        return "matched"
    return "close" if size <= CLOSE * tolerance else "off"


def number(name: str, unit: str, reference: float, remake: float, tolerance: float, span: Span | None = None) -> Figure:
    """A figure of numbers; against a target's `span` it counts from its edge."""
    difference = span.beyond(remake) if span else remake - reference
    return Figure(name, unit, reference, remake, round(difference, 3), round(tolerance, 3), verdict(difference, tolerance), span)
