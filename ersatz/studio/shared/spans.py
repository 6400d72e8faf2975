"""A target's spread in words and curves."""

from __future__ import annotations

from ersatz.core.survey.document import Survey
from ersatz.core.target import Span, Target
from ersatz.core.target.document import Corridor, balanced
from ersatz.core.words import rounded


def spans(found: Target) -> dict[str, str]:
    """Each span as the page prints it, by its name."""
    digits = {"bpm": 1, "swing_percent": 1, "integrated_lufs": 1, "range_lu": 1, "true_peak_dbtp": 1, "pump_depth_db": 1,
              "pump_release_ms": 0, "mono_below_hz": 0, "kick_hz": 1}  # fmt: skip
    return {name: span_text(span, n) for name, n in digits.items() if (span := getattr(found.spread, name)) is not None}


def span_text(span: Span, digits: int) -> str:
    """“122 to 128”, or one figure where there is no spread."""
    low, high = rounded(span.low, digits), rounded(span.high, digits)
    return low if low == high else f"{low} to {high}"


def spectrum_corridor(found: Target, survey: Survey, section: int) -> Corridor:
    """The corridor at the level of the typical spectrum."""
    level = survey.spectrum.per_section[section].level_db
    offset = level[0] - float(balanced(level)[0])
    usual = found.spread.spectrum[section]
    return Corridor(tuple(round(v + offset, 2) for v in usual.low), tuple(round(v + offset, 2) for v in usual.high))
