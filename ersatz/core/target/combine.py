"""What do several surveyed tracks have in common?

Method: the section plans are aligned (plans.py); each figure of the typical track is the median over the members, at each place
of the plan over the sections that stand there, curves point by point, presence and loudness along the sections' relative
length. Lengths are medians that a member really has. Notes and chords are nobody's, so a target has none; the key is a vote.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Sequence
from statistics import median, median_low

import numpy as np

from ersatz.core.errors import NoTempo, UnusableDocument
from ersatz.core.grid import BarGrid
from ersatz.core.pitch import hz_midi, note_name
from ersatz.core.survey.document import (
    ROLES,
    BandDepth,
    Bass,
    DrumPattern,
    Drums,
    Energy,
    Event,
    Harmony,
    Key,
    KeyGuess,
    KickPortrait,
    Loudness,
    Presence,
    Pump,
    Section,
    SectionPump,
    SectionSpectrum,
    ShortTerm,
    Source,
    Spectrum,
    StepTiming,
    Stereo,
    StereoBand,
    Survey,
    Tempo,
)
from ersatz.core.target.document import Corridor, KeyShare, Member, Span, Spread, Target, balanced, from_to, width_above_270_hz
from ersatz.core.target.plans import Alignment, typical_plan

FEWEST = 2
#: An unsure key still counts a little.
LEAST_VOTE = 0.05
#: Points per bar of the typical loudness course.
COURSE_PER_BAR = 4
#: An event belongs to a boundary that it lies this near to, bars.
AT_BOUNDARY_BARS = 0.6


def target_of_surveys(surveys: Sequence[Survey], titles: Sequence[str], title: str) -> Target:
    """Raises UnusableDocument for fewer than two surveys, NoTempo if one of them has no steady tempo, OtherMetre if one
    isn't in 4/4."""
    if len(surveys) < FEWEST:
        raise UnusableDocument("A target is made from two references or more.")
    for survey, name in zip(surveys, titles):
        if not survey.tempo.is_steady:
            raise NoTempo(f"“{name}” has no steady beat: set its tempo on its Survey first, then make the target.")
        survey.tempo.check_metre()
    medoid, kept, places = typical_plan([s.sections for s in surveys])
    rows = _places(surveys, places)
    model = surveys[medoid]
    bars = [median_low(s.sections[i].bars for s, i in row) for row in rows]
    tempo = _tempo(surveys)
    loud = median(s.loudness.integrated_lufs for s in surveys)
    courses = np.array([_loudness_course(survey, place, bars, loud) for survey, place in zip(surveys, places)])
    sections = _sections(rows, [model.sections[i].label for i in kept], bars, tempo.grid, loud)
    typical = Survey(
        source=_source(surveys, title, sum(bars), tempo.grid),
        tempo=tempo,
        key=_key(surveys),
        sections=sections,
        presence=_presence(surveys, places, bars),
        energy=_energy(surveys, places, bars),
        drums=Drums(_kick(surveys), _patterns(rows)),
        bass=Bass((None,) * sum(bars), ()),
        harmony=Harmony(()),
        pump=_pump(surveys, rows),
        spectrum=_spectrum(surveys, rows),
        stereo=_stereo(surveys),
        loudness=_loudness(surveys, np.nanmedian(courses, axis=0), tempo.grid),
        events=_events(rows, sections),
    )
    members = tuple(
        Member(name, s.source.sha256, s.tempo.bpm, str(s.key.pitch_key), s.loudness.integrated_lufs)
        for s, name in zip(surveys, titles)
    )
    return Target(title, members, None, typical, _spread(surveys, rows, typical, courses))


Row = list[tuple[Survey, int]]


def _places(surveys: Sequence[Survey], places: Sequence[Alignment]) -> list[Row]:
    """Per place of the typical plan the surveys that have a section there, each with its index."""
    return [[(s, i) for s, alignment in zip(surveys, places) if (i := alignment[p]) is not None] for p in range(len(places[0]))]


def _source(surveys: Sequence[Survey], title: str, bars: int, grid: BarGrid) -> Source:
    digest = hashlib.sha256("|".join(sorted(s.source.sha256 for s in surveys)).encode()).hexdigest()
    return Source(title, round(bars * grid.bar_s, 3), 44_100, 2, digest)


def _tempo(surveys: Sequence[Survey]) -> Tempo:
    tempos = [s.tempo for s in surveys]
    return Tempo(
        bpm=round(median(t.bpm for t in tempos), 3),
        confidence=round(median(t.confidence for t in tempos), 3),
        alternatives=(),
        beats_per_bar=Counter(t.beats_per_bar for t in tempos).most_common(1)[0][0],
        first_downbeat_s=0.0,
        swing_percent=round(median(t.swing_percent for t in tempos), 2),
        drift_percent=round(median(t.drift_percent for t in tempos), 4),
        swing_confidence=_sure([t.swing_confidence for t in tempos]),
    )


def key_shares(surveys: Sequence[Survey]) -> tuple[KeyShare, ...]:
    """Each key's share of the members' confidence, the largest first."""
    votes: dict[tuple[str, str], float] = {}
    for survey in surveys:
        key = (survey.key.tonic, survey.key.mode)
        votes[key] = votes.get(key, 0.0) + max(survey.key.confidence, LEAST_VOTE)
    whole = sum(votes.values())
    ranked = sorted(votes.items(), key=lambda vote: -vote[1])
    return tuple(KeyShare(tonic, mode, round(vote / whole, 3)) for (tonic, mode), vote in ranked)


def _key(surveys: Sequence[Survey]) -> Key:
    first, *others = key_shares(surveys)
    chroma = [np.roll(s.key.chroma, from_to(s.key.tonic, first.tonic)) for s in surveys if s.key.chroma]
    return Key(
        first.tonic,
        first.mode,
        first.share,
        tuple(KeyGuess(k.tonic, k.mode, k.share) for k in others),
        0.0,
        tuple(round(float(v), 4) for v in np.asarray(chroma).mean(axis=0)) if chroma else (),
    )


def _sections(rows: list[Row], labels: list, bars: list[int], grid: BarGrid, loud: float) -> tuple[Section, ...]:
    out: list[Section] = []
    start = 1
    for place, (row, label, length) in enumerate(zip(rows, labels, bars)):
        found = [s.sections[i] for s, i in row]
        earlier = [k for k in range(place) if labels[k] == label]
        out.append(
            Section(
                label=label,
                start_bar=start,
                bars=length,
                start_s=round(grid.seconds_of_bar(start), 3),
                end_s=round(grid.seconds_of_bar(start + length), 3),
                confidence=round(median(f.confidence for f in found), 3),
                like=earlier[0] if earlier else None,
                loudness_lufs=round(loud + median(s.sections[i].loudness_lufs - s.loudness.integrated_lufs for s, i in row), 2),
                presence={role: round(median(f.presence[role] for f in found), 3) for role in ROLES},
            )
        )
        start += length
    return tuple(out)


def _along(values: Sequence[float], section: Section, bars: int) -> np.ndarray:
    """Values per bar of a section, read at the same relative places of `bars` bars."""
    at = section.start_bar - 1 + ((np.arange(bars) + 0.5) * section.bars / bars).astype(int)
    return np.asarray(values, dtype=float)[np.minimum(at, len(values) - 1)]


def _per_bar(surveys: Sequence[Survey], places: Sequence[Alignment], bars: list[int], values: list) -> np.ndarray:
    """Median over the members of a row of values per bar, laid along the typical plan; shape (bars,)."""
    parts = []
    for place, length in enumerate(bars):
        here = [_along(v, s.sections[i], length) for s, a, v in zip(surveys, places, values) if (i := a[place]) is not None]
        parts.append(np.median(here, axis=0))
    return np.concatenate(parts)


def _presence(surveys: Sequence[Survey], places: Sequence[Alignment], bars: list[int]) -> Presence:
    rows = {role: _per_bar(surveys, places, bars, [s.presence.of(role) for s in surveys]) for role in ROLES}
    return Presence(tuple(range(1, sum(bars) + 1)), **{role: tuple(np.round(v, 3).tolist()) for role, v in rows.items()})


def _energy(surveys: Sequence[Survey], places: Sequence[Alignment], bars: list[int]) -> Energy:
    def row(name: str) -> tuple[float, ...]:
        return tuple(np.round(_per_bar(surveys, places, bars, [getattr(s.energy, name) for s in surveys]), 2).tolist())

    return Energy(row("low_db"), row("mid_db"), row("high_db"), row("full_db"))


def _loudness_course(survey: Survey, place: Alignment, bars: list[int], loud: float) -> np.ndarray:
    """Short-term loudness along the typical plan, COURSE_PER_BAR points a bar, moved to the integrated loudness `loud`; not a
    number where the track has no such section."""
    ends = np.array([s.t_s for s in survey.loudness.short_term])
    lufs = np.array([s.lufs for s in survey.loudness.short_term]) - survey.loudness.integrated_lufs + loud
    parts = []
    for index, length in zip(place, bars):
        points = length * COURSE_PER_BAR
        if index is None or not len(ends):
            parts.append(np.full(points, np.nan))
            continue
        section = survey.sections[index]
        share = (np.arange(points) + 0.5) / points
        # The 3 s window ends at its time: its middle says where the loudness is.
        parts.append(np.interp(section.start_s + share * (section.end_s - section.start_s), ends - 1.5, lufs))
    return np.concatenate(parts)


def _loudness(surveys: Sequence[Survey], course: np.ndarray, grid: BarGrid) -> Loudness:
    def mid(name: str) -> float:
        return round(median(getattr(s.loudness, name) for s in surveys), 2)

    times = (np.arange(len(course)) + 0.5) / COURSE_PER_BAR * grid.bar_s + 1.5
    return Loudness(
        integrated_lufs=mid("integrated_lufs"),
        range_lu=mid("range_lu"),
        true_peak_dbtp=mid("true_peak_dbtp"),
        max_short_term_lufs=mid("max_short_term_lufs"),
        max_momentary_lufs=mid("max_momentary_lufs"),
        short_term=tuple(ShortTerm(round(float(t), 2), round(float(v), 2)) for t, v in zip(times, course) if np.isfinite(v)),
        plr_db=mid("plr_db"),
    )


def _patterns(rows: list[Row]) -> tuple[DrumPattern, ...]:
    """Rows of the most common number of steps; a step is played where more than half of the members play it: a step that one of
    two plays makes a pattern that neither has."""
    out = []
    for place, row in enumerate(rows):
        found = [s.drums.patterns[i] for s, i in row]
        steps = Counter(p.steps_per_bar for p in found).most_common(1)[0][0]
        found = [p for p in found if p.steps_per_bar == steps]
        played = {
            name: np.percentile([getattr(p, name) for p in found], 50, axis=0, method="lower") for name in ("kick", "clap", "hats")
        }
        timing = {
            name: tuple(
                _middle([t for p in found if (t := getattr(p.timing_ms, name)[step]) is not None]) if played[name][step] else None
                for step in range(steps)
            )
            for name in played
        }
        rounded = {name: tuple(np.round(v, 2).tolist()) for name, v in played.items()}
        confidence = _sure([p.confidence for p in found])
        out.append(DrumPattern(place, steps, rounded["kick"], rounded["clap"], rounded["hats"], StepTiming(**timing), confidence))
    return tuple(out)


def _sure(confidences: list[float | None]) -> float | None:
    """The middle of those that were told."""
    return _middle([c for c in confidences if c is not None], 2)


def _middle(values: list[float], digits: int = 1) -> float | None:
    return round(median(values), digits) if values else None


def _kick(surveys: Sequence[Survey]) -> KickPortrait | None:
    found = [s.drums.kick for s in surveys if s.drums.kick]
    if not found:
        return None

    def mid(name: str, digits: int = 1) -> float:
        return round(median(getattr(k, name) for k in found), digits)

    envelopes = [k.envelope_db for k in found if k.envelope_db]
    falls = [k.pitch for k in found if k.pitch]
    times = [t for t, _ in min(falls, key=len)] if falls else []
    pitch = [median(float(np.interp(t, [x for x, _ in fall], [hz for _, hz in fall])) for fall in falls) for t in times]
    return KickPortrait(
        fundamental_hz=mid("fundamental_hz", 2),
        note=note_name(round(hz_midi(mid("fundamental_hz", 2)))),
        decay_ms=mid("decay_ms"),
        click_db=mid("click_db"),
        start_hz=mid("start_hz"),
        fall_ms=mid("fall_ms"),
        drive_db=mid("drive_db"),
        envelope_db=tuple(np.round(np.median(envelopes, axis=0), 1).tolist()) if envelopes else (),
        pitch=tuple((t, round(hz, 1)) for t, hz in zip(times, pitch)),
        confidence=_sure([k.confidence for k in found]),
    )


def _pump(surveys: Sequence[Survey], rows: list[Row]) -> Pump:
    """Nothing ducks unless it does in more than half of the members."""
    ducked = [s.pump for s in surveys if s.pump.depth_db > 0]
    per_section = tuple(SectionPump(place, round(median(s.pump.per_section[i].depth_db for s, i in row), 2))
                        for place, row in enumerate(rows))  # fmt: skip
    confidence = round(median(s.pump.confidence for s in surveys), 3)
    if 2 * len(ducked) <= len(surveys):
        still = {band: BandDepth(0.0) for band in ("low", "mid", "high")}
        flat = tuple(SectionPump(p.section, 0.0) for p in per_section)
        return Pump(0.0, "1/4", 0.0, (0.0,) * len(surveys[0].pump.curve_db), confidence, still, (), flat)
    depth = median(p.depth_db for p in ducked)
    rate = Counter(p.rate for p in ducked).most_common(1)[0][0]
    # Over the period of this rate: others' curves are spread over another time.
    curve = np.median([np.array(p.curve_db) / p.depth_db for p in ducked if p.rate == rate], axis=0)
    # Curves that are deepest at different places have a shallower median.
    curve = np.round(curve * (depth / max(float(-curve.min()), 1e-9)), 2) + 0.0
    return Pump(
        # Depth is the drawn curve's own lowest point.
        depth_db=-float(curve.min()),
        rate=rate,
        release_ms=round(median(p.release_ms for p in ducked), 1),
        curve_db=tuple(curve.tolist()),
        confidence=confidence,
        bands={b: BandDepth(round(median(p.bands[b].depth_db for p in ducked), 2)) for b in ducked[0].bands},
        active_sections=tuple(
            place for place, row in enumerate(rows) if 2 * sum(i in s.pump.active_sections for s, i in row) > len(row)
        ),
        per_section=per_section,
    )


def _of_one(levels: np.ndarray) -> np.ndarray:
    """Levels whose powers add up to one again."""
    return np.asarray(levels - 10 * np.log10(np.sum(10 ** (levels / 10))))


def _spectrum(surveys: Sequence[Survey], rows: list[Row]) -> Spectrum:
    whole = _of_one(np.median([s.spectrum.level_db for s in surveys], axis=0))
    full = _of_one(np.median([s.spectrum.full_energy_db or s.spectrum.level_db for s in surveys], axis=0))
    sections = [_of_one(np.median([s.spectrum.per_section[i].level_db for s, i in row], axis=0)) for row in rows]
    return Spectrum(
        centers_hz=surveys[0].spectrum.centers_hz,
        level_db=tuple(np.round(whole, 2).tolist()),
        tilt_db_per_octave=round(median(s.spectrum.tilt_db_per_octave for s in surveys), 2),
        per_section=tuple(SectionSpectrum(tuple(np.round(v, 2).tolist())) for v in sections),
        full_energy_db=tuple(np.round(full, 2).tolist()),
    )


def _stereo(surveys: Sequence[Survey]) -> Stereo:
    bands = list(zip(*(s.stereo.bands for s in surveys)))

    def mid(band: tuple[StereoBand, ...], name: str) -> float:
        return round(median(getattr(b, name) for b in band), 3)

    return Stereo(
        tuple(StereoBand(b[0].low_hz, b[0].high_hz, mid(b, "width"), mid(b, "correlation"), mid(b, "crest_db")) for b in bands),
        median(s.stereo.mono_below_hz for s in surveys),
    )


def _events(rows: list[Row], sections: tuple[Section, ...]) -> tuple[Event, ...]:
    """Events that end at the end of a section, or start at its start, in at least half of the members."""
    out = []
    for row, typical in zip(rows, sections):
        for kind, at_end in (("riser", True), ("snare roll", True), ("gap", True), ("impact", False), ("fall", False)):
            found = []
            for survey, index in row:
                section, beats = survey.sections[index], survey.tempo.beats_per_bar
                for event in survey.events:
                    place = (
                        event.start_bar + event.beats / beats - section.end_bar if at_end else event.start_bar - section.start_bar
                    )
                    if event.kind == kind and abs(place) <= AT_BOUNDARY_BARS:
                        found.append(event)
                        break
            if 2 * len(found) >= len(row):
                length = median_low(e.beats for e in found)
                start = typical.end_bar - length / 4 if at_end else float(typical.start_bar)
                share = len(found) / len(row)
                out.append(Event(kind, max(1.0, start), length, round(share * median(e.confidence for e in found), 3)))  # type: ignore[arg-type]
    return tuple(sorted(out, key=lambda e: e.start_bar))


def _spread(surveys: Sequence[Survey], rows: list[Row], typical: Survey, courses: np.ndarray) -> Spread:
    ducked = [s.pump for s in surveys if s.pump.depth_db > 0] or [typical.pump]
    kicks = [s.drums.kick.fundamental_hz for s in surveys if s.drums.kick]
    loud = typical.loudness.integrated_lufs
    bars = courses.reshape(len(surveys), -1, COURSE_PER_BAR).mean(axis=2)
    middle = np.nanmedian(bars, axis=0)
    filled = np.where(np.isfinite(bars), bars, middle)
    return Spread(
        bpm=Span.of([s.tempo.bpm for s in surveys]),
        swing_percent=Span.of([s.tempo.swing_percent for s in surveys]),
        keys=key_shares(surveys),
        section_bars=tuple(Span.of([s.sections[i].bars for s, i in row], 0) for row in rows),
        section_lufs=tuple(
            Span.of([s.sections[i].loudness_lufs - s.loudness.integrated_lufs + loud for s, i in row], 2) for row in rows
        ),
        presence=tuple({role: Span.of([s.sections[i].presence[role] for s, i in row]) for role in ROLES} for row in rows),
        spectrum=tuple(Corridor.of([balanced(s.spectrum.per_section[i].level_db) for s, i in row]) for row in rows),
        pump_depth_db=Span.of([s.pump.depth_db for s in surveys]),
        pump_release_ms=Span.of([p.release_ms for p in ducked], 1),
        pump_curve=Corridor.of([s.pump.beat_db for s in surveys]),
        width=tuple(Span.of([s.stereo.bands[k].width for s in surveys]) for k in range(len(typical.stereo.bands))),
        width_above_270_hz=Span.of([width_above_270_hz(s) for s in surveys]),
        mono_below_hz=Span.of([s.stereo.mono_below_hz for s in surveys]),
        integrated_lufs=Span.of([s.loudness.integrated_lufs for s in surveys], 2),
        range_lu=Span.of([s.loudness.range_lu for s in surveys], 2),
        true_peak_dbtp=Span.of([s.loudness.true_peak_dbtp for s in surveys], 2),
        loudness_course=Corridor.of(filled),
        kick_hz=Span.of(kicks, 2) if kicks else None,
    )
