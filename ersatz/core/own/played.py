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
    found: dict[tuple[str, bytes, bytes], list[int]] = {}
    for part, notes in _lines(song, role):
        for start, bars in _cut(song):
            inside = sorted({(step - (start - 1) * STEPS_PER_BAR, midi) for step, midi in notes
                             if start - 1 <= step // STEPS_PER_BAR < start - 1 + bars})  # fmt: skip
            if len(inside) < LEAST_NOTES or len({midi for _, midi in inside}) < LEAST_PITCHES:
                continue
            steps, midi = (np.array(column) for column in zip(*inside))
            found.setdefault((part.id, steps.tobytes(), midi.tobytes()), []).append(start)
    return [Stretch(part, np.frombuffer(steps, int), np.frombuffer(midi, int), tuple(bars))
            for (part, steps, midi), bars in found.items()]  # fmt: skip


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


def _lines(song: Song, role: Role) -> list[tuple[Part, list[tuple[int, int]]]]:
    """Parts of a role that sound, with (16th from the song's start, MIDI note) of every note."""
    song = staged(song)
    return [
        (part, [(round(n.start / STEP_TICKS), n.midi) for n in sounding_notes(song, part) if not n.swell])
        for part in song.parts if part.role == role and not part.mute and part.follows is None
    ]  # fmt: skip


def _cut(song: Song) -> list[tuple[int, int]]:
    """Stretches of the sections: (1-based bar, bars)."""
    return [(bar + k, min(STRETCH_BARS, s.bars - k)) for bar, s in song.placed() for k in range(0, s.bars, STRETCH_BARS)]
