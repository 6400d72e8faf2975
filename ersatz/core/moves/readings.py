"""How a section reads beside its reference: figures with their difference and tolerance.

The same readings are taken of a section that was measured (section.py) and of one that the model predicts (model.py), so that both
can be held against each other.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ersatz.core.balance.clashes import MOST_LIMITED_DB, REGION_DB, REGIONS, WEIGHTS, Clash, Measured, find_clashes
from ersatz.core.balance.lanes import Lanes, reference_db
from ersatz.core.balance.pumping import pumping_curve, rate_of
from ersatz.core.gap.details import BETWEEN_DB, CREST_DB, HEARD, SILENT_BETWEEN_DB, band_said
from ersatz.core.gap.figures import DEPTH_TOLERANCE_DB, SWING_TOLERANCE, WIDTH_TOLERANCE, release_tolerance_ms
from ersatz.core.gap.sections import (
    BALANCE_TOLERANCE_DB,
    BAND_TOLERANCE_DB,
    LOUDNESS_TOLERANCE_LU,
    PLAYS,
    RESTS,
    SECTION_TOLERANCE_DB,
    balance_db,
    levels_apart,
)
from ersatz.core.moves.section import HZ, SectionMix
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Cell
from ersatz.core.survey.document import ROLES, SHORT_TERM_S, StereoBand, Survey
from ersatz.core.target.document import in_balance
from ersatz.core.voices.library import BED, kind_of

#: Differences further than this many tolerances count little more: one figure doesn't decide alone.
MOST_TOLERANCES, BEYOND = 3.0, 0.2
#: What a clash is counted by.
CLASH_TOLERANCE_DB = 3.0
#: The reference's events that a transition of ours stands for, from this confidence on.
EVENTS = {"riser": "riser", "snare roll": "snare roll", "gap": "gap"}
SURE_EVENT = 0.5
WIDE_HZ, LOW_HZ = 270.0, 120.0
#: A role may enter so many bars earlier or later; it goes on where it plays in most bars from then on.
ENTRY_BARS, GOES_ON = 2.0, 0.8
#: What is there or isn't (a role, a riser, anything new the second time) counts three tolerances.
PLAIN = 1 / 3
#: Bands whose rise over a section is told, as the survey's energy has them, Hz; what counts as one, dB; a band this far under the
#: loudest bar isn't heard.
RISES = (("low", 0.0, 200.0), ("mid", 200.0, 2800.0), ("high", 2800.0, 20_000.0))
RISE_DB, MOST_RISE_DB, HEARD_RISE_DB = 4.0, 24.0, -40.0


@dataclass(frozen=True)
class Reading:
    """A figure of the section on both sides; `difference` counts what is too much or too little, in the unit of `tolerance`;
    `counts_at_once`: of a figure that is over a threshold of its own, which has no tolerance on top."""

    figure: str
    unit: str
    reference: float
    remake: float
    difference: float
    tolerance: float
    counts_at_once: bool = False

    @property
    def gap(self) -> float:
        """How far it is off, in tolerances: none where it is matched, from there on growing without a step to 3 at three of them,
        little more beyond."""
        off = abs(self.difference) / self.tolerance
        counted = off if self.counts_at_once else 1.5 * max(0.0, off - 1.0)
        return min(counted, MOST_TOLERANCES) + BEYOND * max(0.0, min(off, 10.0) - MOST_TOLERANCES)


def gap_of(readings: dict[str, Reading]) -> float:
    """Sum of what all figures are off by, in tolerances."""
    return sum(r.gap for r in readings.values())


def readings(mix: SectionMix, survey: Survey) -> dict[str, Reading]:
    """By figure. What the reference tells of the whole track only is held against its main section alone."""
    found = [*_roles(mix, survey), *_transitions(mix, survey), *_clashes(mix, survey)]
    found += [*_entries(mix, survey), *_rises(mix, survey), *_repeats(mix)]
    if mix.theirs == survey.main_section():
        found.append(_swing(mix, survey))
    if survey.pump.told:
        found += _pump(mix, survey)
    return readings_of_mix(mix, survey) | {r.figure: r for r in found}


def readings_of_mix(mix: SectionMix, survey: Survey) -> dict[str, Reading]:
    """Those that the finished mix alone tells, whatever its strips."""
    found = [*_balance(mix, survey), *_loudness(mix, survey), *_width(mix, survey), *_hits(mix, survey)]
    return {r.figure: r for r in found}


def difference_db(mix: SectionMix, survey: Survey) -> np.ndarray:
    """Remake less reference per third octave at equal loudness; what isn't heard beside the loudest band is empty."""
    theirs = survey.spectrum.per_section[mix.theirs].level_db
    return levels_apart(mix.lanes.mix.level_db, theirs)


def _balance(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    off = difference_db(mix, survey)
    yield from leanings(off, BALANCE_TOLERANCE_DB if mix.theirs == survey.main_section() else SECTION_TOLERANCE_DB)
    worst = float(max(off[in_balance()], key=abs))
    yield Reading("Balance, worst band", "dB", 0.0, worst, worst, BAND_TOLERANCE_DB)


def leanings(off_db: np.ndarray, tolerance_db: float) -> Iterator[Reading]:
    """The mean distance of a balance that is off by so much per third octave, and by how much each region leans."""
    mean = balance_db(off_db)
    yield Reading("Balance, mean", "dB", 0.0, mean, mean, tolerance_db)
    for name, (low, high) in REGIONS.items():
        by = float(off_db[(low <= HZ) & (high >= HZ)].mean())
        yield Reading(f"Balance, {name}", "dB", 0.0, by, by, REGION_DB)


def _loudness(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    theirs = _their_lufs(survey, mix.theirs, mix.lanes.last - mix.lanes.first + 1)
    yield loudness_reading(mix.lufs, theirs)
    over = max(0.0, mix.limited_db - MOST_LIMITED_DB)
    yield Reading("Limiter", "dB", MOST_LIMITED_DB, mix.limited_db, over, 1.0)


def loudness_reading(lufs: float, theirs: float) -> Reading:
    """A section's loudness beside the reference's."""
    return Reading("Loudness here", "LUFS", theirs, lufs, lufs - theirs, LOUDNESS_TOLERANCE_LU)


def _their_lufs(survey: Survey, section: int, bars: int) -> float:
    """Of the last bars of a section of the reference, as many as were measured of ours: mean power of the short-term windows that
    lie inside, or of the section where none does."""
    found, grid = survey.sections[section], survey.tempo.grid
    start, end = grid.seconds_of_bar(max(found.start_bar, found.end_bar - bars)), grid.seconds_of_bar(found.end_bar)
    inside = [s.lufs for s in survey.loudness.short_term if s.t_s - SHORT_TERM_S >= start - 0.1 and s.t_s <= end + 0.1]
    return found.loudness_lufs if not inside else float(10 * np.log10(np.mean(10 ** (np.array(inside) / 10))))


def _roles(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    """Roles that one side has here and the other hasn't. What lies under everything isn't the noise on top that a survey hears."""
    theirs = survey.sections[mix.theirs].presence
    for role in ROLES:
        parts = [p for p in mix.song.parts if p.role == role and p.patterns and not p.mute and kind_of(p.sound, role) != BED]
        cells = [c for p in parts if (c := p.cell(mix.section.id)) is not None]
        plays = any(c.on for c in cells)
        if not parts or RESTS < theirs[role] < PLAYS:
            continue
        there = theirs[role] >= PLAYS
        yield Reading(f"Plays: {role}", "", float(there), float(plays), float(plays) - float(there), PLAIN)


def _transitions(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    """What leads out of the section there and isn't here."""
    theirs, beats = survey.sections[mix.theirs], survey.tempo.beats_per_bar
    own = {t.kind for t in mix.song.transitions if t.section == mix.section.id}
    for event in survey.events:
        end = event.start_bar + event.beats / beats
        if event.kind in EVENTS and event.confidence >= SURE_EVENT and abs(end - theirs.end_bar) <= 0.5:
            has = EVENTS[event.kind] in own
            yield Reading(f"Leads out: {event.kind}", "", 1.0, float(has), float(has) - 1.0, PLAIN)


def _swing(mix: SectionMix, survey: Survey) -> Reading:
    theirs, own = survey.tempo.swing_percent, mix.song.swing_percent
    return Reading("Swing", "%", theirs, own, own - theirs, SWING_TOLERANCE)


def _their_bands(mix: SectionMix, survey: Survey) -> tuple[StereoBand, ...]:
    """Of the section; of the whole track for its main section where nothing else is told; else none."""
    if survey.stereo.per_section:
        return survey.stereo.per_section[mix.theirs].bands
    return survey.stereo.bands if mix.theirs == survey.main_section() else ()


def _width(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    for figure, low, high in (("Width above 270 Hz", WIDE_HZ, 2e4), ("Width below 120 Hz", 0.0, LOW_HZ)):
        bands = [b for b in _their_bands(mix, survey) if b.low_hz >= low and b.high_hz <= high and _is_heard(mix, b)]
        if not bands:
            continue
        theirs = float(np.mean([b.width for b in bands]))
        own = float(np.mean([width_of(mix.lanes, b.low_hz, b.high_hz) for b in bands]))
        off = own - theirs if low else max(0.0, own - theirs)
        yield Reading(figure, "", theirs, own, off, WIDTH_TOLERANCE)


def _is_heard(mix: SectionMix, band: StereoBand) -> bool:
    """Whether the remake has enough of a band for its figures to mean anything."""
    power = mix.lanes.mix.power
    return bool(power[(band.low_hz <= HZ) & (band.high_hz > HZ)].sum() >= HEARD * power.sum())


def _hits(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    """Crest, and what lies between the hits, of the bands that are heard on both sides."""
    for theirs, own in zip(_their_bands(mix, survey), mix.bands):
        if theirs.between_db is None or own.between_db is None or not _is_heard(mix, theirs):
            continue
        name = band_said(theirs)
        yield Reading(f"Crest, {name}", "dB", theirs.crest_db, own.crest_db, own.crest_db - theirs.crest_db, CREST_DB)
        there, here = (max(v, SILENT_BETWEEN_DB) for v in (theirs.between_db, own.between_db))
        yield Reading(f"Between hits, {name}", "dB", there, here, here - there, BETWEEN_DB)


def _entries(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    """Roles that enter within the section there, and here at another bar."""
    theirs = survey.sections[mix.theirs]
    if theirs.bars != mix.section.bars:
        return
    for role in ROLES:
        at = entry_bars(survey.presence.within(role, theirs.start_bar, theirs.end_bar))
        parts = [p for p in mix.song.parts if p.role == role and p.patterns and not p.mute]
        cells = [c for p in parts if (c := p.cell(mix.section.id)) is not None]
        playing = [c.entry_bars for c in cells if c.on]
        if at is not None and playing:
            own = float(min(playing))
            yield Reading(f"Enters: {role}", "bars", float(at), own, own - at, ENTRY_BARS)


def _repeats(mix: SectionMix) -> Iterator[Reading]:
    """Whether a section that comes again plays nothing new: a second drop differs from the first, and so on."""
    earlier = next((s for s in mix.song.sections[: mix.place] if s.label == mix.section.label), None)
    if earlier is None:
        return
    same = all(_as_played(p.cell(earlier.id)) == _as_played(p.cell(mix.section.id)) for p in mix.song.parts)
    yield Reading(f"Same as the {earlier.label} before", "", 0.0, float(same), float(same), PLAIN)


def _as_played(cell: Cell | None) -> Cell | None:
    return None if cell is None or not cell.on else replace(cell, section="")


def entry_bars(presence: Sequence[float]) -> int | None:
    """Bars of a section before a role begins to play and goes on; None where it doesn't, or only here and there."""
    plays = np.array(presence) >= PLAYS
    if not plays.any():
        return None
    first = int(plays.argmax())
    return first if plays[first:].mean() >= GOES_ON and (np.array(presence[:first]) < PLAYS / 2).all() else None


def _rises(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    """By how much a band grows from the first quarter of the measured bars to the last, beyond what the whole does in a drop."""
    theirs, bars = survey.sections[mix.theirs], mix.lanes.last - mix.lanes.first + 1
    if mix.section.label == "drop" or bars < 4 or theirs.bars < bars:
        return
    cut = slice(theirs.end_bar - 1 - bars, theirs.end_bar - 1)
    for name, low, high in RISES:
        course = np.array(getattr(survey.energy, f"{name}_db")[cut])
        frames = mix.lanes.mix.frames
        power = frames[(low <= HZ) & (high > HZ)].sum(axis=0)
        if len(course) < bars or course.max() < HEARD_RISE_DB or power.sum() <= HEARD * frames.sum():
            continue
        there = _risen(10 ** (course / 10))
        own = _risen(power)
        yield Reading(f"Rise, {name}", "dB", there, own, own - there, RISE_DB)


def _risen(power: np.ndarray) -> float:
    """From the first quarter to the last, dB, within MOST_RISE_DB."""
    quarter = max(1, len(power) // 4)
    first, last = float(power[:quarter].mean()), float(power[-quarter:].mean())
    return float(np.clip(10 * np.log10(max(last, 1e-15) / max(first, 1e-15)), -MOST_RISE_DB, MOST_RISE_DB))


def width_of(lanes: Lanes, low_hz: float, high_hz: float) -> float:
    """0 mono to 1 for unrelated sides: twice the sides' share of the power."""
    inside = (low_hz <= HZ) & (high_hz > HZ)
    power = float(lanes.mix.power[inside].sum())
    return 0.0 if power <= 0 else 2 * float(lanes.mix.side[inside].sum()) / power


def _pump(mix: SectionMix, survey: Survey) -> list[Reading]:
    if mix.ducked is None:
        return []
    ducks = ducks_there(mix, survey)
    wanted = survey.pump.depth_db if ducks else 0.0
    own = mix.ducked.depth_db
    out = [Reading("Pump depth", "dB", wanted, own, own - wanted, DEPTH_TOLERANCE_DB)]
    if ducks:
        out.append(rate_reading(mix.song, survey))
    if ducks and own > 1.5:
        theirs, ms = survey.pump.release_ms, mix.ducked.release_beats() * mix.song.grid.beat_s * 1000
        out.append(Reading("Pump release", "ms", theirs, ms, ms - theirs, release_tolerance_ms(theirs)))
    return out


def ducks_there(mix: SectionMix, survey: Survey) -> bool:
    """Whether the reference ducks in its counterpart of the section."""
    return survey.pump.told and survey.pump.depth_db > 0 and mix.theirs in survey.pump.active_sections


def rate_reading(song: Song, survey: Survey) -> Reading:
    """Whether the song ducks at the reference's rate."""
    right = rate_of(pumping_curve(song)) == survey.pump.rate
    return Reading("Pump rate", "", 1.0, float(right), float(right) - 1.0, PLAIN)


def clashes_of(mix: SectionMix, survey: Survey) -> list[Clash]:
    """Those that the strips' energies alone tell."""
    theirs = reference_db(survey, mix.theirs, mix.lanes.mix.level_db)
    # The regions and the limiter have readings of their own.
    measured = Measured(mix.song, mix.lanes, theirs, survey.pump, 0.0, ducks=mix.section.ducks)
    return [c for c in find_clashes(measured) if c.kind not in ("too much", "missing", "ducking")]


def clash_figure(song: Song, clash: Clash) -> str:
    """What the reading of a clash is called."""
    return f"Clash, {clash.kind}: {' and '.join(s.name for s in song.strips() if s.id in clash.strips)}"


def _clashes(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    for clash in clashes_of(mix, survey):
        amount = clash.amount_db * WEIGHTS.get(clash.kind, 1.0)
        yield Reading(clash_figure(mix.song, clash), "dB", 0.0, amount, amount, CLASH_TOLERANCE_DB, counts_at_once=True)
