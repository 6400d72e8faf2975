"""Filters and sends that move over the breakdowns and builds of a draft: as far as the reference's own brightness and level do.

Where the survey hears a filter sweep (survey.events), a low-pass on the parts that are held or sung there follows its upper edge.
Where a section ends at an edge, as a filter at rest leaves it, it is cut there: below in all but drops, above in breakdowns and
builds. Where the level rises steadily over a section, more and more of it goes to the reverb; where it differs from phrase to
phrase of a breakdown, faders go along. Everything snaps back at the section's end, and elsewhere the filters aren't there.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ersatz.core import bands
from ersatz.core.song.document import PHRASE_BARS, REVERB_RETURN, Song, SongSection, with_strip
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import CLOSED_DB, FADER, SENDS, Automation, AutomationPoint, Effect, identified
from ersatz.core.survey.document import Section, Survey
from ersatz.core.target.document import heard
from ersatz.core.transitions.spec import mixed_in

MOVING_LABELS, MOVING_ROLES = ("breakdown", "build"), ("chords", "lead", "noise")
SHORTEST_BARS = 4
#: Our sounds have an upper edge of their own, so the cutoff lies above the reference's.
OVER_EDGE = 2.0
#: An edge: a step of so many dB between two third octaves, with nothing nearer beyond; what is quieter still isn't heard. Where one
#: may lie, Hz: lossy files end above.
EDGE_DB, HEARD_DB = 12.0, 45.0
LOW_EDGE_HZ, HIGH_EDGE_HZ = (80.0, 500.0), (2000.0, 10_000.0)
LOWEST_HZ, HIGHEST_HZ = 200.0, 18_000.0
#: What counts as a level that rises, dB, if it strays from a straight line by less than this share of it.
RISES_DB, STRAY = 3.0, 0.1
#: How much higher the send is at the section's end, dB.
MORE_REVERB_DB, WETTEST_DB = 8.0, -6.0
RESONANCE = 0.12
POINTS = 9
#: Phrases differ from so many dB on; no fader goes further down.
RIDES_DB, MOST_UNDER_DB = 3.0, 9.0


@dataclass(frozen=True)
class _Sweep:
    """Ticks between which the cutoff goes from one frequency to another."""

    section: str
    start: int
    end: int
    from_hz: float
    to_hz: float


def moved(song: Song, survey: Survey) -> Song:
    """The song, on the reference's plan, with curves on what is held, sung and blown there."""
    ticks = song.grid.ticks_of_bar
    closed, cut, swells, rides = [], [], [], []
    for (bar, section), measured, spectrum in zip(song.placed(), survey.sections, survey.spectrum.per_section):
        start, end = ticks(bar), ticks(bar + section.bars)
        low_hz, high_hz = edges_hz(spectrum.level_db)
        course = survey.energy.full_db[measured.start_bar - 1 : measured.end_bar - 1]
        if low_hz and section.label != "drop":
            cut.append(_Sweep(section.id, start, end, low_hz, low_hz))
        if section.label == "breakdown":
            for k, level in enumerate(_phrases_db(course)):
                first, last = (ticks(bar + PHRASE_BARS * phrase) for phrase in (k, k + 1))
                rides.append((section.id, first, min(end, last), level))
        if section.label in MOVING_LABELS and section.bars >= SHORTEST_BARS:
            at_rest = [_Sweep(section.id, start, end, high_hz, high_hz)] if high_hz else []
            closed += _sweeps(song, bar, section, measured, survey) or at_rest
            if _rises(course):
                swells.append((section.id, start, end))
    for part in song.parts:
        if part.role in MOVING_ROLES:
            # What transitions play has no cells.
            on = {c.section for c in part.cells if c.on} if part.cells else {s.id for s in song.sections}
            part = _filtered(part, "low-pass 24", [s for s in closed if s.section in on])
            part = _filtered(part, "high-pass 24", [s for s in cut if s.section in on])
            if part.cells:
                part = _sent(part, [(start, end) for section, start, end in swells if section in on])
                part = _ridden(part, [(start, end, level) for section, start, end, level in rides if section in on])
            song = with_strip(song, part)
    return song


def edges_hz(level_db: Sequence[float]) -> tuple[float, float]:
    """Where a section, given by its levels per third octave, ends below and above as filters leave it, Hz; 0 where it doesn't."""
    level = heard(level_db, HEARD_DB)
    # Between a band and the next.
    hz = np.array(bands.NOMINAL_HZ[:-1]) * 2 ** (1 / 6)
    step = np.diff(level)
    low = [k for k in _within(hz, LOW_EDGE_HZ) if step[k] >= EDGE_DB and level[: k + 1].max() <= level[k + 1] - EDGE_DB]
    high = [k for k in _within(hz, HIGH_EDGE_HZ) if step[k] <= -EDGE_DB and level[k + 1 :].max() <= level[k] - EDGE_DB]
    return (float(hz[low[-1]]) if low else 0.0), (float(hz[high[0]]) if high else 0.0)


def _within(hz: np.ndarray, span: tuple[float, float]) -> list[int]:
    return [int(k) for k in np.flatnonzero((hz >= span[0]) & (hz <= span[1]))]


def _sweeps(song: Song, bar: int, section: SongSection, measured: Section, survey: Survey) -> list[_Sweep]:
    out = []
    for event in survey.events:
        inside = measured.start_bar <= event.start_bar < measured.end_bar
        if event.kind == "sweep" and event.edge_hz and inside:
            start = song.grid.ticks_of_bar(bar) + round((event.start_bar - measured.start_bar) * song.grid.ticks_per_bar)
            end = min(start + round(event.beats * song.grid.ticks_per_bar / 4), song.grid.ticks_of_bar(bar + section.bars))
            low, high = (float(np.clip(OVER_EDGE * hz, LOWEST_HZ, HIGHEST_HZ)) for hz in event.edge_hz)
            out.append(_Sweep(section.id, start, end, low, high))
    return out


def _phrases_db(values: Sequence[float]) -> list[float]:
    """How far each phrase of a section lies under its loudest one, dB, given its bars; empty where they don't differ."""
    power = 10 ** (np.asarray(values) / 10)
    mean = np.array([power[k : k + PHRASE_BARS].mean() for k in range(0, len(power), PHRASE_BARS)])
    under = 10 * np.log10(np.maximum(mean, 1e-12) / max(float(mean.max(initial=0.0)), 1e-12))
    return [max(float(x), -MOST_UNDER_DB) for x in under] if len(under) and under.min() <= -RIDES_DB else []


def _rises(values: Sequence[float]) -> bool:
    """Steadily: what enters at one bar is no rise."""
    if len(values) < SHORTEST_BARS:
        return False
    at = np.arange(len(values))
    slope, level = np.polyfit(at, values, 1)
    by = float(slope) * (len(values) - 1)
    return by >= RISES_DB and float(np.abs(np.asarray(values) - slope * at - level).mean()) <= STRAY * by


def _filtered(part: Part, kind: str, sweeps: list[_Sweep]) -> Part:
    if not sweeps:
        return part
    chain = identified((*part.chain, Effect("sweep", {"resonance": RESONANCE}, {"kind": kind})))
    device = chain[-1].id
    cutoff = []
    for s in sweeps:
        for k in range(POINTS):
            u = k / (POINTS - 1)
            place = round(s.start + u * (s.end - 1 - s.start))
            cutoff.append(AutomationPoint(place, round(s.from_hz * (s.to_hz / s.from_hz) ** u, 1)))
    curves = Automation(device, "blend", mixed_in((s.start, s.end) for s in sweeps)), Automation(device, "cutoff_hz", tuple(cutoff))
    return replace(part, chain=chain, automation=(*part.automation, *curves))


def _sent(part: Part, swells: list[tuple[int, int]]) -> Part:
    base = part.send_db(REVERB_RETURN)
    if not swells or base <= CLOSED_DB:
        return part
    top = min(WETTEST_DB, base + MORE_REVERB_DB)
    points = [AutomationPoint(0, base)]
    for start, end in swells:
        points += [AutomationPoint(max(1, start), base), AutomationPoint(end - 1, top), AutomationPoint(end, base)]
    return replace(part, automation=(*part.automation, Automation(SENDS, REVERB_RETURN, tuple(points))))


def _ridden(part: Part, phrases: list[tuple[int, int, float]]) -> Part:
    """With a fader that stands so many dB under its place from one tick to another, and elsewhere at it."""
    if not phrases:
        return part
    stands = {0: part.gain_db}
    for start, end, level in phrases:
        under = round(part.gain_db + level, 2)
        # A phrase that follows at once takes the place of the way back.
        stands |= {start: under, end - 1: under, end: part.gain_db}
    points = tuple(AutomationPoint(tick, db) for tick, db in stands.items())
    return replace(part, automation=(*part.automation, Automation(FADER, "gain_db", points)))
