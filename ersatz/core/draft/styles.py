"""Styles as starting points: what fits a tempo and a kick pattern. The reference always outranks them."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.errors import UnusableDocument


@dataclass(frozen=True)
class Style:
    """`kick` names the family of patterns; `bass` and `stabs` index the rhythm tables of patterns.py."""

    name: str
    title: str
    low_bpm: float
    high_bpm: float
    kick: str
    swing_percent: float
    pump_db: float
    bass: tuple[str, ...]
    progressions: str
    lead: str
    backbeat: str


STYLES = (
    Style("tech-house", "Tech house", 121, 129, "four", 53, 10, ("tech", "call"), "few", "stab", "clap"),
    Style("disco-house", "Disco house", 116, 124, "four", 52, 9, ("octaves", "call"), "four", "voice", "clap"),
    Style("melodic-techno", "Melodic techno", 119, 127, "four", 50, 8, ("offbeat", "rolling"), "four", "arp", "clap"),
    Style("uplifting-trance", "Uplifting trance", 132, 142, "four", 50, 9, ("rolling",), "four", "arp", "clap"),
    Style("festival-house", "Festival house", 124, 131, "four", 50, 12, ("sustained", "offbeat"), "four", "hook", "clap"),
    Style("hard-techno", "Hard techno", 139, 165, "four", 50, 16, ("offbeat", "rolling"), "one", "stab", "clap"),
    Style("drum-and-bass", "Drum and bass", 164, 182, "two-step", 51, 6, ("reese", "call"), "one", "hook", "snare"),
    Style("future-garage", "Future garage", 126, 138, "two-step", 59, 4, ("reese", "call"), "four", "voice", "snare"),
    Style("electro-breaks", "Electro breaks", 124, 138, "broken", 54, 6, ("call", "tech"), "few", "hook", "snare"),
    Style("grime", "Grime", 136, 146, "broken", 52, 3, ("reese",), "pair", "stab", "clap"),
    Style("moombahton", "Moombahton", 96, 115, "dembow", 50, 8, ("octaves", "call"), "few", "hook", "snare"),
    Style("half-time-bass", "Half-time bass", 70, 95, "half", 54, 4, ("reese", "call"), "one", "hook", "snare"),
)  # fmt: skip

BY_NAME = {style.name: style for style in STYLES}


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
        outside = max(style.low_bpm - bpm, bpm - style.high_bpm, 0.0)
        centre = abs(bpm - (style.low_bpm + style.high_bpm) / 2)
        return outside * 2 + centre * 0.2 + (0 if style.kick == family else 12)

    return min(STYLES, key=distance)
