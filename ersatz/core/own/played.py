"""What a song plays, in the terms in which a recording is heard: notes that begin on 16ths, pitch classes that sound in bars."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Part, Role

STEP_TICKS = TICKS_PER_BEAT // 4
#: A line is looked at in stretches of so many bars.
STRETCH_BARS = 4
#: Fewer notes, or fewer pitches, say nothing about whose they are.
LEAST_NOTES, LEAST_PITCHES = 4, 2
#: A passing note in the last moment of a bar is no part of its chord.
LEAST_SHARE = 0.25


@dataclass(frozen=True)
class Stretch:
    """`STRETCH_BARS` bars of a line: 16ths from its start and MIDI notes, and the 1-based bars of the song at which it stands."""

    part: str
    steps: np.ndarray
    midi: np.ndarray
    bars: tuple[int, ...]


def stretches(song: Song, role: Role) -> list[Stretch]:
    """Every stretch that a role's parts play, each once, in the order of the song; those that say nothing are left out."""
    spans = [(bar + k, min(STRETCH_BARS, s.bars - k)) for bar, s in song.placed() for k in range(0, s.bars, STRETCH_BARS)]
    return [stretch for part, notes in _lines(song, role) for stretch in cut(notes, spans, part.id)]


def cut(notes: list[tuple[int, int]], spans: list[tuple[int, int]], part: str = "") -> list[Stretch]:
    """Notes as (16th from bar 1, MIDI note) in stretches of (1-based bar, bars); equal ones are one that stands at several bars."""
    found: dict[tuple[tuple[int, int], ...], list[int]] = {}
    for start, bars in spans:
        first = (start - 1) * STEPS_PER_BAR
        inside = tuple(sorted({(s - first, m) for s, m in notes if first <= s < first + bars * STEPS_PER_BAR}))
        if len(inside) >= LEAST_NOTES and len({midi for _, midi in inside}) >= LEAST_PITCHES:
            found.setdefault(inside, []).append(start)
    return [Stretch(part, np.array([s for s, _ in x]), np.array([m for _, m in x]), tuple(bars)) for x, bars in found.items()]


def moves_in_bars(stretch: Stretch) -> bool:
    """Whether it plays more than one pitch class in any bar: else it follows the chords and is judged with them."""
    bars = stretch.steps // STEPS_PER_BAR
    return any(len(set(stretch.midi[bars == bar] % 12)) > 1 for bar in np.unique(bars))


def chords(song: Song) -> list[frozenset[int]]:
    """Pitch classes that the parts with chords hold in each bar of the song, empty where none plays."""
    ticks = STEPS_PER_BAR * STEP_TICKS
    held = np.zeros((song.bars, 12))
    staged_song = staged(song)
    for part in staged_song.parts:
        if part.role != "chords" or part.mute:
            continue
        for note in sounding_notes(staged_song, part):
            for bar in range(int(note.start // ticks), min(song.bars - 1, int((note.end - 1) // ticks)) + 1):
                held[bar, note.midi % 12] += min(note.end, (bar + 1) * ticks) - max(note.start, bar * ticks)
    return [frozenset(np.flatnonzero(row > LEAST_SHARE * max(float(row.max()), 1.0)).tolist()) for row in held]


def steps_of(song: Song, role: Role) -> list[frozenset[int]]:
    """16ths of each bar on which a role's parts are struck."""
    out: list[set[int]] = [set() for _ in range(song.bars)]
    for _, notes in _lines(song, role):
        for step, _ in notes:
            if step // STEPS_PER_BAR < song.bars:
                out[step // STEPS_PER_BAR].add(step % STEPS_PER_BAR)
    return [frozenset(bar) for bar in out]


def line_of(song: Song, role: Role) -> list[tuple[int, int]]:
    """The first part of a role as (16th, MIDI note), the highest where several begin together."""
    top: dict[int, int] = {}
    for _, notes in _lines(song, role)[:1]:
        for step, midi in notes:
            top[step] = max(midi, top.get(step, 0))
    return sorted(top.items())


def _lines(song: Song, role: Role) -> list[tuple[Part, list[tuple[int, int]]]]:
    """Parts of a role that sound, with (16th from the song's start, MIDI note) of every note."""
    song = staged(song)
    return [
        (part, [(round(n.start / STEP_TICKS), n.midi) for n in sounding_notes(song, part) if not n.swell])
        for part in song.parts if part.role == role and not part.mute and part.follows is None
    ]  # fmt: skip
