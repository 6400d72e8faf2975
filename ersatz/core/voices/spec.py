"""What a voice is made of: a table from which validation, defaults, the form on the page and documentation follow."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from ersatz.core.errors import UnusableDocument
from ersatz.core.params import Choice, Param
from ersatz.core.samples import Sample, Samples, no_samples
from ersatz.core.serial import to_json
from ersatz.core.song.parts import Modulation, Sound


@dataclass(frozen=True)
class Played:
    """One note for a voice. `held` in samples; `bend` a pitch curve as (samples from the start, semitones), joined by lines;
    `beat` is where the note stands in the song, for what runs with the song's time. `semitones`: how much higher it sounds than
    the voice plays `midi`; an unpitched hit is played as much faster. `moved`: values of the voice over the note, every CONTROL
    samples, the last one standing; what the voice can't move is read at its start."""

    midi: int
    held: int
    velocity: float = 1.0
    rate: int = 44_100
    bpm: float = 120.0
    beat: float = 0.0
    bend: tuple[tuple[int, float], ...] = ()
    variant: int = 0
    semitones: float = 0.0
    moved: dict[str, np.ndarray] = field(default_factory=dict, compare=False)


@dataclass(frozen=True)
class Patch:
    """A sound with everything filled in and clipped, as a voice's render function gets it."""

    params: dict[str, float]
    choices: dict[str, str]
    modulations: tuple[Modulation, ...] = ()
    shapes: dict[str, tuple[float, ...]] = field(default_factory=dict)
    samples: dict[str, Sample] = field(default_factory=dict)

    def __getitem__(self, name: str) -> float:
        return self.params[name]

    @cached_property
    def written(self) -> str:
        """All values but audio in one order: a default that is named reads like one that isn't."""
        ordered = (
            sorted(self.params.items()),
            sorted(self.choices.items()),
            to_json(self.modulations),
            sorted(self.shapes.items()),
        )
        return ", ".join(repr(values) for values in ordered)


#: (patch, note, random generator) -> float array (2, n)
Render = Callable[[Patch, Played, np.random.Generator], np.ndarray]
#: Longest time that a note of the patch sounds after it is let go, seconds.
Tail = Callable[[Patch], float]


@dataclass(frozen=True)
class VoiceSpec:
    """`pitched`: the note's pitch counts. `held`: an unpitched voice that sounds as long as its note. `slots`: what audio it plays.
    `own_length_s`: seconds from its start that a note at (patch, midi, semitones, bpm) sounds however short it is."""

    name: str
    title: str
    pitched: bool
    params: tuple[Param, ...]
    render: Render
    tail_s: Tail
    choices: tuple[Choice, ...] = ()
    sources: tuple[str, ...] = ()
    held: bool = False
    slots: tuple[str, ...] = ()
    own_length_s: Callable[[Patch, int, float, float], float] | None = None

    def sounds_s(self, patch: Patch, held_s: float, midi: int, bpm: float, semitones: float = 0.0) -> float:
        """How long a note sounds at most, seconds from its start."""
        own = self.own_length_s(patch, midi, semitones, bpm) if self.own_length_s else 0.0
        slower = 1.0 if self.pitched else 2 ** (-semitones / 12)
        return (max(held_s, own) + self.tail_s(patch)) * slower

    def patch(self, sound: Sound, samples: Samples = no_samples) -> Patch:
        """The sound's values with the voice's defaults filled in, clipped to their ranges, and its audio as far as it is found.

        Raises UnusableDocument for an option, a source or a target that the voice doesn't have.
        """
        params = {p.name: p.value(sound.params) for p in self.params}
        choices = {c.name: c.value(sound.choices, self.name) for c in self.choices}
        targets = {p.name for p in self.params if p.moves is not None}
        for m in sound.modulations:
            if m.source not in self.sources or m.target not in targets:
                raise UnusableDocument(f"The voice “{self.name}” can't move “{m.target}” by “{m.source}”.")
        found = {slot: s for slot in self.slots if slot in sound.samples and (s := samples(sound.samples[slot])) is not None}
        return Patch(params, choices, sound.modulations, sound.shapes, found)

    def line(self, sound: Sound) -> tuple[str, float]:
        """How notes follow each other: "poly", "mono" or "legato", and the glide in ms."""
        patch = self.patch(sound)
        return patch.choices.get("mode", "poly"), patch.params.get("glide_ms", 0.0)
