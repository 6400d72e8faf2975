"""Effects in a row: blend, frequency range, bypass at equal loudness, and how far a chain reaches in time."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from ersatz.core.compiled import compiled
from ersatz.core.dsp import followers
from ersatz.core.dsp.control import figures
from ersatz.core.effects import EFFECTS
from ersatz.core.effects.spec import EffectSpec, Settings, Where
from ersatz.core.errors import UnusableDocument
from ersatz.core.song.strips import Effect

#: Id of an effect -> its automated values by name, one per sample, or their extremes.
Moved = Callable[[str], dict[str, np.ndarray]]
#: Part -> its signal over the stretch, shape (2, n), and the song samples of its hits.
Sidechain = Callable[[str], tuple[np.ndarray, np.ndarray]]


def spec_of(effect: Effect) -> EffectSpec:
    """Raises UnusableDocument for an effect that doesn't exist."""
    spec = EFFECTS.get(effect.kind)
    if spec is None:
        raise UnusableDocument(f"There is no effect “{effect.kind}”.")
    return spec


def _reaches(effect: Effect, bpm: float, extremes: Moved | None) -> tuple[float, float]:
    if not effect.on:
        return 0.0, 0.0
    spec = spec_of(effect)
    settings = spec.settings(effect, extremes(effect.id) if extremes else None)
    split = max((followers.below_context_s(hz) for hz in (effect.above_hz, effect.below_hz) if hz > 0), default=0.0)
    return spec.before_s(settings, bpm) + split, spec.after_s(settings, bpm) + split


def reach(effects: tuple[Effect, ...], bpm: float, rate: int, extremes: Moved | None = None) -> tuple[int, int]:
    """Samples before and after a stretch that its own depend on. The first is also how long the chain rings on. `extremes`: the
    lowest and the highest figure of each value of an effect that moves."""
    pairs = [_reaches(e, bpm, extremes) for e in effects]
    return sum(math.ceil(before * rate) for before, _ in pairs), sum(math.ceil(after * rate) for _, after in pairs)


def apply_effect(x: np.ndarray, effect: Effect, where: Where, moved: dict[str, np.ndarray] | None = None) -> np.ndarray:
    """One effect on (2, n), its range and blend regarded. Samples within its reach of the ends are only right beside silence."""
    if not effect.on:
        return x * 10 ** (effect.bypass_db / 20) if effect.bypass_db else x
    spec = spec_of(effect)
    settings = spec.settings(effect, moved)
    inside, outside = _within(x, effect, where.rate)
    wet = spec.process(inside, settings, where)
    blend = moved["blend"] if moved and "blend" in moved else effect.blend
    if isinstance(blend, np.ndarray) or blend != 1.0:
        wet = _blended(inside, wet, figures(blend))
    return wet if outside is None else wet + outside


@compiled
def _blended(dry: np.ndarray, wet: np.ndarray, blend: np.ndarray) -> np.ndarray:  # pragma: no cover - compiled
    """`blend`, kept within 0..1: one figure, or one per sample."""
    out = np.empty(dry.shape)
    moves = len(blend) > 1
    for c in range(dry.shape[0]):
        for i in range(dry.shape[1]):
            share = min(max(blend[i if moves else 0], 0.0), 1.0)
            out[c, i] = dry[c, i] + share * (wet[c, i] - dry[c, i])
    return out


def _within(x: np.ndarray, effect: Effect, rate: int) -> tuple[np.ndarray, np.ndarray | None]:
    """What lies in the effect's range and channel, and the rest."""
    if effect.above_hz <= 0 and effect.below_hz <= 0 and effect.channel == "both":
        return x, None
    inside = x
    if effect.channel != "both":
        mid = 0.5 * (x[0] + x[1])
        inside = np.stack([mid, mid]) if effect.channel == "mid" else x - mid
    if effect.below_hz > 0:
        inside = followers.below(inside, effect.below_hz, rate)
    if effect.above_hz > 0:
        inside = inside - followers.below(inside, effect.above_hz, rate)
    return inside, x - inside


def period_beats(effects: tuple[Effect, ...]) -> float:
    """Beats after which the chain does the same again to the same input: 0 for at any time, infinite for never."""
    periods = [p for e in effects if e.on and (p := spec_of(e).period_beats(settings_of(e))) > 0]
    if not periods:
        return 0.0
    if np.inf in periods:
        return float(np.inf)
    # All are multiples of a 24th of a beat.
    return math.lcm(*(round(p * 24) for p in periods)) / 24


def settings_of(effect: Effect) -> Settings:
    """An effect’s values at rest, filled in and clipped. Raises UnusableDocument for what doesn’t exist."""
    return spec_of(effect).settings(effect)


def run_chain(
    x: np.ndarray, effects: tuple[Effect, ...], where: Where, moved: Moved | None = None, sidechain: Sidechain | None = None,
    reaches: Sequence[tuple[int, int]] | None = None,
) -> np.ndarray:  # fmt: skip
    """All effects in order on (2, n); gives what is left without their `reach` at both ends. `moved` gives an effect's automated
    values by its id; `sidechain` another part's signal and hits; `reaches` is the reach of each effect, if left out that of its
    values at rest."""
    first = 0
    for effect, (before, after) in zip(effects, reaches or [reach((e,), where.bpm, where.rate) for e in effects]):
        here = replace(where, start=where.start + first, lead=before)
        if effect.sidechain and sidechain is not None and spec_of(effect).has_sidechain:
            signal, hits = sidechain(effect.sidechain)
            here = replace(here, sidechain=signal[:, first : first + x.shape[1]], hits=hits)
        values = moved(effect.id) if moved else {}
        x = apply_effect(x, effect, here, {name: value[first : first + x.shape[1]] for name, value in values.items()})
        # What an effect needed around the stretch isn't carried on into the next ones.
        x = x[:, before : x.shape[1] - after]
        first += before
    return x
