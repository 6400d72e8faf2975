"""When each note of a song sounds, in samples: patterns laid out through cells, swing and gaps applied, mono lines joined, choked
hits cut.

Every length and offset is rounded inside its bar, so that a pattern that comes again gives the same figures again.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.song.document import Part, Song
from ersatz.core.voices import VARIANTS, voice_of

SIXTEENTH = TICKS_PER_BEAT // 4
Bend = tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Event:
    """`start` and `length` in samples, `start` from the song's; `bar` 0-based; `bend` as (samples, semitones). `cut`: samples after
    which another hit of the choke group silences it, or None."""

    start: int
    length: int
    midi: int
    velocity: float
    variant: int
    bar: int
    bend: Bend = ()
    cut: int | None = None


@dataclass(frozen=True)
class Sounding:
    """A note as it sounds, in ticks from the song's start, swing applied, cut by gaps and exits; `bend` in ticks and semitones."""

    start: float
    end: float
    midi: int
    velocity: float
    variant: int
    bend: Bend = ()


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
                    variant = (note.tick // SIXTEENTH) % VARIANTS
                    yield Sounding(late, late + min(note.ticks, end - tick), note.midi, note.velocity, variant, note.bend)


def _lateness(tick: int, swing: float) -> float:
    return swing if (tick // SIXTEENTH) % 2 == 1 else 0.0


def joined_line(notes: list[Sounding], mode: str, glide_ticks: float) -> list[Sounding]:
    """Notes of a one-voiced part: each ends where the next begins and is reached from the one before by a glide. In "legato" only
    overlapping notes glide, and they are one note that bends, its envelopes running on.
    """
    out: list[Sounding] = []
    for note in sorted(notes, key=lambda n: (n.start, n.midi)):
        last = out[-1] if out else None
        if last is None or note.start > last.end + 1e-9:
            out.append(note)
            continue
        if note.start <= last.start:
            # Two at once: the higher one is played.
            out[-1] = replace(note, end=max(note.end, last.end))
            continue
        overlaps = note.start < last.end
        sounds = last.midi + (last.bend[-1][1] if last.bend else 0.0)
        if mode == "legato" and overlaps:
            at = note.start - last.start
            path = last.bend or ((0.0, 0.0),)
            step = note.midi - last.midi
            bend = (*path, (at, path[-1][1]), (at + max(glide_ticks, 1.0), float(step)))
            out[-1] = replace(last, end=max(last.end, note.end), bend=bend)
            continue
        out[-1] = replace(last, end=min(last.end, note.start))
        glides = mode == "mono" and glide_ticks > 0 and sounds != note.midi and not note.bend
        out.append(replace(note, bend=((0.0, sounds - note.midi), (glide_ticks, 0.0))) if glides else note)
    return out


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
        bar = int(note.start // grid.ticks_per_bar)
        out.append(Event(grid.sample_of_ticks(note.start, rate_hz), length, note.midi, note.velocity, note.variant, bar, bend))
    out.sort(key=lambda e: (e.start, e.midi))
    return out


def choke(events: dict[str, list[Event]]) -> dict[str, list[Event]]:
    """Events of the parts of a choke group by id: every hit silences the ones before it."""
    starts = np.unique(np.array([e.start for part in events.values() for e in part], np.int64))
    out = {}
    for part_id, part in events.items():
        after = np.searchsorted(starts, [e.start for e in part], side="right")
        out[part_id] = [replace(e, cut=int(starts[k] - e.start)) if k < len(starts) else e for e, k in zip(part, after)]
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
