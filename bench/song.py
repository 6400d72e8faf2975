"""One song for all comparisons of render speed: six minutes, sixteen parts with effects, buses and a full master, made by rule.

Every part plays a pattern of its own from the shipped sounds; sections of 16 bars bring parts in and out as club music does, so
that there is as much repetition as in a real arrangement and no more. Length and number of parts can be chosen to see how cost
grows.
"""

from __future__ import annotations

import random
from dataclasses import replace
from itertools import cycle, islice

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.song.document import (
    BASS,
    DELAY_RETURN,
    DRUMS,
    MUSIC,
    PUMP,
    REVERB_RETURN,
    DuckCurve,
    EqBand,
    Master,
    Song,
    SongSection,
    standard_buses,
    standard_returns,
)
from ersatz.core.song.parts import Cell, Note, Part, Pattern
from ersatz.core.song.strips import Duck, Effect, ducked, sending
from ersatz.core.voices import library

BPM = 126.0
SECTION_BARS = 16
SIXTEENTH = TICKS_PER_BEAT // 4
MINOR = (0, 3, 5, 7, 10)
#: Role, sound, bus, steps of the bar.
SEATS = (
    ("kick", "Mooring post", DRUMS, (0, 4, 8, 12)), ("clap", "Four hands", DRUMS, (4, 12)), ("hats", "Rivet", DRUMS,
    tuple(range(16))),
    ("hats", "Spray", DRUMS, (2, 6, 10, 14)), ("perc", "Grit", DRUMS, tuple(range(1, 16, 2))), ("perc", "Rail tap",
    DRUMS, (3, 7, 14)),
    ("bass", "Keel", BASS, (2, 3, 6, 10, 11, 14)), ("bass", "Plumb", BASS, (0, 8)), ("chords", "Wake", MUSIC, (0,)),
    ("chords", "Deck stab", MUSIC, (3, 6, 11)), ("chords", "Glass bottom", MUSIC, (0,)), ("lead", "Beacon", MUSIC, (0, 3,
    6, 10, 13)),
    ("lead", "Main light", MUSIC, (0, 6, 12)), ("lead", "Ferry voice", MUSIC, (4, 14)), ("hats", "Porthole ride", DRUMS,
    (0, 4, 8, 12)),
    ("lead", "Arp lamp", MUSIC, tuple(range(16))),
)  # fmt: skip
CHAINS = (
    (Effect("eq", {"band2_db": -3.0, "band6_db": 2.0}, {"band2_kind": "bell", "band6_kind": "high shelf"}),),
    (Effect("compressor", {"threshold_db": -24.0}), Effect("saturation", {"drive_db": 6.0}, blend=0.4)),
    (Effect("chorus", choices={"rate": "1 bar"}), Effect("width", {"width": 1.2, "mono_below_hz": 150.0})),
    (Effect("transients", {"attack": 0.3}),),
    (Effect("delay", {"level": 0.3}), Effect("eq", {"band1_hz": 180.0}, {"band1_kind": "low cut 24"})),
)
ROOTS = {"bass": 36, "chords": 60, "lead": 69}


def bench_song(minutes: float = 6.0, parts: int = 16, seed: int = 1) -> Song:
    """The same song for the same arguments."""
    rng = random.Random(seed)
    bars = round(minutes * BPM / 4 / SECTION_BARS) * SECTION_BARS
    labels = cycle(("intro", "build", "drop", "breakdown", "build", "drop"))
    sections = tuple(SongSection(f"s{k}", label, SECTION_BARS) for k, label in enumerate(islice(labels, bars // SECTION_BARS)))  # type: ignore[arg-type]
    made = tuple(_part(k, seat, sections, rng) for k, seat in enumerate(islice(cycle(SEATS), parts)))
    shape = tuple(round(max(0.0, 1 - k / 50) ** 1.5, 4) for k in range(64))
    bells = tuple(
        EqBand(hz, gain, 1.2) for hz, gain in ((60, 1.5), (140, -2), (350, -1), (900, 1), (2300, 1.5), (5600, -1), (11_000, 2))
    )
    master = Master(eq=bells, gain_db=4.0, chain=(Effect("multiband", {"amount": 0.1}),))
    glue = (Effect("compressor", {"attack_ms": 20.0, "threshold_db": -14.0}),)
    buses = tuple(replace(b, chain=glue) if b.id == DRUMS else b for b in standard_buses())
    returns = tuple(replace(r, duck=Duck(PUMP, depth)) for r, depth in zip(standard_returns(), (4.0, 3.0)))
    curves = (DuckCurve(PUMP, "Pump", "1/4", shape),)
    return Song(
        "Bench", BPM, "A", "minor", 54.0, sections, made, buses, returns, master, curves, seed=seed,
    )  # fmt: skip


def _part(k: int, seat: tuple, sections: tuple[SongSection, ...], rng: random.Random) -> Part:
    role, name, bus, steps = seat
    root = ROOTS.get(role, 60)
    patterns = {}
    for pattern in "AB":
        notes = []
        for bar in range(8):
            degree = rng.choice(MINOR) if role != "chords" else (0, 5, 3, 7)[bar // 2 % 4]
            for step in steps:
                voices = (0, 3, 7) if role == "chords" else (0,)
                long = SIXTEENTH * (14 if len(steps) == 1 else 2)
                for voice in voices:
                    pitch = root + degree + voice + (rng.choice(MINOR) if role == "lead" else 0)
                    notes.append(Note((bar * 16 + step) * SIXTEENTH, long, pitch, rng.choice((0.6, 0.75, 0.9, 1.0))))
        patterns[pattern] = Pattern(8, tuple(notes))
    quiet = {"intro": 6, "build": 11, "drop": 99, "breakdown": 9}
    cells = tuple(
        Cell(s.id, "AB"[i % 2], k % 16 < quiet[s.label] and not (s.label == "breakdown" and role in ("kick", "bass")))
        for i, s in enumerate(sections)
    )
    echoes = {DELAY_RETURN: -20.0} if role == "lead" else {}
    return Part(
        id=f"p{k}", name=f"{name} {k}", role=role, sound=library.sound(name), out=bus, patterns=patterns, cells=cells,
        gain_db=-14.0, pan=round(rng.uniform(-0.4, 0.4), 2), low_cut_hz=30.0 if role in ("kick", "bass") else 160.0,
        duck=ducked(PUMP, 8.0 if role in ("bass", "chords", "lead") else 0.0), chain=CHAINS[k % len(CHAINS)] if k else (),
        sends=sending({REVERB_RETURN: -18.0, **echoes}) if role in ("chords", "lead", "clap") else {},
    )  # fmt: skip
