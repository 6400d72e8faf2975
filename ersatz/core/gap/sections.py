"""How far is each section from its counterpart?

Read of the two surveys, section by section: length, loudness, balance, and the roles that play on one side alone.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from ersatz.core.bands import hz_said
from ersatz.core.gap.figures import Figure, number, verdict
from ersatz.core.survey.document import ROLES, Survey
from ersatz.core.target.document import Spread, balanced, heard, in_balance

#: Mean distance per third octave that counts as matched in the section that matters most, and in any other, dB (TARGETS).
BALANCE_TOLERANCE_DB, SECTION_TOLERANCE_DB = 2.0, 2.5
#: No third octave may be further off, dB.
BAND_TOLERANCE_DB = 6.0
#: Of a section's loudness, LU.
LOUDNESS_TOLERANCE_LU = 1.0
#: A role is there from this presence on, and isn't under that one.
PLAYS, RESTS = 0.5, 0.12


@dataclass(frozen=True)
class SectionGap:
    """A section of the reference beside its counterpart; `remake_bars` None and no figures where the remake has none."""

    label: str
    reference_bars: int
    remake_bars: int | None
    balance_db: float | None
    figures: tuple[Figure, ...]


def section_gaps(
    reference: Survey, remake: Survey, partners: Sequence[int | None], spread: Spread | None = None
) -> tuple[SectionGap, ...]:
    """One for each section of the reference; `partners` as of `counterparts`, `spread` where it is a target's typical track."""
    rows = []
    for i, partner in enumerate(partners):
        theirs = reference.sections[i]
        if partner is None:
            rows.append(SectionGap(theirs.label, theirs.bars, None, None, ()))
            continue
        mine = remake.sections[partner]
        usual = spread.section_lufs[i] if spread else None
        mean = balance(reference, remake, i, partner, spread)
        figures = (
            mean,
            worst_band(spectrum_difference(reference, remake, i, partner), reference.spectrum.centers_hz),
            number("Loudness", "LUFS", theirs.loudness_lufs, mine.loudness_lufs, LOUDNESS_TOLERANCE_LU, usual),
            roles(theirs.presence, mine.presence),
        )
        rows.append(SectionGap(theirs.label, theirs.bars, mine.bars, mean.difference, figures))
    return tuple(rows)


def roles(theirs: dict[str, float], mine: dict[str, float]) -> Figure:
    """Roles that play on one side and rest on the other, by name; `difference` counts them."""
    missing = [r for r in ROLES if theirs[r] >= PLAYS and mine[r] < RESTS]
    added = [r for r in ROLES if mine[r] >= PLAYS and theirs[r] < RESTS]
    count = len(missing) + len(added)
    said = ", ".join(missing) or None, ", ".join(added) or None
    return Figure("Roles", "", *said, float(count), 0.0, "off" if count else "matched")


def spectrum_difference(reference: Survey, remake: Survey, main: int, partner: int) -> np.ndarray:
    """levels_apart of two sections of two surveys."""
    mine, theirs = remake.spectrum.per_section[partner], reference.spectrum.per_section[main]
    return levels_apart(mine.level_db, theirs.level_db)


def levels_apart(mine: Sequence[float] | np.ndarray, theirs: Sequence[float] | np.ndarray) -> np.ndarray:
    """Remake less reference per third octave at equal loudness: the mean over 40 Hz to 12 kHz is taken out, dB. What isn't heard
    beside the loudest band counts as equally empty."""
    return np.asarray(balanced(heard(mine)) - balanced(heard(theirs)))


def balance_db(difference: np.ndarray) -> float:
    """Mean distance per third octave over BALANCE_HZ, dB."""
    return float(np.abs(difference[in_balance()]).mean())


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


def balance(reference: Survey, remake: Survey, section: int, partner: int, spread: Spread | None = None) -> Figure:
    """Mean distance per third octave over BALANCE_HZ, from the reference's level or from the edge of the target's corridor."""
    difference = spectrum_difference(reference, remake, section, partner)
    if spread is not None:
        level = balanced(remake.spectrum.per_section[partner].level_db)
        usual = spread.spectrum[section]
        difference = np.minimum(0, level - np.array(usual.low)) + np.maximum(0, level - np.array(usual.high))
    mean = round(balance_db(difference), 2)
    tolerance = BALANCE_TOLERANCE_DB if section == reference.main_section() else SECTION_TOLERANCE_DB
    return Figure("Balance, mean", "dB", None, None, mean, tolerance, verdict(mean, tolerance))


def worst_band(difference: np.ndarray, centers_hz: Sequence[float]) -> Figure:
    """The third octave that is furthest off: a good mean may hide it."""
    inside = np.where(in_balance(), np.abs(difference), -1.0)
    worst = int(inside.argmax())
    off = float(difference[worst])
    said = "matched" if abs(off) <= BAND_TOLERANCE_DB else "off"
    return Figure("Balance, worst band", "dB", None, hz_said(centers_hz[worst]), round(off, 2), BAND_TOLERANCE_DB, said)


def numbered(survey: Survey, index: int) -> str:
    """A section's label, with a number where it occurs more than once."""
    label = survey.sections[index].label
    same = [i for i, s in enumerate(survey.sections) if s.label == label]
    return label if len(same) == 1 else f"{label} {same.index(index) + 1}"
