"""When each note of a song sounds, in samples: patterns laid out through cells, swing and groove applied, mono lines joined,
choked hits cut.

Every length and offset is rounded inside its bar, so that a pattern that comes again gives the same figures again.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import DuckCurve, Song, SongSection
from ersatz.core.song.parts import Cell, Follows, Note, Part, Pattern
from ersatz.core.transitions.spec import StagedPart, base_of, playing_in, versions_of
from ersatz.core.voices import VARIANTS, voice_of

SIXTEENTH = TICKS_PER_BEAT // 4
#: Chance moves a note by at most so many standard deviations.
MOST_DEVIATIONS = 2.5
SOFTEST = 0.02
#: Tells the chance of each time from that of each place in a pattern.
EVERY_TIME = 1
Bend = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Event:
    """`start` and `length` in samples, `start` from the song's; `bar` 0-based; `bend` as (samples, semitones). `cut`: samples after
    which another hit of the choke group silences it, or None. `swell`: played backwards, its start at its end. `level` as (samples,
    dB)."""

    start: int
    length: int
    midi: int
    velocity: float
    variant: int
    bar: int
    bend: Bend = ()
    cut: int | None = None
    semitones: float = 0.0
    swell: bool = False
    pan: float = 0.0
    level: Bend = ()


@dataclass(frozen=True)
class Sounding:
    """A note as it sounds, in ticks from the song's start, groove applied, cut by gaps and exits; `bend` in ticks and semitones,
    `level` in ticks and dB."""

    start: float
    end: float
    midi: int
    velocity: float
    variant: int
    bend: Bend = ()
    semitones: float = 0.0
    swell: bool = False
    pan: float = 0.0
    level: Bend = ()

    @property
    def pitch(self) -> float:
        """Where it sounds, a MIDI note or between two."""
        return self.midi + self.semitones


#: How far under the loudest note of a part an accent may lie.
ACCENT = 0.1
TOGETHER_TICKS = 60
#: How much an interval, in semitones, speaks for the note under it as the root.
OVER_ROOT = {7: 1.2, 3: 1.0, 4: 1.0, 10: 0.5, 11: 0.5, 6: 0.4, 8: 0.4}


def sounding_notes(song: Song, part: Part) -> Iterator[Sounding]:
    """Every note of a part of a staged song: of a layer those that it follows, else patterns laid out through cells; then what
    transitions place."""
    if part.follows is None:
        yield from _own_notes(song, part)
    else:
        yield from _followed(song, part, part.follows)
    yield from _placed(part)


def _followed(song: Song, part: Part, follows: Follows) -> Iterator[Sounding]:
    leading = versions_of(follows.part, song)
    notes = sorted((n for p in leading for n in sounding_notes(song, p) if not n.swell), key=lambda n: (n.start, n.pitch))
    late = follows.late_ms * TICKS_PER_BEAT / song.grid.beat_s / 1000
    rests = _Stretches(_switched_off(song, part))
    gaps = _Stretches(part.gaps if isinstance(part, StagedPart) else ())
    for note in chosen(notes, follows.only):
        if not rests.cover(note.start) and not gaps.cover(note.start):
            start = max(0.0, note.start + late)
            yield replace(
                note, start=start, end=start + note.end - note.start, midi=min(127, max(0, note.midi + follows.semitones)),
                semitones=note.semitones + follows.cents / 100, velocity=min(1.0, note.velocity * follows.velocity),
            )  # fmt: skip


def _switched_off(song: Song, part: Part) -> tuple[tuple[int, int], ...]:
    """Stretches of the sections in which a part is off."""
    ticks = song.grid.ticks_of_bar
    return tuple(
        (ticks(bar), ticks(bar + s.bars)) for bar, s in song.placed() if (cell := part.cell(s.id)) is not None and not cell.on
    )  # fmt: skip


def chosen(notes: list[Sounding], only: str) -> list[Sounding]:
    """Those of a part's notes, in order of start, that a layer plays."""
    if only == "all" or not notes:
        return notes
    if only == "accents":
        loudest = max(n.velocity for n in notes)
        return [n for n in notes if n.velocity >= loudest - ACCENT]
    pick = {"top": lambda group: group[-1], "lowest": lambda group: group[0], "root": root_of}[only]
    return [pick(sorted(group, key=lambda n: n.pitch)) for group in _together(notes)]


def _together(notes: list[Sounding]) -> Iterator[list[Sounding]]:
    """Notes, in order of start, that begin within TOGETHER_TICKS of each other, as humanised ones of a chord do."""
    group: list[Sounding] = []
    for note in notes:
        if group and note.start - group[0].start > TOGETHER_TICKS:
            yield group
            group = []
        group.append(note)
    if group:
        yield group


def root_of(chord: list[Sounding]) -> Sounding:
    """The note that the others stand over best: a fifth, a third, a seventh; the lowest of several."""

    def fitting(note: Sounding) -> float:
        return sum(OVER_ROOT.get(round(other.pitch - note.pitch) % 12, 0.0) for other in chord)

    return max(chord, key=lambda n: (fitting(n), -n.pitch))


def _own_notes(song: Song, part: Part) -> Iterator[Sounding]:
    """Section by section."""
    late = _Lateness(song, part)
    staged = part if isinstance(part, StagedPart) else None
    rests = _Stretches((*staged.rests, *staged.gaps) if staged else ())
    for first_bar, section in song.placed():
        cell = part.cell(section.id)
        if cell is None or not cell.on:
            continue
        start = song.grid.ticks_of_bar(first_bar)
        for tick, end, note in _laid_out(song, part, section, cell, start):
            if not rests.cover(tick):
                yield from _struck(late, note, tick, (tick - start) % song.grid.ticks_per_bar, min(end, rests.next(tick)))


def _placed(part: Part) -> Iterator[Sounding]:
    """What transitions place."""
    staged = part if isinstance(part, StagedPart) else None
    gaps = _Stretches(staged.gaps if staged else ())
    for placed in staged.placed if staged else ():
        note = placed.note
        if placed.swell:
            yield Sounding(note.tick, note.tick + note.ticks, note.midi, note.velocity, 0, swell=True)
        elif not gaps.cover(note.tick):
            cut = min(note.tick + note.ticks, gaps.next(note.tick))
            variant = note.tick // SIXTEENTH % VARIANTS
            yield Sounding(note.tick, cut, note.midi, note.velocity, variant, note.bend, note.semitones)


class _Stretches:
    """Stretches of the song, (first tick, tick behind)."""

    def __init__(self, stretches: tuple[tuple[int, int], ...]):
        self._all = sorted(stretches)
        self._starts = [start for start, _ in self._all]

    def cover(self, tick: float) -> bool:
        return any(start <= tick < end for start, end in self._all)

    def next(self, tick: int) -> float:
        """Start of the first one behind a tick."""
        at = bisect_right(self._starts, tick)
        return self._starts[at] if at < len(self._starts) else float("inf")


def _laid_out(song: Song, part: Part, section: SongSection, cell: Cell, start: int) -> Iterator[tuple[int, int, Note]]:
    """(tick, tick at which it ends at the latest, note) of a cell whose section begins at `start`: its pattern again and again, and
    in its last bars the fill."""
    bar = song.grid.ticks_per_bar
    begin = start + cell.entry_bars * bar
    silence = start + section.bars * bar - round(song.gap_beats(section.id) * TICKS_PER_BEAT)
    leaves = start + (section.bars - cell.exit_bars) * bar
    end = min(leaves, silence)
    fill = part.patterns.get(cell.fill) if cell.fill_bars else None
    filled = max(begin, leaves - cell.fill_bars * bar) if fill else leaves
    if pattern := part.patterns.get(cell.pattern):
        yield from _repeated(pattern, start, begin, min(end, filled), bar)
    if fill:
        yield from _repeated(fill, filled, filled, end, bar)


def _repeated(pattern: Pattern, start: int, begin: int, end: int, bar: int) -> Iterator[tuple[int, int, Note]]:
    length = pattern.loop_ticks or pattern.bars * bar
    for first in range(start, end, length):
        for note in pattern.notes:
            if note.tick < length and begin <= first + note.tick < end:
                yield first + note.tick, end, note


class _Lateness:
    """How much later than its place a note of a part sounds, and how it is weighed."""

    def __init__(self, song: Song, part: Part):
        groove = part.groove
        straight = song.swing_percent
        swing = straight + groove.amount * (groove.swing_percent - straight) if groove.swing_percent else straight
        self._ticks_per_ms = TICKS_PER_BEAT / song.grid.beat_s / 1000
        self._steps = [
            (swing - 50) / 100 * TICKS_PER_BEAT / 2 * (k % 2)
            + (groove.amount * groove.timing_ms[k] * self._ticks_per_ms if groove.timing_ms else 0.0)
            for k in range(STEPS_PER_BAR)
        ]
        self._groove, self._part = groove, part.id

    def of(self, note: Note, inside: int) -> tuple[float, float]:
        """(ticks, velocity) of a note that stands `inside` ticks behind a bar line."""
        ticks = self._steps[inside // SIXTEENTH % STEPS_PER_BAR] + note.nudge_ms * self._ticks_per_ms
        if not (self._groove.humanise_ms or self._groove.humanise_velocity):
            return ticks, note.velocity
        # By the place in the pattern: what comes again is the same again, and is rendered once.
        chance = np.random.default_rng([self._groove.seed, note.tick, note.midi, *self._part.encode()])
        moved, weighed = np.clip(chance.standard_normal(2), -MOST_DEVIATIONS, MOST_DEVIATIONS)
        velocity = min(1.0, max(SOFTEST, note.velocity + self._groove.humanise_velocity * float(weighed)))
        return ticks + self._groove.humanise_ms * float(moved) * self._ticks_per_ms, velocity

    def varied(self, note: Sounding, tick: int) -> Sounding:
        """A note that differs by chance from what is written, by its place in the song: no two times round are alike."""
        g = self._groove
        if not (g.random_velocity or g.random_pan or g.random_semitones):
            return note
        chance = np.random.default_rng([g.seed, EVERY_TIME, tick, note.midi, *self._part.encode()])
        harder, aside, higher = chance.uniform(-1, 1, 3)
        return replace(
            note,
            velocity=min(1.0, max(SOFTEST, note.velocity + g.random_velocity * float(harder))),
            pan=min(1.0, max(-1.0, round(note.pan + g.random_pan * float(aside), 3))),
            semitones=round(note.semitones + g.random_semitones * float(higher), 2),
        )


def _struck(late: _Lateness, note: Note, tick: int, inside: int, end: float) -> Iterator[Sounding]:
    """A note as often as it is struck, none of it behind `end`."""
    ticks, velocity = late.of(note, inside)
    long = note.ticks / note.repeats
    for k in range(note.repeats):
        at = tick + k * long
        if at < end:
            # Nothing sounds before the song.
            start = max(0.0, at + ticks)
            variant = (note.tick // SIXTEENTH + k) % VARIANTS
            stop = start + min(long, end - at)
            plain = Sounding(start, stop, note.midi, velocity, variant, note.bend, note.semitones, pan=note.pan, level=note.level)
            yield late.varied(plain, round(at))


def joined_line(notes: list[Sounding], mode: str, glide_ticks: float) -> list[Sounding]:
    """Notes of a one-voiced part: each ends where the next begins and is reached from the one before by a glide. In "legato" only
    overlapping notes glide, and they are one note that bends, its envelopes running on.
    """
    out: list[Sounding] = []
    swells = [n for n in notes if n.swell]
    for note in sorted((n for n in notes if not n.swell), key=lambda n: (n.start, n.midi)):
        last = out[-1] if out else None
        if last is None or note.start > last.end + 1e-9:
            out.append(note)
            continue
        if note.start <= last.start:
            # Two at once: the higher one is played.
            out[-1] = replace(note, end=max(note.end, last.end))
            continue
        overlaps = note.start < last.end
        sounds = last.pitch + (last.bend[-1][1] if last.bend else 0.0)
        if mode == "legato" and overlaps:
            at = note.start - last.start
            path = last.bend or ((0.0, 0.0),)
            step = note.pitch - last.pitch
            bend = (*path, (at, path[-1][1]), (at + max(glide_ticks, 1.0), float(step)))
            out[-1] = replace(last, end=max(last.end, note.end), bend=bend)
            continue
        out[-1] = replace(last, end=min(last.end, note.start))
        glides = mode == "mono" and glide_ticks > 0 and sounds != note.pitch and not note.bend
        out.append(replace(note, bend=((0.0, sounds - note.pitch), (glide_ticks, 0.0))) if glides else note)
    return out + swells


def schedule_part(song: Song, part: Part, rate_hz: int) -> list[Event]:
    """Events of one part in order of start, not yet choked."""
    grid = song.grid
    notes = list(sounding_notes(song, part))
    mode, glide_ms = voice_of(part.sound).line(part.sound)
    if mode != "poly":
        notes = joined_line(notes, mode, glide_ms / 1000 / grid.beat_s * TICKS_PER_BEAT)
    out = []
    for note in notes:
        length = max(1, grid.samples_in_ticks(note.end - note.start, rate_hz))
        bend = tuple((float(grid.samples_in_ticks(at, rate_hz)), semitones) for at, semitones in note.bend)
        start, bar = grid.sample_of_ticks(note.start, rate_hz), int(note.start // grid.ticks_per_bar)
        level = tuple((float(grid.samples_in_ticks(at, rate_hz)), db) for at, db in note.level)
        out.append(
            Event(
                start, length, note.midi, note.velocity, note.variant, bar, bend, None, note.semitones, note.swell, note.pan, level
            )
        )
    out.sort(key=lambda e: (e.start, e.midi))
    return out


def choke(events: dict[str, list[Event]]) -> dict[str, list[Event]]:
    """Events of the parts of a choke group by id: every hit silences the ones before it."""
    starts = np.unique(np.array([e.start for part in events.values() for e in part if not e.swell], np.int64))
    out = {}
    for part_id, part in events.items():
        after = np.searchsorted(starts, [e.start for e in part], side="right")
        out[part_id] = [
            replace(e, cut=int(starts[k] - e.start)) if k < len(starts) and not e.swell else e for e, k in zip(part, after)
        ]
    return out


def duck_triggers(song: Song, curve: DuckCurve, rate_hz: int) -> np.ndarray:
    """Sample positions of a ducking curve's triggers: the rate's steps, or the patterns of the parts that trigger it, which go on
    where the part rests in a section or is muted. Gaps trigger nothing, nor do sections that don't duck."""
    grid = song.grid
    named = curve.triggers or next(((base_of(p),) for p in song.parts if p.role == "kick" and p.patterns), ())
    parts = [p for p in song.parts if base_of(p) in named and p.patterns]
    step = TICKS_PER_BEAT // (1 if curve.rate == "1/4" else 2)
    out: list[int] = []
    for first_bar, section in song.placed():
        if not section.ducks:
            continue
        start = grid.ticks_of_bar(first_bar)
        if curve.rate == "hits":
            # Each with the sound that it has in this section.
            for part in playing_in(section.id, parts):
                out += [grid.sample_of_ticks(tick, rate_hz) for tick in _as_if_played(song, part, section, start)]
        else:
            end = start + section.bars * grid.ticks_per_bar - round(song.gap_beats(section.id) * TICKS_PER_BEAT)
            out += [grid.sample_of_ticks(t, rate_hz) for t in range(start, end, step)]
    return np.array(sorted(out), np.int64)


def _as_if_played(song: Song, part: Part, section: SongSection, start: int) -> Iterator[float]:
    """Ticks of a part's notes in a section, all through it and also where it rests."""
    late = _Lateness(song, part)
    cell = part.cell(section.id)
    plays = replace(cell, on=True, entry_bars=0, exit_bars=0) if cell and cell.pattern in part.patterns else None
    for tick, _, note in _laid_out(song, part, section, plays or Cell(section.id, min(part.patterns)), start):
        yield max(0.0, tick + late.of(note, (tick - start) % song.grid.ticks_per_bar)[0])
