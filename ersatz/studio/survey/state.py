"""What the Survey page draws: the survey's own curves, and the bass as scale degrees."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.pitch import degree_name, note_name
from ersatz.core.survey.document import ROLES, Change, Harmony, Survey, Tempo
from ersatz.core.survey.presence import role_confidence
from ersatz.studio.models import Reference
from ersatz.studio.shared.drawings import TrackDrawing, track_drawing


@dataclass(frozen=True)
class SurveyDrawing(TrackDrawing):
    """Of the document what is drawn. `role_confidence`: of every section, by role; `bass` as [start beat, beats, MIDI, degree,
    note, slide in semitones, confidence]."""

    tempo: Tempo
    role_confidence: list[dict[str, float]]
    harmony: Harmony
    changes: tuple[Change, ...]
    bass: list[tuple[float, float, int, str, str, float, float]]


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
    """A survey as it is drawn."""
    key = survey.key.pitch_key
    return SurveyDrawing(
        **vars(track_drawing(survey)),
        tempo=survey.tempo,
        role_confidence=[
            {role: role_confidence(survey.presence.within(role, s.start_bar, s.end_bar)) for role in ROLES} for s in survey.sections
        ],
        harmony=survey.harmony,
        changes=survey.changes,
        bass=[
            (n.start_beat, n.beats, n.midi, degree_name(n.midi, key), note_name(n.midi, key), n.slide_semitones, n.confidence)
            for n in survey.bass.notes
        ],
    )


def survey_corrected(reference: Reference) -> SurveyCorrected:
    """What was measured beside the corrected sections, and whether sections are corrected."""
    corrections = reference.corrections
    beside = None
    if corrections and reference.measured is not None and reference.survey is not None:
        grid = reference.survey.tempo.grid
        beside = MeasuredBeside([(s.label, round(grid.bar_at(s.start_s), 2)) for s in reference.measured.sections])
    return SurveyCorrected(beside, corrections.sections is not None)
