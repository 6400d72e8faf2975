"""Which kick of our own sounds like the reference's portrait?

Method: fundamental and pitch fall follow from the portrait by the voice's own formula, corrected by what ours reads; drive,
decay and click are each monotone in one figure of the portrait and are found by bisection on rendered hits, twice round because
they act on each other. Figures that a mix hides (a tail that never falls) keep the style's values.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import lru_cache

import numpy as np

from ersatz.core.song.parts import Sound
from ersatz.core.survey.document import KickPortrait
from ersatz.core.survey.kick import LENGTH_S, portrait_of
from ersatz.core.voices import VOICES, render_note
from ersatz.core.voices.spec import Played

RATE_HZ = 44_100
ROUNDS, HALVINGS = 2, 7
#: A decay beyond this was read under other music.
LONGEST_MS = 380.0
#: The portrait calls the pitch settled within this share of the fundamental.
SETTLED = 0.15
MOST_DRIVE = 0.8
#: Kicks that a process keeps: drafts of one reference share theirs.
MOST_FITTED = 32


@lru_cache(MOST_FITTED)
def fitted_kick(portrait: KickPortrait, drive: float = 0.25) -> Sound:
    """The kick voice with the portrait's fundamental, fall, decay, click and drive, as far as its ranges reach; `drive` stands
    where the portrait doesn't tell.
    """
    fundamental = float(np.clip(portrait.fundamental_hz, *_range("fundamental_hz")))
    params = {"fundamental_hz": round(fundamental, 2), "drive": drive, **_fall(portrait, fundamental)}
    params["decay_ms"] = float(np.clip(portrait.decay_ms, *_range("decay_ms")))
    told = portrait.decay_ms < LONGEST_MS and bool(portrait.envelope_db)
    for _ in range(ROUNDS):
        _correct_fall(params, portrait)
        if told:
            _solve(params, "drive", lambda p: p.drive_db, portrait.drive_db, (0.0, MOST_DRIVE))
            _solve(params, "decay_ms", lambda p: p.decay_ms, portrait.decay_ms, _range("decay_ms"))
        _solve(params, "click", lambda p: p.click_db, portrait.click_db, _range("click"))
    return Sound("kick", {name: round(value, 3) for name, value in params.items()})


def portrait_of_sound(sound: Sound) -> KickPortrait:
    """What the survey would say of one hit of it, alone."""
    hit = render_note(sound, Played(0, 1, 1.0, RATE_HZ)).mean(axis=0)
    length = int(LENGTH_S * RATE_HZ)
    return portrait_of(np.pad(hit, (0, max(0, length - len(hit))))[None, :length], RATE_HZ)


def _range(name: str) -> tuple[float, float]:
    param = next(p for p in VOICES["kick"].params if p.name == name)
    return param.low, param.high


def _fall(portrait: KickPortrait, fundamental: float) -> dict[str, float]:
    """The voice's pitch is fundamental * (1 + 2 fall_octaves exp(-t / fall_ms)): solved for its start and where it settles."""
    above = max(portrait.start_hz / fundamental - 1, 0.0)
    low, high = _range("fall_ms")
    if above <= SETTLED or portrait.fall_ms <= 0:
        return {"fall_octaves": round(above / 2, 3), "fall_ms": low}
    fall_ms = float(np.clip(portrait.fall_ms / math.log(above / SETTLED), low, high))
    return {"fall_octaves": round(float(np.clip(above / 2, *_range("fall_octaves"))), 3), "fall_ms": round(fall_ms, 2)}


def _correct_fall(params: dict[str, float], portrait: KickPortrait) -> None:
    """The portrait's start is read half a cycle into the fall: what ours reads corrects the solution."""
    own = portrait_of_sound(Sound("kick", dict(params)))
    above, reads = (p.start_hz / p.fundamental_hz - 1 for p in (portrait, own))
    if above > SETTLED and reads > SETTLED:
        params["fall_octaves"] = float(np.clip(params["fall_octaves"] * above / reads, *_range("fall_octaves")))
        if own.fall_ms > 0 and portrait.fall_ms > 0:
            params["fall_ms"] = float(np.clip(params["fall_ms"] * portrait.fall_ms / own.fall_ms, *_range("fall_ms")))
    params["fundamental_hz"] = float(
        np.clip(params["fundamental_hz"] * portrait.fundamental_hz / own.fundamental_hz, *_range("fundamental_hz"))
    )


def _solve(
    params: dict[str, float], name: str, figure: Callable[[KickPortrait], float], wanted: float, limits: tuple[float, float]
) -> None:
    """Sets `name` so that the figure, which grows with it, comes nearest to what is wanted."""
    low, high = limits
    for _ in range(HALVINGS):
        params[name] = (low + high) / 2
        if figure(portrait_of_sound(Sound("kick", dict(params)))) < wanted:
            low = params[name]
        else:
            high = params[name]
    params[name] = (low + high) / 2
