"""One note of a part, through its effects, at one loudness for all: what a key press or a click on a sound plays."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ersatz.core.effects.chain import reach, run_chain
from ersatz.core.effects.spec import Where
from ersatz.core.samples import Samples, no_samples
from ersatz.core.song.document import Effect, Part, Song, Sound
from ersatz.core.voices import library, render_note, voice_of
from ersatz.core.voices.spec import Played

RATE_HZ = 44_100
#: Every note is brought here, so that no sound wins by being louder.
HEARD_LUFS = -18.0
#: Under this a note is taken as silent.
SILENT_LUFS = -60.0
CEILING = 10 ** (-1 / 20)
#: Effects ring on this long at the most.
MOST_TAIL_S = 4.0


def audition(
    sound: Sound, effects: tuple[Effect, ...] = (), midi: int = 60, held_s: float = 0.5, velocity: float = 0.9, bpm: float = 124.0,
    samples: Samples = no_samples,
) -> np.ndarray:  # fmt: skip
    """The note with its tail, float32, shape (2, n), at HEARD_LUFS unless its peaks forbid it."""
    note = _through(sound, effects, midi, held_s, velocity, bpm, samples)
    if not np.any(note):
        return np.zeros_like(note, np.float32)
    gain = 10 ** ((HEARD_LUFS - library.loudness_lufs(note)) / 20)
    return np.asarray(note * min(gain, CEILING / max(float(np.abs(note).max()), 1e-9)), np.float32)


def sounding_as(song: Song, part: str, was: Part, midi: int, samples: Samples = no_samples) -> Song:
    """The song with a part's sound and effects as they were, at the loudness of a note of those that it has: for comparing by ear
    in the mix."""
    now = song.part(part)
    assert now is not None
    loudness = [library.loudness_lufs(_through(p.sound, p.effects, midi, 0.5, 0.9, song.bpm, samples)) for p in (now, was)]
    # Silence has no loudness to meet.
    louder = loudness[0] - loudness[1] if min(loudness) > SILENT_LUFS else 0.0
    heard = replace(now, sound=was.sound, effects=was.effects, gain_db=round(now.gain_db + louder, 2))
    return replace(song, parts=tuple(heard if p.id == part else p for p in song.parts))


def bypass_db(part: Part, place: int, midi: int, bpm: float, samples: Samples = no_samples) -> float:
    """By how much an effect of the part's chain changes the loudness of a note, dB: what it is bypassed at."""
    on = tuple(replace(e, on=True) if k == place else e for k, e in enumerate(part.effects))
    off = tuple(replace(e, on=False, bypass_db=0.0) if k == place else e for k, e in enumerate(part.effects))
    loud, plain = (library.loudness_lufs(_through(part.sound, e, midi, 0.5, 0.9, bpm, samples)) for e in (on, off))
    return round(loud - plain, 2)


def _through(
    sound: Sound, effects: tuple[Effect, ...], midi: int, held_s: float, velocity: float, bpm: float, samples: Samples
) -> np.ndarray:
    voice = voice_of(sound)
    held = int(held_s * RATE_HZ) if voice.pitched or voice.held else 0
    note = render_note(sound, Played(midi, held, velocity, RATE_HZ, bpm), samples).astype(np.float64)
    if not effects:
        return note
    before, after = reach(effects, bpm, RATE_HZ)
    tail = min(before, int(MOST_TAIL_S * RATE_HZ))
    x = np.pad(note, ((0, 0), (before, tail + after)))
    none = (np.zeros_like(x), np.zeros(0, np.int64))
    return run_chain(x, effects, Where(RATE_HZ, bpm, -before), keyed=lambda part: none)
