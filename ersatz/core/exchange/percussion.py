"""Which General MIDI percussion key stands for which kind of drum, both ways (General MIDI level 1, percussion key map).

Of a kind with several keys the first is the usual one; further parts of the kind get the next, so that two kicks stay two.
"""

from __future__ import annotations

from ersatz.core.song.parts import Part, Role
from ersatz.core.voices import library

#: Kind -> its role, its keys.
KINDS: dict[str, tuple[Role, tuple[int, ...]]] = {
    "kick": ("kick", (36, 35)), "clap": ("clap", (39,)), "snare": ("clap", (38, 40)),
    "closed hat": ("hats", (42, 44)), "open hat": ("hats", (46,)),
    "crash": ("hats", (49, 57, 55, 52)), "ride": ("hats", (51, 59, 53)),
    "shaker": ("perc", (70, 82, 69, 54)), "rim": ("perc", (37, 31, 75, 76, 77)), "bell": ("perc", (56, 67, 68, 80, 81)),
    "tom": ("perc", (45, 48, 41, 43, 47, 50)), "noise hit": ("perc", (58, 73, 74)),
}  # fmt: skip
_OF_KEY = {key: kind for kind, (_, keys) in KINDS.items() for key in keys}
#: Keys for what isn't a drum and still lies among them: hits that General MIDI has nothing like.
_OTHER: dict[str, tuple[int, ...]] = {"noise": (60, 61), "impact": (64, 63), "hats": (42,), "clap": (39,), "kick": (36,)}


def kind_of_key(key: int) -> tuple[str, Role]:
    """Kind and role of a percussion key; what isn't listed is some percussion."""
    kind = _OF_KEY.get(key, "rim")
    return kind, KINDS[kind][0] if key in _OF_KEY else "perc"


def keys_of(parts: list[Part]) -> dict[str, int]:
    """A percussion key for each part by its id: its kind's first that no part before it has, or the kind's first."""
    used: set[int] = set()
    out = {}
    for part in parts:
        kind = library.kind_of(part.sound, part.role)
        keys = KINDS[kind][1] if kind in KINDS else _OTHER.get(part.role, KINDS["rim"][1])
        out[part.id] = next((key for key in keys if key not in used), keys[0])
        used.add(out[part.id])
    return out
