"""Patterns for a part, seeded: from the style, the key, the song's chords, the reference's density and what is locked already.

Method: the style's figures (patterns.py) make eight bars; they are cut or repeated to the pattern's length; hits are thinned,
softest and weakest first, or filled in, strongest places first, until there are `per_bar` of them; what is locked stays and
drives away what would sound with it."""

from __future__ import annotations

import random
from dataclasses import replace

from ersatz.core.draft import hooks, patterns
from ersatz.core.pitch import Key
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Note, Part, Pattern
from ersatz.core.styles import BY_NAME, Style, choose_style
from ersatz.core.voices import library

STEP = patterns.STEP
#: How readily a 16th of the bar is filled in or kept, strongest first: beats, off-beats, the rest.
WEIGHTS = tuple(3 if k % 4 == 0 else 2 if k % 2 == 0 else 1 for k in range(STEPS_PER_BAR))
LOW_BASS_MIDI, LEAD_MIDI, CHOP_MIDI = 31, 69, 62
#: Chords whose notes are shorter on average are stabs.
STAB_TICKS = 900
#: Roles that play one note at a time.
ONE_VOICED = ("kick", "clap", "hats", "perc", "bass", "lead")


def generate(
    song: Song, part: Part, bars: int, seed: int, per_bar: float | None = None, locked: tuple[Note, ...] = ()
) -> tuple[Note, ...]:
    """Notes of a pattern of `bars` bars; the same arguments give the same notes."""
    rng = random.Random(f"{seed}|{part.id}|{song.style}|{song.tonic}{song.mode}")
    notes = _fitted(_figure(song, part, rng).notes, bars)
    if per_bar is not None:
        notes = _dense(notes, part, round(per_bar * bars), bars, rng)
    free = [n for n in notes if not any(_clash(n, kept, part) for kept in locked)]
    return tuple(sorted((*locked, *free), key=lambda n: (n.tick, n.midi)))


def _style(song: Song) -> Style:
    kick = next((p for p in song.parts if p.role == "kick" and p.patterns), None)
    row = [0.0] * STEPS_PER_BAR
    if kick:
        for n in kick.patterns[min(kick.patterns)].notes:
            if n.tick < patterns.BAR:
                row[n.tick // STEP] = 1.0
    return choose_style(song.bpm, tuple(row), song.style if song.style in BY_NAME else None)


def _figure(song: Song, part: Part, rng: random.Random) -> Pattern:
    style, key, kind = _style(song), song.key, library.kind_of(part.sound, part.role)
    if part.role == "kick":
        return _turned(patterns.kick_pattern(style, (), rng), rng)
    if part.role == "clap":
        return patterns.backbeat_pattern(style, rng)
    if part.role == "hats":
        return _turned(patterns.open_hats(style), rng) if kind == "open hat" else patterns.closed_hats(rng)
    if part.role == "perc":
        return patterns.shaker(rng) if part.sound.voice == "shaker" else patterns.rims(rng)
    degrees = degrees_of(song, part) or patterns.progression(style, key, (), rng)
    if part.role == "bass" and kind == "acid line":
        return hooks.hook("acid", key, degrees, LOW_BASS_MIDI + 12, rng)
    if part.role == "bass":
        return patterns.bass_pattern(style, key, degrees, LOW_BASS_MIDI, rng)
    if part.role == "chords":
        chords = patterns.voicings(key, degrees)
        return patterns.stab_pattern(chords, rng) if _plays_short(part) else _held(chords, rng)
    if part.role == "lead":
        if kind == "voice" or part.sound.voice == "sample":
            return hooks.hook("voice", key, degrees, CHOP_MIDI, rng)
        return hooks.hook(hooks.kind_of(style.lead, library.words_of(part.sound), rng), key, degrees, LEAD_MIDI, rng)
    return Pattern(patterns.PHRASE_BARS, (Note(0, patterns.PHRASE_BARS * patterns.BAR, 60, 1.0),))


def _turned(pattern: Pattern, rng: random.Random) -> Pattern:
    """The last bar of every four, or of the eight, with a hit less or one more."""
    last = [n for n in pattern.notes if n.tick // patterns.BAR == patterns.PHRASE_BARS - 1]
    notes = pattern.notes if rng.random() < 0.4 else tuple(n for n in pattern.notes if n is not last[-1])
    for bar in (3, 7) if rng.random() < 0.5 else (7,):
        tick = bar * patterns.BAR + rng.choice((7, 10, 11, 13, 14, 15)) * STEP
        if all(n.tick != tick for n in notes):
            notes = (*notes, replace(notes[0], tick=tick, velocity=round(0.6 + 0.3 * rng.random(), 2)))
    return replace(pattern, notes=tuple(sorted(notes, key=lambda n: n.tick)))


def _held(chords: list[tuple[int, ...]], rng: random.Random) -> Pattern:
    """Held chords: whole bars, struck again late in the bar, or coming early into the next; some voices an octave away."""
    whole = patterns.BAR - 10
    rhythm = rng.choice(
        (((0, whole),), ((0, 10 * STEP - 10), (10 * STEP, 6 * STEP - 10)), ((0, 14 * STEP - 10), (14 * STEP, 2 * STEP)))
    )
    turned = rng.choice((0, 1, 2))
    notes = []
    for bar in range(patterns.PHRASE_BARS):
        chord = sorted(chords[bar % len(chords)])
        coming = sorted(chords[(bar + 1) % len(chords)])
        for at, long in rhythm:
            voices = coming if at >= 14 * STEP else chord
            notes += [Note(bar * patterns.BAR + at, long, m + (12 if k < turned else 0), 0.8) for k, m in enumerate(voices)]
    return Pattern(patterns.PHRASE_BARS, tuple(notes))


def _plays_short(part: Part) -> bool:
    lengths = [n.ticks for p in part.patterns.values() for n in p.notes]
    return sum(lengths) / len(lengths) < STAB_TICKS if lengths else library.kind_of(part.sound, part.role) == "stab"


def degrees_of(song: Song, part: Part | None = None) -> tuple[int, ...]:
    """Degrees of the chords that the song's first chord part plays, one per bar of its pattern, 0-based; empty where there is none,
    or where `part` is the one."""
    playing = [p for p in song.parts if p.role == "chords" and any(x.notes for x in p.patterns.values())]
    if not playing or (part and playing[0].id == part.id):
        return ()
    pattern = next(p for _, p in sorted(playing[0].patterns.items()) if p.notes)
    out: list[int] = []
    for bar in range(pattern.bars):
        classes = {
            n.midi % 12 for n in pattern.notes if n.tick < (bar + 1) * patterns.BAR and n.tick + n.ticks > bar * patterns.BAR
        }
        out.append(_degree(song.key, classes) if classes else (out[-1] if out else 0))
    return tuple(out)


def _degree(key: Key, classes: set[int]) -> int:
    """The degree whose triad has most of the notes and fewest others."""

    def fit(degree: int) -> tuple[int, int]:
        triad = {key.degree_midi(degree + k, 60) % 12 for k in (0, 2, 4)}
        return len(triad & classes), -degree

    return max(range(7), key=fit)


def _fitted(notes: tuple[Note, ...], bars: int) -> list[Note]:
    """Eight bars cut or repeated to so many."""
    length = patterns.PHRASE_BARS * patterns.BAR
    out = [replace(n, tick=n.tick + k * length) for k in range(-(-bars // patterns.PHRASE_BARS)) for n in notes]
    end = bars * patterns.BAR
    return [replace(n, ticks=min(n.ticks, end - n.tick)) for n in out if n.tick < end]


def _dense(notes: list[Note], part: Part, wanted: int, bars: int, rng: random.Random) -> list[Note]:
    """As many onsets as wanted."""

    def weight(tick: int) -> int:
        return WEIGHTS[tick // STEP % STEPS_PER_BAR]

    starts = sorted({n.tick for n in notes}, key=lambda t: (weight(t), max(n.velocity for n in notes if n.tick == t), rng.random()))
    drop = set(starts[: max(0, len(starts) - wanted)])
    out = [n for n in notes if n.tick not in drop]
    taken = {n.tick for n in out}
    free = [t for t in range(0, bars * patterns.BAR, STEP) if t not in taken]
    free.sort(key=lambda t: (-weight(t), rng.random()))
    for tick in free[: max(0, wanted - len(taken))]:
        before = [n for n in notes if n.tick <= tick] or notes
        last = max((n.tick for n in before), default=0)
        like = [n for n in before if n.tick == last] or [Note(0, STEP, 60, 0.7)]
        out += [replace(n, tick=tick, ticks=min(n.ticks, STEP), velocity=round(0.55 + 0.25 * rng.random(), 3)) for n in like]
    return out


def _clash(note: Note, kept: Note, part: Part) -> bool:
    if part.role in ONE_VOICED:
        return note.tick < kept.tick + kept.ticks and kept.tick < note.tick + note.ticks
    return note.midi == kept.midi and note.tick == kept.tick
