"""A loop made to fit the song: its beats to the song's tempo, on request its key to the song's."""

from __future__ import annotations

from ersatz.core.edits import Several, edit_json
from ersatz.core.edits.sound import SetSoundChoice, SetSoundValue
from ersatz.core.errors import InvalidEdit
from ersatz.core.song.document import Song
from ersatz.core.survey.loops import LoopReading, semitones_into
from ersatz.core.words import minus


def fitted(song: Song, part: str, reading: LoopReading, transposes: bool) -> Several:
    """The part's sample as long as its beats last in the song, its pitch kept or brought into the song's key."""
    if not reading.beats:
        raise InvalidEdit("Its tempo can’t be told: set “Fit to beats” by hand.")
    by = semitones_into(reading.key, song.key) if transposes else 0
    edits = (
        SetSoundChoice(part, "time_mode", "hits kept"),
        SetSoundValue(part, "time_beats", float(reading.beats)),
        SetSoundValue(part, "sample_semitones", float(by)),
    )
    key = minus(f", {by:+d} semitones into {song.key}") if transposes else ""
    return Several(f"{reading.beats} beats at {song.bpm:g} BPM{key}", tuple(edit_json(e) for e in edits))
