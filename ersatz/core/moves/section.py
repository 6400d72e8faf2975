"""A section of a song as it sounds, and how it reads beside its reference.

What is measured of the rendered section: the energy of every strip per third octave (balance/lanes.py), loudness, what the limiter
takes, and what ducking does to the sustained parts. The same readings are taken of a section that was measured and of one that the
model predicts (model.py), so that both can be held against each other.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from ersatz.core.balance.clashes import MOST_LIMITED_DB, REGION_DB, REGIONS, WEIGHTS, Clash, Measured, find_clashes
from ersatz.core.balance.lanes import Lanes, measure_lane, measure_lanes, measured_bars, reference_db
from ersatz.core.balance.meters import limiter_reduction_db
from ersatz.core.balance.pumping import DROP_BARS, SUSTAINED, Ducked, measure_ducked
from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.gap.figures import DEPTH_TOLERANCE_DB, SWING_TOLERANCE, WIDTH_TOLERANCE, release_tolerance_ms
from ersatz.core.gap.sections import (
    BALANCE_TOLERANCE_DB,
    LOUDNESS_TOLERANCE_LU,
    PLAYS,
    RESTS,
    SECTION_TOLERANCE_DB,
    balance_db,
    levels_apart,
)
from ersatz.core.loudness import mean_lufs
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song, SongSection
from ersatz.core.song.strips import MASTER
from ersatz.core.survey.document import ROLES, Survey

HZ = np.array(NOMINAL_HZ, float)
#: So many bars stand for a section that isn't a drop, which may grow all along.
OTHER_BARS = 16
#: Differences further than this many tolerances count little more: one figure doesn't decide alone.
MOST_TOLERANCES, BEYOND = 3.0, 0.2
#: What a clash is counted by.
CLASH_TOLERANCE_DB = 3.0
#: What the limiter takes of most peaks.
MOST_READINGS = 75
#: The reference's events that a transition of ours stands for, from this confidence on.
EVENTS = {"riser": "riser", "snare roll": "snare roll", "gap": "gap"}
SURE_EVENT = 0.5
WIDE_HZ, LOW_HZ = 270.0, 120.0
#: Window of short-term loudness, which ends at its time (EBU Tech 3341).
SHORT_TERM_S = 3.0


@dataclass(frozen=True)
class SectionMix:
    """A section (by its place in the plan) of `song`, whose counterpart is the reference's `theirs`."""

    song: Song
    place: int
    theirs: int
    lanes: Lanes
    lufs: float
    limited_db: float
    ducked: Ducked | None

    @property
    def section(self) -> SongSection:
        return self.song.sections[self.place]


def measure_section(song: Song, mixdown: Mixdown, place: int, theirs: int) -> SectionMix:
    """Rendered and measured."""
    first, last = measured_bars(song, place, DROP_BARS if song.sections[place].label == "drop" else OTHER_BARS)
    lanes = measure_lanes(mixdown, first, last)
    ducked = measure_ducked(song, mixdown, first, last)
    return SectionMix(song, place, theirs, lanes, _lufs(mixdown, first, last), _limited(mixdown, first, last), ducked)


def measure_again(mix: SectionMix, after: Song, mixdown: Mixdown) -> SectionMix:
    """The same section of a song that was changed: what is as it was isn't measured anew."""
    first, last = mix.lanes.first, mix.lanes.last
    changed = [p.id for p in after.parts if _is_other(mix.song, after, p.id)] + [MASTER]
    lanes = dict(mix.lanes.lanes)
    for name in changed:
        lane = measure_lane(name, mixdown.strip_samples(name, first, last))
        if lane.is_silent and name != MASTER:
            lanes.pop(name, None)
        else:
            lanes[name] = lane
    sustained = {p.id for p in after.parts if p.role in SUSTAINED}
    moved = sustained & set(changed) or mix.song.curves != after.curves
    ducked = measure_ducked(after, mixdown, first, last) if moved else mix.ducked
    measured = replace(mix, song=after, lanes=Lanes(first, last, lanes), ducked=ducked)
    return replace(measured, lufs=_lufs(mixdown, first, last), limited_db=_limited(mixdown, first, last))


def _is_other(before: Song, after: Song, name: str) -> bool:
    """Whether a part, or a bus on its way, sounds differently."""
    if (before.bpm, before.swing_percent) != (after.bpm, after.swing_percent):
        return True
    old, new = before.strip(name), after.strip(name)
    while old is not None and new is not None and new.id != MASTER:
        if old != new:
            return True
        old, new = before.strip(old.out), after.strip(new.out)
    curve = after.strip(name)
    ducks = curve.duck.curve if curve is not None and curve.duck is not None else None
    return old is None or (ducks is not None and before.curve(ducks) != after.curve(ducks))


def _lufs(mixdown: Mixdown, first: int, last: int) -> float:
    return mean_lufs(mixdown.strip_samples(MASTER, first, last), RATE_HZ)


def _limited(mixdown: Mixdown, first: int, last: int) -> float:
    return float(np.percentile(limiter_reduction_db(mixdown, first, last), MOST_READINGS))


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
        """Tolerances that it is off, none where it is matched."""
        off = abs(self.difference) / self.tolerance
        if off <= 1.0 and not self.counts_at_once:
            return 0.0
        return min(off, MOST_TOLERANCES) + BEYOND * max(0.0, min(off, 10.0) - MOST_TOLERANCES)


def gap_of(readings: dict[str, Reading]) -> float:
    return sum(r.gap for r in readings.values())


def readings(mix: SectionMix, survey: Survey) -> dict[str, Reading]:
    """By figure. Whole-track figures of the reference (width, pump) are held against its main section alone."""
    found = [*_balance(mix, survey), *_loudness(mix, survey), *_roles(mix, survey)]
    found += [*_transitions(mix, survey), *_clashes(mix, survey)]
    if mix.theirs == survey.main_section():
        found += [*_width(mix, survey), _swing(mix, survey)]
    if survey.pump.told:
        found += _pump(mix, survey)
    return {r.figure: r for r in found}


def difference_db(mix: SectionMix, survey: Survey) -> np.ndarray:
    """Remake less reference per third octave at equal loudness; what isn't heard beside the loudest band is empty."""
    theirs = survey.spectrum.per_section[mix.theirs].level_db
    return levels_apart(mix.lanes.mix.level_db, theirs)


def _balance(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    off = difference_db(mix, survey)
    mean = balance_db(off)
    tolerance = BALANCE_TOLERANCE_DB if mix.theirs == survey.main_section() else SECTION_TOLERANCE_DB
    yield Reading("Balance, mean", "dB", 0.0, mean, mean, tolerance)
    for name, (low, high) in REGIONS.items():
        by = float(off[(low <= HZ) & (high >= HZ)].mean())
        yield Reading(f"Balance, {name}", "dB", 0.0, by, by, REGION_DB)


def _loudness(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    theirs = _their_lufs(survey, mix.theirs, mix.lanes.last - mix.lanes.first + 1)
    yield Reading("Loudness here", "LUFS", theirs, mix.lufs, mix.lufs - theirs, LOUDNESS_TOLERANCE_LU)
    over = max(0.0, mix.limited_db - MOST_LIMITED_DB)
    yield Reading("Limiter", "dB", MOST_LIMITED_DB, mix.limited_db, over, 1.0)


def _their_lufs(survey: Survey, section: int, bars: int) -> float:
    """Of the last bars of a section of the reference, as many as were measured of ours: mean power of the short-term windows that
    lie inside, or of the section where none does."""
    found, grid = survey.sections[section], survey.tempo.grid
    start, end = grid.seconds_of_bar(max(found.start_bar, found.end_bar - bars)), grid.seconds_of_bar(found.end_bar)
    inside = [s.lufs for s in survey.loudness.short_term if s.t_s - SHORT_TERM_S >= start - 0.1 and s.t_s <= end + 0.1]
    return found.loudness_lufs if not inside else float(10 * np.log10(np.mean(10 ** (np.array(inside) / 10))))


def _roles(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    """Roles that one side has here and the other hasn't."""
    theirs = survey.sections[mix.theirs].presence
    for role in ROLES:
        parts = [p for p in mix.song.parts if p.role == role and p.patterns and not p.mute]
        cells = [c for p in parts if (c := p.cell(mix.section.id)) is not None]
        plays = any(c.on for c in cells)
        if not parts or RESTS < theirs[role] < PLAYS:
            continue
        there = theirs[role] >= PLAYS
        yield Reading(f"Plays: {role}", "", float(there), float(plays), float(plays) - float(there), 0.5)


def _transitions(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    """What leads out of the section there and isn't here."""
    theirs, beats = survey.sections[mix.theirs], survey.tempo.beats_per_bar
    own = {t.kind for t in mix.song.transitions if t.section == mix.section.id}
    for event in survey.events:
        end = event.start_bar + event.beats / beats
        if event.kind in EVENTS and event.confidence >= SURE_EVENT and abs(end - theirs.end_bar) <= 0.5:
            has = EVENTS[event.kind] in own
            yield Reading(f"Leads out: {event.kind}", "", 1.0, float(has), float(has) - 1.0, 0.5)


def _swing(mix: SectionMix, survey: Survey) -> Reading:
    theirs, own = survey.tempo.swing_percent, mix.song.swing_percent
    return Reading("Swing", "%", theirs, own, own - theirs, SWING_TOLERANCE)


def _width(mix: SectionMix, survey: Survey) -> Iterator[Reading]:
    for figure, low, high in (("Width above 270 Hz", WIDE_HZ, 2e4), ("Width below 120 Hz", 0.0, LOW_HZ)):
        bands = [b for b in survey.stereo.bands if b.low_hz >= low and b.high_hz <= high]
        if not bands:
            continue
        theirs = float(np.mean([b.width for b in bands]))
        own = float(np.mean([width_of(mix.lanes, b.low_hz, b.high_hz) for b in bands]))
        off = own - theirs if low else max(0.0, own - theirs)
        yield Reading(figure, "", theirs, own, off, WIDTH_TOLERANCE)


def width_of(lanes: Lanes, low_hz: float, high_hz: float) -> float:
    """0 mono to 1 for unrelated sides: twice the sides' share of the power."""
    inside = (low_hz <= HZ) & (high_hz > HZ)
    power = float(lanes.mix.power[inside].sum())
    return 0.0 if power <= 0 else 2 * float(lanes.mix.side[inside].sum()) / power


def _pump(mix: SectionMix, survey: Survey) -> list[Reading]:
    if mix.ducked is None:
        return []
    ducks = mix.theirs in survey.pump.active_sections and survey.pump.depth_db > 0
    wanted = survey.pump.depth_db if ducks else 0.0
    own = mix.ducked.depth_db
    out = [Reading("Pump depth", "dB", wanted, own, own - wanted, DEPTH_TOLERANCE_DB)]
    if ducks and own > 1.5:
        theirs, ms = survey.pump.release_ms, mix.ducked.release_beats() * mix.song.grid.beat_s * 1000
        out.append(Reading("Pump release", "ms", theirs, ms, ms - theirs, release_tolerance_ms(theirs)))
    return out


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
