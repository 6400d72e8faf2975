"""What the Gap page draws: both inks on the same axes."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.balance.lanes import measured_bars
from ersatz.core.gap import Gap
from ersatz.core.gap.plans import counterparts
from ersatz.core.gap.progress import MOST_OFF, FigureCourse, courses, matched
from ersatz.core.survey.document import Survey
from ersatz.core.target import Target
from ersatz.core.target.document import Corridor
from ersatz.studio.gap.words import figure_text
from ersatz.studio.models import Remake, Revision
from ersatz.studio.shared.courses import measured_states
from ersatz.studio.shared.edit import Steps, shown_on, steps
from ersatz.studio.shared.frame import loudness_course
from ersatz.studio.shared.spans import spectrum_corridor


@dataclass(frozen=True)
class GapSide:
    """One of the two tracks: sections as [label, first bar, bars], spectrum of the section in question."""

    bars: int
    sections: list[tuple[str, int, int]]
    level_db: tuple[float, ...]
    pump_db: tuple[float, ...]
    pump_depth_db: float
    lufs: float
    short_term: list[tuple[float, float]]


@dataclass(frozen=True)
class GapCorridors:
    """What is usual, at each point of the curves."""

    spectrum: Corridor
    pump: Corridor
    loudness: Corridor


@dataclass(frozen=True)
class GapDrawing:
    """`section`: index of the reference's."""

    hz: tuple[float, ...]
    difference_db: tuple[float, ...]
    section: int
    beat_ms: float
    reference: GapSide
    remake: GapSide
    corridors: GapCorridors | None


@dataclass(frozen=True)
class GapState(Steps):
    """`names` of the parts by id."""

    bars: int
    names: dict[str, str]


@dataclass(frozen=True)
class GapSection:
    """The song's section that the page looks at: its place in the plan, and the bars that stand for it."""

    place: int
    first: int
    last: int


@dataclass(frozen=True)
class GapFixed:
    """`own`: None where the song has no such section."""

    own: GapSection | None


@dataclass(frozen=True)
class MeasuredSong:
    """A song of the remake that was measured: the sentence that led to it or the name that it is kept under, and how many of its
    figures are matched."""

    name: str
    is_kept: bool
    is_current: bool
    matched: int


@dataclass(frozen=True)
class ProgressRow:
    """A figure over the measured songs: tolerances that it is off, None where that isn't told; its first and last value."""

    name: str
    unit: str
    off: list[float | None]
    first: str
    last: str


@dataclass(frozen=True)
class GapProgress:
    """The measured songs, the oldest first, of `figures` figures each; more than `most_off` tolerances are kept as so many."""

    songs: list[MeasuredSong]
    figures: int
    most_off: float
    rows: list[ProgressRow]


@shown_on("gap")
def gap_state(remake: Remake, revision: Revision, part: str = "") -> GapState:
    """All that Gap shows of a revision beside its figures."""
    return GapState(**vars(steps(remake, revision)), bars=revision.song.bars, names={p.id: p.name for p in revision.song.parts})


def own_place(revision: Revision, reference: Survey, section: int) -> int | None:
    """The place of the song's section that answers to the reference's, None where there is none."""
    song = revision.song
    theirs = counterparts(song, reference)
    return next((k for k, s in enumerate(song.sections) if theirs.get(s.id) == section), None)


def gap_fixed(revision: Revision, place: int | None) -> GapFixed:
    """The section at `place` of the plan with the bars that are measured of it; None for the whole song."""
    return GapFixed(None if place is None else GapSection(place, *measured_bars(revision.song, place)))


def gap_progress(remake: Remake, revision: Revision) -> GapProgress:
    """How many figures matched in each song that was measured, and the course of each figure."""
    found = measured_states(remake)
    names = dict(remake.revisions.values_list("sha", "sentence"))
    kept = dict(remake.milestones.values_list("sha", "name"))
    songs = [
        MeasuredSong(
            kept.get(m.sha) or names.get(m.sha, "an earlier state"), m.sha in kept, m.sha == revision.sha, matched(m.figures)
        )
        for m in found
    ]
    rows = [_row(c) for c in courses([m.figures for m in found])]
    return GapProgress(songs, max((len(m.figures) for m in found), default=0), MOST_OFF, rows)


def _row(course: FigureCourse) -> ProgressRow:
    first, last = (figure_text(s.remake if s.remake is not None else s.difference, s.unit) for s in course.ends or ())
    return ProgressRow(course.name, course.unit, [s.off if s is not None else None for s in course.states], first, last)


def gap_drawing(reference: Survey, mine: Survey, found: Gap, target: Target | None) -> GapDrawing:
    """Both spectra, the difference and the pumps, as they are drawn."""
    section = found.reference_section
    return GapDrawing(
        hz=found.spectrum_hz,
        difference_db=found.spectrum_difference_db,
        section=section,
        beat_ms=round(reference.tempo.grid.beat_s * 1000, 1),
        reference=_side(reference, section),
        remake=_side(mine, found.remake_section),
        corridors=_corridors(target, reference, section) if target else None,
    )


def _side(survey: Survey, index: int) -> GapSide:
    return GapSide(
        bars=survey.bars,
        sections=[(s.label, s.start_bar, s.bars) for s in survey.sections],
        level_db=survey.spectrum.per_section[index].level_db,
        pump_db=survey.pump.beat_db,
        pump_depth_db=survey.pump.depth_db,
        lufs=survey.loudness.integrated_lufs,
        short_term=loudness_course(survey),
    )


def _corridors(target: Target, typical: Survey, section: int) -> GapCorridors:
    spread = target.spread
    return GapCorridors(spectrum_corridor(target, typical, section), spread.pump_curve, spread.loudness_course)
