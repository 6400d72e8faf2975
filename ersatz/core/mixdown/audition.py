"""One note of a part, through its effects, at one loudness for all: what a key press or a click on a sound plays."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ersatz.core.effects.chain import reach, run_chain
from ersatz.core.effects.spec import Where
from ersatz.core.loudness import mean_lufs
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.samples import Samples, no_samples
from ersatz.core.song.document import Song, with_strip
from ersatz.core.song.parts import Part, Sound
from ersatz.core.song.strips import Effect
from ersatz.core.voices import library, render_note, voice_of
from ersatz.core.voices.spec import Played

#: Every note is brought here, so that no sound wins by being louder.
HEARD_LUFS = -18.0
#: Under this a note is taken as silent.
SILENT_LUFS = -60.0
CEILING = 10 ** (-1 / 20)
#: Effects ring on this long at the most.
MOST_TAIL_S = 4.0
#: What a bypass is measured on.
MEASURED_BARS = 4


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
    loudness = [library.loudness_lufs(_through(p.sound, p.chain, midi, 0.5, 0.9, song.bpm, samples)) for p in (now, was)]
    # Silence has no loudness to meet.
    louder = loudness[0] - loudness[1] if min(loudness) > SILENT_LUFS else 0.0
    heard = replace(now, sound=was.sound, chain=was.chain, gain_db=round(now.gain_db + louder, 2))
    return with_strip(song, heard)


def bypass_db(
    song: Song, part_id: str, place: int, midi: int, cache: RenderCache | None = None, samples: Samples = no_samples
) -> float:
    """By how much an effect of a part's chain changes its loudness, dB: what it is bypassed at. Measured where the part plays, and
    where an other part steers the effect together with that one; on a note `midi` where it plays nowhere."""
    part = song.part(part_id)
    assert part is not None
    on = tuple(replace(e, on=True) if k == place else e for k, e in enumerate(part.chain))
    off = tuple(replace(e, on=False, bypass_db=0.0) if k == place else e for k, e in enumerate(part.chain))
    mixdowns = [Mixdown(with_strip(song, replace(part, chain=chain)), cache, samples) for chain in (on, off)]
    bars = mixdowns[0].plays_in(part_id)
    if steered_by := part.chain[place].sidechain:
        bars = bars & mixdowns[0].plays_in(steered_by)
    if bars:
        first = max(bars, key=lambda b: (len(bars & set(range(b, b + MEASURED_BARS))), -b))
        last = min(first + MEASURED_BARS, song.bars)
        loud, plain = (mean_lufs(m.before_fader(part_id, first + 1, last), RATE_HZ) for m in mixdowns)
    else:
        notes = (_through(part.sound, chain, midi, 0.5, 0.9, song.bpm, samples) for chain in (on, off))
        loud, plain = (library.loudness_lufs(note) for note in notes)
    return round(loud - plain, 2) if min(loud, plain) > SILENT_LUFS else 0.0


def _through(
    sound: Sound, effects: tuple[Effect, ...], midi: int, held_s: float, velocity: float, bpm: float, samples: Samples
) -> np.ndarray:
    voice = voice_of(sound)
    held = int(held_s * RATE_HZ) if voice.pitched or voice.held else 0
    note = render_note(sound, Played(midi, held, velocity, RATE_HZ, bpm), samples).astype(np.float64)
    # Nothing plays here that could steer an effect.
    effects = tuple(replace(e, on=False, bypass_db=0.0) if e.sidechain else e for e in effects)
    if not effects:
        return note
    before, after = reach(effects, bpm, RATE_HZ)
    tail = min(before, int(MOST_TAIL_S * RATE_HZ))
    x = np.pad(note, ((0, 0), (before, tail + after)))
    return run_chain(x, effects, Where(RATE_HZ, bpm, -before, hits=np.zeros(1, np.int64)))
