"""A tune over chords and drums as a recording, and songs that play a tune: what is taken over is known."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy import signal

from ersatz.core.audio import Audio
from ersatz.core.grid import BarGrid
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Note, Pattern
from ersatz.core.survey.document import Survey
from tests.signals import RATE, kick_hit, noise_hit

BPM, BARS = 120.0, 16
GRID = BarGrid(BPM)
STEP_S = GRID.bar_s / 16
STEP_TICKS = 240
#: (16th, MIDI note) over four bars, in C minor.
TUNE = ((0, 72), (3, 75), (6, 74), (10, 79), (14, 77), (16, 75), (19, 72), (22, 70), (26, 74), (32, 72), (35, 75), (38, 80),
        (42, 79), (46, 75), (48, 74), (51, 70), (54, 67), (58, 71))  # fmt: skip
OTHER = ((2, 67), (4, 75), (8, 70), (12, 72), (18, 79), (20, 68), (24, 74), (30, 75), (33, 67), (36, 77), (41, 72), (44, 68),
         (49, 75), (52, 79), (57, 70), (62, 72))  # fmt: skip
CHORDS = ((48, 51, 55), (44, 48, 51), (53, 56, 60), (55, 59, 62))


def tone(midi, seconds, slope=1.0):
    """A sawtooth-like note that decays."""
    t, hz = np.arange(round(seconds * RATE)) / RATE, 440 * 2 ** ((midi - 69) / 12)
    wave = sum(np.sin(2 * np.pi * h * hz * t) / h**slope for h in range(1, 16) if h * hz < 15_000)
    return wave * np.exp(-t / 0.25) * np.minimum(1, t / 0.003) * np.minimum(1, (seconds - t) / 0.01)


def recording(tune, lead=0.2, chord=0.07, drums=True, stretch=1, seed=1):
    """Four bars of a tune, its notes `stretch` times as far apart, over four chords and drums; as often as there is room."""
    x = np.zeros(round(BARS * GRID.bar_s * RATE) + RATE)
    rng = np.random.default_rng(seed)

    def put(step, sound, gain):
        i = round(step * STEP_S * RATE)
        x[i : i + len(sound)] += gain * sound[: len(x) - i]

    for bar in range(BARS):
        for note in CHORDS[bar % 4]:
            hz = 440 * 2 ** ((note - 69) / 12)
            t = np.arange(round(GRID.bar_s * RATE)) / RATE
            put(16 * bar, signal.sawtooth(2 * np.pi * hz * t + rng.random() * 6), chord)
        for beat in range(4 if drums else 0):
            put(16 * bar + 4 * beat, kick_hit(), 0.6)
            put(16 * bar + 4 * beat + 2, noise_hit(0.1, 0.02, 6000, beat), 0.3)
    for turn in range(BARS // (4 * stretch)):
        for step, midi in tune:
            put(stretch * (64 * turn + step), tone(midi, 0.24), lead)
    return Audio(np.stack([x, x]).astype(np.float32), RATE)


def playing(song, role, notes, sections=None):
    """The song with a pattern of four bars for the first part of a role, in all sections, and nothing else of that role."""
    first = next(p for p in song.parts if p.role == role)
    pattern = Pattern(4, tuple(Note(s * STEP_TICKS, 200, m, 0.8) for s, m in notes))
    cell = next(c for c in first.cells if c.on)
    cells = tuple(replace(cell, section=s.id, pattern="A", entry_bars=0, exit_bars=0, fill="", fill_bars=0) for s in song.sections)
    part = replace(first, patterns={"A": pattern}, cells=cells, mute=False)
    rest = tuple(p for p in song.parts if p.role != role)
    return replace(song, parts=(*rest, part), transitions=())


def standing_still(song: Song) -> Song:
    """The song with the first bar of every pattern alone: nothing new ever comes."""
    bar = 16 * STEP_TICKS

    def first(pattern: Pattern) -> Pattern:
        return Pattern(1, tuple(replace(n, ticks=min(n.ticks, bar - n.tick)) for n in pattern.notes if n.tick < bar))

    parts = (replace(p, patterns={name: first(pattern) for name, pattern in p.patterns.items()}) for p in song.parts)
    return replace(song, parts=tuple(parts))


def survey_of_recording(survey: Survey) -> Survey:
    """Another track's survey on the recording's grid."""
    tempo = replace(survey.tempo, bpm=BPM, first_downbeat_s=0.0, swing_percent=50.0)
    return replace(survey, tempo=tempo, source=replace(survey.source, sha256="7" * 64))
