"""How much room does the mix need? The sends to the reverb are moved together, until as much lies between the hits as in the
reference.

What lies between the hits of a band is its quiet moments against its average (survey/spectrum.py): room and tails fill them. The
return is rendered once; louder by g dB it adds that much more power to each frame of the mix.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from ersatz.core.balance.lanes import Lane, measure_lanes
from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.gap.details import BETWEEN_DB, HEARD, SILENT_BETWEEN_DB
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song, with_each
from ersatz.core.song.strips import CLOSED_DB, MASTER, SEND_HIGH_DB, AnyStrip, with_send
from ersatz.core.survey.document import StereoBand, Survey
from ersatz.core.survey.spectrum import bands_of_samples, between_db

REVERB = "reverb"
#: So far the sends may be moved, in steps, dB; lows are kept dry.
STEPS_DB = tuple(range(-9, 10, 3))
LOWEST_HZ = 250.0
#: A dB of change is worth this much of a dB that is off.
RIDGE = 0.05


def solve_room(
    song: Song, survey: Survey, mixdown: Mixdown, first: int, last: int, section: int, locked: frozenset[str] = frozenset(),
    step: Callable[[float], None] = lambda fraction: None,
) -> Song:  # fmt: skip
    """The song with the sends to its reverb moved by the amount that suits 1-based bars first..last best, judged by the reference's
    `section`; as it is where there is no reverb, or where the reference's survey doesn't tell it."""
    room = song.return_with(REVERB)
    theirs = survey.stereo.per_section[section].bands if survey.stereo.per_section else ()
    if room is None or not any(b.between_db is not None for b in theirs):
        return song
    to = room[0].id
    lanes = measure_lanes(mixdown, first, last, step).lanes
    if to not in lanes:
        return song
    own = bands_of_samples(mixdown.strip_samples(MASTER, first, last), RATE_HZ)
    strips = [*(p.id for p in song.parts), *(r.id for r in song.returns)]
    dry = np.sum([lanes[name].frames for name in strips if name in lanes and name != to], axis=0)

    def cost(by_db: float) -> float:
        return _off_db(dry, lanes[to], by_db, lanes[MASTER], own, theirs) + RIDGE * abs(by_db)

    best = min(STEPS_DB, key=cost)
    return with_each(song, lambda strip: strip if strip.id in locked else _sent(strip, to, best)) if best else song


def _off_db(
    dry: np.ndarray, wet: Lane, by_db: float, mix: Lane, own: tuple[StereoBand, ...], theirs: tuple[StereoBand, ...]
) -> float:  # fmt: skip
    """How far what lies between the hits is off beyond its tolerance, dB, in the mean of the bands that are heard."""
    hz, found = np.array(NOMINAL_HZ, float), []
    for mine, there in zip(own, theirs):
        rows = (mine.low_hz <= hz) & (mine.high_hz > hz)
        if mine.low_hz < LOWEST_HZ or there.between_db is None or mine.between_db is None:
            continue
        if mix.power[rows].sum() < HEARD * mix.power.sum():
            continue
        was, now = (between_db((dry + gain * wet.frames)[rows].sum(axis=0)) for gain in (1.0, 10 ** (by_db / 10)))
        a, b = max(mine.between_db + now - was, SILENT_BETWEEN_DB), max(there.between_db, SILENT_BETWEEN_DB)
        found.append(max(0.0, abs(a - b) - BETWEEN_DB))
    return float(np.mean(found)) if found else 0.0


def _sent(strip: AnyStrip, to: str, by_db: float) -> AnyStrip:
    """A strip with its send moved, where it has one."""
    send = strip.sends.get(to)
    if send is None or send.db <= CLOSED_DB:
        return strip
    db = round(float(np.clip(send.db + by_db, CLOSED_DB + 1, SEND_HIGH_DB)), 2)
    return with_send(strip, to, replace(send, db=db))
