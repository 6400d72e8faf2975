"""How far is the remake from its reference?

Tolerances are what practitioners accept as matched: tempo exact, key the same, sections of the same length, most of the changes
met, loudness within 0.5 LU, true peak at or under -1 dBTP or the reference's own, spectrum within 2 dB per third octave from 40 Hz
to 12 kHz in the drop and 2.5 dB in every other section with no band over 6 dB, pump depth within 1.5 dB and release within 20 %,
width within 0.1 per band, swing within 1 point. Against a target made of several tracks whatever lies inside its spread is matched,
and a gap is counted from the spread's edge.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ersatz.core.gap.details import Group, groups
from ersatz.core.gap.figures import (
    DEPTH_TOLERANCE_DB,
    SWING_TOLERANCE,
    WIDTH_TOLERANCE,
    Figure,
    number,
    release_tolerance_ms,
    verdict,
)
from ersatz.core.gap.sections import (
    LOUDNESS_TOLERANCE_LU,
    SECTION_TOLERANCE_DB,
    SectionGap,
    balance,
    counterparts,
    numbered,
    section_gaps,
    spectrum_difference,
    worst_band,
)
from ersatz.core.serial import to_json
from ersatz.core.survey.document import Survey
from ersatz.core.target.document import Span, Spread, width_above_270_hz

SCHEMA = "ersatz.gap/2"
#: Share of the reference's changes that may be missing, percent.
CHANGES_TOLERANCE = 15.0


@dataclass(frozen=True)
class Gap:
    figures: tuple[Figure, ...]
    spectrum_hz: tuple[float, ...]
    spectrum_difference_db: tuple[float, ...]
    sections: tuple[SectionGap, ...]
    reference_section: int
    remake_section: int
    groups: tuple[Group, ...] = ()

    def to_json(self) -> dict[str, Any]:
        """The document with its schema, as plain JSON data."""
        return {"schema": SCHEMA, **to_json(self)}

    def figure(self, name: str) -> Figure:
        """The figure of that name."""
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
    sections = section_gaps(reference, remake, partners, spread)

    def usual(name: str) -> Span | None:
        return getattr(spread, name) if spread else None

    figures = [
        number("Tempo", "BPM", reference.tempo.bpm, remake.tempo.bpm, 0.05, usual("bpm")),
        _key(reference, remake, spread),
        _sections(reference, remake),
        *_changes(reference, remake),
        number("Loudness", "LUFS", reference.loudness.integrated_lufs, remake.loudness.integrated_lufs, 0.5,
                usual("integrated_lufs")),
        number("Loudness here", "LUFS", theirs.loudness_lufs, mine.loudness_lufs, LOUDNESS_TOLERANCE_LU,
                spread.section_lufs[main] if spread else None),
        number("Loudness range", "LU", reference.loudness.range_lu, remake.loudness.range_lu, 2.0, usual("range_lu")),
        _true_peak(reference, remake),
        balance(reference, remake, main, partner, spread),
        worst_band(difference, reference.spectrum.centers_hz),
        *_worst_section(reference, sections),
        number("Pump depth", "dB", reference.pump.depth_db, remake.pump.depth_db, DEPTH_TOLERANCE_DB, usual("pump_depth_db")),
        number("Pump release", "ms", reference.pump.release_ms, remake.pump.release_ms,
                release_tolerance_ms(reference.pump.release_ms), usual("pump_release_ms")),
        number("Width above 270 Hz", "", width_above_270_hz(reference), width_above_270_hz(remake), WIDTH_TOLERANCE,
                usual("width_above_270_hz")),
        number("Mono below", "Hz", reference.stereo.mono_below_hz, remake.stereo.mono_below_hz, 60.0, usual("mono_below_hz")),
        number("Swing", "%", reference.tempo.swing_percent, remake.tempo.swing_percent, SWING_TOLERANCE,
                usual("swing_percent")),
    ]  # fmt: skip
    return Gap(
        tuple(figures),
        reference.spectrum.centers_hz,
        tuple(round(float(v), 2) for v in difference),
        sections,
        main,
        partner,
        groups(reference, remake, main, partner, spread),
    )


def _changes(reference: Survey, remake: Survey) -> list[Figure]:
    """How many of the reference's changes the remake has within a bar, percent; none where the reference has no changes."""
    if not reference.changes:
        return []
    mine = [c.bar for c in remake.changes]
    met = sum(any(abs(bar - c.bar) <= 1 for bar in mine) for c in reference.changes)
    return [number("Changes met", "%", 100.0, round(100 * met / len(reference.changes), 1), CHANGES_TOLERANCE)]


def _overlapping(reference: Survey, remake: Survey, main: int) -> int:
    """The remake's section that overlaps the reference's most, bar by bar."""
    theirs = reference.sections[main]

    def overlap(i: int) -> int:
        mine = remake.sections[i]
        return min(mine.end_bar, theirs.end_bar) - max(mine.start_bar, theirs.start_bar)

    return max(range(len(remake.sections)), key=overlap)


def _key(reference: Survey, remake: Survey, spread: Spread | None) -> Figure:
    """Against a target any of its keys is matched; where it has none, any key will do."""
    theirs, mine = (f"{s.key.tonic} {s.key.mode}" for s in (reference, remake))
    if spread is None:
        return Figure("Key", "", theirs, mine, None, None, "matched" if theirs == mine else "off")
    if not spread.keys:
        return Figure("Key", "", "any", mine, None, None, "matched")
    known = any((k.tonic, k.mode) == (remake.key.tonic, remake.key.mode) for k in spread.keys) or theirs == mine
    return Figure("Key", "", theirs, mine, None, None, "matched" if known else "off")


def _worst_section(reference: Survey, sections: Sequence[SectionGap]) -> list[Figure]:
    """The section whose balance is furthest off; nothing where the plans share no section."""
    found = [(s.balance_db, numbered(reference, i)) for i, s in enumerate(sections) if s.balance_db is not None]
    if not found:
        return []
    off, name = max(found)
    return [
        Figure("Balance, worst section", "dB", None, name, round(off, 2), SECTION_TOLERANCE_DB, verdict(off, SECTION_TOLERANCE_DB))
    ]


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
