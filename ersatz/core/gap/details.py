"""Every figure of a section beside its counterpart's, in groups: what the few figures of the gap sum up.

Of the section where both surveys tell it by section, else of the whole track (a group says which). Tolerances are this module's
where practitioners name none.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ersatz.core.gap.figures import DEPTH_TOLERANCE_DB, WIDTH_TOLERANCE, Figure, number, release_tolerance_ms
from ersatz.core.survey.document import ROLES, DrumPattern, StereoBand, Survey
from ersatz.core.target.document import Spread, balanced, heard, in_balance

#: Presence of a role, share of the bars; a hit's place, ms, and its velocity, 0..1; crest, dB; a third octave, dB; loudness, LU;
#: what lies between hits, dB.
PRESENCE, LATE_MS, VELOCITY, CREST_DB, BAND_DB, LOUDNESS_LU, BETWEEN_DB = 0.25, 5.0, 0.15, 3.0, 2.0, 1.0, 6.0
#: Bands that have this share of the power are heard; so far under its average, dB, a band is silent between the hits.
HEARD, SILENT_BETWEEN_DB = 1e-3, -30.0
#: Of the steps that either side plays, those that may be the other's alone, percent.
STEPS_PERCENT = 20.0
#: Onsets per beat, and as a share of the reference's where that is more.
ONSETS, ONSETS_SHARE = 0.25, 0.2
#: A curve of the pump, mean distance, dB.
CURVE_DB = 1.0
STRUCK = ("kick", "clap", "hats")


@dataclass(frozen=True)
class Group:
    """`of`: "section", or "track" where nothing tells it by section."""

    name: str
    of: str
    figures: tuple[Figure, ...]

    @property
    def matched(self) -> int:
        """How many of its figures are matched."""
        return sum(f.verdict == "matched" for f in self.figures)


def groups(reference: Survey, remake: Survey, section: int, partner: int, spread: Spread | None = None) -> tuple[Group, ...]:
    """`section` of the reference and `partner` of the remake; groups that have nothing to compare are left out."""
    theirs, mine = reference.sections[section].presence, remake.sections[partner].presence
    by_section = bool(reference.stereo.per_section and remake.stereo.per_section)
    here = "section" if by_section else "track"
    if by_section:
        bands = list(zip(reference.stereo.per_section[section].bands, remake.stereo.per_section[partner].bands))
    else:
        bands = list(zip(reference.stereo.bands, remake.stereo.bands))
    found = [
        Group("Presence of roles", "section", tuple(number(r, "", theirs[r], mine[r], PRESENCE) for r in ROLES)),
        Group("Groove", "section", tuple(_groove(reference, remake, section, partner))),
        Group("Pump by band", "track", tuple(_pump(reference, remake))),
        Group("Third octaves at equal loudness", "section", tuple(_octaves(reference, remake, section, partner))),
        Group("Width by band", here, tuple(_width(bands, spread if here == "track" else None))),
        Group(
            "Correlation by band",
            here,
            tuple(_correlation(bands)),
        ),
        Group("Crest by band", here, tuple(number(band_said(a), "dB", a.crest_db, b.crest_db, CREST_DB) for a, b in bands)),
        Group("What lies between hits by band", here, tuple(_between(bands))),
        Group("Onsets per beat by band", here, tuple(_onsets(bands))),
        Group("Loudness", "track", tuple(_loudness(reference, remake))),
    ]
    return tuple(g for g in found if g.figures)


def band_said(band: StereoBand) -> str:
    """What a band is called."""

    def said(hz: float) -> str:
        return f"{hz / 1000:g}k" if hz >= 1000 else f"{hz:g}"

    return f"{said(band.low_hz)} to {said(band.high_hz)} Hz"


def _width(bands: list[tuple[StereoBand, StereoBand]], spread: Spread | None) -> Iterator[Figure]:
    for k, (a, b) in enumerate(bands):
        yield number(band_said(a), "", a.width, b.width, WIDTH_TOLERANCE, spread.width[k] if spread else None)


def _correlation(bands: list[tuple[StereoBand, StereoBand]]) -> Iterator[Figure]:
    for a, b in bands:
        yield number(band_said(a), "", a.correlation, b.correlation, WIDTH_TOLERANCE)


def _onsets(bands: list[tuple[StereoBand, StereoBand]]) -> Iterator[Figure]:
    for a, b in bands:
        if a.onsets_per_beat is not None and b.onsets_per_beat is not None:
            tolerance = max(ONSETS, ONSETS_SHARE * a.onsets_per_beat)
            yield number(band_said(a), "", a.onsets_per_beat, b.onsets_per_beat, tolerance)


def _between(bands: list[tuple[StereoBand, StereoBand]]) -> Iterator[Figure]:
    for a, b in bands:
        if a.between_db is not None and b.between_db is not None:
            yield number(band_said(a), "dB", a.between_db, b.between_db, BETWEEN_DB)


def _octaves(reference: Survey, remake: Survey, section: int, partner: int) -> Iterator[Figure]:
    theirs, mine = (balanced(heard(s.spectrum.per_section[i].level_db)) for s, i in ((reference, section), (remake, partner)))
    for hz, a, b, counts in zip(reference.spectrum.centers_hz, theirs, mine, in_balance()):
        if counts:
            name = f"{hz / 1000:g} kHz" if hz >= 1000 else f"{hz:g} Hz"
            yield number(name, "dB", round(float(a), 1), round(float(b), 1), BAND_DB)


def _pump(reference: Survey, remake: Survey) -> Iterator[Figure]:
    theirs, mine = reference.pump, remake.pump
    if not (theirs.told and mine.told) or max(theirs.depth_db, mine.depth_db) <= 0:
        return
    yield Figure("Rate", "", theirs.rate, mine.rate, None, None, "matched" if theirs.rate == mine.rate else "off")
    yield number("Release", "ms", theirs.release_ms, mine.release_ms, release_tolerance_ms(theirs.release_ms))
    off = float(np.abs(np.subtract(theirs.beat_db, mine.beat_db)).mean()) if len(theirs.beat_db) == len(mine.beat_db) else None
    if off is not None:
        yield number("Curve, mean distance", "dB", 0.0, round(off, 2), CURVE_DB)
    for band in theirs.bands.keys() & mine.bands.keys():
        yield number(f"Depth, {band}", "dB", theirs.bands[band].depth_db, mine.bands[band].depth_db, DEPTH_TOLERANCE_DB)


def _groove(reference: Survey, remake: Survey, section: int, partner: int) -> Iterator[Figure]:
    theirs, mine = _pattern(reference, section), _pattern(remake, partner)
    if theirs is None or mine is None or theirs.steps_per_bar != mine.steps_per_bar:
        return
    for role in STRUCK:
        a, b = np.array(getattr(theirs, role), float), np.array(getattr(mine, role), float)
        either, both = (a > 0) | (b > 0), (a > 0) & (b > 0)
        if not either.any():
            continue
        alone = 100 * float((either & ~both).sum() / either.sum())
        yield number(f"{role}: steps of one side alone", "%", 0.0, round(alone, 1), STEPS_PERCENT)
        if not both.any():
            continue
        yield number(f"{role}: velocity, mean distance", "", 0.0, round(float(np.abs(a - b)[both].mean()), 2), VELOCITY)
        late = [np.array([np.nan if v is None else v for v in getattr(p.timing_ms, role)], float) for p in (theirs, mine)]
        known = np.isfinite(late[0]) & np.isfinite(late[1])
        if known.any():
            off = float(np.abs(late[0] - late[1])[known].mean())
            yield number(f"{role}: timing, mean distance", "ms", 0.0, round(off, 1), LATE_MS)


def _pattern(survey: Survey, section: int) -> DrumPattern | None:
    return next((p for p in survey.drums.patterns if p.section == section), None)


def _loudness(reference: Survey, remake: Survey) -> Iterator[Figure]:
    theirs, mine = reference.loudness, remake.loudness
    yield number("Loudest short-term", "LUFS", theirs.max_short_term_lufs, mine.max_short_term_lufs, LOUDNESS_LU)
    yield number("Loudest momentary", "LUFS", theirs.max_momentary_lufs, mine.max_momentary_lufs, LOUDNESS_LU)
    yield number("Peak to loudness", "LU", theirs.plr_db, mine.plr_db, 2.0)
    a, b = (_by_bar(s) for s in (reference, remake))
    bars = sorted(a.keys() & b.keys())
    if bars:
        off = float(np.mean([abs(a[bar] - b[bar]) for bar in bars]))
        yield number("Short-term over bars, mean distance", "LU", 0.0, round(off, 2), LOUDNESS_LU)


def _by_bar(survey: Survey) -> dict[int, float]:
    """Short-term loudness at each bar, by the last window whose middle lies in it."""
    return {int(np.floor(bar)): max(lufs, -60.0) for bar, lufs in survey.loudness_course()}
