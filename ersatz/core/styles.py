"""Styles as starting points: what fits a tempo and a kick pattern. The reference always outranks them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ersatz.core.errors import UnusableDocument

#: 0-based 16ths of the bar, by family; the first kick row of a family is the plain one.
KICKS: dict[str, tuple[tuple[int, ...], ...]] = {
    "four": ((0, 4, 8, 12),),
    "two-step": ((0, 10), (0, 10, 13)),
    "broken": ((0, 6, 10), (0, 3, 10), (0, 7, 10)),
    "dembow": ((0, 4, 8, 12),),
    "half": ((0, 7), (0, 10), (0, 3, 10)),
}
BACKBEATS = {"four": (4, 12), "two-step": (4, 12), "broken": (4, 12), "dembow": (3, 6, 11, 14), "half": (4, 12)}
OPEN_HATS = {"four": (2, 6, 10, 14), "two-step": (6, 14), "broken": (2, 10), "dembow": (2, 10), "half": (14,)}


@dataclass(frozen=True)
class Style:
    """What is usual in a style. Pairs are low and high; `kick` names the family of patterns, `bass` the rhythms of draft/basses.py,
    `colour` and `held` what draft/harmony.py makes of chords. `low`: the bass is one sound, or a middle over a sub of its own, or
    two sounds that talk over one."""

    name: str
    title: str
    bpm: tuple[float, float]
    kick: str
    swing_percent: tuple[float, float]
    pump_db: tuple[float, float]
    lufs: float
    bass: tuple[str, ...]
    progressions: str
    lead: str
    backbeat: str
    colour: Literal["triads", "sevenths", "ninths", "suspended"]
    held: Literal["whole", "again", "early"]
    low: Literal["one", "split", "talking"] = "one"


# ruff: noqa: E501
STYLES = (
    Style("tech-house", "Tech house", (122, 128), "four", (50, 56), (8, 12), -8, ("tech", "call", "offbeat"), "few", "stab", "clap", "sevenths", "again"),
    Style("disco-house", "Disco house", (116, 124), "four", (50, 56), (6, 12), -8, ("octaves", "call"), "four", "voice", "clap", "sevenths", "early"),
    Style("melodic-techno", "Melodic techno", (120, 126), "four", (50, 51), (6, 10), -9, ("offbeat", "rolling"), "four", "arp", "clap", "ninths", "whole"),
    Style("uplifting-trance", "Uplifting trance", (134, 140), "four", (50, 51), (6, 12), -8, ("rolling",), "four", "arp", "clap", "suspended", "whole"),
    Style("festival-house", "Festival house", (124, 128), "four", (50, 51), (10, 16), -7, ("sustained", "offbeat"), "four", "hook", "clap", "suspended", "again"),
    Style("hard-techno", "Hard techno", (140, 160), "four", (50, 51), (12, 24), -6, ("offbeat", "rolling"), "one", "stab", "clap", "triads", "whole"),
    Style("drum-and-bass", "Drum and bass", (172, 176), "two-step", (50, 54), (3, 8), -6, ("reese", "two-step"), "one", "hook", "snare", "ninths", "whole", "talking"),
    Style("future-garage", "Future garage", (128, 136), "two-step", (56, 62), (2, 5), -11, ("two-step", "reese"), "four", "voice", "snare", "ninths", "early", "split"),
    Style("electro-breaks", "Electro breaks", (126, 136), "broken", (50, 56), (4, 8), -8, ("call", "tech"), "few", "hook", "snare", "sevenths", "again", "talking"),
    Style("grime", "Grime", (136, 142), "broken", (50, 54), (2, 5), -8, ("two-step", "reese"), "pair", "stab", "clap", "triads", "whole", "split"),
    Style("moombahton", "Moombahton", (100, 112), "dembow", (50, 51), (6, 10), -7, ("dembow", "octaves"), "few", "hook", "snare", "triads", "again"),
    Style("half-time-bass", "Half-time bass", (80, 92), "half", (52, 58), (2, 5), -9, ("reese", "two-step"), "one", "hook", "snare", "sevenths", "whole", "talking"),
)  # fmt: skip

BY_NAME = {style.name: style for style in STYLES}
#: How much plays in a draft, by what people call it.
ENERGIES = {"calmer": -1, "as usual": 0, "busier": 1}


def kick_family(row: tuple[float, ...], bpm: float) -> str:
    """Family of a 16-step kick row: "four" where the beats carry it, else broken, two-step or half by place and tempo."""
    hits = {i for i, v in enumerate(row) if v > 0}
    if len(hits & {0, 4, 8, 12}) >= 3:
        return "four"
    if bpm < 98:
        return "half"
    if 0 in hits and 10 in hits and len(hits) <= 3:
        return "two-step"
    return "broken" if hits else "four"


def choose_style(bpm: float, kick_row: tuple[float, ...], name: str | None = None) -> Style:
    """The style by name, or the one whose kick family and tempo range fit best. Raises UnusableDocument for an unknown name."""
    if name is not None:
        if name not in BY_NAME:
            raise UnusableDocument(f"There is no style “{name}”; there are {', '.join(sorted(BY_NAME))}.")
        return BY_NAME[name]
    family = kick_family(kick_row, bpm)

    def distance(style: Style) -> float:
        low, high = style.bpm
        outside = max(low - bpm, bpm - high, 0.0)
        centre = abs(bpm - (low + high) / 2)
        return outside * 2 + centre * 0.2 + (0 if style.kick == family else 12)

    return min(STYLES, key=distance)
