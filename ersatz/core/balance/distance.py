"""How far do the sections of a mix stand from their targets, and how does that change with every fader, bell and section level?

What the solver (solver.py) makes small. Conventions: P parts, N sections, B third octaves, K bells. The unknowns are a vector of
dB: P faders, P x K bells, P x N levels by section. Between uncorrelated parts power adds; levels are 10 log10 of the sums. The
derivatives are exact: of a level by a part's gain it is that part's share of the power.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

TINY = 1e-14
#: A part that comes through nowhere is this far under the rest, dB.
NOWHERE_DB = -60.0


@dataclass(frozen=True)
class Audible:
    """Parts that have to come through: `parts` and `sections`, places, shape (pairs,); `over_db`: how far over the rest in some
    band, shape (pairs,); `bands`: in which ones, shape (pairs, B); `worth`: of a dB that one is short of it."""

    parts: np.ndarray
    sections: np.ndarray
    over_db: np.ndarray
    bands: np.ndarray
    worth: float


@dataclass(frozen=True)
class Distance:
    """`parts`: powers, (P, N, B); `rest`: what nothing here moves, (N, B); `targets`, dB, and `weight`, (N, B); `bells`: dB of 1 dB
    of each, (K, B); `loud`: how far each section stands under the loudest, dB, (N,), worth `stands` a dB; `behind`: dB that are
    added to each section behind the parts, (N,); `hearing`: what loudness makes of a band's power, (B,). Bands `empty_db` under a
    section's loudest are empty. `ridge`: rows that go with the unknowns, (rows, P + P K + P N)."""

    parts: np.ndarray
    rest: np.ndarray
    targets: np.ndarray
    weight: np.ndarray
    bells: np.ndarray
    loud: np.ndarray
    stands: float
    behind: np.ndarray
    hearing: np.ndarray
    empty_db: float
    audible: Audible
    ridge: np.ndarray

    @property
    def size(self) -> int:
        """Number of free values: a level and all bells per part, and a level per part and section."""
        count, sections, _ = self.parts.shape
        return count * (1 + len(self.bells) + sections)

    @property
    def of_targets(self) -> int:
        """So many of the first residuals say how far the sections stand from their targets."""
        return self.targets.size + len(self.loud)

    def split(self, x: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Faders (P,), bells (P, K), levels by section (P, N)."""
        count, sections, _ = self.parts.shape
        a, b = count, count * (1 + len(self.bells))
        return x[:a], x[a:b].reshape(count, len(self.bells)), x[b:].reshape(count, sections)

    def residuals(self, x: np.ndarray) -> np.ndarray:
        """Distances of bands (N x B), of sections from how loud they should be (N), of parts from being heard, and the ridge."""
        each, power = self._powers(x)
        level = 10 * np.log10(power + self._floor(power))
        through = self._through(each, power)[0]
        total = self._loudness(power)
        return np.concatenate([
            self._centred((level - self.targets) * self.weight).ravel(), (total - total.max() - self.loud) * self.stands,
            self.audible.worth * np.maximum(self.audible.over_db - through, 0.0), self.ridge @ x,
        ])  # fmt: skip

    def jacobian(self, x: np.ndarray) -> np.ndarray:
        """Derivatives of the residuals by the unknowns, shape (residuals, size)."""
        each, power = self._powers(x)
        filled, rows, totals = power + self._floor(power), [], []
        for n in range(len(power)):
            share, loudest = each[:, n] / filled[n], int(power[n].argmax())
            # By gain, band by band: of the band itself, and of the loudest one, which the floor hangs on.
            of_floor = self._ratio * each[:, n, loudest] / filled[n][:, None]
            by_gain = np.zeros((power.shape[1], *share.shape))
            by_gain[np.arange(len(by_gain)), :, np.arange(len(by_gain))] = share.T
            by_gain[:, :, loudest] += of_floor
            moved = self._columns(by_gain, n)
            weight = self.weight[n][:, None]
            rows.append(weight * moved - weight * ((weight * moved).sum(axis=0) / weight.sum()))
            heard = each[:, n] * self.hearing
            totals.append(self._columns((heard / ((power[n] * self.hearing).sum() + TINY))[None], n)[0])
        stands = (np.array(totals) - totals[int(self._loudness(power).argmax())]) * self.stands
        return np.concatenate([*rows, stands, self._through_by(each, power), self.ridge])

    @property
    def _ratio(self) -> float:
        return float(10 ** (-self.empty_db / 10))

    def _floor(self, power: np.ndarray) -> np.ndarray:
        """Smoothly towards what counts as empty, so that a solver can follow."""
        return np.asarray(power.max(axis=1, keepdims=True) * self._ratio + TINY)

    def _loudness(self, power: np.ndarray) -> np.ndarray:
        """Of each section, dB, behind what is added to it."""
        return np.asarray(10 * np.log10((power * self.hearing).sum(axis=1) + TINY) + self.behind)

    def _centred(self, off: np.ndarray) -> np.ndarray:
        """At equal loudness."""
        return np.asarray(off - off.sum(axis=1, keepdims=True) / self.weight.sum(axis=1, keepdims=True) * self.weight)

    def _powers(self, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Of each part, (P, N, B), and of all, (N, B)."""
        faders, bells, cells = self.split(x)
        gain = faders[:, None, None] + cells[:, :, None] + (bells @ self.bells)[:, None, :]
        each = self.parts * 10 ** (gain / 10)
        return each, each.sum(axis=0) + self.rest

    def _through(self, each: np.ndarray, power: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """How far over the rest each audible part is in its best band, dB, and which band that is."""
        a = self.audible
        own = np.maximum(each[a.parts, a.sections], TINY)
        over = np.where(a.bands, 10 * np.log10(own / np.maximum(power[a.sections] - own, TINY)), NOWHERE_DB)
        best = over.argmax(axis=1)
        return np.maximum(over[np.arange(len(best)), best], NOWHERE_DB), best

    def _through_by(self, each: np.ndarray, power: np.ndarray) -> np.ndarray:
        a, (through, best) = self.audible, self._through(each, power)
        out = np.zeros((len(through), self.size))
        for k in np.flatnonzero((a.over_db > through) & (through > NOWHERE_DB)):
            p, n, b = a.parts[k], a.sections[k], best[k]
            by_gain = np.zeros((1, *each[:, n].shape))
            by_gain[0, :, b] = -each[:, n, b] / max(power[n, b] - each[p, n, b], TINY)
            by_gain[0, p, b] = 1.0
            out[k] = -a.worth * self._columns(by_gain, n)[0]
        return out

    def _columns(self, by_gain: np.ndarray, n: int) -> np.ndarray:
        """Derivatives by the gain of each part and band in section `n`, shape (rows, P, B), as ones by the unknowns."""
        count, sections, _ = self.parts.shape
        whole = by_gain.sum(axis=2)
        cells = np.zeros((len(by_gain), count, sections))
        cells[:, :, n] = whole
        return np.concatenate([whole, (by_gain @ self.bells.T).reshape(len(by_gain), -1), cells.reshape(len(by_gain), -1)], axis=1)
