"""Levels, cuts and EQ of the strips at which every section stands as the reference's: strips do the work, not the master.

Method: the power that each part adds per section and third octave, as rendered, is a non-negative matrix; between uncorrelated
parts power adds. Unknown are a fader and eight bells per part, and one level per part and section. Solved as bounded least squares
over the log of the sums, section by section at equal loudness, with a ridge towards what the producer has set (SciPy least_squares,
soft L1; Ma, Reiss & Black 2013 on target spectra). What lies beyond a part's bounds is left to the master, within its own.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from scipy.optimize import least_squares

from ersatz.core import bands
from ersatz.core.balance.clashes import CUT_HZ, needless_lows
from ersatz.core.balance.lanes import measured_bars
from ersatz.core.edits.parts import STARTS
from ersatz.core.effects import eq
from ersatz.core.gap.plans import counterparts
from ersatz.core.loudness import k_weighting
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import EqBand, Master, Song, SongSection, with_strip
from ersatz.core.song.parts import Cell, Part
from ersatz.core.song.strips import Effect, with_fader
from ersatz.core.survey.document import Survey
from ersatz.core.target.document import heard

LOW_HZ, HIGH_HZ = 31.0, 16_500.0
#: Id of the equaliser that the solver keeps in a part's chain; what it solved before, it solves anew.
EQ_ID = "balance"
BELL_Q = 1.0
#: No bell of a strip over this, no fader further than that from where it stands or from where its role usually does, dB.
MOST_EQ_DB, MOST_MOVE_DB, MOST_FROM_ROLE_DB = 6.0, 12.0, 12.0
#: A layer colours the part that it follows, and doesn't take its place: their faders move together, a dB apart as bad as so many.
TIED = 2.0
#: How far a part's level in one section may leave its fader.
MOST_CELL_DB = 8.0
#: Worth of a dB of each against a dB off in one third octave of one section.
RIDGE_FADER, RIDGE_EQ, RIDGE_CELL = 0.25, 0.55, 0.7
#: What all bells of a part do alike is the fader's business.
BROAD = 4.0
#: A section that is a dB too loud against the loudest is as bad as so many bands.
STANDS = 1.0
#: Bells and section levels under this aren't heard and are left out.
LEAST_EQ_DB, LEAST_CELL_DB = 0.7, 0.5
#: A solution that comes nearer by less than this in the mean is left.
LEAST_GAINED_DB = 0.12
#: Bands so far under the loudest are empty. Further down than what is heard: drafts that were solved to 40 or 48 dB filled their
#: breakdowns up, at the cost of the loudness range.
EMPTY_DB = 55.0
#: So many bars stand for a section.
BARS = 8
#: A part this far under the mix in all bands isn't judged.
SILENT = 1e-11

Step = Callable[[float], None]


@dataclass(frozen=True)
class Powers:
    """`parts`: mean power by part, section and third octave, shape (parts, sections, BANDS); `rest`: of returns; `targets`: the
    reference's levels, dB, shape (sections, BANDS); `loudness`: its sections' LUFS. `sections`: places in the song's plan."""

    ids: tuple[str, ...]
    sections: tuple[int, ...]
    parts: np.ndarray
    rest: np.ndarray
    targets: np.ndarray
    loudness: np.ndarray


def inside() -> np.ndarray:
    centres = np.array(bands.NOMINAL_HZ)
    return (centres >= LOW_HZ) & (centres <= HIGH_HZ)


def solve_strips(
    song: Song, survey: Survey, mixdown: Mixdown, sections: Sequence[int] | None = None, locked: frozenset[str] = frozenset(),
    step: Step = lambda fraction: None,
) -> Song:  # fmt: skip
    """The song with low cuts, faders, equalisers and section levels of its parts solved for `sections` (places in the plan; all
    that the reference has if left out); strips in `locked` stay as they are."""
    powers = measure_powers(song, survey, mixdown, sections, step)
    if powers is None:
        return song
    cut = _with_low_cuts(song, powers, locked)
    if cut != song:
        song, powers = cut, measure_powers(cut, survey, mixdown.varied(cut), sections, step)
        if powers is None:
            return song
    return _applied(song, powers, _solve(song, powers, locked), locked)


def _with_low_cuts(song: Song, powers: Powers, locked: frozenset[str]) -> Song:
    """Low cuts by role for the parts that are heard in lows that only kick and bass need, in whichever section."""
    parts = [p for p in (song.part(i) for i in powers.ids) if p is not None]
    for n in range(len(powers.sections)):
        for _, part in needless_lows(zip(parts, powers.parts[:, n]), powers.parts[:, n].sum(axis=0)):
            if part.id not in locked:
                song = with_strip(song, replace(part, low_cut_hz=CUT_HZ[part.role]))
    return song


def measure_powers(
    song: Song, survey: Survey, mixdown: Mixdown, sections: Sequence[int] | None = None, step: Step = lambda fraction: None,
    bars: int = BARS,
) -> Powers | None:  # fmt: skip
    """Of the sections that the reference has (places in the plan; all of them if left out), their last `bars`; None where nothing
    sounds."""
    theirs = counterparts(song, survey)
    placed = list(song.placed())
    chosen = [k for k in (range(len(placed)) if sections is None else sections) if placed[k][1].id in theirs]
    parts = np.zeros((len(song.parts), len(chosen), bands.BANDS))
    rest = np.zeros((len(chosen), bands.BANDS))
    for n, k in enumerate(chosen):
        first, last = measured_bars(song, k, bars)
        for p, part in enumerate(song.parts):
            parts[p, n] = _measured(mixdown, part.id, first, last, song.master)
        for strip in song.returns:
            rest[n] += _measured(mixdown, strip.id, first, last, song.master)
        step((n + 1) / len(chosen))
    audible = parts.sum(axis=(1, 2)) > SILENT
    sounds = parts.sum(axis=(0, 2)) > SILENT
    if not audible.any() or not sounds.any():
        return None
    chosen = [k for k, on in zip(chosen, sounds) if on]
    targets = np.array([survey.spectrum.per_section[theirs[placed[k][1].id]].level_db for k in chosen])
    lufs = np.array([survey.sections[theirs[placed[k][1].id]].loudness_lufs for k in chosen])
    ids = tuple(p.id for p, on in zip(song.parts, audible) if on)
    return Powers(ids, tuple(chosen), parts[audible][:, sounds], rest[sounds], targets, lufs)


def _measured(mixdown: Mixdown, strip_id: str, first: int, last: int, master: Master) -> np.ndarray:
    """Of a strip over 1-based bars, per third octave; zeros where it is silent."""

    def measure(x: np.ndarray) -> np.ndarray:
        return power_behind_master(x, master) if np.abs(x).max() > 1e-6 else np.zeros(bands.BANDS)

    return mixdown.measured(f"power {master.low_cut_hz} {master.mono_below_hz}", strip_id, first, last, measure)


def power_behind_master(x: np.ndarray, master: Master) -> np.ndarray:
    """Of a strip, shape (2, n), behind the master's low cut and mono lows, per third octave, shape (BANDS,). In the spectrum, which
    filters at rest multiply: there is one for every part and section."""
    both, sides = _passed(master.low_cut_hz, master.mono_below_hz)
    mid, side = (bands.power_spectrum((x[0] + sign * x[1]) * np.float32(0.5)) for sign in (1, -1))
    return np.asarray(bands.band_weights(bands.FRAME // 2 + 1, RATE_HZ) @ (2 * both * (mid + sides * side)))


@lru_cache(maxsize=8)
def _passed(low_cut_hz: float, mono_below_hz: float) -> tuple[np.ndarray, np.ndarray | float]:
    """Power that passes the master's low cut and, of the sides, its mono lows, per bin of a spectrum."""
    hz = np.arange(bands.FRAME // 2 + 1) * RATE_HZ / bands.FRAME
    both, sides = (
        10 ** (eq.response_db(eq.low_cut(cut, RATE_HZ), hz, RATE_HZ) / 10) if cut else 1.0 for cut in (low_cut_hz, mono_below_hz)
    )
    return np.asarray(both), sides


@dataclass(frozen=True)
class Solved:
    """Moves in dB: faders (parts,), bells (parts, len(eq.BAND_HZ)), levels by section (parts, sections)."""

    faders: np.ndarray
    bells: np.ndarray
    cells: np.ndarray


def bells_db(part: Part) -> np.ndarray:
    """What the solver's equaliser does, dB per third octave, shape (BANDS,)."""
    return np.asarray(_gains(part) @ _responses())


def _gains(part: Part) -> np.ndarray:
    """Of the solver's bells, dB, shape (len(eq.BAND_HZ),); 0 where it has none."""
    old = part.effect(EQ_ID)
    return np.array([old.params.get(f"band{k + 1}_db", 0.0) if old else 0.0 for k in range(len(eq.BAND_HZ))])


def _responses() -> np.ndarray:
    """dB at each third octave for 1 dB of each bell, shape (bells, BANDS)."""
    centres = np.array(bands.NOMINAL_HZ, float)
    return np.array([eq.response_db(eq.bell(EqBand(hz, 1.0, BELL_Q), RATE_HZ)[None], centres, RATE_HZ) for hz in eq.BAND_HZ])


def _solve(song: Song, powers: Powers, locked: frozenset[str]) -> Solved:
    known = inside()
    count, sections, _ = powers.parts.shape
    bells = _responses()[:, known]
    parts, rest, targets = powers.parts[:, :, known], powers.rest[:, known], heard(powers.targets[:, known], EMPTY_DB)
    free = np.array([i not in locked for i in powers.ids], float)
    # Bands that the reference leaves empty (a rolled-off master, a breakdown's lows) say little.
    empty = targets <= targets.max(axis=1, keepdims=True) - EMPTY_DB
    weight = np.where(empty, 0.15, 1.0) * _section_weights(song, powers)[:, None]
    own, tied = _bounds(song, powers), _layers(song, powers)
    # What a part can't sound like isn't asked of it: a bell counts where the part is heard at all.
    present = parts.sum(axis=1) > parts.sum(axis=(0, 1))[None] * 10**-2.5
    matters = ((np.abs(bells) > 0.25)[None] & present[:, None]).any(axis=2)
    plays = parts.sum(axis=2) > SILENT
    sizes = (count, count * len(bells), count * sections)

    def split(x: np.ndarray) -> Solved:
        a, b = sizes[0], sizes[0] + sizes[1]
        return Solved(x[:a], x[a:b].reshape(count, len(bells)), x[b:].reshape(count, sections))

    loud = powers.loudness - powers.loudness.max()
    # The sections' own levels lie behind the strips.
    behind = np.array([_level_db(song.sections[k]) for k in powers.sections])
    # Loudness hears the bands by K-weighting.
    weighting = 10 ** (eq.response_db(k_weighting(RATE_HZ), np.array(bands.NOMINAL_HZ, float)[known], RATE_HZ) / 10)

    def residual(x: np.ndarray) -> np.ndarray:
        s = split(x)
        gain = s.faders[:, None, None] + s.cells[:, :, None] + (s.bells @ bells)[:, None, :]
        power = (parts * 10 ** (gain / 10)).sum(axis=0) + rest
        # Smoothly towards what counts as empty, so that a solver can follow.
        level = 10 * np.log10(power + power.max(axis=1, keepdims=True) * 10 ** (-EMPTY_DB / 10) + 1e-14)
        off = (level - targets) * weight
        off = off - off.sum(axis=1, keepdims=True) / weight.sum(axis=1, keepdims=True) * weight
        total = 10 * np.log10((power * weighting).sum(axis=1) + 1e-14) + behind
        stands = (total - total.max() - loud) * STANDS
        return np.concatenate([
            off.ravel(), stands, RIDGE_FADER * s.faders, RIDGE_EQ * s.bells.ravel(), RIDGE_CELL * s.cells.ravel(),
            BROAD * s.bells.mean(axis=1), TIED * (s.faders[tied[:, 0]] - s.faders[tied[:, 1]]),
        ])  # fmt: skip

    small = 1e-4
    low = np.concatenate([np.minimum(own[0], -small), np.full(sizes[1], -MOST_EQ_DB), np.full(sizes[2], -MOST_CELL_DB)])
    high = np.concatenate([np.maximum(own[1], small), np.full(sizes[1], MOST_EQ_DB), np.full(sizes[2], MOST_CELL_DB)])
    may = np.concatenate([free, (matters * free[:, None]).ravel(), (plays * free[:, None]).ravel()])
    low, high = np.where(may > 0, low, -small), np.where(may > 0, high, small)
    found = least_squares(residual, np.zeros(len(low)), bounds=(low, high), loss="soft_l1", max_nfev=40)
    as_it_is = np.zeros(len(low))
    bands_off = weight.size + len(loud)
    gained = np.abs(residual(as_it_is))[:bands_off].mean() - np.abs(residual(found.x))[:bands_off].mean()
    # What was solved already isn't moved on and on for next to nothing.
    return split(np.where(may > 0, found.x, 0.0) if gained >= LEAST_GAINED_DB else as_it_is)


def _level_db(section: SongSection) -> float:
    """Of the bars that stand for a section, dB."""
    return float(np.mean([section.level_db(bar) for bar in range(max(0, section.bars - BARS), section.bars)]))


def _section_weights(song: Song, powers: Powers) -> np.ndarray:
    """The longer a section, and the louder, the more it says; the shortest still counts."""
    bars = np.array([song.sections[k].bars for k in powers.sections], float)
    loud = np.clip((powers.loudness - powers.loudness.max()) / 24 + 1, 0.5, 1.0)
    return np.sqrt(bars / bars.max()).clip(0.5) * loud


def _bounds(song: Song, powers: Powers) -> tuple[np.ndarray, np.ndarray]:
    low, high = [], []
    for part_id in powers.ids:
        part = song.part(part_id)
        assert part is not None
        usual = STARTS[part.role][1]
        low.append(max(-MOST_MOVE_DB, usual - MOST_FROM_ROLE_DB - part.gain_db))
        high.append(min(MOST_MOVE_DB, usual + MOST_FROM_ROLE_DB - part.gain_db))
    return np.array(low), np.array(high)


def _layers(song: Song, powers: Powers) -> np.ndarray:
    """Places of layers and of the parts that they follow, shape (layers, 2)."""
    at = {part_id: k for k, part_id in enumerate(powers.ids)}
    followed = {p.id: p.follows.part for p in song.parts if p.follows}
    pairs = [(at[layer], at[leader]) for layer, leader in followed.items() if layer in at and leader in at]
    return np.array(pairs, int).reshape(-1, 2)


def _applied(song: Song, powers: Powers, solved: Solved, locked: frozenset[str]) -> Song:
    # The overall level is the master's business.
    shift = float(solved.faders.mean()) if not locked else 0.0
    for n, part_id in enumerate(powers.ids):
        part = song.part(part_id)
        if part is None or part_id in locked:
            continue
        part = with_fader(part, round(float(part.gain_db + solved.faders[n] - shift), 2))
        part = _with_eq(part, solved.bells[n])
        levels = {song.sections[k].id: float(solved.cells[n, s]) for s, k in enumerate(powers.sections)}
        song = with_strip(song, replace(part, cells=tuple(_levelled(c, levels.get(c.section, 0.0)) for c in part.cells)))
    return song


def _levelled(cell: Cell, by_db: float) -> Cell:
    if not cell.on or abs(by_db) < LEAST_CELL_DB:
        return cell
    return replace(cell, level_db=round(float(np.clip(cell.level_db + by_db, -18.0, 12.0)), 1))


def _with_eq(part: Part, gains: np.ndarray) -> Part:
    """A part with the solver's equaliser moved by so many dB, none over MOST_EQ_DB; without it where nothing is left of it."""
    old = part.effect(EQ_ID)
    now = np.clip(_gains(part) + gains, -MOST_EQ_DB, MOST_EQ_DB)
    used = [k for k, g in enumerate(now) if abs(g) >= LEAST_EQ_DB]
    others = tuple(e for e in part.chain if e.id != EQ_ID)
    if not used:
        return replace(part, chain=others)
    params: dict[str, float] = {}
    choices = {}
    for k in used:
        choices[f"band{k + 1}_kind"] = "bell"
        params |= {f"band{k + 1}_hz": eq.BAND_HZ[k], f"band{k + 1}_db": round(float(now[k]), 1), f"band{k + 1}_q": BELL_Q}
    made = Effect("eq", params, choices, id=EQ_ID)
    if old is None:
        return replace(part, chain=(*others, made))
    return replace(part, chain=tuple(made if e.id == EQ_ID else e for e in part.chain))
