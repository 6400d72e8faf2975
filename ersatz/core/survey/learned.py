"""Does a ducker turn the levels down, when, how far and along which curve?

A ducker multiplies: everything that it acts on climbs back along one curve, in every band and every bar, whatever is played. What
that looks like under drums, off-beat basses, chopped chords and a driven master is learned: small convolutional networks (dilated
convolutions, Yu & Koltun 2016; batch normalisation folded in) read the folded bar of folded.py, and their answers are averaged.
They were trained by bench/learned on pieces of real music and of generated stems, ducked by known curves under kicks of their own;
sources that the figures are judged on (bench/material, a third by track) were not among them.

As all convolutions go round the bar, a ducking that starts elsewhere reads the same, and a bar may have any number of beats.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
import scipy

from ersatz.core.survey.bars import STEPS_PER_BEAT
from ersatz.core.survey.envelopes import PER_BEAT

WEIGHTS = Path(__file__).with_name("learned.npz")
RATES = ("1/4", "1/8", "kick", "kick and snare")
DILATIONS = (1, 2, 4, 8)
#: Points that are averaged after the first two layers.
POOL = 4
#: The depth leaves the network in units of so many dB; the spread's logarithm stays within these bounds.
DEPTH_DB, SPREAD = 10.0, (-1.5, 3.0)
Net = dict[str, np.ndarray]


@dataclass(frozen=True)
class Learned:
    """`certain`: probability that anything ducks. `depth_db`: how deep if it does, with the scale of its error (Laplace). `rates`:
    probability of each of RATES. `shape`: what is left of the depth, 0..1, at PER_BEAT points over one period from the trigger on.
    `steps`: probability for each 16th of the bar that the curve starts there.
    """

    certain: float
    depth_db: float
    spread_db: float
    rates: np.ndarray
    shape: np.ndarray
    steps: np.ndarray

    @property
    def rate(self) -> str:
        """The likeliest of RATES."""
        return RATES[int(np.argmax(self.rates))]

    def triggers(self, rate: str) -> tuple[int, ...]:
        """Points of the bar at which the curve begins: every beat or 8th from the likeliest 16th on, or the likely 16ths."""
        step = PER_BEAT // STEPS_PER_BEAT
        every = {"1/4": STEPS_PER_BEAT, "1/8": STEPS_PER_BEAT // 2}.get(rate)
        if every:
            first = int(np.argmax(self.steps.reshape(-1, every).mean(axis=0)))
            return tuple(range(first * step, len(self.steps) * step, every * step))
        return tuple(int(s) * step for s in np.flatnonzero(self.steps >= min(0.5, self.steps.max())))


def read_learned(folded: np.ndarray) -> Learned:
    """What the networks see in a folded bar, shape (features, points)."""
    answers = [_answer(net, folded) for net in _nets()]
    outs, steps, shapes = (np.mean(each, axis=0) for each in zip(*answers))
    return Learned(
        certain=float(outs[0]),
        depth_db=float(outs[1]),
        spread_db=float(outs[2]),
        rates=outs[3:],
        # What has recovered doesn't fall again before the next trigger.
        shape=_recovering(shapes),
        steps=steps,
    )


def _recovering(shape: np.ndarray) -> np.ndarray:
    bottom = int(np.argmax(shape))
    out = shape / shape[bottom]
    out[bottom:] = np.minimum.accumulate(out[bottom:])
    return out


@cache
def _nets() -> tuple[Net, ...]:
    with np.load(WEIGHTS) as kept:
        stacked = {name: kept[name].astype(np.float32) for name in kept.files}
    return tuple({name: value[k] for name, value in stacked.items()} for k in range(len(stacked["steps"])))


def _answer(net: Net, x: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    x = _silu(_around(net, "a", x))
    x = x + _silu(_around(net, "b", x, 2))
    x = x.reshape(len(x), -1, POOL).mean(axis=2)
    for k, dilation in enumerate(DILATIONS):
        x = x + _silu(_around(net, f"c{k}", x, dilation))
    per_step = x.reshape(len(x), -1, net["steps"].shape[2])
    steps = np.einsum("ock,csk->os", net["steps"], per_step)[0] + net["steps_bias"][0]
    weight = np.repeat(np.exp(steps - steps.max()), per_step.shape[2])
    pooled = np.concatenate([x.mean(axis=1), x.max(axis=1), x @ (weight / weight.sum())])
    hidden = _silu(net["hidden"] @ pooled + net["hidden_bias"])
    certain, depth, spread, *rates = net["out"] @ hidden + net["out_bias"]
    odds = np.exp(np.array(rates) - max(rates))
    outs = [scipy.special.expit(certain), DEPTH_DB * np.logaddexp(0, depth), np.exp(np.clip(spread, *SPREAD)), *(odds / odds.sum())]
    return np.array(outs), scipy.special.expit(steps), scipy.special.expit(net["curve"] @ hidden + net["curve_bias"])


def _around(net: Net, name: str, x: np.ndarray, dilation: int = 1) -> np.ndarray:
    """A convolution that goes round the bar: weights (out, in, taps), x (in, points)."""
    weights = net[name]
    middle = weights.shape[2] // 2
    taps = [np.roll(x, (middle - k) * dilation, axis=1) for k in range(weights.shape[2])]
    return np.asarray(np.tensordot(weights, np.stack(taps, axis=1), axes=([1, 2], [0, 1])) + net[f"{name}_bias"][:, None])


def _silu(x: np.ndarray) -> np.ndarray:
    return x * scipy.special.expit(x)
