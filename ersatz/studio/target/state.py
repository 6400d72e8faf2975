"""What the page of a target draws: the typical track's own curves, each with its corridor."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.survey.document import Survey
from ersatz.core.target.document import Corridor, KeyShare, Member, Span, Target
from ersatz.studio.shared.drawings import TrackDrawing, track_drawing
from ersatz.studio.shared.spans import spectrum_corridor


@dataclass(frozen=True)
class TargetTempo:
    bpm: float
    beats: int


@dataclass(frozen=True)
class TargetSpread:
    """What is usual; `spectrum` by section, at the level of the typical one's."""

    bpm: Span
    keys: tuple[KeyShare, ...]
    section_bars: tuple[Span, ...]
    spectrum: list[Corridor]
    pump_curve: Corridor
    width: tuple[Span, ...]
    loudness_course: Corridor


@dataclass(frozen=True)
class TargetDrawing(TrackDrawing):
    """`lufs`: short-term loudness as [seconds, LUFS]."""

    tempo: TargetTempo
    lufs: list[tuple[float, float]]
    members: tuple[Member, ...]
    spread: TargetSpread


def target_drawing(found: Target, survey: Survey) -> TargetDrawing:
    """A target as it is drawn: its typical track with the corridors around it."""
    spread = found.spread
    return TargetDrawing(
        **vars(track_drawing(survey)),
        tempo=TargetTempo(survey.tempo.bpm, survey.tempo.beats_per_bar),
        lufs=[(s.t_s, s.lufs) for s in survey.loudness.short_term],
        members=found.members,
        spread=TargetSpread(
            bpm=spread.bpm,
            keys=spread.keys,
            section_bars=spread.section_bars,
            spectrum=[spectrum_corridor(found, survey, i) for i in range(len(survey.sections))],
            pump_curve=spread.pump_curve,
            width=spread.width,
            loudness_course=spread.loudness_course,
        ),
    )
