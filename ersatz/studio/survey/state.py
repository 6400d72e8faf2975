"""What the Survey page draws: the survey's own curves, and the bass as scale degrees."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.pitch import degree_name, note_name
from ersatz.core.survey.document import (
    ROLES,
    Change,
    Drums,
    Energy,
    Event,
    Harmony,
    Key,
    Presence,
    Pump,
    Section,
    Spectrum,
    Stereo,
    Survey,
    Tempo,
)
from ersatz.core.survey.presence import role_confidence
from ersatz.studio.models import Reference


@dataclass(frozen=True)
class SurveyDrawing:
    """Of the document what is drawn. `role_confidence`: of every section, by role; `bass` as [start beat, beats, MIDI, degree,
    note, slide in semitones, confidence]; `main`: index of the section that matters most."""

    tempo: Tempo
    key: Key
    sections: tuple[Section, ...]
    presence: Presence
    role_confidence: list[dict[str, float]]
    energy: Energy
    drums: Drums
    pump: Pump
    spectrum: Spectrum
    stereo: Stereo
    events: tuple[Event, ...]
    harmony: Harmony
    changes: tuple[Change, ...]
    bass: list[tuple[float, float, int, str, str, float, float]]
    pump_beat_db: tuple[float, ...]
    main: int
    bars: int


@dataclass(frozen=True)
class MeasuredBeside:
    """Where the measurement has its sections on the corrected grid: [label, bar]."""

    sections: list[tuple[str, float]]


@dataclass(frozen=True)
class SurveyCorrected:
    """`measured`: once the producer has corrected anything; `corrected`: the sections were."""

    measured: MeasuredBeside | None
    corrected: bool


@dataclass(frozen=True)
class TwoSurveys:
    a: SurveyDrawing
    b: SurveyDrawing


def survey_drawing(survey: Survey) -> SurveyDrawing:
    key = survey.key.pitch_key
    return SurveyDrawing(
        tempo=survey.tempo,
        key=survey.key,
        sections=survey.sections,
        presence=survey.presence,
        role_confidence=[
            {role: role_confidence(survey.presence.within(role, s.start_bar, s.end_bar)) for role in ROLES} for s in survey.sections
        ],
        energy=survey.energy,
        drums=survey.drums,
        pump=survey.pump,
        spectrum=survey.spectrum,
        stereo=survey.stereo,
        events=survey.events,
        harmony=survey.harmony,
        changes=survey.changes,
        bass=[
            (n.start_beat, n.beats, n.midi, degree_name(n.midi, key), note_name(n.midi, key), n.slide_semitones, n.confidence)
            for n in survey.bass.notes
        ],
        pump_beat_db=survey.pump.beat_db,
        main=survey.main_section(),
        bars=survey.bars,
    )


def survey_corrected(reference: Reference) -> SurveyCorrected:
    corrections = reference.corrections
    beside = None
    if corrections and reference.measured is not None and reference.survey is not None:
        grid = reference.survey.tempo.grid
        beside = MeasuredBeside([(s.label, round(grid.bar_at(s.start_s), 2)) for s in reference.measured.sections])
    return SurveyCorrected(beside, corrections.sections is not None)
