"""How the demo's remake was arranged from its draft: the edits, in the order that its producer made them.

Each is what the pages send: an edit, or what is asked for of the reference, as JSON.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ersatz.core.song.document import Song

BAR, BEAT, STEP = 3840, 960, 240
#: When it was kept under a name, counted in edits.
KEPT = "before the second drop"

Step = dict[str, Any]


def _sections(song: Song) -> dict[str, str]:
    """Ids by label and number: "drop 2"."""
    seen: dict[str, int] = {}
    out = {}
    for section in song.sections:
        seen[section.label] = seen.get(section.label, 0) + 1
        out[f"{section.label} {seen[section.label]}"] = section.id
    return out


def _edit(kind: str, **fields: Any) -> Step:
    return {"edit": {"kind": kind, **fields}}


def _cell(part: str, section: str, pattern: str = "A", **more: Any) -> Step:
    return {"part": part, "section": section, "on": True, "pattern": pattern, **more}


def steps(song: Song, main_section: int) -> Iterator[Step]:
    """The edits of a draft `song`; `main_section` is the reference's section that the groove is taken from."""
    at = _sections(song)
    starts = {s.id: bar - 1 for bar, s in song.placed()}
    drop_1, drop_2 = at["drop 1"], at["drop 2"]
    build_1, build_2 = at["build 1"], at["build 2"]
    breakdown_1, breakdown_2 = at["breakdown 1"], at["breakdown 2"]

    # Groove: the hats where the reference has them, the shaker by hand.
    yield {"ask": {"kind": "load_groove", "part": "hats", "section": main_section, "role": "hats"}}
    shaker = {"name": "by hand", "humanise_ms": 4.0, "humanise_velocity": 0.08, "seed": 9}
    yield _edit("set_groove", part="shaker", groove=shaker)
    # A rim that runs against the bar, each hit a little lower.
    rim = [{"tick": k * 3 * STEP, "ticks": STEP, "midi": 60, "velocity": 0.8 - 0.1 * k, "semitones": 4.0 - 2 * k} for k in range(4)]
    yield _edit("add_pattern", part="rim", bars=1)
    yield _edit("write_notes", part="rim", pattern="B", bars=1, notes=rim, loop_ticks=15 * STEP, said="15 against 16")
    # A clap that ends a phrase, struck again and again; a hi-hat roll in its last beat.
    fill = [
        {"tick": t * STEP, "ticks": STEP, "midi": 60, "velocity": v, "repeats": r, "nudge_ms": n}
        for t, v, r, n in ((4, 1.0, 1, 6.0), (10, 0.6, 1, 0.0), (12, 0.95, 1, 8.0), (14, 0.7, 2, 0.0), (15, 0.9, 3, 0.0))
    ]
    yield _edit("add_pattern", part="clap", bars=1)
    yield _edit("write_notes", part="clap", pattern="B", bars=1, notes=fill, said="a fill")
    cells = [_cell("clap", s, fill="B", fill_bars=1) for s in (drop_1, drop_2)]
    yield _edit("put_cells", how="painted", cells=cells)
    # The second half of each drop gains percussion.
    cells = [_cell("shaker", s, entry_bars=8) for s in (drop_1, drop_2)] + [_cell("rim", drop_1, "B", entry_bars=16)]
    yield _edit("put_cells", how="painted", cells=[*cells, _cell("rim", drop_2, "B", entry_bars=8)])

    # Joints, beside those of the draft.
    yield _edit("put_transition", section=breakdown_1, what="wash", beats=8.0, amount=0.6, on=["bus:drums"])
    yield _edit("put_transition", section=breakdown_2, what="echo throw", beats=8.0, amount=0.8, on=["lead"])
    yield _edit("put_transition", section=build_2, what="reverse swell", beats=4.0, amount=0.8, on=["pad"])
    for drop in (drop_1, drop_2):
        yield _edit("put_transition", section=drop, what="drum fill", beats=4.0, amount=0.8, seed=3)
        yield _edit("put_transition", section=drop, what="fall", beats=8.0, amount=0.5)
    for build in (build_1, build_2):
        yield _edit("put_transition", section=build, what="crash", beats=8.0, amount=0.6)
    yield _edit("put_transition", section=at["outro 1"], what="slow-down", beats=4.0, amount=1.0)
    yield _edit("put_transition", section=breakdown_2, what="high-cut sweep", beats=16.0, amount=0.4, on=["bus:music"])

    # Automation: the music steps back before each drop, the pad's send opens through the second breakdown.
    points = [{"tick": 0, "value": 0.0}]
    for build, drop in ((build_1, drop_1), (build_2, drop_2)):
        first, joint = starts[build] * BAR, starts[drop] * BAR
        points += [
            {"tick": first, "value": 0.0, "curve": -0.3},
            {"tick": joint - BEAT, "value": -5.0},
            {"tick": joint, "value": 0.0},
        ]
    yield _edit("set_automation", target={"strip": "bus:music", "device": "fader", "param": "gain_db"}, points=points)
    first = starts[breakdown_2] * BAR
    opening = [
        {"tick": first, "value": -18.0}, {"tick": first + 15 * BAR, "value": -9.0, "curve": -0.5},
        {"tick": first + 16 * BAR, "value": -18.0},
    ]  # fmt: skip
    yield _edit("set_automation", target={"strip": "pad", "device": "sends", "param": "return:reverb"}, points=opening)

    yield {"keep": KEPT}
    # The second drop is another one: the lead with another sound, its old one kept; the bass an octave up where it answers.
    yield _edit("keep_alternative", part="lead", section=drop_2, alternative={"pattern": "B"}, shipped="Kelp")
    yield _edit("flip_cell", part="lead", section=drop_2)
    yield _edit("add_pattern", part="stabs", copy_of="A")
    yield _edit("transform_notes", part="stabs", pattern="B", how="strum", amount=12.0)
    yield _edit("transform_notes", part="stabs", pattern="B", how="transpose in scale", amount=2.0)
    yield _edit("put_cells", how="painted", cells=[_cell("stabs", drop_2, "A", fill="B", fill_bars=8)])
    yield {"ask": {"kind": "generate", "part": "open-hat", "pattern": "A", "seed": 4, "locked": []}}
    for standstill in range(2):
        yield {"ask": {"kind": "vary", "standstill": standstill, "offer": 0}, "if_offered": True}
