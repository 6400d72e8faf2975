"""Why has a balance moved a strip? What was off before it, where that strip makes most of the mix."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from ersatz.core import bands
from ersatz.core.balance.solver import Powers, bells_db, inside, measure_powers
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import Master, Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import Strip
from ersatz.core.survey.document import Survey
from ersatz.core.words import minus

#: Less than this was not off, dB.
LEAST_OFF_DB = 0.7
#: A strip's own bands: where its share of the mix is at least this much of its largest.
OWN_SHARE = 0.5


def reasons(before: Song, after: Song, survey: Survey, mixdown: Mixdown, sections: Sequence[int] | None = None) -> dict[str, str]:
    """By strip, of those that differ. `mixdown` renders `before`; `sections` are those that were solved for."""
    powers = measure_powers(before, survey, mixdown, sections)
    out = {}
    for strip in after.strips():
        old = before.strip(strip.id)
        if old is not None and old != strip:
            said = [*_of_strip(old, strip, survey, powers)]
            if said:
                out[strip.id] = "; ".join(said)
    return out


def _of_strip(old: Strip, new: Strip, survey: Survey, powers: Powers | None) -> Iterator[str]:
    if isinstance(old, Part) and isinstance(new, Part) and powers is not None and new.id in powers.ids:
        yield from _balance(old, new, powers)
    if isinstance(old, Part) and isinstance(new, Part) and new.low_cut_hz > old.low_cut_hz:
        yield "lows that only the kick and the bass need"
    if new.duck_db != old.duck_db:
        yield f"the reference pumps by {survey.pump.depth_db:.1f} dB"
    if new.sends != old.sends:
        yield "as much lies between the hits as in the reference"
    if isinstance(old, Master) and isinstance(new, Master):
        if new.eq != old.eq:
            yield "what its parts leave over against the reference"
        if new.width != old.width:
            yield "as wide as the reference"
        if new.gain_db != old.gain_db:
            yield minus(f"as loud as the reference, {survey.loudness.integrated_lufs:.1f} LUFS")


def _balance(old: Part, new: Part, powers: Powers) -> Iterator[str]:
    """Where the part makes most of the mix, what the mix had too much or too little of, if the part was moved against it."""
    n, known = powers.ids.index(new.id), inside()
    mix = powers.parts.sum(axis=0) + powers.rest + 1e-14
    off = 10 * np.log10(mix) - powers.targets
    off -= off[:, known].mean(axis=1, keepdims=True)
    share = np.where(known, powers.parts[n] / mix, 0.0)
    own = share.mean(axis=0)
    if own.max() <= 0:
        return
    first, last = _around(own, OWN_SHARE)
    region = slice(first, last + 1)
    was_off = float((off * share)[:, region].sum() / share[:, region].sum())
    levels = {c.section: c.level_db for c in old.cells}
    moved = new.gain_db - old.gain_db + float((bells_db(new) - bells_db(old))[region].mean())
    moved += float(np.mean([c.level_db - levels.get(c.section, 0.0) for c in new.cells] or [0.0]))
    if abs(was_off) >= LEAST_OFF_DB and was_off * moved < 0:
        low, high = (bands.hz_said(bands.NOMINAL_HZ[k]) for k in (first, last))
        where = f"at {low}" if first == last else f"from {low} to {high}"
        yield f"the mix had {abs(was_off):.1f} dB too {'much' if was_off > 0 else 'little'} {where}"


def _around(row: np.ndarray, share: float) -> tuple[int, int]:
    """First and last place of the run around the maximum that stays over a share of it."""
    first = last = int(row.argmax())
    limit = float(row.max()) * share
    while first > 0 and row[first - 1] >= limit:
        first -= 1
    while last + 1 < len(row) and row[last + 1] >= limit:
        last += 1
    return first, last
