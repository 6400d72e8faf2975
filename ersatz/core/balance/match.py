"""Levels, master EQ, ducking and loudness, solved against the reference by rendering and measuring.

Method: (1) levels and EQ of the parts in every section (solver.py). (2) Room (room.py). What is then left over in all sections
alike goes into bells of the master EQ, limited in range and in slope (Ma, Reiss & Black 2013 on target spectra); width. (3) Phrase
levels follow the reference's loudness. (4) Ducking is corrected by what it does to the sustained parts (pumping.py). (5) The
master's gain by a model of clipper and limiter (gain.py). All but room and ducking is judged by half of the song's bars
(excerpt.py).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np
import scipy

from ersatz.core import bands
from ersatz.core.audio import Audio
from ersatz.core.balance import gain
from ersatz.core.balance.excerpt import Mixed, bars_heard, mixed_in, whole
from ersatz.core.balance.lanes import measured_bars
from ersatz.core.balance.pumping import DROP_BARS, LEAST_DB, measure_ducked, own_pump
from ersatz.core.balance.register import with_registers
from ersatz.core.balance.room import solve_room
from ersatz.core.balance.solver import SILENT, Powers, inside, measure_powers, solve_strips
from ersatz.core.edits.strips import MOST_DUCKED_DB
from ersatz.core.effects import eq
from ersatz.core.gap.plans import compared_first, counterparts
from ersatz.core.loudness import STEP_S, integrated_lufs, step_energy
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.samples import Samples, no_samples
from ersatz.core.song.document import PHRASE_BARS, PUMP, DuckCurve, EqBand, Master, Song, with_each
from ersatz.core.song.strips import AnyStrip, ducked, with_fader
from ersatz.core.survey import survey_audio
from ersatz.core.survey.document import Corrections, SectionCorrection, Source, Survey
from ersatz.core.threads import one_thread_of_algebra

#: Bells two thirds of an octave apart with a Q that makes their sum smooth.
BELL_HZ = tuple(round(36.0 * 2 ** (k * 2 / 3), 1) for k in range(14))
BELL_Q = 1.9
#: No band says more of what is left over than this, dB, so that one that no bell fills moves nothing.
MOST_OFF_DB, MASTER_EMPTY_DB = 6.0, 55.0
#: Of what is left over in the main section, the rest that of all others.
MAIN_SHARE = 0.65
#: What the master may do of what the strips can't, and the level of a phrase, dB.
MAX_BELL_DB = 3.0
MAX_SECTION_DB, MIN_SECTION_DB = 3.0, -3.0
MOST_WIDTH = 1.6
#: What one correction may stretch a curve by.
MOST_STRETCH = 2.0
#: Share of a draft's matching that choosing its registers takes.
REGISTERS = 0.3
#: A depth that is as near as this is left, dB, and a release, as a share.
NEARLY_DB, NEARLY = 0.2, 0.06
#: So many last bars of a section tell how much room there is.
ROOM_BARS = DROP_BARS
#: The ducking is measured and corrected at most so often.
MOST_TURNS = 4

Progress = Callable[[str, float], None]
#: 0..1 of a phase.
Step = Callable[[float], None]
Render = Callable[[Song], Mixdown]


def _quietly(fraction: float) -> None:
    pass


@one_thread_of_algebra
def match_song(
    song: Song, survey: Survey, cache: RenderCache | None = None, progress: Progress = lambda phase, fraction: None
) -> Song:
    """A draft in the reference's registers, with levels, EQ, ducking and loudness brought to the reference's. Deterministic."""
    kept = cache or RenderCache.temporary()
    progress("registers", 0.0)
    powers = measure_powers(song, survey, Mixdown(song, kept), step=lambda f: progress("registers", REGISTERS * f))
    moved = song if powers is None else with_registers(song, powers)
    known = powers if moved == song else None
    return balance_song(
        moved, survey, cache=kept, powers=known, progress=lambda phase, f: progress(phase, REGISTERS + (1 - REGISTERS) * f)
    )


@one_thread_of_algebra
def balance_song(
    song: Song, survey: Survey, sections: Sequence[int] | None = None, locked: frozenset[str] = frozenset(),
    cache: RenderCache | None = None, samples: Samples = no_samples, progress: Progress = lambda phase, fraction: None,
    powers: Powers | None = None,
) -> Song:  # fmt: skip
    """The song brought to the reference. `sections`: places in the plan that are solved for, all if left out; where some are
    chosen, only levels and EQ of parts are. `locked`: ids of strips that stay as they are, the master among them. `powers`: of this
    song, where they are measured already. Deterministic."""
    kept = cache or RenderCache.temporary()

    def render(song: Song) -> Mixdown:
        return Mixdown(song, kept, samples)

    def at(phase: str, begin: float, end: float) -> Step:
        """Progress of a phase, told all along: what it raises ends the work within a moment."""
        progress(phase, begin)
        return lambda fraction: progress(phase, begin + (end - begin) * fraction)

    alone = sections is not None
    levels = at("levels and EQ of parts", 0.0, 1.0 if alone else 0.3)
    song = solve_strips(song, survey, render(song), sections, locked, levels, powers)
    if alone:
        progress("levels and EQ of parts", 1.0)
        return song
    unlocked, compared = song, compared_first(song, survey)

    def with_locked(song: Song) -> Song:
        return with_each(song, lambda strip: _as_it_was(strip, unlocked) if strip.id in locked else strip)

    if compared is None:
        # Nothing but loudness is left to compare.
        mixed = mixed_in(render(song), at("loudness", 0.3, 0.6), whole(song))
        return with_locked(_solve_loudness(song, _target_lufs(song, survey), mixed, at("loudness", 0.6, 1.0)))
    mine, main = compared
    song = solve_room(song, survey, render(song), *measured_bars(song, mine, ROOM_BARS), main, locked, at("sends", 0.3, 0.4))
    mixed = mixed_in(render(song), at("master EQ", 0.4, 0.7))
    spectra = mixed.spectra(mixed.samples)
    song = _with_bells(song, _bells_for(_residual(song, survey, main, spectra)))
    # Room widens: it stands first.
    song = _solve_width(song, survey, np.sum([*spectra.values()], axis=0), 1.0)
    song = _section_levels(song, survey, compared, mixed, at("section levels", 0.7, 0.8))
    ducked = _solve_ducking(song, survey, mine, render, at("ducking", 0.8, 0.85))
    if ducked is not song:
        mixed, song = mixed_in(render(ducked), at("master EQ", 0.85, 0.9)), ducked
    else:
        mixed = mixed.with_levels_of(song)
    song, passed = _trimmed(song, survey, main, mixed, at("master EQ", 0.9, 0.95))
    return with_locked(_solve_loudness(song, _target_lufs(song, survey), mixed, at("loudness", 0.95, 1.0), passed))


def _as_it_was(strip: AnyStrip, song: Song) -> AnyStrip:
    """A strip that was locked."""
    was = song.strip(strip.id)
    return was if isinstance(was, type(strip)) else strip


def _target_lufs(song: Song, survey: Survey) -> float:
    """The song's own target, or else the reference's loudness."""
    own = song.master.target_lufs
    return survey.loudness.integrated_lufs if own is None else own


def set_loudness(song: Song, target_lufs: float, cache: RenderCache | None = None) -> Song:
    """The song with the master gain that brings the whole mix to `target_lufs`."""
    mixdown = Mixdown(song, cache or RenderCache.temporary())
    return _solve_loudness(song, target_lufs, mixed_in(mixdown, _quietly, whole(song)), _quietly)


def _bells_for(residual_db: np.ndarray) -> np.ndarray:
    """Gains of the bells that fit a residual per band as far as it is known (least squares, bounded, neighbours kept alike)."""
    known = ~np.isnan(residual_db)
    centres = np.array(bands.NOMINAL_HZ)[known]
    design = np.array([eq.response_db(eq.bell(EqBand(hz, 1.0, BELL_Q), RATE_HZ)[None], centres, RATE_HZ)
                       for hz in BELL_HZ]).T  # fmt: skip
    slope = np.diff(np.eye(len(BELL_HZ)), axis=0) * 0.25
    left = np.concatenate([design, slope, 0.08 * np.eye(len(BELL_HZ))])
    right = np.concatenate([residual_db[known], np.zeros(len(slope) + len(BELL_HZ))])
    return np.asarray(scipy.optimize.lsq_linear(left, right, bounds=(-MAX_BELL_DB, MAX_BELL_DB)).x)


def _with_bells(song: Song, gains: np.ndarray) -> Song:
    bells = tuple(EqBand(hz, round(float(g), 2), BELL_Q) for hz, g in zip(BELL_HZ, np.clip(gains, -MAX_BELL_DB, MAX_BELL_DB)))
    return replace(song, master=replace(song.master, eq=bells))


def _residual(song: Song, survey: Survey, main: int, spectra: Mapping[int, np.ndarray]) -> np.ndarray:
    """Reference less remake per band, the overall difference taken out, by the `spectra` (bands.mid_and_side) of the bars, 1-based,
    that stand for it: MAIN_SHARE of the main section's and the rest of the mean of all others'; NaN in bands of which nothing is
    known."""
    theirs = counterparts(song, survey)
    found: dict[int, np.ndarray] = {}
    for place, (_, section) in enumerate(song.placed()):
        if section.id not in theirs:
            continue
        power = bands.in_bands(np.mean([spectra[bar] for bar in bars_heard(song, place)], axis=0).sum(axis=0), RATE_HZ)
        if power.sum() <= SILENT:
            continue
        target = np.array(survey.spectrum.per_section[theirs[section.id]].level_db)
        known = inside() & (target > target.max() - MASTER_EMPTY_DB)
        off = np.where(known, target - bands.relative_db(power), np.nan)
        found[theirs[section.id]] = np.clip(off - np.nanmean(off), -MOST_OFF_DB, MOST_OFF_DB)
    own = found.pop(main, None)
    others = np.nan_to_num(list(found.values())).mean(axis=0) if found else None
    if own is None or others is None:
        return next((row for row in (own, others) if row is not None), np.full(bands.BANDS, np.nan))
    return np.asarray(MAIN_SHARE * own + (1 - MAIN_SHARE) * others)


def _solve_width(song: Song, survey: Survey, spectrum: np.ndarray, passed: float) -> Song:
    """Side level of the master at which the width above 270 Hz of the whole mix, the mean of its bands', is the reference's.
    `spectrum`: of what comes into the master or leaves it (bands.mid_and_side); `passed`: the master's side level, if it has passed
    that already."""
    upper = [b for b in survey.stereo.bands if b.low_hz >= 270]
    wanted = float(np.clip(np.mean([b.width for b in upper]), 0.0, 0.9))
    # Middle and sides per band; width = 2 s / (m + s), at most 1, and the sides' power goes with the square of their level.
    hz = np.linspace(0, RATE_HZ / 2, spectrum.shape[1])
    edges = [np.searchsorted(hz, (b.low_hz, b.high_hz)) for b in upper]
    powers = [spectrum[:, first:stop].sum(axis=1) for first, stop in edges]
    heard = [(m, s) for m, s in powers if m + s > 0]

    def off(level: float) -> float:
        return float(np.mean([min(1.0, 2 * level**2 * s / (m + level**2 * s)) for m, s in heard])) - wanted

    level, most = 1.0, MOST_WIDTH / max(passed, 1e-3)
    if passed and heard and off(1.0) + wanted > 1e-4:
        level = most if off(most) <= 0 else float(scipy.optimize.brentq(off, 0.0, most))
    mono = float(np.clip(survey.stereo.mono_below_hz, 20, 250))
    return replace(song, master=replace(song.master, width=round(passed * level, 3), mono_below_hz=mono))


def _trimmed(song: Song, survey: Survey, main: int, mixed: Mixed, step: Step) -> tuple[Song, gain.Pass | None]:
    """EQ and width once more on the finished mix: clipping and limiting, which take the beats and leave what is between them, have
    moved both. With the pass that finished it, where it was finished by them alone."""
    master, mixdown = song.master, mixed.mixdown.varied(song)
    if _is_more_than_levels(master):
        heard = (bar + 1 for bar in mixed.excerpt.bars)
        rendered = {bar: bands.mid_and_side(mixdown.samples(*mixdown.bar_range(bar, bar))) for bar in heard}
        return _with_bells(song, _bells(song) + _bells_for(_residual(song, survey, main, rendered))), None
    toned = mixdown.toned(mixed.samples, master, step)
    finished = mixdown.limited(toned, master, step)
    passed = gain.Pass(*_in_front(mixed, toned, master), master.gain_db, mixed.energies(finished))
    spectra = mixed.spectra(finished)
    song = _with_bells(song, _bells(song) + _bells_for(_residual(song, survey, main, spectra)))
    return _solve_width(song, survey, np.sum([*spectra.values()], axis=0), master.width), passed


def _bells(song: Song) -> np.ndarray:
    return np.array([b.gain_db for b in song.master.eq])


def _is_more_than_levels(master: Master) -> bool:
    """Whether a mix by bars is finished by more than width, EQ, fader, clipper and limiter at rest."""
    return bool(master.chain or master.automation or master.modulators or master.duck)


def _in_front(mixed: Mixed, toned: np.ndarray, master: Master) -> tuple[np.ndarray, np.ndarray]:
    """Energies and highest peaks, dB, of the song's steps in front of the master's fader, as gain.py takes them."""
    gain_in_db = master.gain_in_db
    return mixed.energies(toned) * 10 ** (gain_in_db / 10), mixed.peaks_db(toned) + gain_in_db


def _section_levels(song: Song, survey: Survey, compared: tuple[int, int], mixed: Mixed, step: Step) -> Song:
    """Levels per phrase, so that the phrases stand to the section that is compared first as the reference's do; sections that the
    reference hasn't stay. The master's fader follows: near enough for what comes next to be judged by."""
    mine, main = compared
    song = _roughly_loud(song, survey, compared, mixed)
    toned = mixed.mixdown.toned(mixed.samples, song.master, step)
    steps = mixed.energies(mixed.mixdown.limited(toned, song.master, step))
    moves, step_s = np.zeros(len(steps)), STEP_S * np.arange(len(steps))
    own_t = 3.0 + np.arange(max(1, len(steps) - 29)) * 0.1
    own = 10 * np.log10(np.convolve(steps, np.ones(30) / 30, "valid")[: len(own_t)] + 1e-12) - 0.691
    their_t = np.array([s.t_s for s in survey.loudness.short_term])
    theirs = np.array([s.lufs for s in survey.loudness.short_term])
    grid, known = survey.tempo.grid, counterparts(song, survey)
    base = _phrase_lufs(theirs, their_t, survey.sections[main].start_s, survey.sections[main].end_s)
    placed = list(song.placed())
    first, section = placed[mine]
    own_base = _phrase_lufs(own, own_t, song.grid.seconds_of_bar(first), song.grid.seconds_of_bar(first + section.bars))
    sections = []
    for bar, section in placed:
        if section.id not in known:
            sections.append(section)
            continue
        there, levels = survey.sections[known[section.id]], []
        for phrase in range(0, section.bars, PHRASE_BARS):
            a, b = bar + phrase, bar + min(phrase + PHRASE_BARS, section.bars)
            # A section that is longer here goes on as the reference's ends.
            at = there.start_bar + min(phrase, max(0, there.bars - PHRASE_BARS))
            end = min(at + b - a, there.end_bar)
            wanted = _phrase_lufs(theirs, their_t, grid.seconds_of_bar(at), grid.seconds_of_bar(end)) - base
            has = _phrase_lufs(own, own_t, song.grid.seconds_of_bar(a), song.grid.seconds_of_bar(b)) - own_base
            move = wanted - has if has > -45 and wanted > -45 else 0.0
            # What was measured plays at the level that the phrase has already.
            was = section.level_db(phrase)
            levels.append(round(float(np.clip(was + move, MIN_SECTION_DB, MAX_SECTION_DB)), 2))
            moves[(step_s >= song.grid.seconds_of_bar(a)) & (step_s < song.grid.seconds_of_bar(b))] = levels[-1] - was
        sections.append(replace(section, levels_db=tuple(levels)))
    energies, peaks = _in_front(mixed, toned, song.master)
    passed = gain.Pass(energies, peaks, song.master.gain_db, steps)
    fader = gain.predicted_gain(passed, energies * 10 ** (moves / 10), peaks + moves, _target_lufs(song, survey))
    return _with_master_fader(replace(song, sections=tuple(sections)), fader)


def _phrase_lufs(lufs: np.ndarray, ends_s: np.ndarray, start_s: float, end_s: float) -> float:
    """Mean power of the 3 s windows that lie inside a stretch, or of the one nearest to its middle, LUFS."""
    inside = (ends_s - 3.0 >= start_s - 0.3) & (ends_s <= end_s + 0.3)
    if not inside.any():
        inside = np.arange(len(ends_s)) == int(np.argmin(np.abs(ends_s - 1.5 - (start_s + end_s) / 2)))
    return float(10 * np.log10(np.mean(10 ** (lufs[inside] / 10))))


def _roughly_loud(song: Song, survey: Survey, compared: tuple[int, int], mixed: Mixed) -> Song:
    """Master gain from the unmastered loudness of the section that is compared first: near enough to judge sections by."""
    mine, main = compared
    heard = [mixed.bar(mixed.samples, bar) for bar in bars_heard(song, mine)]
    own = integrated_lufs(step_energy(np.concatenate(heard, axis=1), RATE_HZ))
    return _with_master_fader(song, survey.sections[main].loudness_lufs - own)


def _solve_loudness(song: Song, target_lufs: float, mixed: Mixed, step: Step, passed: gain.Pass | None = None) -> Song:
    """The fader of the master at which the whole mix is as loud. `passed`: of a mix much like it, to begin near."""
    master, mixdown = song.master, mixed.mixdown
    toned = mixdown.toned(mixed.samples, master, step)
    front = _in_front(mixed, toned, master)
    start_db = gain.predicted_gain(passed, *front, target_lufs) if passed else master.gain_db

    def through(gain_db: float) -> np.ndarray:
        return mixed.energies(mixdown.limited(toned, replace(master, gain_db=gain_db), step))

    return _with_master_fader(song, gain.solved_gain(*front, target_lufs, start_db, through))


def _with_master_fader(song: Song, gain_db: float) -> Song:
    return replace(song, master=with_fader(song.master, gain_db))


def _solve_ducking(song: Song, survey: Survey, mine: int, render: Render, step: Step) -> Song:
    """Depth and release brought to the reference's: what ducking does to the sustained parts together, each to its own share, is
    measured (pumping.py) and the depths and the curve's way back are corrected by it."""
    wanted, pump = survey.pump, song.curve(PUMP)
    if wanted.depth_db <= 0 or pump is None:
        return song
    first, last = measured_bars(song, mine, DROP_BARS)
    for turn in range(MOST_TURNS):
        step(turn / MOST_TURNS)
        own = measure_ducked(song, render(song), first, last)
        if own is None or own.depth_db < LEAST_DB:
            return song
        release_ms = own.release_beats() * song.grid.beat_s * 1000
        ratio, stretch = wanted.depth_db / own.depth_db, wanted.release_ms / max(release_ms, 1.0)
        if abs(own.depth_db - wanted.depth_db) <= NEARLY_DB and abs(stretch - 1) <= NEARLY:
            return song
        song = with_each(song, lambda strip, ratio=ratio: _ducked_by(strip, ratio))  # type: ignore[misc]
        curve = song.curve(PUMP)
        assert curve is not None
        shaped = _stretched(curve, float(np.clip(stretch, 1 / MOST_STRETCH, MOST_STRETCH)))
        song = replace(song, curves=tuple(shaped if c.id == PUMP else c for c in song.curves))
    return song


def _stretched(curve: DuckCurve, by: float) -> DuckCurve:
    """A curve whose way back lasts so many times as long; it has let go before the next trigger."""
    shape = np.array(curve.shape)
    low = int(shape.argmax())
    at = np.arange(len(shape))
    longer = np.interp(np.where(at <= low, at, low + (at - low) / by), at, shape, right=0.0)
    longer *= np.clip((len(shape) - at) / 12, 0, 1)
    return replace(curve, shape=tuple(round(float(v), 4) for v in longer))


def _ducked_by(strip: AnyStrip, ratio: float) -> AnyStrip:
    """A strip whose pump is so many times as deep."""
    if strip.duck is None or strip.duck.curve != PUMP:
        return strip
    return replace(strip, duck=ducked(PUMP, round(min(strip.duck_db * ratio, MOST_DUCKED_DB), 2)))


def survey_remake(mix: Audio, mixdown: Mixdown, progress: Progress = lambda phase, fraction: None) -> Survey:
    """The remake's mix measured as any other audio. What the song knows is known and not guessed at: bars, sections, key, swing,
    and what its ducking does."""
    song = mixdown.song
    source = Source(f"{song.title}.wav", round(mix.duration_s, 3), mix.rate_hz, mix.channels, song.sha())
    plan = tuple(SectionCorrection(s.label, bar, s.bars) for bar, s in song.placed())
    known = Corrections(song.bpm, 0.0, song.tonic, song.mode, plan, song.grid.beats_per_bar)
    found = survey_audio(mix, source, known, progress, asks_pump=False)
    tempo = replace(found.tempo, swing_percent=song.swing_percent, swing_confidence=1.0)
    return replace(found, tempo=tempo, pump=own_pump(song, mixdown, min(found.main_section(), len(song.sections) - 1)))
