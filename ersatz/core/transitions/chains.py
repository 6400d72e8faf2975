"""Transitions that effects make, at the end of the chains of parts, buses or the master: sweeps, a wash, a slow-down."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from ersatz.core.song.document import BASS, DRUMS, MUSIC
from ersatz.core.song.strips import MASTER, Effect
from ersatz.core.transitions.spec import FADE_IN_TICKS, SNAP_TICKS, Boundary, Stage, Stretch, TransitionSpec


def _in_chains(usual: tuple[str, ...]) -> Callable[[Boundary, Stage], None]:
    def add(j: Boundary, stage: Stage) -> None:
        for owner in j.owners(usual):
            stretches = stage.chains[owner, j.transition.kind]
            # Two of a kind take turns.
            start = max([j.start, *(s.boundary for s in stretches if s.boundary <= j.boundary)])
            if start < j.boundary - SNAP_TICKS - FADE_IN_TICKS:
                stretches.append(Stretch(start, j.boundary, j.amount))

    return add


def _slowed(effect: Effect, beats: float, amount: float) -> Effect:
    return replace(effect, params={"beats": beats, "depth": amount})


LOW_CUT_SWEEP = TransitionSpec(
    "low-cut sweep", 16, "chains", _in_chains((DRUMS, BASS, MUSIC)),
    added=((Effect("sweep", {"resonance": 0.12}, {"kind": "high-pass 24"}),
            {"cutoff_hz": lambda u, a: 25 * (3.2 * 2 ** (4.6 * a)) ** u}),),
)  # fmt: skip
HIGH_CUT_SWEEP = TransitionSpec(
    "high-cut sweep", 16, "chains", _in_chains((MUSIC,)),
    added=((Effect("sweep", {"resonance": 0.12}, {"kind": "low-pass 24"}),
            {"cutoff_hz": lambda u, a: 18_000 * 2 ** (-6.4 * a * u)}),),
)  # fmt: skip
WASH = TransitionSpec(
    "wash", 8, "chains", _in_chains((DRUMS,)),
    added=(
        (Effect("reverb", {"decay_s": 3.5, "low_cut_hz": 200.0}, {"kind": "hall"}),
         {"level_db": lambda u, a: -34 + (22 + 14 * a) * u}),
        (Effect("sweep", {"resonance": 0.1}, {"kind": "high-pass 12"}), {"cutoff_hz": lambda u, a: 25 * (2 + 14 * a) ** u}),
    ),
)  # fmt: skip
SLOW_DOWN = TransitionSpec(
    "slow-down", 4, "chains", _in_chains((MASTER,)), added=((Effect("slow-down"), {"along": lambda u, a: u}),), of_each=_slowed
)
