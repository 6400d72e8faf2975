"""Patterns for a part, seeded: from the style, the key, the song's chords, the reference's density and what is locked already.

Method: the draft's own figures (drums.py, basses.py, harmony.py, hooks.py) are cut or repeated to the pattern's length; hits are
thinned, softest and weakest first, or filled in, strongest places first, until there are `per_bar` of them; what is locked stays
and drives away what would sound with it. A mood is measured against the notes that are replaced."""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

from ersatz.core.draft import basses, drums, harmony, hooks
from ersatz.core.draft.parts import LOW_BASS_MIDI, OVER_SUB_HZ, over_sub
from ersatz.core.draft.patterns import BAR, PHRASE_BARS, STEP, Degrees
from ersatz.core.pitch import Key
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Note, Part, Pattern
from ersatz.core.styles import BY_NAME, Style, choose_style
from ersatz.core.voices import library

#: How readily a 16th of the bar is filled in or kept, strongest first: beats, off-beats, the rest.
WEIGHTS = tuple(3 if k % 4 == 0 else 2 if k % 2 == 0 else 1 for k in range(STEPS_PER_BAR))
LEAD_MIDI, CHOP_MIDI = 69, 62
#: Chords whose notes are shorter on average are stabs.
STAB_TICKS = 900
#: A note that sounds less of a bar says nothing of its chord.
LEAST_TICKS = BAR // 4
#: Roles that play one note at a time.
ONE_VOICED = ("kick", "clap", "hats", "perc", "bass", "lead")
Mood = Literal["", "busier", "sparser", "simpler", "stranger"]
#: Times as many onsets as before; what a simple pattern repeats; how much of a strange one is moved.
DENSER, THINNER = 1.4, 0.6
SIMPLE_BARS, SOFT_VELOCITY = 2, 0.5
MOVED = 0.45


def generate(
    song: Song, part: Part, bars: int, seed: int, per_bar: float | None = None, locked: tuple[Note, ...] = (), mood: Mood = "",
    now: tuple[Note, ...] = (),
) -> tuple[Note, ...]:  # fmt: skip
    """Notes of a pattern of `bars` bars; the same arguments give the same notes. `now`: those that they take the place of. A mood
    goes before `per_bar`."""
    rng = random.Random(f"{seed}|{part.id}|{song.style}|{song.tonic}{song.mode}")
    energy = {"busier": 1, "sparser": -1, "simpler": -1}.get(mood, 0)
    notes = _fitted(_figure(song, part, energy, rng), bars)
    resting = _resting_bars(now, bars) if part.role == "bass" else set()
    notes = [n for n in notes if n.tick // BAR not in resting]
    if mood == "simpler":
        notes = _simpler(notes, bars)
    if mood == "stranger":
        notes = _stranger(notes, part, song.key, bars, rng)
    if mood in ("busier", "sparser"):
        wanted = _wanted(sum(_strikes(now or notes)), mood)
        notes = _dense(notes, part, wanted, bars, rng)
        if mood == "busier":
            notes = _struck_again(notes, wanted, rng)
    elif per_bar is not None and not mood:
        notes = _dense(notes, part, round(per_bar * bars), bars, rng)
    if part.role in ONE_VOICED:
        notes = _one_at_a_time(notes)
    free = [n for n in notes if not any(_clash(n, kept, part) for kept in locked)]
    return tuple(sorted((*locked, *free), key=lambda n: (n.tick, n.midi)))


def _wanted(strikes: int, mood: str) -> int:
    """Onsets of a busier pattern, or of a sparser one, one at least."""
    return round(DENSER * strikes) + 1 if mood == "busier" else max(1, int(THINNER * strikes))


def _strikes(notes: Sequence[Note]) -> list[int]:
    """How often each onset is struck."""
    return list({n.tick: n.repeats for n in notes}.values())


def _struck_again(notes: list[Note], wanted: int, rng: random.Random) -> list[Note]:
    """Where the 16ths don't hold as many onsets as wanted some are struck twice."""
    lacking = wanted - sum(_strikes(notes))
    once = sorted({n.tick for n in notes if n.repeats == 1})
    twice = set(rng.sample(once, min(len(once), max(0, lacking))))
    return [replace(n, repeats=2) if n.tick in twice else n for n in notes]


def _resting_bars(now: tuple[Note, ...], bars: int) -> set[int]:
    """Bars that one of two talking basses leaves to the other: those of four in which it never begins a note."""
    begun = {n.tick // BAR for n in now}
    silent = {k for k in range(4) if not any(b % 4 == k for b in begun)}
    return {b for b in range(bars) if b % 4 in silent} if begun and bars >= 4 else set()


def _simpler(notes: list[Note], bars: int) -> list[Note]:
    """The rhythm of the first bars over and over, without ghosts; pitches are those that stand nearest before, as chords go on."""
    loud = [n for n in notes if n.velocity >= SOFT_VELOCITY] or notes
    rhythm = {n.tick for n in loud if n.tick < SIMPLE_BARS * BAR and n.tick % (2 * STEP) == 0} or {loud[0].tick}
    out = []
    for tick in sorted(t + k * SIMPLE_BARS * BAR for t in rhythm for k in range(-(-bars // SIMPLE_BARS))):
        before = max((n.tick for n in loud if n.tick <= tick), default=loud[0].tick)
        out += [replace(n, tick=tick, repeats=1, semitones=0.0, bend=()) for n in loud if n.tick == before and tick < bars * BAR]
    return out


def _stranger(notes: list[Note], part: Part, key: Key, bars: int, rng: random.Random) -> list[Note]:
    """What lies off the beat is moved by a 16th, to another step of the scale or another octave."""
    taken = {n.tick for n in notes}
    out = []
    for tick in sorted(taken):
        group = [n for n in notes if n.tick == tick]
        place = tick
        if tick % (4 * STEP) and rng.random() < MOVED:
            free = [t for t in (tick - STEP, tick + STEP) if 0 <= t < bars * BAR and t not in taken]
            place = rng.choice(free) if free else tick
            taken.add(place)
        turned = [replace(n, tick=place, ticks=min(n.ticks, bars * BAR - place), bend=()) for n in group]
        if part.role in ("bass", "lead") and rng.random() < MOVED:
            turned = [replace(n, midi=_elsewhere(n.midi, key, rng)) for n in turned]
        if part.role in ("hats", "perc", "clap") and rng.random() < MOVED / 2:
            turned = [replace(n, semitones=float(rng.choice((-5, -2, 3, 7)))) for n in turned]
        out += turned
    return out


def _elsewhere(midi: int, key: Key, rng: random.Random) -> int:
    steps = [
        m for m in range(midi - 4, midi + 13) if m % 12 in key.pitch_classes and m != midi and abs(m - midi) in (1, 2, 3, 10, 12)
    ]
    return rng.choice(steps or [midi])


def _kick_row(song: Song) -> tuple[float, ...]:
    """16ths of the first bar that the song's first kick plays."""
    kick = next((p for p in song.parts if p.role == "kick" and p.patterns), None)
    row = [0.0] * STEPS_PER_BAR
    if kick:
        for n in kick.patterns[min(kick.patterns)].notes:
            if n.tick < BAR:
                row[n.tick // STEP] = 1.0
    return tuple(row)


def _style(song: Song) -> Style:
    return choose_style(song.bpm, _kick_row(song), song.style if song.style in BY_NAME else None)


def _figure(song: Song, part: Part, energy: int, rng: random.Random) -> Pattern:
    style, key, kind = _style(song), song.key, library.kind_of(part.sound, part.role)
    if part.role == "kick":
        return _turned(drums.kick(drums.kick_steps(style, (), rng), style.kick, rng), rng)
    if part.role == "clap":
        return drums.backbeat(style.kick, energy, rng)
    if part.role == "hats":
        if kind == "ride":
            return drums.ride(style.kick, rng)
        return _turned(drums.open_hats(style.kick, rng), rng) if kind == "open hat" else drums.closed_hats((), energy, rng)
    if part.role == "perc":
        if part.sound.voice == "shaker":
            return drums.shaker(energy, rng)
        return drums.percussion([k for k, v in enumerate(_kick_row(song)) if v], style.kick, rng)
    degrees = degrees_of(song, part) or harmony.progression(style, key, (), rng)
    if part.role == "bass":
        return _bass(style, key, degrees, kind, part, energy, rng)
    if part.role == "chords":
        chords = harmony.voicings(key, degrees, style.colour)
        if _plays_short(part):
            return harmony.stabs(chords, style.kick, energy, rng)
        return harmony.pad(chords, degrees, style.colour, rng.choice(sorted(harmony.HELD)), key, rng)
    if part.role == "lead":
        if kind == "voice" or part.sound.voice == "sample":
            return hooks.phrases("voice", key, degrees, CHOP_MIDI, rng, energy, style.colour)
        return hooks.phrases(
            hooks.kind_of(style.lead, library.words_of(part.sound), rng), key, degrees, LEAD_MIDI, rng, energy, style.colour
        )
    return Pattern(PHRASE_BARS, (Note(0, PHRASE_BARS * BAR, 60, 1.0),))


def _bass(style: Style, key: Key, degrees: Degrees, kind: str, part: Part, energy: int, rng: random.Random) -> Pattern:
    """A sub has the roots under a line; what is cut because one lies under it plays an octave higher."""
    if kind == "acid line":
        return hooks.phrases("acid", key, degrees, LOW_BASS_MIDI + 12, rng, energy)
    made = basses.lines(style.bass, key, degrees, LOW_BASS_MIDI, energy, rng, False)
    if kind == "sub":
        return made.sub
    return over_sub(made.bass) if part.low_cut_hz >= OVER_SUB_HZ else made.bass


def _turned(pattern: Pattern, rng: random.Random) -> Pattern:
    """The last bar of every four, or of the eight, with a hit less or one more."""
    last = [n for n in pattern.notes if n.tick // BAR == PHRASE_BARS - 1]
    # The open hats of half time may have none there.
    notes = pattern.notes if rng.random() < 0.4 or not last else tuple(n for n in pattern.notes if n is not last[-1])
    for bar in (3, 7) if rng.random() < 0.5 else (7,):
        tick = bar * BAR + rng.choice((7, 10, 11, 13, 14, 15)) * STEP
        if all(n.tick != tick for n in notes):
            notes = (*notes, replace(notes[0], tick=tick, velocity=round(0.6 + 0.3 * rng.random(), 2)))
    return replace(pattern, notes=tuple(sorted(notes, key=lambda n: n.tick)))


def _plays_short(part: Part) -> bool:
    lengths = [n.ticks for p in part.patterns.values() for n in p.notes]
    return sum(lengths) / len(lengths) < STAB_TICKS if lengths else library.kind_of(part.sound, part.role) == "stab"


def degrees_of(song: Song, part: Part | None = None) -> tuple[int, ...]:
    """Degrees of the chords that the song's first chord part plays, one per bar of its pattern, 0-based; empty where there is none,
    or where `part` is the one."""
    playing = [p for p in song.parts if p.role == "chords" and _plays(p)]
    if not playing or (part and playing[0].id == part.id):
        return ()
    pattern = _first(playing[0])
    low = next((_first(p) for p in song.parts if p.role == "bass" and _plays(p) and not (part and p.id == part.id)), None)
    out: list[int] = []
    for bar in range(pattern.bars):
        # What comes early into the next bar is that one's.
        sounding = [n for n in pattern.notes if _ticks_in(n, bar) >= LEAST_TICKS]
        # A ninth's upper tones are a triad as well: the bass says which chord it is.
        under = [n for n in low.notes if _ticks_in(n, bar % low.bars)] if low else []
        root = max(under, key=lambda n: (_ticks_in(n, bar % low.bars), -n.tick)) if low and under else None
        lowest = root or min(sounding, key=lambda n: n.midi, default=None)
        out.append(
            _degree(song.key, {n.midi % 12 for n in sounding}, lowest.midi % 12) if lowest and sounding else (out or [0])[-1]
        )
    return tuple(out)


def _plays(part: Part) -> bool:
    return any(p.notes for p in part.patterns.values())


def _first(part: Part) -> Pattern:
    return next(p for _, p in sorted(part.patterns.items()) if p.notes)


def _ticks_in(note: Note, bar: int) -> int:
    """How long a note sounds in a bar."""
    return max(0, min(note.tick + note.ticks, (bar + 1) * BAR) - max(note.tick, bar * BAR))


def _degree(key: Key, classes: set[int], lowest: int) -> int:
    """The degree whose triad has most of the notes and, of several, that stands on the lowest one."""

    def fit(degree: int) -> tuple[int, bool, int]:
        triad = [key.degree_midi(degree + k, 60) % 12 for k in (0, 2, 4)]
        return len(set(triad) & classes), triad[0] == lowest, -degree

    return max(range(7), key=fit)


def _fitted(figure: Pattern, bars: int) -> list[Note]:
    """A figure cut or repeated to so many bars."""
    length = figure.bars * BAR
    out = [replace(n, tick=n.tick + k * length) for k in range(-(-bars // figure.bars)) for n in figure.notes]
    end = bars * BAR
    return [replace(n, ticks=min(n.ticks, end - n.tick)) for n in out if n.tick < end]


def _dense(notes: list[Note], part: Part, wanted: int, bars: int, rng: random.Random) -> list[Note]:
    """As many onsets as wanted."""

    def weight(tick: int) -> int:
        return WEIGHTS[tick // STEP % STEPS_PER_BAR]

    starts = sorted({n.tick for n in notes}, key=lambda t: (weight(t), max(n.velocity for n in notes if n.tick == t), rng.random()))
    drop = set(starts[: max(0, len(starts) - wanted)])
    out = [n for n in notes if n.tick not in drop]
    taken = {n.tick for n in out}
    free = [t for t in range(0, bars * BAR, STEP) if t not in taken]
    free.sort(key=lambda t: (-weight(t), rng.random()))
    for tick in free[: max(0, wanted - len(taken))]:
        before = [n for n in notes if n.tick <= tick] or notes
        last = max((n.tick for n in before), default=0)
        like = [n for n in before if n.tick == last] or [Note(0, STEP, 60, 0.7)]
        out += [replace(n, tick=tick, ticks=min(n.ticks, STEP), velocity=round(0.55 + 0.25 * rng.random(), 3)) for n in like]
    return out


def _one_at_a_time(notes: list[Note]) -> list[Note]:
    """Notes that end where the next begins; of several that begin together the first."""
    starts = {n.tick: n for n in reversed(notes)}
    ordered = [starts[t] for t in sorted(starts)]
    ends = [n.tick for n in ordered[1:]]
    cut = [replace(n, ticks=end - n.tick, bend=()) if n.tick + n.ticks > end else n for n, end in zip(ordered, ends)]
    return [*cut, *ordered[len(ends) :]]


def _clash(note: Note, kept: Note, part: Part) -> bool:
    if part.role in ONE_VOICED:
        return note.tick < kept.tick + kept.ticks and kept.tick < note.tick + note.ticks
    return note.midi == kept.midi and note.tick == kept.tick
