"""What a reference does: `survey_file` answers every question of survey format 1 from one decode and one transform."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import numpy as np

from ersatz.core import loudness as bs1770
from ersatz.core.audio import Audio, file_sha256, read_audio
from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.changes import change_strength, find_changes, leading
from ersatz.core.survey.document import (
    ROLES,
    Corrections,
    Key,
    KeyGuess,
    Loudness,
    Presence,
    Section,
    ShortTerm,
    Source,
    Survey,
    Tempo,
)
from ersatz.core.survey.drums import describe_drums
from ersatz.core.survey.events import find_events
from ersatz.core.survey.harmony import measure_harmony
from ersatz.core.survey.pump import corrected_pump, measure_pump, no_pump
from ersatz.core.survey.sections import Span, find_sections
from ersatz.core.survey.spectrum import measure_spectrum, measure_stereo
from ersatz.core.survey.track import Ground, Track
from ersatz.core.threads import one_thread_of_algebra

Progress = Callable[[str, float], None]
NO_CORRECTIONS = Corrections()


def survey_file(
    path: str | Path,
    corrections: Corrections = NO_CORRECTIONS,
    progress: Progress = lambda phase, fraction: None,
    name: str | None = None,
) -> Survey:
    """Decode and survey a file; `name` is what the producer calls it. Raises UnusableAudio."""
    return survey_track(read_track(path, progress, name), corrections, progress)


def read_track(path: str | Path, progress: Progress = lambda phase, fraction: None, name: str | None = None) -> Track:
    """A decoded and transformed file, for surveying once or several times with other corrections. Raises UnusableAudio."""
    path = Path(path)
    name = name or path.name
    progress("reading", 0.0)
    with ThreadPoolExecutor(1) as pool:
        digest = pool.submit(file_sha256, path)
        audio = read_audio(path, name)
        source = Source(name, round(audio.duration_s, 3), audio.rate_hz, audio.channels, digest.result())
    progress("transforming", 0.1)
    return Track(audio, source)


def survey_audio(
    audio: Audio,
    source: Source,
    corrections: Corrections = NO_CORRECTIONS,
    progress: Progress = lambda phase, fraction: None,
    asks_pump: bool = True,
) -> Survey:
    """Survey decoded audio; `asks_pump` as of `survey_track`."""
    progress("transforming", 0.1)
    return survey_track(Track(audio, source), corrections, progress, asks_pump)


@one_thread_of_algebra
def survey_track(
    track: Track, corrections: Corrections = NO_CORRECTIONS, progress: Progress = lambda phase, fraction: None,
    asks_pump: bool = True,
) -> Survey:  # fmt: skip
    """Corrections replace the measured grid, key or sections before what depends on them is measured; the document then
    holds them, so that measured and corrected can be told apart. Where the pump is known by other means it isn't asked for, and
    can't be told."""
    shared = track.shared
    progress("tempo and bar lines", 0.35)
    tempo = _tempo(track, corrections)
    progress("drums, bass and parts", 0.5)
    ground = track.ground(tempo.grid)
    bars, hits, presence, bass = ground.bars, ground.hits, ground.presence, ground.bass
    tempo = replace(tempo, swing_percent=ground.swing_percent, swing_confidence=ground.swing_confidence)
    key = _key(ground.key, corrections)
    harmony = measure_harmony(shared, bars, key.pitch_key, presence.chords, bass.notes_per_bar)
    progress("sections", 0.7)
    spans = _spans(track, ground, corrections)
    bar_spans = [(s.start, s.bars) for s in spans]
    drops = [i for i, s in enumerate(spans) if s.label == "drop"]
    progress("pump", 0.75)
    if not asks_pump:
        pump = no_pump(len(spans), told=False)
    # Without a beat there is nothing that a ducker could follow.
    elif tempo.is_steady:
        pump = measure_pump(track.levels(bars), bars, hits, presence, bar_spans, drops)
    else:
        pump = no_pump(len(spans))
    if corrections.pump is not None:
        kicks = tuple(float(np.mean(presence.kick[start : start + n])) for start, n in bar_spans)
        pump = corrected_pump(pump, corrections.pump, tempo.grid.beat_s, kicks)
    progress("loudness and balance", 0.88)
    steps, measured_loudness = track.loudness
    sections = tuple(_section(s, bars, track.duration_s, presence, bs1770.integrated_lufs(_cut(steps, bars, s))) for s in spans)
    spans_s = [(s.start_s, s.end_s) for s in sections]
    full = drops or [max(range(len(sections)), key=lambda i: sections[i].loudness_lufs)]
    survey = Survey(
        source=track.source,
        tempo=tempo,
        key=key,
        sections=sections,
        presence=presence,
        energy=ground.energy,
        drums=describe_drums(shared, bars, hits, bar_spans, ground.kick),
        bass=bass,
        harmony=harmony,
        pump=pump,
        spectrum=measure_spectrum(shared, spans_s, full, track.resonances),
        stereo=measure_stereo(shared, spans_s, tempo.grid.beat_s),
        loudness=_loudness(measured_loudness),
        events=find_events(shared, bars, spans, hits, ground.noise_db),
        changes=find_changes(ground.levels, presence),
        corrections=corrections,
    )
    progress("done", 1.0)
    return survey


def _tempo(track: Track, corrections: Corrections) -> Tempo:
    beat = track.beat(corrections.bpm, corrections.beats_per_bar)
    confidence = beat.confidence * (0.75 + 0.25 * beat.certain)
    if corrections.bpm is not None:
        confidence = 1.0
    first = beat.first_downbeat_s
    if corrections.bpm is not None and corrections.first_downbeat_s is None:
        # Half or double time counts the same bars differently: bar 1 stays where it was.
        measured = track.beat()
        same_bars = beat.beats_per_bar == measured.beats_per_bar
        if same_bars and min(abs(beat.bpm / measured.bpm - ratio) for ratio in (0.5, 1.0, 2.0)) < 1e-3:
            first = measured.first_downbeat_s % (60 / beat.bpm * beat.beats_per_bar)
    if corrections.first_downbeat_s is not None:
        first = corrections.first_downbeat_s % (60 / beat.bpm * beat.beats_per_bar)
    return Tempo(
        bpm=round(beat.bpm, 4),
        confidence=round(confidence, 3),
        alternatives=beat.alternatives,
        beats_per_bar=beat.beats_per_bar,
        first_downbeat_s=round(first, 5),
        swing_percent=50.0,
        drift_percent=beat.drift_percent,
        evidence=beat.evidence,
        changes=beat.changes,
    )


def _key(measured: Key, corrections: Corrections) -> Key:
    if corrections.tonic is None or corrections.mode is None:
        return measured
    # What was measured becomes the first alternative.
    guesses = (KeyGuess(measured.tonic, measured.mode, measured.confidence), *measured.alternatives)
    others = tuple(g for g in guesses if (g.tonic, g.mode) != (corrections.tonic, corrections.mode))
    return replace(measured, tonic=corrections.tonic, mode=corrections.mode, confidence=1.0, alternatives=others)


def _spans(track: Track, ground: Ground, corrections: Corrections) -> list[Span]:
    if corrections.sections is None:
        changed = leading(change_strength(ground.levels))
        return find_sections(track.shared, ground.bars, ground.presence, ground.energy, ground.noise_db, changed)
    spans = [Span(c.start_bar - 1, c.bars, c.label, 1.0, None) for c in corrections.sections]
    spans = [s for s in spans if s.start < ground.bars.count]
    # Made for another length of the track, the last one reaches to its end.
    return [*spans[:-1], replace(spans[-1], bars=ground.bars.count - spans[-1].start)]


def _cut(steps: np.ndarray, bars: BarTable, span: Span) -> np.ndarray:
    first, last = bars.edges_s[span.start], bars.edges_s[min(span.start + span.bars, bars.count)]
    return steps[int(first / bs1770.STEP_S) : max(int(last / bs1770.STEP_S), int(first / bs1770.STEP_S) + 4)]


def _section(span: Span, bars: BarTable, duration_s: float, presence: Presence, lufs: float) -> Section:
    end = span.start + span.bars
    return Section(
        label=span.label,
        start_bar=span.start + 1,
        bars=span.bars,
        start_s=round(float(bars.edges_s[span.start]), 4),
        end_s=round(min(float(bars.edges_s[min(end, bars.count)]), duration_s), 4),
        confidence=span.confidence,
        like=span.like,
        loudness_lufs=round(lufs, 2),
        presence={role: round(float(np.mean(presence.of(role)[span.start : end])), 2) for role in ROLES},
    )


def _loudness(measured: bs1770.Loudness) -> Loudness:
    # Every half second is enough to draw.
    pairs = list(zip(measured.short_term_t_s, measured.short_term_lufs))[::5]
    return Loudness(
        integrated_lufs=round(measured.integrated_lufs, 2),
        range_lu=round(measured.range_lu, 2),
        true_peak_dbtp=round(measured.true_peak_dbtp, 2),
        max_short_term_lufs=round(measured.max_short_term_lufs, 2),
        max_momentary_lufs=round(measured.max_momentary_lufs, 2),
        short_term=tuple(ShortTerm(t, v) for t, v in pairs),
        plr_db=round(measured.plr_db, 2),
    )
