"""Songs and patterns as standard MIDI files, and back.

A song is written in format 1: tempo, key and markers on the first track, then one track per part.

960 ticks per quarter note as in the song, swing written out. Drum parts are on channel 10 with General MIDI percussion keys,
pitched parts on channels of their own. Any tempo map is read as its first tempo.
"""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path
from typing import get_args

import mido

from ersatz.core.edits import section_name
from ersatz.core.edits.imported import LONGEST_PATTERN_BARS, ImportArrangement, ImportedTrack
from ersatz.core.edits.notes import WriteNotes
from ersatz.core.edits.sections import PlannedSection
from ersatz.core.errors import UnusableDocument
from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.song.document import Label, Note, Part, Role, Song

PERCUSSION_CHANNEL = 9
MOST_READ = 50_000
#: A track whose middle note lies lower is a bass; one of whose notes fewer than this share begin alone plays chords.
BASS_BELOW, CHORDS_UNDER = 48, 0.6

#: General MIDI level 1 percussion key map.
PERCUSSION_KEYS = {
    "kick": 36,
    "clap": 39,
    "hats": 42,
    "open-hat": 46,
    "shaker": 70,
    "rim": 37,
    "riser": 57,
    "impact": 49,
}


def write_midi(song: Song, path: str | Path) -> None:
    """Write the song's notes as they sound: cells, transitions, groove applied."""
    song = staged(song)
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_BEAT, charset="utf-8")
    file.tracks.append(_conductor(song))
    pitched = [c for c in range(16) if c != 9]
    used = 0
    for part in song.parts:
        drum = part.bus == "drums" or part.role in ("noise", "impact")
        channel = 9 if drum else pitched[used % len(pitched)]
        used += 0 if drum else 1
        file.tracks.append(_track(song, part, channel, PERCUSSION_KEYS.get(part.id, 38) if drum else None))
    file.save(str(path))


def _conductor(song: Song) -> mido.MidiTrack:
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=song.title))
    track.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(song.bpm)))
    track.append(mido.MetaMessage("time_signature", numerator=4, denominator=4))
    track.append(mido.MetaMessage("key_signature", key=_key_name(song)))
    last = 0
    for bar, section in song.placed():
        tick = song.grid.ticks_of_bar(bar)
        track.append(mido.MetaMessage("marker", text=section_name(song, section.id), time=tick - last))
        last = tick
    track.append(mido.MetaMessage("end_of_track", time=song.grid.ticks_of_bar(song.bars + 1) - last))
    return track


def _key_name(song: Song) -> str:
    """A key signature that MIDI knows: enharmonic spellings with at most seven accidentals."""
    minor = song.mode == "minor"
    spelling = {"C#": "C#" if minor else "Db", "F#": "F#", "Ab": "G#" if minor else "Ab"}.get(song.tonic, song.tonic)
    return spelling + ("m" if minor else "")


def _track(song: Song, part: Part, channel: int, percussion_key: int | None) -> mido.MidiTrack:
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=part.name))
    messages: list[tuple[int, int, mido.Message]] = []
    for note in (n for n in sounding_notes(song, part) if not n.swell):
        start, end = round(note.start), round(note.end)
        key = note.midi if percussion_key is None else percussion_key
        level = _level(note.velocity)
        messages.append((start, 1, mido.Message("note_on", note=key, velocity=level, channel=channel)))
        messages.append((max(end, start + 1), 0, mido.Message("note_off", note=key, velocity=0, channel=channel)))
    _write_messages(track, messages)
    return track


def pattern_midi(song: Song, part: Part, name: str) -> bytes:
    """A pattern of a part as a file of its own, without groove. Raises KeyError where there is none."""
    file = mido.MidiFile(type=0, ticks_per_beat=TICKS_PER_BEAT, charset="utf-8")
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=f"{part.name} {name}"))
    track.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(song.bpm)))
    key = PERCUSSION_KEYS.get(part.id, 38) if part.bus == "drums" else None
    pattern = part.patterns[name]
    struck = [(n.tick + k * n.ticks // n.repeats, max(1, n.ticks // n.repeats), n) for n in pattern.notes for k in range(n.repeats)]
    messages = [
        message
        for start, ticks, n in struck
        for message in (
            (start, 1, mido.Message("note_on", note=n.midi if key is None else key, velocity=_level(n.velocity))),
            (start + ticks, 0, mido.Message("note_off", note=n.midi if key is None else key)),
        )
    ]
    _write_messages(track, messages)
    file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def _level(velocity: float) -> int:
    return max(1, min(127, round(velocity * 127)))


def _write_messages(track: mido.MidiTrack, messages: list[tuple[int, int, mido.Message]]) -> None:
    """Messages by tick; offs before ons on the same tick, so that repeated notes don't cut each other."""
    last = 0
    for tick, _, message in sorted(messages, key=lambda m: (m[0], m[1])):
        track.append(message.copy(time=tick - last))
        last = tick
    track.append(mido.MetaMessage("end_of_track", time=0))


@dataclass(frozen=True)
class MidiTrack:
    """A track as read: ticks of 960 per quarter note from the start of the file."""

    name: str
    is_percussion: bool
    notes: tuple[Note, ...]


@dataclass(frozen=True)
class MidiSong:
    """`markers`: (tick, text). `bpm` 0 where the file names none."""

    bpm: float
    markers: tuple[tuple[int, str], ...]
    tracks: tuple[MidiTrack, ...]


def read_midi(data: bytes) -> MidiSong:
    """A standard MIDI file of format 0 or 1. Raises UnusableDocument for anything else."""
    try:
        file = mido.MidiFile(file=io.BytesIO(data), charset="latin-1", clip=True)
        if file.type == 2 or file.ticks_per_beat <= 0:
            raise ValueError
        scale = TICKS_PER_BEAT / file.ticks_per_beat
        bpm, markers, tracks = 0.0, [], []
        for number, track in enumerate(file.tracks, 1):
            found, tempo, marked = _read_track(track, scale, f"Track {number}")
            bpm = bpm or tempo
            markers += marked
            tracks += found
    except (OSError, ValueError, EOFError, IndexError, KeyError, TypeError) as error:
        raise UnusableDocument("This is no MIDI file that can be read.") from error
    if sum(len(t.notes) for t in tracks) > MOST_READ:
        raise UnusableDocument(f"A MIDI file may have up to {MOST_READ} notes.")
    return MidiSong(bpm, tuple(sorted(markers)), tuple(tracks))


def _read_track(track: mido.MidiTrack, scale: float, name: str) -> tuple[list[MidiTrack], float, list[tuple[int, str]]]:
    """Its notes, by channel: percussion is told from the rest by it."""
    now, bpm, markers = 0, 0.0, []
    sounding: dict[tuple[int, int], list[tuple[int, int]]] = {}
    notes: dict[int, list[Note]] = {}
    for message in track:
        now += message.time
        at = round(now * scale)
        if message.type == "track_name" and message.name.strip():
            name = message.name.strip()
        elif message.type == "set_tempo":
            bpm = bpm or round(mido.tempo2bpm(message.tempo), 3)
        elif message.type == "marker":
            markers.append((at, message.text))
        elif message.type == "note_on" and message.velocity > 0:
            sounding.setdefault((message.channel, message.note), []).append((at, message.velocity))
        elif message.type in ("note_on", "note_off"):
            begun = sounding.get((message.channel, message.note))
            if begun:
                start, velocity = begun.pop(0)
                note = Note(start, max(1, at - start), message.note, round(velocity / 127, 3))
                notes.setdefault(message.channel, []).append(note)
    found = [
        MidiTrack(name if len(notes) == 1 else f"{name} {channel + 1}", channel == PERCUSSION_CHANNEL,
                  tuple(sorted(row, key=lambda n: (n.tick, n.midi)))) for channel, row in sorted(notes.items())
    ]  # fmt: skip
    return found, bpm, markers


def arrangement_of(read: MidiSong, name: str, ticks_per_bar: int) -> ImportArrangement:
    """A whole file as an edit: percussion by key, other tracks by register and by how many notes sound at once; markers that begin
    with a section's label are a plan."""
    tracks = []
    for track in read.tracks:
        if not track.is_percussion:
            tracks.append(ImportedTrack(track.name, _role_of(track.notes), track.notes))
            continue
        by_role: dict[Role, list[Note]] = {}
        for note in track.notes:
            by_role.setdefault(_drum_role(note.midi), []).append(note)
        tracks += [ImportedTrack(role.capitalize(), role, tuple(notes)) for role, notes in by_role.items()]
    return ImportArrangement(name, tuple(tracks), _plan_of(read, ticks_per_bar), read.bpm)


def pattern_edit(read: MidiSong, song: Song, part: str, pattern: str, name: str) -> WriteNotes:
    """A file's fullest track as the notes of a pattern, as long as they are. Raises UnusableDocument where there are none."""
    track = max(read.tracks, key=lambda t: len(t.notes), default=None)
    if track is None or not track.notes:
        raise UnusableDocument("There are no notes in that file.")
    bar = song.grid.ticks_per_bar
    bars = -(-max(n.tick + 1 for n in track.notes) // bar)
    if bars > LONGEST_PATTERN_BARS:
        raise UnusableDocument(f"That is {bars} bars long; a pattern has up to {LONGEST_PATTERN_BARS}. Import it into the Plan.")
    return WriteNotes(part, pattern, bars, track.notes, 0, f"imported from {name[:60]}")


def _role_of(notes: tuple[Note, ...]) -> Role:
    middle = sorted(n.midi for n in notes)[len(notes) // 2]
    together = len({n.tick for n in notes}) / len(notes)
    return "bass" if middle < BASS_BELOW else "chords" if together < CHORDS_UNDER else "lead"


def _drum_role(key: int) -> Role:
    """General MIDI level 1 percussion keys."""
    if key in (35, 36):
        return "kick"
    if key in (38, 39, 40):
        return "clap"
    return "hats" if key in (42, 44, 46, 49, 51, 52, 53, 55, 57, 59) else "perc"


def _plan_of(read: MidiSong, bar: int) -> tuple[PlannedSection, ...]:
    labels = get_args(Label)
    named = [
        (tick // bar, label)
        for tick, text in read.markers
        for label in labels
        if text.lower().startswith(label) and tick % bar == 0
    ]
    if not named or named[0][0] != 0:
        return ()
    last = max((n.tick for t in read.tracks for n in t.notes), default=0) // bar + 1
    ends = [start for start, _ in named[1:]] + [max(last, named[-1][0] + 1)]
    return tuple(PlannedSection(label, end - start) for (start, label), end in zip(named, ends) if end > start)
