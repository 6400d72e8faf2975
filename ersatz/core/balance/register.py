"""In which octave do the chords and leads of a draft stand nearest to the reference?

An octave is three third octaves: a part that plays an octave lower adds the same power three bands further down. So the register
is chosen from what was rendered once, before levels and EQ are solved; no equaliser fills a band in which nothing sounds.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ersatz.core.balance.solver import Powers
from ersatz.core.gap.sections import balance_db, levels_apart
from ersatz.core.song import transform
from ersatz.core.song.document import Song, with_strip
from ersatz.core.song.parts import Part
from ersatz.core.voices import voice_of

#: Roles whose octave may be chosen, and how far, octaves; bands of an octave.
MOVED, OCTAVES, BANDS_PER_OCTAVE = ("chords", "lead"), (-1, 1), 3
#: By how much the mean of all sections has to come nearer, dB.
LEAST_GAINED_DB = 0.2
#: Notes stay within these, MIDI.
LOWEST, HIGHEST = 33, 96


def with_registers(song: Song, powers: Powers) -> Song:
    """The song with those parts an octave lower or higher that bring the balance of its sections nearer in the mean."""
    parts = powers.parts
    for p, part_id in enumerate(powers.ids):
        part = song.part(part_id)
        if part is None or part.role not in MOVED or not voice_of(part.sound).pitched:
            continue
        # A filter that moves stays where it is when the notes go up.
        still = [n for n, place in enumerate(powers.sections) if not _filtered(song, part, place)]
        stands = _distance(parts, powers, still)
        shifts = [(by, _shifted(parts, p, by)) for by in OCTAVES if still and _fits(part, by)]
        tried = [(_distance(moved, powers, still), by, moved) for by, moved in shifts]
        if not tried:
            continue
        nearest, by, moved = min(tried, key=lambda row: row[0])
        if stands - nearest >= LEAST_GAINED_DB:
            parts, song = moved, with_strip(song, transposed(part, 12 * by))
    return song


def transposed(part: Part, semitones: int) -> Part:
    """All its patterns, every note."""
    moved = {name: replace(p, notes=transform.transposed(p.notes, semitones)) for name, p in part.patterns.items()}
    return replace(part, patterns=moved)


def _fits(part: Part, octaves: int) -> bool:
    notes = [n.midi + 12 * octaves for pattern in part.patterns.values() for n in pattern.notes]
    return bool(notes) and min(notes) >= LOWEST and max(notes) <= HIGHEST


def _shifted(parts: np.ndarray, p: int, octaves: int) -> np.ndarray:
    """The powers with part `p` so many octaves higher, shape (parts, sections, BANDS)."""
    by, out = octaves * BANDS_PER_OCTAVE, parts.copy()
    out[p] = 0.0
    out[p, :, max(by, 0) : parts.shape[2] + min(by, 0)] = parts[p, :, max(-by, 0) : parts.shape[2] + min(-by, 0)]
    return out


def _filtered(song: Song, part: Part, place: int) -> bool:
    """Whether an effect of the part is mixed in for a while in the section at this place of the plan."""
    bar, section = list(song.placed())[place]
    start, end = song.grid.ticks_of_bar(bar), song.grid.ticks_of_bar(bar + section.bars)
    blends = (a for a in part.automation if a.param == "blend")
    return any(start <= point.tick < end and point.value > 0 for a in blends for point in a.points)


def _distance(parts: np.ndarray, powers: Powers, sections: list[int]) -> float:
    """Mean distance per third octave at equal loudness, of these sections, dB."""
    sums = parts.sum(axis=0) + powers.rest
    apart = [levels_apart(10 * np.log10(sums[n] + 1e-14), powers.targets[n]) for n in sections]
    return float(np.mean([balance_db(difference) for difference in apart]))
