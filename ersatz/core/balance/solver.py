"""Levels, cuts and EQ of the strips at which every section stands as the reference's: strips do the work, not the master.

Method: the power that each part adds per section and third octave, as rendered, is a non-negative matrix; between uncorrelated
parts power adds. Unknown are a fader and eight bells per part, and one level per part and section. Solved as bounded least squares
over the log of the sums, section by section at equal loudness, each but the main one as much as any other, with a ridge towards
what the producer has set (SciPy least_squares, soft L1; Ma, Reiss & Black 2013 on target spectra). What lies beyond a part's bounds
is left to the master, within its own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
import scipy

from ersatz.core import bands
from ersatz.core.balance.clashes import BURIED_DB, CUT_HZ, needless_lows
from ersatz.core.balance.distance import Audible, Distance
from ersatz.core.balance.excerpt import bars_heard
from ersatz.core.balance.lanes import spread_bars
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
STANDS = 3.0
#: Bells and section levels under this aren't heard and are left out.
LEAST_EQ_DB, LEAST_CELL_DB = 0.7, 0.5
#: A solution that comes nearer by less than this in the mean is left.
LEAST_GAINED_DB = 0.12
#: What may not move stays within this, dB: a solver wants room.
STILL_DB = 1e-4
#: A part that is buried, by so much more than what counts as that, is as bad per dB as so many bands; where it is loudest within.
THROUGH, CLEARLY_DB, LOUDEST_DB = 3.0, 2.0, 20.0
#: The main section counts so much against any other.
MAIN_WEIGHT = 1.5
#: Steps of the solver, at most, and the share of what is off that one has to take away for another.
MOST_TRIED, ENOUGH = 80, 1e-5
#: Bands so far under the loudest are empty, a little further down than what is heard, and count so much.
EMPTY_DB, EMPTY_WEIGHT = 48.0, 0.15
#: A part this far under the mix in all bands isn't judged.
SILENT = 1e-11

Step = Callable[[float], None]


@dataclass(frozen=True)
class Powers:
    """`parts`: mean power by part, section and third octave, shape (parts, sections, BANDS); `rest`: of returns; `targets`: the
    reference's levels, dB, shape (sections, BANDS); `loudness`: its sections' LUFS; `main`: which is its main one. `sections`:
    places in the song's plan."""

    ids: tuple[str, ...]
    sections: tuple[int, ...]
    parts: np.ndarray
    rest: np.ndarray
    targets: np.ndarray
    loudness: np.ndarray
    main: np.ndarray


def inside() -> np.ndarray:
    """Which third octaves are fitted, bool, shape (bands.BANDS,)."""
    centres = np.array(bands.NOMINAL_HZ)
    return (centres >= LOW_HZ) & (centres <= HIGH_HZ)


def solve_strips(
    song: Song, survey: Survey, mixdown: Mixdown, sections: Sequence[int] | None = None, locked: frozenset[str] = frozenset(),
    step: Step = lambda fraction: None, powers: Powers | None = None,
) -> Song:  # fmt: skip
    """The song with low cuts, faders, equalisers and section levels of its parts solved for `sections` (places in the plan; all
    that the reference has if left out); strips in `locked` stay as they are. `powers`: of the song, where they are measured
    already."""
    powers = powers or measure_powers(song, survey, mixdown, sections, step)
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
    bars: int | None = None,
) -> Powers | None:  # fmt: skip
    """Of the sections that the reference has (places in the plan; all of them if left out), in `bars` of each, if left out in those
    that stand for it (excerpt.py); None where nothing sounds."""
    theirs = counterparts(song, survey)
    placed = list(song.placed())
    chosen = [k for k in (range(len(placed)) if sections is None else sections) if placed[k][1].id in theirs]
    parts = np.zeros((len(song.parts), len(chosen), bands.BANDS))
    rest = np.zeros((len(chosen), bands.BANDS))
    strips = [*(p.id for p in song.parts), *(r.id for r in song.returns)]
    heard = [[(bar, bar) for bar in bars_heard(song, k)] if bars is None else spread_bars(song, k, bars) for k in chosen]
    for n, found in enumerate(_measured(mixdown, strips, heard, song.master, step)):
        parts[:, n], rest[n] = found[: len(song.parts)], found[len(song.parts) :].sum(axis=0)
    audible = parts.sum(axis=(1, 2)) > SILENT
    sounds = parts.sum(axis=(0, 2)) > SILENT
    if not audible.any() or not sounds.any():
        return None
    chosen = [k for k, on in zip(chosen, sounds) if on]
    targets = np.array([survey.spectrum.per_section[theirs[placed[k][1].id]].level_db for k in chosen])
    lufs = np.array([survey.sections[theirs[placed[k][1].id]].loudness_lufs for k in chosen])
    main = np.array([theirs[placed[k][1].id] == survey.main_section() for k in chosen])
    ids = tuple(p.id for p, on in zip(song.parts, audible) if on)
    return Powers(ids, tuple(chosen), parts[audible][:, sounds], rest[sounds], targets, lufs, main)


def _measured(
    mixdown: Mixdown, ids: Sequence[str], sections: Sequence[Sequence[tuple[int, int]]], master: Master, step: Step
) -> Iterator[np.ndarray]:
    """Of strips over each section's stretches of 1-based bars, equally long, per third octave, shape (strips, BANDS); zeros for a
    silent one."""

    def measure(x: np.ndarray) -> np.ndarray:
        return power_behind_master(x, master) if np.abs(x).max() > 1e-6 else np.zeros(bands.BANDS)

    name = f"power {master.low_cut_hz} {master.mono_below_hz}"
    wanted = [(strip, first, last) for stretches in sections for strip in ids for first, last in stretches]
    found = iter(mixdown.measured_each(name, wanted, measure, step))
    for stretches in sections:
        rows = [next(found) for _ in range(len(ids) * len(stretches))]
        yield np.reshape(rows, (len(ids), len(stretches), bands.BANDS)).mean(axis=1)


def power_behind_master(x: np.ndarray, master: Master) -> np.ndarray:
    """Of a strip, shape (2, n), behind the master's low cut and mono lows, per third octave, shape (BANDS,). In the spectrum, which
    filters at rest multiply: there is one for every part and section."""
    both, sides = _passed(master.low_cut_hz, master.mono_below_hz)
    mid, side = bands.mid_and_side(x)
    return bands.in_bands(both * (mid + sides * side), RATE_HZ)


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
    distance = _distance(song, powers)
    free = np.array([i not in locked for i in powers.ids], bool)
    # What a part can't sound like isn't asked of it: a bell counts where the part is heard at all.
    present = distance.parts.sum(axis=1) > distance.parts.sum(axis=(0, 1))[None] * 10**-2.5
    matters = ((np.abs(distance.bells) > 0.25)[None] & present[:, None]).any(axis=2)
    plays = distance.parts.sum(axis=2) > SILENT
    may = np.concatenate([free, (matters & free[:, None]).ravel(), (plays & free[:, None]).ravel()])
    low, high = (
        np.concatenate([fader, np.full(matters.size, sign * MOST_EQ_DB), np.full(plays.size, sign * MOST_CELL_DB)])
        for sign, fader in zip((-1, 1), _bounds(song, powers))
    )
    low, high = np.where(may, np.minimum(low, -STILL_DB), -STILL_DB), np.where(may, np.maximum(high, STILL_DB), STILL_DB)
    as_it_is = np.zeros(distance.size)
    # Steps by an iterative solver: the same place in a quarter of the time that decompositions take.
    found = scipy.optimize.least_squares(
        distance.residuals, as_it_is, distance.jacobian, bounds=(low, high), loss="soft_l1", ftol=ENOUGH, tr_solver="lsmr",
        max_nfev=MOST_TRIED,
    )  # fmt: skip
    was, now = (np.abs(distance.residuals(x)[: distance.of_targets]).mean() for x in (as_it_is, found.x))
    # What was solved already isn't moved on and on for next to nothing.
    return Solved(*distance.split(np.where(may, found.x, 0.0) if was - now >= LEAST_GAINED_DB else as_it_is))


def _distance(song: Song, powers: Powers) -> Distance:
    known = inside()
    bells, parts, targets = _responses()[:, known], powers.parts[:, :, known], heard(powers.targets[:, known], EMPTY_DB)
    # Bands that the reference leaves empty (a rolled-off master, a breakdown's lows) say little.
    empty = targets <= targets.max(axis=1, keepdims=True) - EMPTY_DB
    weight = np.where(empty, EMPTY_WEIGHT, 1.0) * np.where(powers.main[:, None], MAIN_WEIGHT, 1.0)
    # Loudness hears the bands by K-weighting.
    hearing = 10 ** (eq.response_db(k_weighting(RATE_HZ), np.array(bands.NOMINAL_HZ, float)[known], RATE_HZ) / 10)
    return Distance(
        parts, powers.rest[:, known], targets, weight, bells, powers.loudness - powers.loudness.max(), STANDS,
        # The sections' own levels lie behind the strips.
        np.array([_level_db(song.sections[k]) for k in powers.sections]), np.asarray(hearing), EMPTY_DB,
        _to_be_heard(song, powers, parts), _ridge(_layers(song, powers), parts.shape, len(bells)),
    )  # fmt: skip


def _ridge(layers: np.ndarray, shape: tuple[int, ...], bells: int) -> np.ndarray:
    """What moving costs: every fader, bell and level, what all bells of a part do alike, and layers that leave their part."""
    count, sections, _ = shape
    costs = np.repeat([RIDGE_FADER, RIDGE_EQ, RIDGE_CELL], [count, count * bells, count * sections])
    broad = np.zeros((count, len(costs)))
    for p in range(count):
        broad[p, count + p * bells : count + (p + 1) * bells] = BROAD / bells
    tied = np.zeros((len(layers), len(costs)))
    for k, (layer, leader) in enumerate(layers):
        tied[k, [layer, leader]] = TIED, -TIED
    return np.concatenate([np.diag(costs), broad, tied])


def _to_be_heard(song: Song, powers: Powers, parts: np.ndarray) -> Audible:
    """What would count as buried, in the bands in which it is loudest."""
    found = []
    for p, part_id in enumerate(powers.ids):
        part = song.part(part_id)
        limit = BURIED_DB.get(part.role) if part is not None and not part.follows else None
        for n in range(len(powers.sections)):
            if limit is not None and parts[p, n].sum() > SILENT:
                level = 10 * np.log10(parts[p, n] + 1e-14)
                found.append((p, n, limit + CLEARLY_DB, level > level.max() - LOUDEST_DB))
    at, places, floor, loudest = (np.array([row[k] for row in found]) for k in range(4))
    shape = len(found), parts.shape[2]
    return Audible(at.astype(int), places.astype(int), floor.astype(float), loudest.reshape(shape).astype(bool), THROUGH)


def _level_db(section: SongSection) -> float:
    """Of a section, dB, in the mean of its bars."""
    return float(np.mean([section.level_db(bar) for bar in range(section.bars)]))


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
