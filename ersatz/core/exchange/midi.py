"""Songs and patterns as standard MIDI files, and back.

A song is written in format 1: tempo, key and markers on the first track, then one track per part.

960 ticks per quarter note as in the song, swing written out. Drum parts are on channel 10 with General MIDI percussion keys,
pitched parts on channels of their own; slides and hits of another pitch by the wheel, what a part is in its instrument's name. Any
tempo map is read as its first tempo.
"""

from __future__ import annotations

import io
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, replace
from itertools import cycle
from pathlib import Path
from typing import cast, get_args

import mido
from mido.midifiles.meta import KeySignatureError

from ersatz.core.edits import section_name
from ersatz.core.edits.imported import ImportArrangement, ImportedTrack
from ersatz.core.edits.notes import WriteNotes
from ersatz.core.edits.sections import PlannedSection
from ersatz.core.errors import UnusableDocument
from ersatz.core.exchange import bends, percussion
from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.mixdown.schedule import Sounding, sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.song.document import Label, Song
from ersatz.core.song.parts import DRUM_ROLES, MOST_PATTERN_BARS, Note, Part, Role
from ersatz.core.voices import library, voice_of

PERCUSSION_CHANNEL = 9
PITCHED_CHANNELS = tuple(c for c in range(16) if c != PERCUSSION_CHANNEL)
MOST_READ = 50_000
#: Events of a file, counted before it is parsed: notes begin and end, wheels move.
MOST_EVENTS = 250_000
#: Hits are played at this note: a pitched drum is recorded there.
MIDDLE = 60
#: A track whose middle note lies lower is a bass; one of whose notes fewer than this share begin alone plays chords.
BASS_BELOW, CHORDS_UNDER = 48, 0.6


@dataclass(frozen=True)
class _Struck:
    """A note as it is written: ticks, what it lies beside its key, semitones."""

    start: int
    end: int
    key: int
    velocity: float
    offset: float
    bend: bends.Bend


def write_midi(song: Song, path: str | Path) -> None:
    """Write the song's notes as they sound: cells, transitions, groove applied."""
    song = staged(song)
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_BEAT, charset="utf-8")
    file.tracks.append(_conductor(song))
    keys = percussion.keys_of([p for p in song.parts if _is_percussion(p)])
    channels = cycle(PITCHED_CHANNELS)
    for part in song.parts:
        notes = [_struck(n, part, keys.get(part.id)) for n in sounding_notes(song, part) if not n.swell]
        # What bends and sounds together with others needs a wheel of its own.
        for number, line in enumerate(_lines(notes), 1):
            channel = PERCUSSION_CHANNEL if part.id in keys else next(channels)
            file.tracks.append(_track(part, part.name if number == 1 else f"{part.name} {number}", channel, line))
    file.save(str(path))


def _is_percussion(part: Part) -> bool:
    """Drums and noises whose notes are hits; what plays slices or pitches of its own is written with its notes."""
    among = (*DRUM_ROLES, "noise", "impact")
    return part.role in among and (not voice_of(part.sound).pitched or library.kind_of(part.sound, part.role) == "tom")


def _struck(note: Sounding, part: Part, key: int | None) -> _Struck:
    """A hit is written at its part's key, a note at the nearest one; the wheel holds the rest."""
    start, end = round(note.start), max(round(note.end), round(note.start) + 1)
    if key is not None:
        offset = note.pitch - MIDDLE if voice_of(part.sound).pitched else note.semitones
        return _Struck(start, end, key, note.velocity, offset, note.bend)
    nearest = min(127, max(0, round(note.pitch)))
    return _Struck(start, end, nearest, note.velocity, note.pitch - nearest, note.bend)


def _lines(notes: list[_Struck]) -> list[list[_Struck]]:
    """The notes shared out, so that none sounds while the wheel moves for another; all together where nothing bends."""
    lines: list[list[_Struck]] = [[]]
    ends, bent = [0], [False]
    for note in sorted(notes, key=lambda n: (n.start, n.key)):
        bends_ = bool(note.bend) or abs(note.offset) > bends.FINE
        free = [k for k in range(len(lines)) if ends[k] <= note.start or not (bends_ or bent[k])]
        k = free[0] if free else len(lines)
        if not free:
            lines.append([])
            ends.append(0)
            bent.append(False)
        bent[k] = bends_ or (bent[k] and ends[k] > note.start)
        ends[k] = max(ends[k], note.end)
        lines[k].append(note)
    return lines


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


def _track(part: Part, name: str, channel: int, notes: list[_Struck]) -> mido.MidiTrack:
    """A part's notes, with what it is in the event for the instrument's name."""
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=name))
    track.append(mido.MetaMessage("instrument_name", name=_instrument(part)))
    _write_notes(track, channel, notes)
    return track


def _instrument(part: Part) -> str:
    shipped = library.library().get(part.sound.name)
    return part.sound.name if shipped is not None and shipped.role == part.role else part.role


def pattern_midi(song: Song, part: Part, name: str) -> bytes:
    """A pattern of a part as a file of its own, without groove. Raises KeyError where there is none."""
    file = mido.MidiFile(type=0, ticks_per_beat=TICKS_PER_BEAT, charset="utf-8")
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=f"{part.name} {name}"))
    track.append(mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(song.bpm)))
    key = percussion.keys_of([part])[part.id] if _is_percussion(part) else None
    notes = []
    for n in part.patterns[name].notes:
        long = n.ticks / n.repeats
        for k in range(n.repeats):
            at = n.tick + k * long
            notes.append(_struck(Sounding(at, at + long, n.midi, n.velocity, 0, n.bend, n.semitones), part, key))
    _write_notes(track, 0 if key is None else PERCUSSION_CHANNEL, notes)
    file.tracks.append(track)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def _level(velocity: float) -> int:
    return max(1, min(127, round(velocity * 127)))


def _write_notes(track: mido.MidiTrack, channel: int, notes: list[_Struck]) -> None:
    """Notes and wheel positions by tick: offs before ons on the same tick, so that repeated notes don't cut each other, and the
    wheel in between."""
    messages: list[tuple[int, int, mido.Message]] = []
    if any(n.bend or n.offset for n in notes):
        messages += [(0, -1, message) for message in bends.sensitivity(channel)]
    stands = 0
    for note in sorted(notes, key=lambda n: n.start):
        for tick, wheel in bends.moves(note.start, note.end, note.bend, note.offset):
            if wheel != stands:
                messages.append((tick, 1, mido.Message("pitchwheel", channel=channel, pitch=wheel)))
                stands = wheel
        messages.append((note.start, 2, mido.Message("note_on", note=note.key, velocity=_level(note.velocity), channel=channel)))
        messages.append((note.end, 0, mido.Message("note_off", note=note.key, velocity=0, channel=channel)))
    last = 0
    for tick, _, message in sorted(messages, key=lambda m: (m[0], m[1])):
        track.append(message.copy(time=tick - last))
        last = tick
    track.append(mido.MetaMessage("end_of_track", time=0))


@dataclass(frozen=True)
class MidiTrack:
    """A track as read: ticks of 960 per quarter note from the start of the file. `instrument`: what it says that plays it."""

    name: str
    is_percussion: bool
    notes: tuple[Note, ...]
    instrument: str = ""


@dataclass(frozen=True)
class MidiSong:
    """`markers`: (tick, text). `bpm` 0 where the file names none."""

    bpm: float
    markers: tuple[tuple[int, str], ...]
    tracks: tuple[MidiTrack, ...]


def read_midi(data: bytes) -> MidiSong:
    """A standard MIDI file of format 0 or 1. Raises UnusableDocument for anything else."""
    too_many = UnusableDocument(f"A MIDI file may have up to {MOST_READ} notes.")
    # Parsing makes an object of every event.
    if count_events(data, MOST_EVENTS) > MOST_EVENTS:
        raise too_many
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
    except (OSError, ValueError, EOFError, LookupError, TypeError, ArithmeticError, KeySignatureError) as error:
        raise UnusableDocument("This is no MIDI file that can be read.") from error
    if sum(len(t.notes) for t in tracks) > MOST_READ:
        raise too_many
    return MidiSong(bpm, tuple(sorted(markers)), tuple(tracks))


def count_events(data: bytes, most: int) -> int:
    """Events of the tracks of a file, counting no further than one more than `most`; what isn't MIDI ends the count."""
    count, at = 0, 14
    while at + 8 <= len(data):
        end = min(len(data), at + 8 + int.from_bytes(data[at + 4 : at + 8], "big"))
        is_track = data[at : at + 4] == b"MTrk"
        at += 8
        status = 0
        while is_track and at < end:
            at, _ = _variable(data, at)
            if at >= end:
                break
            if data[at] >= 0x80:
                status = data[at]
                at += 1
            if status == 0xFF or status in (0xF0, 0xF7):
                at, length = _variable(data, at + (status == 0xFF))
                at += length
            else:
                at += 1 if status & 0xF0 in (0xC0, 0xD0) else 2
            count += 1
            if count > most:
                return count
        at = end
    return count


def _variable(data: bytes, at: int) -> tuple[int, int]:
    """(place behind it, value) of a number of variable length."""
    value = 0
    for at in range(at, min(at + 4, len(data))):  # noqa: B020
        value = value << 7 | data[at] & 0x7F
        if data[at] < 0x80:
            break
    return at + 1, value


class _Wheel:
    """A channel's wheel over a track, in semitones, and the range that it is set to."""

    def __init__(self) -> None:
        self.positions: list[tuple[int, float]] = []
        self._range, self._parameter = bends.USUAL_RANGE, [127, 127]

    def take(self, at: int, message: mido.Message) -> None:
        if message.type == "pitchwheel":
            self.positions.append((at, message.pitch / 8192 * self._range))
        elif message.control in (100, 101):
            self._parameter[message.control - 100] = message.value
        elif message.control == 6 and self._parameter == [0, 0]:
            self._range = float(message.value)


def _read_track(track: mido.MidiTrack, scale: float, name: str) -> tuple[list[MidiTrack], float, list[tuple[int, str]]]:
    """Its notes, by channel: percussion is told from the rest by it."""
    now, bpm, instrument, markers = 0, 0.0, "", []
    sounding: dict[tuple[int, int], list[tuple[int, int]]] = {}
    found: dict[int, list[tuple[int, int, int, int]]] = {}
    wheels: dict[int, _Wheel] = defaultdict(_Wheel)
    for message in track:
        now += message.time
        at = round(now * scale)
        if message.type == "track_name" and message.name.strip():
            name = message.name.strip()
        elif message.type == "instrument_name":
            instrument = message.name.strip()
        elif message.type == "set_tempo" and message.tempo > 0:
            bpm = bpm or round(mido.tempo2bpm(message.tempo), 3)
        elif message.type == "marker":
            markers.append((at, message.text))
        elif message.type in ("pitchwheel", "control_change"):
            wheels[message.channel].take(at, message)
        elif message.type == "note_on" and message.velocity > 0:
            sounding.setdefault((message.channel, message.note), []).append((at, message.velocity))
        elif message.type in ("note_on", "note_off"):
            begun = sounding.get((message.channel, message.note))
            if begun:
                start, velocity = begun.pop(0)
                found.setdefault(message.channel, []).append((start, max(start + 1, at), message.note, velocity))
    tracks = []
    for channel, row in sorted(found.items()):
        notes = tuple(sorted((_note(n, wheels[channel].positions) for n in row), key=lambda n: (n.tick, n.midi)))
        called = name if len(found) == 1 else f"{name} {channel + 1}"
        tracks.append(MidiTrack(called, channel == PERCUSSION_CHANNEL, notes, instrument))
    return tracks, bpm, markers


def _note(read: tuple[int, int, int, int], positions: list[tuple[int, float]]) -> Note:
    """A note from (start, end, key, velocity) and its channel's wheel."""
    start, end, key, velocity = read
    beside, bend = bends.bend_of(positions, start, end) if positions else (0.0, ())
    long = tuple((at, round(st, 2)) for at, st in bend)
    return Note(start, end - start, key, round(velocity / 127, 3), long, semitones=round(beside, 2))


def arrangement_of(read: MidiSong, name: str, ticks_per_bar: int) -> ImportArrangement:
    """A whole file as an edit. What a track plays is what it says of itself; else percussion by key, other tracks by register and
    by how many notes sound at once. Markers that begin with a section's label are a plan."""
    tracks = []
    for track in read.tracks:
        said = _said(track.instrument)
        if said is not None:
            notes = _as_hits(track.notes) if track.is_percussion else track.notes
            tracks.append(ImportedTrack(track.name, said[0], notes, said[1]))
        elif not track.is_percussion:
            tracks.append(ImportedTrack(track.name, _role_of(track.notes), track.notes))
        else:
            tracks += _by_kind(track)
    return ImportArrangement(name, tuple(tracks), _plan_of(read, ticks_per_bar), read.bpm)


def _said(instrument: str) -> tuple[Role, str] | None:
    """Role and shipped sound that an instrument's name stands for."""
    shipped = library.library().get(instrument)
    if shipped is not None:
        return cast(Role, shipped.role), shipped.name
    return (cast(Role, instrument), "") if instrument in get_args(Role) else None


def _by_kind(track: MidiTrack) -> list[ImportedTrack]:
    """A drum track as a part for each kind of drum in it."""
    by_kind: dict[tuple[str, Role], list[Note]] = {}
    for note in track.notes:
        by_kind.setdefault(percussion.kind_of_key(note.midi), []).append(note)
    return [
        ImportedTrack(track.name if len(by_kind) == 1 else kind.capitalize(), role, _as_hits(notes), library.first_of(kind, role))
        for (kind, role), notes in by_kind.items()
    ]


def _as_hits(notes: Iterable[Note]) -> tuple[Note, ...]:
    """Without their keys, which say which drum it is and not how it is played."""
    return tuple(replace(n, midi=MIDDLE) for n in notes)


def pattern_edit(read: MidiSong, song: Song, part: str, pattern: str, name: str) -> WriteNotes:
    """A file's fullest track as the notes of a pattern, as long as they are. Raises UnusableDocument where there are none."""
    track = max(read.tracks, key=lambda t: len(t.notes), default=None)
    if track is None or not track.notes:
        raise UnusableDocument("There are no notes in that file.")
    bar = song.grid.ticks_per_bar
    bars = -(-max(n.tick + 1 for n in track.notes) // bar)
    if bars > MOST_PATTERN_BARS:
        raise UnusableDocument(f"That is {bars} bars long; a pattern has up to {MOST_PATTERN_BARS}. Import it into the Plan.")
    notes = _as_hits(track.notes) if track.is_percussion else track.notes
    return WriteNotes(part, pattern, bars, notes, 0, f"imported from {name[:60]}")


def _role_of(notes: tuple[Note, ...]) -> Role:
    middle = sorted(n.midi for n in notes)[len(notes) // 2]
    together = len({n.tick for n in notes}) / len(notes)
    return "bass" if middle < BASS_BELOW else "chords" if together < CHORDS_UNDER else "lead"


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
