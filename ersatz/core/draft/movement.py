"""What moves over the breakdowns and builds of a draft: as far as the reference's own brightness and level do.

Where the survey hears a filter sweep (survey.events), a low-pass on the parts that are held or sung there follows its upper edge.
Where the level rises steadily over a section, more and more of them goes to the reverb. Everything snaps back at the section's
end, and elsewhere the low-pass isn't there at all.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from ersatz.core.song.document import REVERB_RETURN, Song, SongSection, with_strip
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import CLOSED_DB, SENDS, Automation, AutomationPoint, Effect, identified
from ersatz.core.survey.document import Section, Survey
from ersatz.core.transitions.spec import mixed_in

MOVING_LABELS, MOVING_ROLES = ("breakdown", "build"), ("chords", "lead")
SHORTEST_BARS = 4
#: Our sounds have an upper edge of their own, so the cutoff lies above the reference's.
OVER_EDGE = 1.5
LOWEST_HZ, HIGHEST_HZ = 200.0, 18_000.0
#: What counts as a level that rises, dB, if it strays from a straight line by less than this share of it.
RISES_DB, STRAY = 3.0, 0.1
#: How much higher the send is at the section's end, dB.
MORE_REVERB_DB, WETTEST_DB = 8.0, -6.0
RESONANCE = 0.12
POINTS = 9


@dataclass(frozen=True)
class _Sweep:
    """Ticks between which the cutoff goes from one frequency to another."""

    section: str
    start: int
    end: int
    from_hz: float
    to_hz: float


def moved(song: Song, survey: Survey) -> Song:
    """The song, on the reference's plan, with curves on its held and sung parts."""
    ticks = song.grid.ticks_of_bar
    sweeps, swells = [], []
    for (bar, section), measured in zip(song.placed(), survey.sections):
        if section.label in MOVING_LABELS and section.bars >= SHORTEST_BARS:
            sweeps += _sweeps(song, bar, section, measured, survey)
            if _rises(survey.energy.full_db[measured.start_bar - 1 : measured.end_bar - 1]):
                swells.append((section.id, ticks(bar), ticks(bar + section.bars)))
    for part in song.parts:
        if part.role in MOVING_ROLES and part.patterns:
            on = {c.section for c in part.cells if c.on}
            part = _filtered(part, [s for s in sweeps if s.section in on])
            song = with_strip(song, _sent(part, [(start, end) for section, start, end in swells if section in on]))
    return song


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


def _rises(values: Sequence[float]) -> bool:
    """Steadily: what enters at one bar is no rise."""
    if len(values) < SHORTEST_BARS:
        return False
    at = np.arange(len(values))
    slope, level = np.polyfit(at, values, 1)
    by = float(slope) * (len(values) - 1)
    return by >= RISES_DB and float(np.abs(np.asarray(values) - slope * at - level).mean()) <= STRAY * by


def _filtered(part: Part, sweeps: list[_Sweep]) -> Part:
    if not sweeps:
        return part
    chain = identified((*part.chain, Effect("sweep", {"resonance": RESONANCE}, {"kind": "low-pass 24"})))
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
