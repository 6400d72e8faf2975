"""What does ducking do to a song's own mix?

A song's ducking needs no guess: its sustained parts are rendered with it and without it, and what lies between the two is what it
does. Conventions: gains in dB, 0 where everything has recovered; PHASES places over one beat from a trigger on.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from ersatz.core.balance.lanes import measured_bars
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.mixdown.schedule import duck_triggers
from ersatz.core.song.document import DuckCurve, Song, with_each
from ersatz.core.survey.document import BandDepth, Pump, SectionPump
from ersatz.core.survey.pump import BAND_EDGES_HZ, BAND_NAMES, no_pump

#: What ducking is read from: parts that sustain.
SUSTAINED = ("bass", "chords", "lead")
PHASES = 64
#: A place at which the sustained parts are this far under their loudest tells nothing, dB.
SILENT_DB = -36.0
#: So many last bars of a drop, which is full at its end.
DROP_BARS = 8
#: Less is no ducking, dB.
LEAST_DB = 0.5
#: Released to within this of full recovery, dB.
RELEASED_DB = 1.0


@dataclass(frozen=True)
class Ducked:
    """`parts`: ids of the sustained parts; `power`: what each has at every place behind a trigger without ducking, shape (parts,
    PHASES); `gain_db`: what ducking does to all of them together, 0 where they have recovered, shape (PHASES,)."""

    parts: tuple[str, ...]
    power: np.ndarray
    gain_db: np.ndarray

    @property
    def depth_db(self) -> float:
        """How far the gain falls, dB, at least 0."""
        return float(-self.gain_db.min())

    def release_beats(self) -> float:
        """From the lowest point to within 1 dB of recovery, beats."""
        return release_beats(self.gain_db)


def release_beats(gain_db: np.ndarray) -> float:
    """From the lowest place to within RELEASED_DB of full recovery; shape (PHASES,)."""
    back = np.flatnonzero(np.roll(gain_db, -int(gain_db.argmin())) >= -RELEASED_DB)
    return float(back[0]) / PHASES if len(back) else 1.0


def measure_ducked(song: Song, mixdown: Mixdown, first: int, last: int) -> Ducked | None:
    """Over 1-based bars; None where nothing sustained sounds."""
    found = _with_and_without(song, mixdown, first, last)
    if not found:
        return None
    phase = _phases(song, mixdown, first, last)
    loose = np.array([_by_phase(free, phase) for _, free, _ in found])
    held = sum(_by_phase(x, phase) for _, _, x in found)
    return Ducked(tuple(name for name, _, _ in found), loose, recovered(np.asarray(held), loose.sum(axis=0)))


def own_pump(song: Song, mixdown: Mixdown, main: int) -> Pump:
    """The pump of a song in the form that a survey has it, of the section at place `main`; the others duck as the plan says."""
    first, last = measured_bars(song, main, DROP_BARS)
    found = _with_and_without(song, mixdown, first, last)
    if not found:
        return no_pump(len(song.sections), told=False)
    phase = _phases(song, mixdown, first, last)
    free, held = np.sum([x for _, x, _ in found], axis=0), np.sum([x for _, _, x in found], axis=0)

    def gain_db(low_hz: float, high_hz: float) -> np.ndarray:
        edges = [hz for hz in (low_hz, high_hz) if 0 < hz < RATE_HZ / 2]
        if not edges:
            return recovered(_by_phase(held, phase), _by_phase(free, phase))
        kind = "bandpass" if len(edges) == 2 else "highpass" if low_hz > 0 else "lowpass"
        sos = scipy.signal.butter(2, edges if len(edges) == 2 else edges[0], kind, fs=RATE_HZ, output="sos")
        return recovered(*(_by_phase(scipy.signal.sosfilt(sos, x, axis=1), phase) for x in (held, free)))

    curve = gain_db(0.0, np.inf)
    depth = float(-curve.min())
    if depth < LEAST_DB:
        return no_pump(len(song.sections), confidence=1.0)
    rate = rate_of(pumping_curve(song))
    edges = (0.0, *BAND_EDGES_HZ, np.inf)
    bands = {name: BandDepth(round(float(-gain_db(low, high).min()), 2)) for name, low, high in zip(BAND_NAMES, edges, edges[1:])}
    active = tuple(i for i, section in enumerate(song.sections) if section.ducks)
    beat_ms = song.grid.beat_s * 1000
    # At "1/8" the period is half a beat: of the places only the first half are reached.
    over = curve if rate != "1/8" else np.repeat(curve[: PHASES // 2], 2)
    return Pump(
        depth_db=round(depth, 2),
        rate=rate,
        release_ms=round(release_beats(curve) * beat_ms, 1),
        curve_db=tuple(round(float(v), 2) + 0.0 for v in over),
        confidence=1.0,
        bands=bands,
        active_sections=active,
        per_section=tuple(SectionPump(i, round(depth, 2) if i in active else 0.0) for i in range(len(song.sections))),
    )


def recovered(held: np.ndarray, loose: np.ndarray) -> np.ndarray:
    """Gain of `held` over `loose` power, dB, 0 at its highest; silent places take on what lies between their neighbours."""
    tells = loose > loose.max() * 10 ** (SILENT_DB / 10)
    gain = 10 * np.log10(np.maximum(held, 1e-15) / np.maximum(loose, 1e-15))
    at = np.flatnonzero(tells)
    if not len(at):
        return np.zeros(len(loose))
    gain = np.interp(np.arange(len(gain)), at, gain[at], period=len(gain))
    return np.asarray(gain - gain.max())


def set_gain_db(song: Song, name: str) -> np.ndarray:
    """What a part's ducking is set to take at each place behind a trigger, dB, shape (PHASES,)."""
    part = song.part(name)
    curve = song.curve(part.duck.curve) if part is not None and part.duck is not None else None
    if part is None or part.duck is None or curve is None:
        return np.zeros(PHASES)
    shape = np.array(curve.shape)
    at = np.arange(PHASES) * len(shape) / PHASES
    return np.asarray(-part.duck.depth_db * np.interp(at, np.arange(len(shape)), shape))


def _with_and_without(song: Song, mixdown: Mixdown, first: int, last: int) -> list[tuple[str, np.ndarray, np.ndarray]]:
    """Sustained parts that sound, with their samples without ducking and with it, shape (2, n)."""
    free = mixdown.varied(with_each(song, lambda strip: replace(strip, duck=None)))
    out = []
    for part in song.parts:
        if part.role in SUSTAINED:
            x = free.strip_samples(part.id, first, last)
            if np.abs(x).max() >= 1e-5:
                out.append((part.id, x, mixdown.strip_samples(part.id, first, last)))
    return out


def pumping_curve(song: Song) -> DuckCurve | None:
    """The curve that most sustained parts duck by."""
    used = [p.duck.curve for p in song.parts if p.role in SUSTAINED and p.duck is not None and p.duck.depth_db > 0 and not p.mute]
    return song.curve(max(sorted(set(used)), key=used.count)) if used else None


def rate_of(curve: DuckCurve | None) -> str:
    """As a survey names it."""
    if curve is None or curve.rate != "hits":
        return "1/4" if curve is None else curve.rate
    return "kick" if len(curve.triggers) < 2 else "kick and snare"


def _phases(song: Song, mixdown: Mixdown, first: int, last: int) -> np.ndarray:
    """Of every sample the place behind the last trigger; -1 more than a beat behind it, and before the first."""
    start, stop = mixdown.bar_range(first, last)
    beat = song.grid.beat_s * RATE_HZ
    curve = pumping_curve(song)
    hits = duck_triggers(song, curve, RATE_HZ) if curve is not None else np.arange(0, stop, beat)
    at = np.arange(start, stop)
    last_hit = np.searchsorted(hits, at, side="right") - 1
    behind = np.full(len(at), np.inf)
    if len(hits):
        behind = np.where(last_hit >= 0, at - np.asarray(hits, float)[np.maximum(last_hit, 0)], np.inf)
    return np.where(behind < beat, np.minimum(behind / beat, 1.0 - 1e-9) * PHASES, -1).astype(int)


def _by_phase(x: np.ndarray, phase: np.ndarray) -> np.ndarray:
    """Mean power at each place behind a trigger, shape (PHASES,); 0 where there is none."""
    power, known = np.square(x).sum(axis=0), phase >= 0
    return np.asarray(np.bincount(phase[known], power[known], PHASES) / np.maximum(np.bincount(phase[known], minlength=PHASES), 1))
