"""What tempo and key does a loop have of its own?

Method: the loop is repeated to LEAST_S and surveyed like a track; among the tempos found and their halves and doubles the one is
taken at which the loop lasts a usual number of beats, and then exactly that number: a loop's length knows its tempo better than
its hits."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ersatz.core.audio import Audio
from ersatz.core.errors import UnusableAudio
from ersatz.core.pitch import Key
from ersatz.core.survey import survey_audio
from ersatz.core.survey.document import Source

#: Shorter ones say nothing about a tempo, longer ones aren't loops.
SHORTEST_S, LONGEST_S = 0.8, 60.0
LEAST_S = 36.0
USUAL_BEATS = (2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64)
LOW_BPM, HIGH_BPM = 68.0, 190.0
#: A tempo and a number of beats belong together if they differ by less than this.
NEAR = 0.03


@dataclass(frozen=True)
class LoopReading:
    """`bpm` and `beats` 0 where there is no beat, or none that fits its length."""

    bpm: float
    beats: int
    tonic: str
    mode: str
    key_confidence: float

    @property
    def key(self) -> Key:
        """Tonic and mode as a key."""
        return Key(self.tonic, self.mode)


def measure_loop(audio: Audio) -> LoopReading:
    """Raises UnusableAudio for what is too short, too long or silent."""
    seconds = audio.duration_s
    if not SHORTEST_S <= seconds <= LONGEST_S:
        raise UnusableAudio(f"A loop lasts {SHORTEST_S} to {LONGEST_S:.0f} seconds; this lasts {seconds:.1f}.")
    if not np.any(np.abs(audio.samples) > 1e-4):
        raise UnusableAudio("This is silent.")
    times = math.ceil(LEAST_S / seconds)
    whole = Audio(np.tile(audio.samples, (1, times)), audio.rate_hz)
    survey = survey_audio(whole, Source("loop", whole.duration_s, audio.rate_hz, audio.samples.shape[0], "0" * 64))
    if not survey.tempo.is_steady:
        return LoopReading(0.0, 0, survey.key.tonic, survey.key.mode, survey.key.confidence)
    guesses = [(survey.tempo.bpm, survey.tempo.confidence), *((a.bpm, a.confidence) for a in survey.tempo.alternatives)]
    beats = _beats(seconds, guesses)
    key = survey.key
    return LoopReading(round(beats * 60 / seconds, 3), beats, key.tonic, key.mode, key.confidence)


def _beats(seconds: float, guesses: list[tuple[float, float]]) -> int:
    """The usual number of beats that fits the surest tempo best; powers of two before others."""
    best, found = 0.0, 0
    for bpm, confidence in guesses:
        for octave, share in ((1.0, 1.0), (2.0, 0.6), (0.5, 0.6)):
            tempo = bpm * octave
            if not LOW_BPM <= tempo <= HIGH_BPM:
                continue
            for beats in USUAL_BEATS:
                off = abs(beats * 60 / seconds / tempo - 1)
                score = confidence * share * (1 - off / NEAR) * (1.0 if beats & (beats - 1) == 0 else 0.6)
                if off < NEAR and score > best:
                    best, found = score, beats
    return found


def semitones_into(key: Key, song: Key) -> int:
    """Smallest transposition, -6..5, that brings what is in `key` into the song's key; a major and its relative minor share their
    notes."""
    relative = 0 if key.mode == song.mode else 9 if key.mode == "major" else 3
    return (song.pitch_class - key.pitch_class - relative + 6) % 12 - 6
