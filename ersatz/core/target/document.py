"""A target as a document: the typical track as a survey, and how far the tracks it was made from spread around it.

The typical track holds the medians under the survey's own names, so that a target can stand wherever a reference stands:
drafting, matching and comparing read it like any survey. Spans and corridors run from the 10th to the 90th percentile of the
members (linear between order statistics, Hyndman & Fan 1996, type 7).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.errors import UnusableDocument
from ersatz.core.pitch import Key
from ersatz.core.serial import from_json, to_json
from ersatz.core.survey.document import Corrections, ShortTerm, Survey

SCHEMA = "ersatz.target/1"
#: Where the balance counts: the same stretch that a gap is measured over.
BALANCE_HZ = (40.0, 12_500.0)
#: What lies so far under the loudest third octave isn't heard beside it (masking; Moore, Glasberg & Baer 1997): how empty a band is
#: that is empty in one track says nothing.
HEARD_DB = 40.0
LOW_PERCENTILE, HIGH_PERCENTILE = 10.0, 90.0


@dataclass(frozen=True)
class Span:
    """From `low` to `high` lies what is usual."""

    low: float
    high: float

    @staticmethod
    def of(values: Sequence[float], digits: int = 3) -> Span:
        """The range between LOW_PERCENTILE and HIGH_PERCENTILE of some values."""
        low, high = np.percentile(np.asarray(values, dtype=float), (LOW_PERCENTILE, HIGH_PERCENTILE))
        return Span(round(float(low), digits), round(float(high), digits))

    def beyond(self, value: float) -> float:
        """How far `value` lies outside, signed; 0 inside."""
        return min(0.0, value - self.low) + max(0.0, value - self.high)


@dataclass(frozen=True)
class Corridor:
    """A span at each point of a curve."""

    low: tuple[float, ...]
    high: tuple[float, ...]

    @staticmethod
    def of(curves: Sequence[Sequence[float]] | Sequence[np.ndarray] | np.ndarray, digits: int = 2) -> Corridor:
        """`curves` of equal length, one per member."""
        low, high = np.percentile(np.asarray(curves, dtype=float), (LOW_PERCENTILE, HIGH_PERCENTILE), axis=0)
        return Corridor(tuple(np.round(low, digits).tolist()), tuple(np.round(high, digits).tolist()))


@dataclass(frozen=True)
class KeyShare:
    """A key and the share of the members that have it, weighted by confidence."""

    tonic: str
    mode: str
    share: float


@dataclass(frozen=True)
class Member:
    title: str
    sha256: str
    bpm: float
    key: str
    integrated_lufs: float


@dataclass(frozen=True)
class Spread:
    """`section_*`, `spectrum` and `presence` follow the typical track's sections; `spectrum` is at equal mean level from 40 Hz
    to 12 kHz. `loudness_course` has a point per bar of the typical track, LUFS. `keys` is empty where any key will do.
    """

    bpm: Span
    swing_percent: Span
    keys: tuple[KeyShare, ...]
    section_bars: tuple[Span, ...]
    section_lufs: tuple[Span, ...]
    presence: tuple[dict[str, Span], ...]
    spectrum: tuple[Corridor, ...]
    pump_depth_db: Span
    pump_release_ms: Span
    pump_curve: Corridor
    width: tuple[Span, ...]
    width_above_270_hz: Span
    mono_below_hz: Span
    integrated_lufs: Span
    range_lu: Span
    true_peak_dbtp: Span
    loudness_course: Corridor
    kick_hz: Span | None = None


@dataclass(frozen=True)
class Target:
    """`style` names the style of a target made without audio; such a one has no members."""

    title: str
    members: tuple[Member, ...]
    style: str | None
    typical: Survey
    spread: Spread

    def to_json(self) -> dict[str, Any]:
        """The document with its schema, as plain JSON data."""
        return {"schema": SCHEMA, **to_json(self), "typical": self.typical.to_json()}

    @staticmethod
    def from_json(data: Any) -> Target:
        """Raises UnusableDocument for what isn’t a target of this format."""
        if not isinstance(data, dict) or data.get("schema") != SCHEMA:
            raise UnusableDocument(f"This is not a target of format “{SCHEMA}”.")
        return from_json(Target, data)

    def chosen(self, corrections: Corrections) -> Survey:
        """The typical track at the tempo and in the key that the producer chose; bars stay, seconds follow."""
        survey = self.typical
        if corrections.tonic and corrections.mode:
            steps = from_to(survey.key.tonic, corrections.tonic)
            chroma = tuple(np.roll(survey.key.chroma, steps).tolist())
            survey = replace(survey, key=replace(survey.key, tonic=corrections.tonic, mode=corrections.mode, chroma=chroma))
        if corrections.bpm:
            survey = at_tempo(survey, corrections.bpm)
        return replace(survey, corrections=corrections)


def from_to(tonic: str, other: str) -> int:
    """Semitones up from one tonic to another, 0..11."""
    return (Key(other, "minor").pitch_class - Key(tonic, "minor").pitch_class) % 12


def at_tempo(survey: Survey, bpm: float) -> Survey:
    """The same bars at another tempo. The pump's release stays the same part of a beat."""
    ratio = survey.tempo.bpm / bpm
    tempo = replace(survey.tempo, bpm=bpm, first_downbeat_s=survey.tempo.first_downbeat_s * ratio)
    grid = tempo.grid
    sections = tuple(
        replace(s, start_s=round(grid.seconds_of_bar(s.start_bar), 3), end_s=round(grid.seconds_of_bar(s.end_bar), 3))
        for s in survey.sections
    )
    course = tuple(ShortTerm(round(s.t_s * ratio, 3), s.lufs) for s in survey.loudness.short_term)
    return replace(
        survey,
        tempo=tempo,
        sections=sections,
        source=replace(survey.source, duration_s=round(survey.source.duration_s * ratio, 3)),
        loudness=replace(survey.loudness, short_term=course),
        pump=replace(survey.pump, release_ms=round(survey.pump.release_ms * ratio, 1)),
    )


def in_balance() -> np.ndarray:
    """Which third octaves lie in BALANCE_HZ, shape (bands.BANDS,)."""
    centres = np.array(NOMINAL_HZ)
    return (centres >= BALANCE_HZ[0]) & (centres <= BALANCE_HZ[1])


def heard(levels: Sequence[float] | np.ndarray, within_db: float = HEARD_DB) -> np.ndarray:
    """Third-octave levels, none further than `within_db` under the loudest; along the last axis."""
    x = np.asarray(levels, dtype=float)
    return np.asarray(np.maximum(x, x.max(axis=-1, keepdims=True) - within_db))


def balanced(levels: Sequence[float] | np.ndarray) -> np.ndarray:
    """Third-octave levels less their mean over BALANCE_HZ."""
    x = np.asarray(levels, dtype=float)
    return np.asarray(x - x[in_balance()].mean())


def width_above_270_hz(survey: Survey) -> float:
    """Mean width of the bands from 270 Hz on, 0..1."""
    return round(float(np.mean([b.width for b in survey.stereo.bands if b.low_hz >= 270])), 3)
