"""Which shipped sounds suit a style? Each slot of a draft has a few candidates; the seed picks among them."""

from __future__ import annotations

import random

from ersatz.core.song.parts import Sound
from ersatz.core.song.strips import Effect
from ersatz.core.styles import Style
from ersatz.core.voices import library

SLOTS = (
    "backbeat", "clap layer", "closed hat", "open hat", "ride", "shaker", "percussion", "sub", "bass", "answer", "pad", "stab",
    "lead",
)  # fmt: skip

_ANY: dict[str, tuple[str, ...]] = {
    "closed hat": ("Rivet", "Salt", "Needle", "Dry rope"),
    "open hat": ("Spray", "Half tide", "Steam valve"),
    "shaker": ("Grit", "Rice tin", "Gravel"),
    "percussion": ("Rail tap", "Oar block", "Hollow crate", "Winch click"),
    "clap layer": ("Snap line", "Paper bag", "Wet gloves"),
    "ride": ("Porthole ride", "Anchor ride"),
    "sub": ("Ballast", "Plumb"),
    "answer": ("Donkey engine", "Two-stroke", "Call sign"),
    "pad": ("Wake", "Harbour lights", "Strings below"),
    "stab": ("Deck stab", "Dub chord"),
}
#: What atmosphere is made of: noise as wide as the ear, which the solver's equaliser shapes.
ATMOSPHERE = "Open deck"
_BACKBEAT = {"clap": ("Four hands", "Tight crew", "Car deck"), "snare": ("Galley snare", "Canvas snare", "Crate snare")}
_LEAD = {
    "voice": ("Ferry voice", "Second deckhand"), "stab": ("Stab lead", "Kelp"), "arp": ("Arp lamp", "Arp tide", "Beacon"),
    "hook": ("Beacon", "Brass deck", "Masthead"),
}  # fmt: skip
#: What a style's own rhythm of the bass asks for.
_BASS = {
    "reese": ("Undertow",), "tech": ("Keel", "Diesel", "Organ hold"), "call": ("Keel", "Donkey engine"), "octaves": ("Keel",
    "Chart house"),
    "two-step": ("Undertow", "Keel"), "dembow": ("Call sign", "Sounding rope"),
    "offbeat": ("Donkey engine", "Keel"), "rolling": ("Bilge pump", "Keel"), "sustained": ("Keel", "Diesel"),
}  # fmt: skip
_BY_STYLE: dict[str, dict[str, tuple[str, ...]]] = {
    "disco-house": {"stab": ("Organ deck", "Deck stab"), "bass": ("Keel", "Chart house")},
    "melodic-techno": {"pad": ("Night ferry", "Long swell", "Drift"), "open hat": ("Spray", "Half tide")},
    "uplifting-trance": {"lead": ("Main light", "Arp lamp"), "pad": ("Wake", "Strings below")},
    "festival-house": {"lead": ("Main light", "Backwards tide"), "pad": ("Wake", "Strings below")},
    "hard-techno": {
        "lead": ("Stab lead", "Masthead"),
        "stab": ("Siren deck",),
        "bass": ("Keel", "Donkey engine"),
        "pad": ("Cold front", "Night ferry"),
    },
    "drum-and-bass": {
        "bass": ("Undertow",),
        "answer": ("Two-stroke", "Brown water", "Foghorn"),
        "pad": ("Glass bottom", "Night ferry"),
    },
    "future-garage": {
        "lead": ("Ferry voice", "Second deckhand"),
        "pad": ("Choir loft", "Glass bottom"),
        "bass": ("Undertow", "Dub anchor"),
    },
    "grime": {"bass": ("Call sign", "Undertow"), "lead": ("Masthead", "Morse")},
    "moombahton": {"bass": ("Call sign", "Sounding rope"), "lead": ("Masthead", "Gull")},
    "half-time-bass": {
        "bass": ("Wobble plate", "Undertow"),
        "answer": ("Foghorn", "Brown water", "Call sign"),
        "pad": ("Low drone", "Long swell"),
    },
}


#: What a slot's sound goes through, where it is what producers nearly always reach for: some harmonics for a bass on small
#: speakers, its fundamental left alone (more, and the fifth of them makes a minor key look major); a pad that moves, no wider.
_CHAINS: dict[str, tuple[Effect, ...]] = {
    "answer": (Effect("saturation", {"drive_db": 6.0}, {"kind": "tube"}, blend=0.4, above_hz=150.0),),
    "bass": (Effect("saturation", {"drive_db": 5.0}, {"kind": "tape"}, blend=0.35, above_hz=150.0),),
    "pad": (Effect("chorus", {"depth_ms": 2.0, "width": 0.0}, {"rate": "2 bars"}, blend=0.35),),
}


def chain(slot: str) -> tuple[Effect, ...]:
    """Effects of a slot, in order."""
    return _CHAINS.get(slot, ())


def candidates(style: Style, slot: str) -> tuple[str, ...]:
    """Names in the library, at least one."""
    own = _BY_STYLE.get(style.name, {})
    if slot in own:
        return own[slot]
    return {"backbeat": _BACKBEAT[style.backbeat], "lead": _LEAD[style.lead], "bass": _BASS[style.bass[0]]}.get(slot) or _ANY[slot]


def choose(style: Style, rng: random.Random) -> dict[str, Sound]:
    """A sound per slot, and for atmosphere."""
    chosen = {slot: library.sound(rng.choice(candidates(style, slot))) for slot in SLOTS}
    return {**chosen, "atmosphere": library.sound(ATMOSPHERE)}
