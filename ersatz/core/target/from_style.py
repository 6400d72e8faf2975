"""A target from what is usual in a style, where there is no audio yet.

Tempo, swing, kick pattern, ducking and loudness are the style's own figures (core/styles.py). What all styles share is the
arrangement by phrases of eight bars and the balance: third octaves that fall by 2 dB per octave from the lows to 4 kHz and
steeper above (Pestana et al. 2013, the average of commercial recordings), without what lies under the kick. The spans say how
loosely each of these is known.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.errors import UnusableDocument
from ersatz.core.grid import BarGrid
from ersatz.core.pitch import hz_midi, note_name
from ersatz.core.styles import BACKBEATS, BY_NAME, KICKS, OPEN_HATS, Style
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
    KickPortrait,
    Label,
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
from ersatz.core.target.document import Corridor, Span, Spread, Target, balanced, width_above_270_hz

STEPS = 16
CURVE_POINTS = 64


@dataclass(frozen=True)
class Place:
    """A section as it usually is: shortest, usual and longest in bars, loudness against the drop in LU, what plays."""

    label: Label
    bars: tuple[int, int, int]
    lu: float
    plays: tuple[str, ...]


ALL = ("kick", "clap", "hats", "perc", "bass", "chords", "lead")
ARRANGEMENT = (
    Place("intro", (16, 16, 32), -4.0, ("kick", "clap", "hats", "perc")),
    Place("breakdown", (16, 16, 32), -6.0, ("chords", "lead")),
    Place("build", (8, 8, 16), -3.5, ("clap", "chords", "lead", "noise")),
    Place("drop", (16, 32, 32), 0.0, ALL),
    Place("breakdown", (16, 16, 32), -6.0, ("chords", "lead")),
    Place("build", (8, 8, 16), -3.5, ("clap", "chords", "lead", "noise")),
    Place("drop", (16, 32, 32), 0.0, ALL),
    Place("outro", (16, 16, 32), -4.0, ("kick", "clap", "hats", "perc")),
)
#: How far the lows fall where neither kick nor bass plays.
NO_LOWS_DB = 12.0
RISER_BARS, GAP_BEATS = 8, 2.0
#: The recovery of a ducker, in parts of a beat: shortest, usual, longest.
RECOVERY_BEATS = (0.5, 0.7, 0.9)
HOLD_BEATS = 0.05
#: Third-octave slopes in dB per octave, where the steeper one begins, and where the lows end.
SLOPE_DB, STEEP_DB, STEEP_HZ, LOWS_HZ, UNDER_KICK_DB = -2.0, -4.0, 4000.0, 50.0, -12.0
BALANCE_SPAN_DB, LOUDNESS_SPAN_LU = 4.0, 1.5
KICK_HZ, KICK_SPAN_HZ = 50.0, (43.0, 60.0)
#: Width per band of survey/spectrum.py and how far it varies; club systems want the lows in mono.
WIDTHS = ((20, 110, 0.0), (110, 270, 0.05), (270, 770, 0.2), (770, 2200, 0.3), (2200, 6000, 0.35), (6000, 18_000, 0.35))
WIDTH_SPAN, MONO_BELOW_HZ = 0.15, (100.0, 150.0, 300.0)
TRUE_PEAK_DBTP, RANGE_LU = -1.0, (3.0, 5.0, 9.0)


def target_of_style(name: str) -> Target:
    """Raises UnusableDocument for an unknown style."""
    style = BY_NAME.get(name)
    if style is None:
        raise UnusableDocument(f"There is no style “{name}”; there are {', '.join(sorted(BY_NAME))}.")
    bpm = round(sum(style.bpm) / 2, 1)
    tempo = Tempo(bpm, 1.0, (), 4, 0.0, sum(style.swing_percent) / 2, 0.0)
    typical = _typical(style, tempo)
    return Target(style.title, (), style.name, typical, _spread(style, typical))


def _typical(style: Style, tempo: Tempo) -> Survey:
    grid = tempo.grid
    sections = _sections(style, grid)
    bars = sections[-1].end_bar - 1
    pump = _pump(style, grid, sections)
    fundamental = KICK_HZ
    levels = usual_balance_db()
    return Survey(
        source=Source(style.title, round(bars * grid.bar_s, 3), 44_100, 2, hashlib.sha256(style.name.encode()).hexdigest()),
        tempo=tempo,
        key=Key("A", "minor", 0.0, (), 0.0),
        sections=sections,
        presence=Presence(tuple(range(1, bars + 1)), **{r: _presence(sections, r) for r in ROLES}),
        energy=_energy(sections),
        drums=Drums(
            KickPortrait(fundamental, note_name(round(hz_midi(fundamental))), 240.0, -20.0),
            tuple(_pattern(style, i, place) for i, place in enumerate(ARRANGEMENT)),
        ),
        bass=Bass((None,) * bars, ()),
        harmony=Harmony(()),
        pump=pump,
        spectrum=Spectrum(
            tuple(float(hz) for hz in NOMINAL_HZ), levels, SLOPE_DB, tuple(SectionSpectrum(levels) for _ in sections), levels
        ),
        stereo=Stereo(tuple(StereoBand(a, b, w, round(1 - w, 3)) for a, b, w in WIDTHS), MONO_BELOW_HZ[1]),
        loudness=_loudness(style, sections, grid),
        events=_events(sections),
    )


def _sections(style: Style, grid: BarGrid) -> tuple[Section, ...]:
    out: list[Section] = []
    start = 1
    for i, place in enumerate(ARRANGEMENT):
        length = place.bars[1]
        earlier = [k for k in range(i) if ARRANGEMENT[k].label == place.label]
        out.append(
            Section(
                label=place.label,
                start_bar=start,
                bars=length,
                start_s=round(grid.seconds_of_bar(start), 3),
                end_s=round(grid.seconds_of_bar(start + length), 3),
                confidence=0.5,
                like=earlier[0] if earlier else None,
                loudness_lufs=round(style.lufs + place.lu - _mean_lu(), 2),
                presence={role: 1.0 if role in place.plays else 0.0 for role in ROLES},
            )
        )
        start += length
    return tuple(out)


def _mean_lu() -> float:
    """Loudness of the whole arrangement against its drops: mean power over the bars."""
    bars = np.array([p.bars[1] for p in ARRANGEMENT])
    return float(10 * np.log10(np.average(10 ** (np.array([p.lu for p in ARRANGEMENT]) / 10), weights=bars)))


def _bars(sections: tuple[Section, ...], value: Callable[[Section], float]) -> tuple[float, ...]:
    return tuple(value(s) for s in sections for _ in range(s.bars))


def _presence(sections: tuple[Section, ...], role: str) -> tuple[float, ...]:
    return _bars(sections, lambda s: s.presence[role])


def _energy(sections: tuple[Section, ...]) -> Energy:
    loudest = max(s.loudness_lufs for s in sections)
    full = _bars(sections, lambda s: s.loudness_lufs - loudest)
    low = _bars(sections, lambda s: s.loudness_lufs - loudest - (0.0 if s.presence["kick"] or s.presence["bass"] else NO_LOWS_DB))
    return Energy(low, full, full, full)


def _pattern(style: Style, index: int, place: Place) -> DrumPattern:
    def row(steps: tuple[int, ...], role: str) -> tuple[float, ...]:
        return tuple(1.0 if i in steps and role in place.plays else 0.0 for i in range(STEPS))

    silent = (None,) * STEPS
    return DrumPattern(index, STEPS, row(KICKS[style.kick][0], "kick"), row(BACKBEATS[style.kick], "clap"),
                       row(OPEN_HATS[style.kick], "hats"), StepTiming(silent, silent, silent))  # fmt: skip


def ducking_curve_db(depth_db: float, recovery_beats: float) -> np.ndarray:
    """A short hold and an S-shaped recovery over a part of a beat, shape (CURVE_POINTS,)."""
    t = np.arange(CURVE_POINTS) / CURVE_POINTS
    x = np.clip((t - HOLD_BEATS) / (recovery_beats - HOLD_BEATS), 0, 1)
    return np.asarray(-depth_db * (1 + np.cos(np.pi * x)) / 2)


def _release_ms(curve_db: np.ndarray, beat_s: float) -> float:
    """From the lowest point to within 1 dB of full recovery."""
    return round(float(np.flatnonzero(curve_db >= -1.0)[0]) / CURVE_POINTS * beat_s * 1000, 1)


def _pump(style: Style, grid: BarGrid, sections: tuple[Section, ...]) -> Pump:
    depth = sum(style.pump_db) / 2
    curve = ducking_curve_db(depth, RECOVERY_BEATS[1])
    with_kick = tuple(i for i, s in enumerate(sections) if s.presence["kick"] and s.presence["bass"])
    return Pump(
        depth_db=depth,
        rate="1/4" if style.kick in ("four", "dembow") else "kick",
        release_ms=_release_ms(curve, grid.beat_s),
        curve_db=_rounded(curve),
        confidence=0.5,
        bands={band: BandDepth(depth) for band in ("low", "mid", "high")},
        active_sections=with_kick,
        per_section=tuple(SectionPump(i, depth if i in with_kick else 0.0) for i in range(len(sections))),
    )


def usual_balance_db() -> tuple[float, ...]:
    """Third-octave levels whose powers add up to one, dB."""
    hz = np.array(NOMINAL_HZ)
    octaves = np.log2(np.maximum(hz, LOWS_HZ) / LOWS_HZ)
    steep = np.maximum(0.0, np.log2(hz / STEEP_HZ))
    level = SLOPE_DB * octaves + (STEEP_DB - SLOPE_DB) * steep + UNDER_KICK_DB * np.maximum(0.0, np.log2(LOWS_HZ / hz))
    return tuple(np.round(level - 10 * np.log10(np.sum(10 ** (level / 10))), 2).tolist())


def _loudness(style: Style, sections: tuple[Section, ...], grid: BarGrid) -> Loudness:
    course = _bars(sections, lambda s: s.loudness_lufs)
    return Loudness(
        integrated_lufs=style.lufs,
        range_lu=RANGE_LU[1],
        true_peak_dbtp=TRUE_PEAK_DBTP,
        max_short_term_lufs=max(course),
        max_momentary_lufs=max(course) + 1.0,
        short_term=tuple(ShortTerm(round((i + 0.5) * grid.bar_s + 1.5, 2), lufs) for i, lufs in enumerate(course)),
        plr_db=TRUE_PEAK_DBTP - style.lufs,
    )


def _events(sections: tuple[Section, ...]) -> tuple[Event, ...]:
    out = []
    for section in sections:
        if section.label == "build":
            riser = min(RISER_BARS, section.bars)
            out.append(Event("riser", float(section.end_bar - riser), riser * 4.0, 0.5))
            out.append(Event("gap", section.end_bar - GAP_BEATS / 4, GAP_BEATS, 0.5))
        if section.label == "drop":
            out.append(Event("impact", float(section.start_bar), 4.0, 0.5))
    return tuple(out)


def _spread(style: Style, typical: Survey) -> Spread:
    beat = typical.tempo.grid.beat_s
    shallow, deep = style.pump_db
    curves = [ducking_curve_db(d, r) for d in style.pump_db for r in RECOVERY_BEATS]
    releases = [_release_ms(c, beat) for c in curves]
    balance = balanced(typical.spectrum.level_db)
    course = _bars(typical.sections, lambda s: s.loudness_lufs)
    wide = width_above_270_hz(typical)
    return Spread(
        bpm=Span(*style.bpm),
        swing_percent=Span(*style.swing_percent),
        keys=(),
        section_bars=tuple(Span(p.bars[0], p.bars[2]) for p in ARRANGEMENT),
        section_lufs=tuple(_around(s.loudness_lufs, LOUDNESS_SPAN_LU) for s in typical.sections),
        presence=tuple({role: Span(s.presence[role], s.presence[role]) for role in ROLES} for s in typical.sections),
        spectrum=tuple(
            Corridor(tuple((balance - BALANCE_SPAN_DB).tolist()), tuple((balance + BALANCE_SPAN_DB).tolist()))
            for _ in typical.sections
        ),
        pump_depth_db=Span(shallow, deep),
        pump_release_ms=Span(min(releases), max(releases)),
        pump_curve=Corridor(
            tuple(np.round(np.min(curves, axis=0), 2).tolist()), tuple(np.round(np.max(curves, axis=0), 2).tolist())
        ),
        width=tuple(Span(max(0.0, b.width - WIDTH_SPAN), b.width + WIDTH_SPAN) for b in typical.stereo.bands),
        width_above_270_hz=_around(wide, WIDTH_SPAN),
        mono_below_hz=Span(MONO_BELOW_HZ[0], MONO_BELOW_HZ[2]),
        integrated_lufs=_around(style.lufs, LOUDNESS_SPAN_LU),
        range_lu=Span(RANGE_LU[0], RANGE_LU[2]),
        true_peak_dbtp=Span(TRUE_PEAK_DBTP - 0.5, TRUE_PEAK_DBTP),
        loudness_course=Corridor(tuple(v - LOUDNESS_SPAN_LU for v in course), tuple(v + LOUDNESS_SPAN_LU for v in course)),
        kick_hz=Span(*KICK_SPAN_HZ),
    )


def _around(value: float, by: float) -> Span:
    return Span(round(value - by, 3), round(value + by, 3))


def _rounded(curve: np.ndarray) -> tuple[float, ...]:
    return tuple(np.round(curve, 2).tolist())
