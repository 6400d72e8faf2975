"""What the producer says over a measurement, made and checked.

Each function returns new corrections and raises ValueError with a sentence for the producer. A tempo or bar line that is
changed moves the bars that corrected sections were counted in, so those are dropped with it.
"""

from __future__ import annotations

from dataclasses import replace

from ersatz.core.grid import MAX_BEATS, MAX_BPM, MIN_BEATS, MIN_BPM, BarGrid
from ersatz.core.survey.document import LABELS, Corrections, PumpCorrection, SectionCorrection, Survey, Tempo

#: How far tapping may be off, as a share of the tempo, for a measured one to be meant.
TAP_TOLERANCE = 0.035
MIN_SECTION_BARS = 1
#: Ratios at which the same pulse is tapped.
TAP_RATIOS = (1.0, 0.5, 2.0, 1.5, 2 / 3, 4 / 3, 0.75, 3.0, 1 / 3)


def with_tempo(old: Corrections, bpm: float) -> Corrections:
    """Another tempo; bar 1 and sections are found anew."""
    return replace(old, bpm=bpm, first_downbeat_s=None, sections=None)


def with_tapped_tempo(old: Corrections, tapped_bpm: float, measured: Tempo) -> Corrections:
    """The measured tempo that was most likely meant by a tapped one: fingers are off by a beat per minute, the measurement
    isn't.
    """
    return with_tempo(old, meant_tempo(tapped_bpm, measured))


def meant_tempo(tapped_bpm: float, measured: Tempo) -> float:
    """The tempo that a tapped one stands for: the nearest of the measured one, its ratios and alternatives within TAP_TOLERANCE,
    else the tapped one itself, BPM."""
    candidates = [measured.bpm * ratio for ratio in TAP_RATIOS]
    candidates += [a.bpm for a in measured.alternatives]
    candidates = [bpm for bpm in candidates if MIN_BPM <= bpm <= MAX_BPM] or [tapped_bpm]
    nearest = min(candidates, key=lambda bpm: abs(bpm / tapped_bpm - 1))
    return round(nearest, 4) if abs(nearest / tapped_bpm - 1) <= TAP_TOLERANCE else round(tapped_bpm, 2)


def with_bar_one_moved(old: Corrections, survey: Survey, beats: int = 0, ms: float = 0.0) -> Corrections:
    """Bar 1 so many beats and milliseconds later than `old` has put it; the tempo is held, sections are found anew."""
    grid = grid_of(survey, old)
    moved = (grid.first_downbeat_s + beats * grid.beat_s + ms / 1000) % grid.bar_s
    return replace(old, bpm=grid.bpm, first_downbeat_s=round(moved, 5), sections=None)


def with_bar_one_at(old: Corrections, survey: Survey, seconds: float) -> Corrections:
    """Bar 1 so that a bar begins at `seconds`."""
    grid = grid_of(survey, old)
    return replace(old, bpm=grid.bpm, first_downbeat_s=round(seconds % grid.bar_s, 5), sections=None)


def with_metre(old: Corrections, survey: Survey, beats_per_bar: int) -> Corrections:
    """Another number of beats per bar. Raises ValueError outside of MIN_BEATS..MAX_BEATS."""
    if not MIN_BEATS <= beats_per_bar <= MAX_BEATS:
        raise ValueError(f"A bar has {MIN_BEATS} to {MAX_BEATS} beats.")
    return replace(old, bpm=grid_of(survey, old).bpm, first_downbeat_s=None, sections=None, beats_per_bar=beats_per_bar)


def with_key(old: Corrections, tonic: str, mode: str) -> Corrections:
    """Another key."""
    return replace(old, tonic=tonic, mode=mode)


def with_pump(old: Corrections, depth_db: float, rate: str, release_ms: float) -> Corrections:
    """Depth in dB, rate and release in ms as the producer hears them."""
    return replace(old, pump=PumpCorrection(depth_db, rate, release_ms))


def with_sections(old: Corrections, sections: tuple[SectionCorrection, ...], bars: int) -> Corrections:
    """The track's sections, which must follow each other without a hole from bar 1 to the last."""
    if not sections:
        raise ValueError("A track has at least one section.")
    expected = 1
    for section in sections:
        if section.label not in LABELS:
            raise ValueError(f"“{section.label}” is no kind of section.")
        if section.bars < MIN_SECTION_BARS:
            raise ValueError("A section has at least one bar.")
        if section.start_bar != expected:
            raise ValueError(f"Sections follow each other: bar {expected} belongs to none or to two.")
        expected += section.bars
    if expected != bars + 1:
        raise ValueError(f"The sections end at bar {expected - 1}, the track at bar {bars}.")
    return replace(old, sections=sections)


def grid_of(survey: Survey, corrections: Corrections) -> BarGrid:
    """The grid that `corrections` put over a survey, known before anything is measured on it. Where the tempo alone is set, bar 1
    stays where it was until the measurement finds it.
    """
    tempo = survey.tempo
    bpm = corrections.bpm or tempo.bpm
    beats = corrections.beats_per_bar or tempo.beats_per_bar
    first = tempo.first_downbeat_s if corrections.first_downbeat_s is None else corrections.first_downbeat_s
    return BarGrid(bpm, first % (60 / bpm * beats), beats)


def sections_of(survey: Survey) -> tuple[SectionCorrection, ...]:
    """The sections as they stand, as a correction that holds them."""
    return tuple(SectionCorrection(s.label, s.start_bar, s.bars) for s in survey.sections)


def sentence(old: Corrections, new: Corrections) -> str:
    """What was done last, for the button that takes it back."""
    if new.sections != old.sections and new.sections is not None:
        return "sections"
    if (new.tonic, new.mode) != (old.tonic, old.mode):
        return "key"
    if new.pump != old.pump:
        return "pump"
    if new.beats_per_bar != old.beats_per_bar:
        return "beats per bar"
    if new.first_downbeat_s != old.first_downbeat_s:
        return "bar 1"
    return "tempo"
