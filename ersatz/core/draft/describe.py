"""What kind of draft is it? A few facts by which one is told from another before it is heard."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.draft.generate import degrees_of
from ersatz.core.draft.patterns import BAR, PHRASE_BARS
from ersatz.core.pitch import Key, pitch_names
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Note, Part, Role
from ersatz.core.styles import BY_NAME


@dataclass(frozen=True)
class DraftFacts:
    """`chords` of the first eight bars by name, `hook` and `bass` their notes there; `sounds` as (what it is, the sound's name)."""

    style: str
    chords: tuple[str, ...]
    sounds: tuple[tuple[str, str], ...]
    hook: tuple[Note, ...]
    bass: tuple[Note, ...]


def facts_of(song: Song) -> DraftFacts:
    """What a draft is made of, read from the song: style, chords, sounds, and where lead and bass begin and move."""
    degrees = degrees_of(song)[:PHRASE_BARS]
    named = {role: _first(song, role) for role in ("bass", "chords", "lead")}
    sounds = tuple((part.name, part.sound.name) for part in named.values() if part is not None and part.sound.name)
    style = BY_NAME[song.style].title if song.style in BY_NAME else ""
    chords = tuple(chord_name(song.key, degree) for degree in degrees)
    return DraftFacts(style, chords, sounds, _phrase(named["lead"]), _phrase(named["bass"]))


def chord_name(key: Key, degree: int) -> str:
    """A triad of the scale as the trade writes it: "B♭m", "G♭", "C°"."""
    root, third, fifth = (key.degree_midi(degree + step, 60) for step in (0, 2, 4))
    kind = "°" if fifth - root == 6 else "m" if third - root == 3 else ""
    return pitch_names(key)[root % 12] + kind


def _first(song: Song, role: Role) -> Part | None:
    return next((p for p in song.parts if p.role == role and p.patterns), None)


def _phrase(part: Part | None) -> tuple[Note, ...]:
    """Notes of the first eight bars of the first pattern."""
    if part is None:
        return ()
    return tuple(n for n in part.patterns[min(part.patterns)].notes if n.tick < PHRASE_BARS * BAR)
