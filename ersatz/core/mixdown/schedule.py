"""When each note of a song sounds, in samples: patterns laid out through cells, swing and gaps applied."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.song.document import Part, Song

SIXTEENTH = TICKS_PER_BEAT // 4
#: Hits of unpitched voices come in this many takes, so that a roll isn't a machine gun.
VARIANTS = 3


@dataclass(frozen=True)
class Event:
    """`start` and `length` in samples from the song's start; `level_db` from the cell."""

    start: int
    length: int
    midi: int
    velocity: float
    level_db: float
    variant: int


@dataclass(frozen=True)
class Sounding:
    """A note as it sounds, in ticks from the song's start, swing applied, cut by gaps and exits."""

    start: float
    end: float
    midi: int
    velocity: float
    level_db: float
    variant: int


def sounding_notes(song: Song, part: Part) -> Iterator[Sounding]:
    """Every note of a part, section by section: patterns laid out through cells."""
    grid = song.grid
    swing = song.swing_ticks()
    for first_bar, section in song.placed():
        cell = part.cell(section.id)
        if cell is None or not cell.on or cell.pattern not in part.patterns:
            continue
        pattern = part.patterns[cell.pattern]
        start = grid.ticks_of_bar(first_bar)
        begin = start + cell.entry_bars * grid.ticks_per_bar
        silence = start + section.bars * grid.ticks_per_bar - section.gap_beats * TICKS_PER_BEAT
        end = min(start + (section.bars - cell.exit_bars) * grid.ticks_per_bar, silence)
        for repeat in range(-(-section.bars // pattern.bars)):
            for note in pattern.notes:
                tick = start + repeat * pattern.bars * grid.ticks_per_bar + note.tick
                if begin <= tick < end:
                    late = tick + _lateness(note.tick, swing)
                    variant = (note.tick // SIXTEENTH + repeat) % VARIANTS
                    level_db = cell.level_db + section.level_db((tick - start) // grid.ticks_per_bar)
                    yield Sounding(late, late + min(note.ticks, end - tick), note.midi, note.velocity, level_db, variant)


def _lateness(tick: int, swing: float) -> float:
    return swing if (tick // SIXTEENTH) % 2 == 1 else 0.0


def schedule_part(song: Song, part: Part, rate_hz: int) -> list[Event]:
    """Events of one part in order of start."""
    out = []
    for note in sounding_notes(song, part):
        start, stop = (song.grid.sample_of_ticks(t, rate_hz) for t in (note.start, note.end))
        out.append(Event(start, max(1, stop - start), note.midi, note.velocity, note.level_db, note.variant))
    out.sort(key=lambda e: (e.start, e.midi))
    return out


def duck_triggers(song: Song, rate_hz: int) -> np.ndarray:
    """Sample positions of the ducker's triggers: the rate's steps, or the kick's own pattern, which goes on ducking
    where the kick is muted in a breakdown. Gaps trigger nothing, nor do sections that don't duck."""
    grid = song.grid
    out: list[int] = []
    if song.ducking.rate != "kick":
        step = TICKS_PER_BEAT // (1 if song.ducking.rate == "1/4" else 2)
        for first_bar, section in song.placed():
            if not section.ducks:
                continue
            start = grid.ticks_of_bar(first_bar)
            end = start + section.bars * grid.ticks_per_bar - section.gap_beats * TICKS_PER_BEAT
            out += [grid.sample_of_ticks(t, rate_hz) for t in range(start, int(end), step)]
        return np.array(out, np.int64)
    kick = next((p for p in song.parts if p.role == "kick" and p.patterns), None)
    if kick is None:
        return np.array([], np.int64)
    fallback = kick.patterns[min(kick.patterns)]
    swing = song.swing_ticks()
    for first_bar, section in song.placed():
        if not section.ducks:
            continue
        cell = kick.cell(section.id)
        pattern = kick.patterns.get(cell.pattern, fallback) if cell else fallback
        start = grid.ticks_of_bar(first_bar)
        end = start + section.bars * grid.ticks_per_bar - section.gap_beats * TICKS_PER_BEAT
        for repeat in range(-(-section.bars // pattern.bars)):
            for note in pattern.notes:
                tick = start + repeat * pattern.bars * grid.ticks_per_bar + note.tick
                if tick < end:
                    out.append(grid.sample_of_ticks(tick + _lateness(note.tick, swing), rate_hz))
    return np.array(sorted(out), np.int64)
