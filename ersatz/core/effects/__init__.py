"""Effects as plain functions over stereo arrays, shape (2, samples). EFFECTS names them all."""

from __future__ import annotations

from ersatz.core.effects import colour, ducking, dynamics, echo, eq, limiter, moving, space, stereo
from ersatz.core.effects.spec import EffectSpec

EFFECTS: dict[str, EffectSpec] = {
    spec.name: spec
    for spec in (
        eq.SPEC, dynamics.COMPRESSOR, dynamics.MULTIBAND, dynamics.TRANSIENTS, dynamics.GATE, ducking.DUCKER, colour.SATURATION,
        colour.REDUCTION, limiter.CLIPPER, limiter.LIMITER, moving.CHORUS, moving.FLANGER, moving.PHASER, moving.TREMOLO,
        moving.SWEEP, moving.SLOW_DOWN, echo.DELAY, space.REVERB, stereo.WIDTH,
    )
}  # fmt: skip
