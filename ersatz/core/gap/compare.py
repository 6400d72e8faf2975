"""How far is the remake from its reference?

Tolerances are what practitioners accept as matched: tempo exact, key the same, sections of the same length, most of the changes
met, loudness within 0.5 LU, true peak at or under -1 dBTP or the reference's own, spectrum within 2 dB per third octave from 40 Hz
to 12 kHz in the drop and 2.5 dB in every other section with no band over 6 dB, pump depth within 1.5 dB and release within 20 %,
width within 0.1 per band, swing within 1 point. Against a target made of several tracks whatever lies inside its spread is matched,
and a gap is counted from the spread's edge.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from ersatz.core.bands import hz_said
from ersatz.core.serial import to_json
from ersatz.core.survey.document import Survey
from ersatz.core.target.document import Span, Spread, balanced, heard, in_balance, width_above_270_hz

SCHEMA = "ersatz.gap/1"
#: A figure over tolerance but under this many tolerances is close.
CLOSE = 2.0
#: No third octave may be further off, dB, and no section in the mean (TARGETS).
BAND_TOLERANCE_DB, SECTION_TOLERANCE_DB = 6.0, 2.5
#: Share of the reference's changes that may be missing, percent.
CHANGES_TOLERANCE = 15.0


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


@dataclass(frozen=True)
class SectionGap:
    """A section of either side: lengths and loudness; None where the other side has none."""

    label: str
    reference_bars: int | None
    remake_bars: int | None
    reference_lufs: float | None
    remake_lufs: float | None
    #: Mean distance per third octave, dB.
    balance_db: float | None = None


@dataclass(frozen=True)
class Gap:
    figures: tuple[Figure, ...]
    spectrum_hz: tuple[float, ...]
    spectrum_difference_db: tuple[float, ...]
    sections: tuple[SectionGap, ...]
    reference_section: int
    remake_section: int

    def to_json(self) -> dict[str, Any]:
        return {"schema": SCHEMA, **to_json(self)}

    def figure(self, name: str) -> Figure:
        return next(f for f in self.figures if f.name == name)


def compare(reference: Survey, remake: Survey, section: int | None = None, spread: Spread | None = None) -> Gap:
    """Figures of the whole track and of one section; `section` is the reference's index, its main one if left out.

    `spread` is given where `reference` is the typical track of a target.
    """
    main = reference.main_section() if section is None else section
    partners = counterparts(reference.sections, remake.sections)
    known = partners[main]
    partner = known if known is not None else _overlapping(reference, remake, main)
    mine, theirs = remake.sections[partner], reference.sections[main]
    difference = spectrum_difference(reference, remake, main, partner)
    distances = [
        None if other is None else balance_db(spectrum_difference(reference, remake, i, other)) for i, other in enumerate(partners)
    ]

    def usual(name: str) -> Span | None:
        return getattr(spread, name) if spread else None

    release_tolerance = 0.2 * max(reference.pump.release_ms, 1.0)
    figures = [
        _number("Tempo", "BPM", reference.tempo.bpm, remake.tempo.bpm, 0.05, usual("bpm")),
        _key(reference, remake, spread),
        _sections(reference, remake),
        *_changes(reference, remake),
        _number("Loudness", "LUFS", reference.loudness.integrated_lufs, remake.loudness.integrated_lufs, 0.5,
                usual("integrated_lufs")),
        _number("Loudness here", "LUFS", theirs.loudness_lufs, mine.loudness_lufs, 1.0,
                spread.section_lufs[main] if spread else None),
        _number("Loudness range", "LU", reference.loudness.range_lu, remake.loudness.range_lu, 2.0, usual("range_lu")),
        _true_peak(reference, remake),
        _balance(difference, remake, main, partner, spread),
        _worst_band(difference, reference.spectrum.centers_hz),
        *_worst_section(reference, distances),
        _number("Pump depth", "dB", reference.pump.depth_db, remake.pump.depth_db, 1.5, usual("pump_depth_db")),
        _number("Pump release", "ms", reference.pump.release_ms, remake.pump.release_ms, release_tolerance,
                usual("pump_release_ms")),
        _number("Width above 270 Hz", "", width_above_270_hz(reference), width_above_270_hz(remake), 0.1,
                usual("width_above_270_hz")),
        _number("Mono below", "Hz", reference.stereo.mono_below_hz, remake.stereo.mono_below_hz, 60.0, usual("mono_below_hz")),
        _number("Swing", "%", reference.tempo.swing_percent, remake.tempo.swing_percent, 1.0, usual("swing_percent")),
    ]  # fmt: skip
    return Gap(
        tuple(figures),
        reference.spectrum.centers_hz,
        tuple(round(float(v), 2) for v in difference),
        _section_rows(reference, remake, partners, distances),
        main,
        partner,
    )


def _changes(reference: Survey, remake: Survey) -> list[Figure]:
    """How many of the reference's changes the remake has within a bar, percent; none where the reference has no changes."""
    if not reference.changes:
        return []
    mine = [c.bar for c in remake.changes]
    met = sum(any(abs(bar - c.bar) <= 1 for bar in mine) for c in reference.changes)
    return [_number("Changes met", "%", 100.0, round(100 * met / len(reference.changes), 1), CHANGES_TOLERANCE)]


def spectrum_difference(reference: Survey, remake: Survey, main: int, partner: int) -> np.ndarray:
    """Remake less reference per third octave at equal loudness: the mean over 40 Hz to 12 kHz is taken out, dB. What isn't heard
    beside the loudest band counts as equally empty."""
    mine, theirs = remake.spectrum.per_section[partner], reference.spectrum.per_section[main]
    return np.asarray(balanced(heard(mine.level_db)) - balanced(heard(theirs.level_db)))


class Labelled(Protocol):
    @property
    def label(self) -> str: ...


def counterparts(theirs: Sequence[Labelled], mine: Sequence[Labelled]) -> list[int | None]:
    """For each section of the reference the remake's of the same label and the same number among those of its label, or None."""
    places: dict[tuple[str, int], int] = {}
    seen: Counter[str] = Counter()
    for i, section in enumerate(mine):
        places[section.label, seen[section.label]] = i
        seen[section.label] += 1
    numbers: Counter[str] = Counter()
    out = []
    for section in theirs:
        out.append(places.get((section.label, numbers[section.label])))
        numbers[section.label] += 1
    return out


def _overlapping(reference: Survey, remake: Survey, main: int) -> int:
    """The remake's section that overlaps the reference's most, bar by bar."""
    theirs = reference.sections[main]

    def overlap(i: int) -> int:
        mine = remake.sections[i]
        return min(mine.end_bar, theirs.end_bar) - max(mine.start_bar, theirs.start_bar)

    return max(range(len(remake.sections)), key=overlap)


def _verdict(difference: float, tolerance: float) -> str:
    size = abs(difference)
    if size <= tolerance + 1e-9:
        return "matched"
    return "close" if size <= CLOSE * tolerance else "off"


def _number(name: str, unit: str, reference: float, remake: float, tolerance: float, span: Span | None = None) -> Figure:
    difference = span.beyond(remake) if span else remake - reference
    return Figure(name, unit, reference, remake, round(difference, 3), round(tolerance, 3), _verdict(difference, tolerance), span)


def _key(reference: Survey, remake: Survey, spread: Spread | None) -> Figure:
    """Against a target any of its keys is matched; where it has none, any key will do."""
    theirs, mine = (f"{s.key.tonic} {s.key.mode}" for s in (reference, remake))
    if spread is None:
        return Figure("Key", "", theirs, mine, None, None, "matched" if theirs == mine else "off")
    if not spread.keys:
        return Figure("Key", "", "any", mine, None, None, "matched")
    known = any((k.tonic, k.mode) == (remake.key.tonic, remake.key.mode) for k in spread.keys) or theirs == mine
    return Figure("Key", "", theirs, mine, None, None, "matched" if known else "off")


def _balance(difference: np.ndarray, remake: Survey, main: int, partner: int, spread: Spread | None) -> Figure:
    """Mean distance per third octave, from the reference's level or from the edge of the target's corridor."""
    if spread is not None:
        level = balanced(remake.spectrum.per_section[partner].level_db)
        usual = spread.spectrum[main]
        difference = np.minimum(0, level - np.array(usual.low)) + np.maximum(0, level - np.array(usual.high))
    mean = balance_db(difference)
    return Figure("Balance, mean", "dB", None, None, round(mean, 2), 2.0, _verdict(mean, 2.0))


def balance_db(difference: np.ndarray) -> float:
    """Mean distance per third octave over BALANCE_HZ, dB."""
    return float(np.abs(difference[in_balance()]).mean())


def _worst_band(difference: np.ndarray, centers_hz: Sequence[float]) -> Figure:
    """The third octave that is furthest off: a good mean may hide it."""
    inside = np.where(in_balance(), np.abs(difference), -1.0)
    worst = int(inside.argmax())
    off = float(difference[worst])
    verdict = "matched" if abs(off) <= BAND_TOLERANCE_DB else "off"
    return Figure("Balance, worst band", "dB", None, hz_said(centers_hz[worst]), round(off, 2), BAND_TOLERANCE_DB, verdict)


def _worst_section(reference: Survey, distances: list[float | None]) -> list[Figure]:
    """The section whose balance is furthest off; nothing where the plans share no section."""
    found = [(off, numbered(reference, i)) for i, off in enumerate(distances) if off is not None]
    if not found:
        return []
    off, name = max(found)
    verdict = _verdict(off, SECTION_TOLERANCE_DB)
    return [Figure("Balance, worst section", "dB", None, name, round(off, 2), SECTION_TOLERANCE_DB, verdict)]


def numbered(survey: Survey, index: int) -> str:
    """A section's label, with a number where it occurs more than once."""
    label = survey.sections[index].label
    same = [i for i, s in enumerate(survey.sections) if s.label == label]
    return label if len(same) == 1 else f"{label} {same.index(index) + 1}"


def _true_peak(reference: Survey, remake: Survey) -> Figure:
    ceiling = max(-1.0, reference.loudness.true_peak_dbtp)
    over = max(0.0, remake.loudness.true_peak_dbtp - ceiling)
    return Figure("True peak", "dBTP", reference.loudness.true_peak_dbtp, remake.loudness.true_peak_dbtp,
                  round(remake.loudness.true_peak_dbtp - reference.loudness.true_peak_dbtp, 2), None,
                  "matched" if over <= 0.0 else "close" if over < 0.3 else "off")  # fmt: skip


def _sections(reference: Survey, remake: Survey) -> Figure:
    theirs = {s.start_bar for s in reference.sections}
    mine = {s.start_bar for s in remake.sections}
    shared = len(theirs & mine)
    verdict = "matched" if theirs == mine else "close" if shared >= 0.7 * len(theirs) else "off"
    return Figure("Section starts", "", f"{len(theirs)}", f"{shared} of {len(theirs)}", None, None, verdict)


def _section_rows(
    reference: Survey, remake: Survey, partners: list[int | None], distances: list[float | None]
) -> tuple[SectionGap, ...]:
    rows = []
    for s, partner, off in zip(reference.sections, partners, distances):
        if partner is None or off is None:
            rows.append(SectionGap(s.label, s.bars, None, s.loudness_lufs, None))
            continue
        other = remake.sections[partner]
        rows.append(SectionGap(s.label, s.bars, other.bars, s.loudness_lufs, other.loudness_lufs, round(off, 2)))
    return tuple(rows)
