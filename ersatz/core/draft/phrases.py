"""Two phrases of eight bars in place of one, the second with another end: listeners are given something new every eight bars, and
what repeats its eighth bar gives them nothing."""

from __future__ import annotations

import random
from dataclasses import replace
from itertools import pairwise

from ersatz.core.draft.patterns import BAR, PHRASE_BARS, STEP
from ersatz.core.pitch import Key
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.parts import Note, Pattern

BARS = 2 * PHRASE_BARS
LAST_BAR = (BARS - 1) * BAR
#: A soft hit before the bar ends, and one that is struck twice.
GHOST_VELOCITY, TWICE_VELOCITY = 0.42, 0.6
#: From here on the last bar of a bass line leads on into the first.
LEADS_FROM = LAST_BAR + 12 * STEP


def drums(pattern: Pattern, role: str, rng: random.Random) -> Pattern:
    """Kick: a hit more or less at the end. Clap: a ghost before the bar ends. Hats and percussion: the last hit struck twice."""
    notes = list(_twice(pattern))
    if not notes or notes[-1].tick < LAST_BAR:
        return pattern
    last = notes[-1]
    if role == "kick":
        late = LAST_BAR + rng.choice((14, 15)) * STEP
        if rng.random() < 0.5 or any(n.tick == late for n in notes):
            notes.pop()
        else:
            notes.append(replace(last, tick=late, velocity=0.7))
    elif role == "clap":
        ghost = LAST_BAR + rng.choice((15, 15, 11)) * STEP
        if all(n.tick != ghost for n in notes):
            notes.append(replace(last, tick=ghost, velocity=GHOST_VELOCITY))
    else:
        notes[-1] = replace(last, velocity=max(last.velocity, TWICE_VELOCITY), repeats=2)
    return Pattern(BARS, tuple(sorted(notes, key=lambda n: n.tick)))


def chords(pattern: Pattern) -> Pattern:
    """The chord of each eighth bar is struck again on its last beat, that of the sixteenth also on its third."""
    again = {(PHRASE_BARS - 1) * BAR: (12,), LAST_BAR: (8, 12)}
    notes = []
    for n in _twice(pattern):
        struck = again.get(n.tick, ())
        if not struck or n.ticks <= struck[-1] * STEP:
            notes.append(n)
            continue
        places = [0, *struck, STEPS_PER_BAR]
        for k, (step, until) in enumerate(pairwise(places)):
            velocity = n.velocity if k == 0 else round(0.9 * n.velocity, 2)
            notes.append(replace(n, tick=n.tick + step * STEP, ticks=(until - step) * STEP - 10, velocity=velocity))
    return Pattern(BARS, tuple(sorted(notes, key=lambda n: (n.tick, n.midi))))


def bass(pattern: Pattern, key: Key) -> Pattern:
    """The end of the last bar goes by the scale to the note that the first begins on."""
    notes = list(_twice(pattern))
    kept = [n for n in notes if n.tick < LEADS_FROM]
    first = notes[0].midi
    here = kept[-1].midi if kept else first
    scale = [m for m in range(first - 7, first + 8) if m % 12 in key.pitch_classes and m != first]
    side = [m for m in scale if (m > first) == (here > first)] or scale
    near = sorted(side, key=lambda m: abs(m - first))[:2]
    leading = [Note(LEADS_FROM + k * 2 * STEP, 2 * STEP - 20, m, 0.8) for k, m in enumerate(reversed(near))]
    kept = [replace(n, ticks=min(n.ticks, LEADS_FROM - n.tick - 20)) if n.tick + n.ticks > LEADS_FROM else n for n in kept]
    return Pattern(BARS, (*kept, *leading))


def _twice(pattern: Pattern) -> tuple[Note, ...]:
    notes = sorted(pattern.notes, key=lambda n: (n.tick, n.midi))
    return tuple(replace(n, tick=n.tick + turn * PHRASE_BARS * BAR) for turn in range(2) for n in notes)
