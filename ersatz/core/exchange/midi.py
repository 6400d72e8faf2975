"""A song as a standard MIDI file, format 1: tempo, key and markers on the first track, then one track per part.

960 ticks per quarter note as in the song, swing written out. Drum parts are on channel 10 with General MIDI percussion keys,
pitched parts on channels of their own.
"""

from __future__ import annotations

from pathlib import Path

import mido

from ersatz.core.edits import section_name
from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.mixdown.schedule import sounding_notes
from ersatz.core.mixdown.staging import staged
from ersatz.core.song.document import Part, Song

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
        level = max(1, min(127, round(note.velocity * 127)))
        messages.append((start, 1, mido.Message("note_on", note=key, velocity=level, channel=channel)))
        messages.append((max(end, start + 1), 0, mido.Message("note_off", note=key, velocity=0, channel=channel)))
    # Offs before ons on the same tick, so that repeated notes don't cut each other.
    messages.sort(key=lambda m: (m[0], m[1]))
    last = 0
    for tick, _, message in messages:
        track.append(message.copy(time=tick - last))
        last = tick
    track.append(mido.MetaMessage("end_of_track", time=0))
    return track
