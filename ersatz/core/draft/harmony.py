"""Which chords, and how they are voiced and struck.

A progression is sixteen degrees, one a bar: a loop of four bars, or of eight in two halves that begin alike, and at the end of the
sixteen another chord that leads back. Voices go the shortest way round the whole loop (Viterbi over inversions): tones that two
chords share are held, the others move by step where they can (Tymoczko 2011, voice leading as least motion). Colours are steps of
the scale over the root; the tonic stays a triad, which says the key.
"""

from __future__ import annotations

import random
from dataclasses import replace
from itertools import pairwise, product

import numpy as np

from ersatz.core.draft.patterns import BAR, PHRASE_BARS, STEP, WRITTEN_BARS, Degrees, by_energy
from ersatz.core.pitch import Key, hz_midi
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.parts import Note, Pattern
from ersatz.core.styles import Style

#: Degrees of four bars. All start on the tonic, and the longer ones come back to it from the dominant: a loop that doesn't is heard
#: in the key of whatever it starts on.
PROGRESSIONS: dict[tuple[str, str], tuple[Degrees, ...]] = {
    ("four", "minor"): ((0, 3, 5, 4), (0, 5, 3, 4), (0, 6, 5, 4), (0, 2, 5, 4), (0, 0, 3, 4), (0, 0, 5, 4)),
    ("four", "major"): ((0, 4, 5, 3), (0, 3, 1, 4), (0, 2, 3, 4), (0, 5, 3, 4)),
    ("few", "minor"): ((0, 0, 5, 6), (0, 0, 3, 0), (0, 0, 6, 5)),
    ("few", "major"): ((0, 0, 3, 4), (0, 0, 5, 3)),
    ("pair", "minor"): ((0, 0, 1, 0),),
    ("pair", "major"): ((0, 0, 3, 0),),
    ("one", "minor"): ((0, 0, 0, 0), (0, 0, 0, 6)),
    ("one", "major"): ((0, 0, 0, 0),),
}
#: How the second half of an eight-bar loop ends, by what the first half ends on; and what the sixteenth bar has instead.
OTHER_ENDS: dict[str, tuple[Degrees, ...]] = {"minor": ((3, 4), (5, 6), (6, 4), (2, 4)), "major": ((3, 4), (1, 4), (5, 4))}
TURNS: dict[str, dict[int, int]] = {
    "minor": {0: 6, 1: 6, 2: 4, 3: 4, 4: 6, 5: 4, 6: 4}, "major": {0: 4, 1: 4, 2: 4, 3: 4, 4: 3, 5: 4, 6: 4},
}  # fmt: skip
#: Steps of the scale over the root by colour: of the tonic and of the others.
COLOURS: dict[str, tuple[Degrees, Degrees]] = {
    "triads": ((0, 2, 4, 7), (0, 2, 4, 7)), "sevenths": ((0, 2, 4, 7), (0, 2, 4, 6)), "ninths": ((0, 2, 4, 8), (0, 2, 6, 8)),
    "suspended": ((0, 2, 4, 7), (0, 1, 4, 7)),
}  # fmt: skip
#: A dominant is a triad as well: with the tonic it says the key. Suspended, it lets its fourth down to the third in mid-bar.
DOMINANT, TRIAD = 4, (0, 2, 4, 7)
#: Where chords lie, MIDI notes, and what pulls them to the middle; no two neighbours closer than NEAREST semitones.
LOWEST, HIGHEST, MIDDLE, PULL = 52, 76, 63.0, 0.15
WIDEST, NEAREST = 17, 2
#: No root under a pad lies lower: that is the bass's.
LOWEST_ROOT = 41
#: A voice that moves further than a step costs so much more per semitone.
STEP_SEMITONES, BEYOND_STEP = 2, 2.0
#: Stabs: 16ths of a bar by the family of the kick.
STABS: dict[str, tuple[tuple[int, ...], ...]] = {
    "four": ((2, 6, 10, 14), (0, 3, 8, 11), (2, 5, 10, 13), (0, 3, 6, 10), (3, 6, 11, 14)),
    "two-step": ((0, 7), (2, 9, 14), (3, 10), (0, 6, 13)),
    "broken": ((2, 5, 10, 13), (4, 7, 12, 15), (2, 8, 11), (0, 5, 10)),
    "dembow": ((3, 6, 11, 14), (0, 3, 6, 8, 11, 14), (2, 6, 10, 14)),
    "half": ((2, 10), (0, 5, 10), (6, 14), (3, 11)),
}
#: How held chords are struck: 16ths of a bar; from EARLY on a chord comes before its bar does.
HELD: dict[str, tuple[tuple[int, ...], ...]] = {"whole": ((0,),), "again": ((0, 10), (0, 6)), "early": ((0, 14),)}
EARLY = 14
STAB_TICKS = STEP + 60


def progression(style: Style, key: Key, reference: Degrees, rng: random.Random) -> Degrees:
    """WRITTEN_BARS degrees that aren't the reference's own sequence (in any rotation)."""
    rotations = {reference[i:] + reference[:i] for i in range(len(reference))}
    loops = PROGRESSIONS[style.progressions, key.mode]
    loop = rng.choice([p for p in loops if p not in rotations] or [tuple(reversed(p)) for p in loops])
    second = loop
    if style.progressions in ("four", "few") and rng.random() < 0.5:
        others = [(*loop[:2], *end) for end in OTHER_ENDS[key.mode]]
        second = rng.choice([p for p in others if p != loop and p not in rotations] or [loop])
    eight = (*loop, *second)
    turn = TURNS[key.mode][eight[-1]]
    return (*eight, *eight[:-1], turn)


def steps_of(degree: int, colour: str) -> Degrees:
    """Steps of the scale over a chord's root."""
    if degree == DOMINANT:
        return TRIAD
    return COLOURS[colour][degree != 0]


def voicings(key: Key, degrees: Degrees, colour: str = "sevenths") -> list[tuple[int, ...]]:
    """Four voices per degree, MIDI notes from low to high, by the way round the loop on which voices move least."""
    placed = [_placed(key, degree, colour) for degree in degrees]
    moves = [_motion(a, b) for a, b in zip(placed, (*placed[1:], placed[0]))]
    pulls = [PULL * np.abs(voices.mean(axis=1) - MIDDLE) for voices in placed]
    # From every voicing of the first chord the cheapest ways on, the last of them back to where it began.
    cost, back = np.full((len(placed[0]), len(placed[0])), np.inf), []
    np.fill_diagonal(cost, pulls[0])
    for move, pull in zip(moves[:-1], pulls[1:]):
        via = cost[:, :, None] + move[None, :, :]
        back.append(via.argmin(axis=1))
        cost = via.min(axis=1) + pull
    closed = cost + moves[-1].T
    first, at = np.unravel_index(int(closed.argmin()), closed.shape)
    path = [int(at)]
    for came in reversed(back):
        path.append(int(came[first, path[-1]]))
    return [tuple(int(m) for m in voices[k]) for voices, k in zip(placed, reversed(path))]


def _placed(key: Key, degree: int, colour: str) -> np.ndarray:
    """Every way in which a chord's four tones lie in the range, shape (ways, 4), sorted."""
    classes = [key.degree_midi(degree + step, 60) % 12 for step in steps_of(degree, colour)]
    places = [[m for m in range(LOWEST, HIGHEST + 1) if m % 12 == c] for c in classes]
    ways = {tuple(sorted(way)) for way in product(*places)}
    for nearest in (NEAREST, 1):
        kept = [w for w in ways if w[-1] - w[0] <= WIDEST and min(b - a for a, b in pairwise(w)) >= nearest]
        if kept:
            return np.array(sorted(kept))
    raise ValueError(f"no room for a chord on degree {degree}")


def _motion(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """How far the voices go from each way of one chord to each of the next."""
    far = np.abs(a[:, None, :] - b[None, :, :])
    return (far + BEYOND_STEP * np.maximum(far - STEP_SEMITONES, 0)).sum(axis=2).astype(float)


def pad(chords: list[tuple[int, ...]], degrees: Degrees, colour: str, rhythm: str, key: Key, rng: random.Random) -> Pattern:
    """Held chords, one a bar: tones that the next chord shares are held over the bar line, but into each fourth bar; the chord of
    each eighth bar is struck again, that of the last twice."""
    strokes, suspends = rng.choice(HELD[rhythm]), colour == "suspended"
    notes: list[Note] = []
    for bar, chord in enumerate(chords):
        at = strokes
        if bar % PHRASE_BARS == PHRASE_BARS - 1:
            at = (0, 8, 12) if bar == len(chords) - 1 else (0, 12)
        for step, until in zip(at, (*at[1:], STEPS_PER_BAR)):
            coming = step >= EARLY
            voices = chords[(bar + 1) % len(chords)] if coming else chord
            velocity = 0.8 if step == 0 or coming else 0.72
            if suspends and at == (0,) and degrees[bar] == DOMINANT:
                notes += _suspended(voices, degrees[bar], bar, key)
                continue
            notes += [Note(bar * BAR + step * STEP, (until - step) * STEP - 10, m, velocity) for m in voices]
    return Pattern(len(chords), _tied(notes))


def on_roots(held: Pattern, degrees: Degrees, key: Key, near_hz: float) -> Pattern:
    """Held chords, one a bar, with each one's root under it, near a frequency."""
    lowest = max(LOWEST_ROOT, round(hz_midi(near_hz)) - 6)
    roots = [lowest + (key.degree_midi(degree, 60) - lowest) % 12 for degree in degrees]
    # None above the lowest that a voice may lie.
    roots = [root if root <= LOWEST else root - 12 for root in roots]
    under = _tied([Note(bar * BAR, BAR - 10, root, 0.8) for bar, root in enumerate(roots)])
    struck = [n for n in held.notes if n.midi not in roots]
    return replace(held, notes=tuple(sorted((*struck, *under), key=lambda n: (n.tick, n.midi))))


def _suspended(voices: tuple[int, ...], degree: int, bar: int, key: Key) -> list[Note]:
    """The fourth in place of the third for half a bar."""
    third, fourth = (key.degree_midi(degree + step, 60) % 12 for step in (2, 3))
    out = []
    for m in voices:
        if m % 12 == third:
            up = m + (fourth - third) % 12
            out += [Note(bar * BAR, 8 * STEP - 10, up, 0.8), Note(bar * BAR + 8 * STEP, 8 * STEP - 10, m, 0.75)]
        else:
            out.append(Note(bar * BAR, BAR - 10, m, 0.8))
    return out


def _tied(notes: list[Note]) -> tuple[Note, ...]:
    """Notes that reach a bar line behind which the same pitch begins, and which isn't the first of four bars, go on there."""
    out: list[Note] = []
    sounding: dict[int, int] = {}
    for n in sorted(notes, key=lambda n: (n.tick, n.midi)):
        before = sounding.get(n.midi)
        if before is not None and n.tick % BAR == 0 and n.tick % (4 * BAR) and out[before].tick + out[before].ticks >= n.tick - 10:
            held = out[before]
            out[before] = Note(held.tick, n.tick + n.ticks - held.tick, n.midi, held.velocity)
            continue
        sounding[n.midi] = len(out)
        out.append(n)
    return tuple(out)


def stabs(chords: list[tuple[int, ...]], family: str, energy: int, rng: random.Random) -> Pattern:
    """Short chords without their lowest voice; each fourth bar answers with another rhythm, the last leaves its end out."""
    rhythms = by_energy(STABS[family], len, energy)
    first, second = rng.sample(rhythms, 2)
    notes = []
    for bar, chord in enumerate(chords):
        for step in second if bar % 4 == 3 else first:
            if bar == WRITTEN_BARS - 1 and step >= STEPS_PER_BAR - 4:
                continue
            velocity = 0.95 if step % 4 == 0 else 0.75
            notes += [Note(bar * BAR + step * STEP, STAB_TICKS, m + (12 if m < 62 else 0), velocity) for m in chord[1:]]
    return Pattern(len(chords), tuple(notes))
