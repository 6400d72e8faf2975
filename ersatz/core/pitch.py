"""Notes, keys, scales and scale degrees. MIDI numbers, A4 = 69 = 440 Hz."""

from __future__ import annotations

import math
from dataclasses import dataclass

TONICS = ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
#: Semitones above the tonic. Minor is natural minor, the mode of most club music.
SCALES = {"major": (0, 2, 4, 5, 7, 9, 11), "minor": (0, 2, 3, 5, 7, 8, 10)}
_DEGREES = ("1", "♭2", "2", "♭3", "3", "4", "♭5", "5", "♭6", "6", "♭7", "7")
#: How the five black keys are written: where no key is known, in keys with sharps and in keys with flats.
_MIXED = ("C", "C♯", "D", "E♭", "E", "F", "F♯", "G", "A♭", "A", "B♭", "B")
_SHARP = ("C", "C♯", "D", "D♯", "E", "F", "F♯", "G", "G♯", "A", "A♯", "B")
_FLAT = ("C", "D♭", "D", "E♭", "E", "F", "G♭", "G", "A♭", "A", "B♭", "B")
_FLAT_KEYS = {"major": ("F", "Bb", "Eb", "Ab"), "minor": ("D", "G", "C", "F", "Bb", "Eb", "Ab")}
_LETTERS = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}


@dataclass(frozen=True)
class Key:
    """`tonic` as in TONICS, `mode` "major" or "minor"."""

    tonic: str
    mode: str

    def __post_init__(self) -> None:
        if self.tonic not in TONICS or self.mode not in SCALES:
            raise ValueError(f"no such key: {self.tonic} {self.mode}")

    @property
    def pitch_class(self) -> int:
        """Of the tonic, 0 for C."""
        return TONICS.index(self.tonic)

    @property
    def pitch_classes(self) -> tuple[int, ...]:
        """Of the scale from the tonic up."""
        return tuple((self.pitch_class + step) % 12 for step in SCALES[self.mode])

    def degree_midi(self, degree: int, octave_of: int) -> int:
        """MIDI note of 0-based scale `degree` (may exceed 6 or be negative) counted from the tonic at or above
        MIDI note `octave_of`."""
        octave, step = divmod(degree, 7)
        root = octave_of + (self.pitch_class - octave_of) % 12
        return root + 12 * octave + SCALES[self.mode][step]

    def __str__(self) -> str:
        return f"{written(self.tonic)} {self.mode}"


def written(tonic: str) -> str:
    """A tonic of TONICS as people write it: "B♭"."""
    return _MIXED[TONICS.index(tonic)]


def pitch_names(key: Key | None = None) -> tuple[str, ...]:
    """The twelve pitch classes from C up, spelled with the accidentals of a key: G♭ in B♭ minor, F♯ in E minor."""
    if key is None:
        return _MIXED
    return _FLAT if key.tonic in _FLAT_KEYS[key.mode] else _SHARP


def parse_tonic(name: str) -> str:
    """The spelling of TONICS for any usual one ("A#", "B♭", "db"). Raises ValueError."""
    name = name.strip().replace("♯", "#").replace("♭", "b")
    if not name or name[0].upper() not in _LETTERS or name[1:].strip("#b"):
        raise ValueError(f"no such note: {name}")
    return TONICS[(_LETTERS[name[0].upper()] + name[1:].count("#") - name[1:].count("b")) % 12]


def midi_hz(midi: float, tuning_cents: float = 0.0) -> float:
    """Hz of a MIDI note, which may be a fraction."""
    return float(440.0 * 2 ** ((midi - 69 + tuning_cents / 100) / 12))


def hz_midi(hz: float) -> float:
    """MIDI note of a frequency, with its fraction."""
    return 69 + 12 * math.log2(hz / 440.0)


def note_name(midi: int, key: Key | None = None) -> str:
    """Scientific pitch notation, spelled as the key has it: 69 is A4."""
    return f"{pitch_names(key)[midi % 12]}{midi // 12 - 1}"


def degree_name(midi: int, key: Key) -> str:
    """The degree above the tonic, "1", "♭3", "5" ..., counted against the major scale as the trade does."""
    return _DEGREES[(midi - key.pitch_class) % 12]


def degree_semitones(name: str) -> int:
    """Semitones above the tonic of a degree as `degree_name` writes it. Raises ValueError."""
    return _DEGREES.index(name)
