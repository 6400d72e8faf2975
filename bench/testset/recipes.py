"""Which tracks the generated test set holds: four of each style, and one for each trap that surveys fall into.

A recipe is everything that decides a track. Figures per style follow what the styles' makers use; the rest is drawn from the
recipe's seed.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

#: Steps (16ths of a bar) of kick, backbeat and open hat.
KICKS = {
    "four": (0, 4, 8, 12),
    "two-step": (0, 10),
    "broken": (0, 3, 10),
    "dembow": (0, 4, 8, 12),
    "hip-hop": (0, 7, 10),
    "none": (),
}
PROGRESSIONS = {
    "minor": ((0, -4, 3, -2), (0, 5, -4, -5), (0, -2, -4, -2), (0, 0, -4, -2), (0, 3, -2, 5)),
    "major": ((0, -5, -3, 5), (0, 5, -3, -5), (0, -3, 5, -5)),
    "one": ((0, 0, 0, 0),),
    "pair": ((0, 0, 0, 1), (0, 1, 0, 1)),
}


@dataclass(frozen=True)
class Style:
    bpm: tuple[float, float]
    kick: str
    swing: tuple[float, float]
    duck_db: tuple[float, float]
    duck_rate: str
    harmony: tuple[str, ...]
    lufs: float
    snare: bool
    bass: tuple[str, ...]
    bass_rhythm: tuple[str, ...]
    chords: tuple[str, ...]
    lead: tuple[str, ...]
    hats: tuple[str, ...]


STYLES = {
    "tech house": Style((122, 128), "four", (50, 56), (8, 12), "1/4", ("one",), -8, False, ("square", "fm", "saw"),
                        ("riff", "off-beat"), ("stab", "organ"), ("chop", "square"), ("off-beat", "16ths")),
    "melodic techno": Style((120, 126), "four", (50, 50), (6, 10), "1/4", ("minor",), -9, False, ("reese", "saw"),
                            ("16ths", "off-beat"), ("pad",), ("pluck", "stack"), ("off-beat", "16ths")),
    "uplifting trance": Style((134, 140), "four", (50, 50), (4, 9), "1/4", ("minor",), -8, False, ("saw", "square"),
                              ("rolling",), ("pad", "stack"), ("stack", "pluck"), ("off-beat", "16ths")),
    "festival house": Style((124, 128), "four", (50, 50), (9, 16), "1/4", ("minor", "major"), -7, False, ("saw", "sub"),
                            ("long", "off-beat"), ("stack",), ("stack", "square"), ("off-beat",)),
    "hard techno": Style((140, 160), "four", (50, 50), (10, 20), "1/4", ("one",), -6, False, ("acid", "fm"),
                         ("16ths", "rolling"), ("stab",), ("square",), ("off-beat", "16ths")),
    "drum and bass": Style((172, 176), "two-step", (50, 54), (5, 10), "kick", ("one", "minor"), -6, True, ("reese", "fm"),
                           ("long", "riff"), ("pad", "keys"), ("chop", "pluck"), ("8ths", "16ths")),
    "future garage": Style((128, 136), "two-step", (56, 62), (2.5, 4), "kick", ("minor",), -11, True, ("sub", "reese"),
                           ("long", "riff"), ("pad", "keys"), ("chop",), ("16ths",)),
    "grime": Style((136, 142), "broken", (50, 54), (2.5, 4), "kick", ("pair",), -8, True, ("square", "sub"),
                   ("long", "riff"), ("stab",), ("square", "pluck"), ("8ths",)),
    "moombahton": Style((100, 112), "dembow", (50, 50), (6, 10), "1/4", ("minor", "one"), -7, True, ("sub", "square"),
                        ("riff", "long"), ("stab", "organ"), ("square", "chop"), ("8ths", "16ths")),
    "half-time bass": Style((80, 92), "hip-hop", (52, 58), (4, 8), "kick", ("one", "minor"), -9, True, ("fm", "sub"),
                            ("long", "riff"), ("keys", "pad"), ("chop", "pluck"), ("16ths", "8ths")),
}  # fmt: skip


@dataclass(frozen=True)
class Recipe:
    """One track. `traps` say what is done to it beyond its style; `treatment` what happens to the finished file."""

    name: str
    style: str
    seed: int
    treatment: str = "wav"
    traps: tuple[str, ...] = ()

    @property
    def held_back(self) -> bool:
        """One in three is never looked at while tuning."""
        return self.seed % 3 == 1


TREATMENTS = ("wav", "mp3", "44100", "22050", "varispeed", "clipped", "silence", "excerpt", "mono", "ogg", "faded", "wav")
TRAPS = (
    ("no ducking", "tech house"),
    ("no ducking", "hard techno"),
    ("no ducking", "melodic techno"),
    ("no kick", "melodic techno"),
    ("half time drums", "drum and bass"),
    ("strong swing", "tech house"),
    ("detuned", "uplifting trance"),
    ("noise intro", "hard techno"),
    ("noise intro", "festival house"),
    ("kickless intro", "uplifting trance"),
    ("odd lengths", "tech house"),
    ("late clap", "tech house"),
    ("drifting", "moombahton"),
    ("tempo change", "festival house"),
    ("missing beat", "tech house"),
    ("three four", "melodic techno"),
    ("sliding bass", "half-time bass"),
    ("sliding bass", "tech house"),
    ("sliding bass", "drum and bass"),
    ("ringing", "festival house"),
    ("ringing", "melodic techno"),
    ("ringing", "tech house"),
    ("missing beat", "moombahton"),
    ("missing beat", "festival house"),
)


def recipes() -> list[Recipe]:
    """The whole set in a fixed order: 40 of the styles, then the traps."""
    out = []
    for i, style in enumerate(STYLES):
        for k in range(4):
            number = i * 4 + k
            out.append(Recipe(f"{style} {k + 1}", style, 1000 + number, TREATMENTS[(5 * number + i) % len(TREATMENTS)]))
    for i, (trap, style) in enumerate(TRAPS):
        recipe = Recipe(f"{trap} ({style})", style, 2000 + i, traps=(trap,))
        out.append(replace(recipe, treatment="varispeed") if trap == "detuned" else recipe)
    return out
