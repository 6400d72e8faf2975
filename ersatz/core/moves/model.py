"""What a section will be like after an edit, from the strips' own energies: no rendering.

Between uncorrelated parts power adds; a fader, a cut or a band of an equaliser multiplies a part's power per third octave; a
ducking curve multiplies it at each place of the beat. What bus and master dynamics make of it is left out but for the limiter,
which keeps part of a change of level for itself. What the model can't know (a part that begins to play) stays as it is.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ersatz.core.balance.lanes import Lane, Lanes
from ersatz.core.balance.pumping import Ducked, recovered, set_gain_db
from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.effects import eq
from ersatz.core.effects.chain import settings_of
from ersatz.core.loudness import k_weighting
from ersatz.core.mixdown.render import RATE_HZ
from ersatz.core.moves.section import HZ, SectionMix
from ersatz.core.song.document import Master, Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import MASTER, Strip

#: Of a change of level the limiter keeps a share that grows with what it takes already: half at this much, dB.
HALF_KEPT_DB = 6.0
SILENT_DB = -200.0


def predicted(mix: SectionMix, after: Song) -> SectionMix:
    """The section of `after` as the model has it, from the one that was measured."""
    change = {p.id: _change_db(mix.song, after, p.id) + _of_section_db(mix, after, p.id) for p in mix.song.parts}
    lanes = {name: _scaled(lane, change.get(name, np.zeros(len(HZ)))) for name, lane in mix.lanes.lanes.items() if name != MASTER}
    master, gained = _master(mix, after, lanes)
    lufs = _k_db(master.power) - _k_db(mix.lanes.mix.power)
    kept = HALF_KEPT_DB / (HALF_KEPT_DB + max(0.0, mix.limited_db))
    return replace(
        mix, song=after, lanes=Lanes(mix.lanes.first, mix.lanes.last, {**lanes, MASTER: master}), lufs=mix.lufs + kept * lufs,
        limited_db=max(0.0, mix.limited_db + gained), ducked=_pumped(mix, after),
    )  # fmt: skip


def response_db(strip: Strip) -> np.ndarray:
    """What fader, cuts and equalisers of a strip do per third octave, dB."""
    if strip.mute:
        return np.full(len(HZ), SILENT_DB)
    out = np.full(len(HZ), strip.gain_db + strip.gain_in_db)
    if isinstance(strip, Part):
        if strip.low_cut_hz > 0:
            out += eq.response_db(eq.low_cut(strip.low_cut_hz, RATE_HZ), HZ, RATE_HZ)
        if strip.high_cut_hz > 0:
            out += eq.response_db(eq.high_cut(strip.high_cut_hz, RATE_HZ), HZ, RATE_HZ)
    if isinstance(strip, Master):
        out += eq.response_db(eq.low_cut(strip.low_cut_hz, RATE_HZ), HZ, RATE_HZ)
        for band in strip.eq:
            out += eq.response_db(eq.bell(band, RATE_HZ)[None], HZ, RATE_HZ)
    for effect in strip.chain:
        if effect.kind == "eq" and effect.on and effect.channel == "both":
            out += effect.blend * eq.response_db(eq.sections_of(settings_of(effect), RATE_HZ), HZ, RATE_HZ)
    return out


def _change_db(before: Song, after: Song, name: str) -> np.ndarray:
    """Of a part, with the buses that it goes through."""
    out = np.zeros(len(HZ))
    old, new = before.strip(name), after.strip(name)
    while old is not None and new is not None and old.id != MASTER:
        if old != new:
            out += response_db(new) - response_db(old)
        old, new = before.strip(old.out), after.strip(new.out)
    return out


def _of_section_db(mix: SectionMix, after: Song, name: str) -> float:
    """What another level in this section, and another ducking, do to a part, dB."""
    levels = []
    for song in (mix.song, after):
        part = song.part(name)
        cell = part.cell(mix.section.id) if part is not None else None
        levels.append(cell.level_db if cell is not None and cell.on else 0.0)
    return levels[1] - levels[0] + _ducked_db(mix, after, name)


def _ducked_db(mix: SectionMix, after: Song, name: str) -> float:
    """By how much another ducking changes what a sustained part has over a whole beat, dB."""
    if mix.ducked is None or name not in mix.ducked.parts:
        return 0.0
    loose = mix.ducked.power[mix.ducked.parts.index(name)]
    had, has = (float((loose * 10 ** (set_gain_db(song, name) / 10)).sum()) for song in (mix.song, after))
    return 0.0 if had <= 0 else 10 * float(np.log10(has / had))


def _scaled(lane: Lane, by_db: np.ndarray) -> Lane:
    if not by_db.any():
        return lane
    ratio = 10 ** (by_db / 10)
    return Lane(lane.strip, lane.power * ratio, lane.side * ratio, lane.frames * ratio[:, None])


def _master(mix: SectionMix, after: Song, lanes: dict[str, Lane]) -> tuple[Lane, float]:
    """The finished mix, and by how much the limiter's input becomes louder, dB."""
    parts = [p.id for p in mix.song.parts if p.id in lanes] + [r.id for r in mix.song.returns if r.id in lanes]
    old, new = (np.sum([side[name].power for name in parts], axis=0) for side in (mix.lanes.lanes, lanes))
    by_db = 10 * np.log10(np.maximum(new, 1e-15) / np.maximum(old, 1e-15))
    before, now = mix.song.master, after.master
    if before != now:
        by_db = by_db + response_db(now) - response_db(before)
    lane = _scaled(mix.lanes.mix, by_db)
    side = lane.side * ((now.width / before.width) ** 2 if before.width > 0 else 1.0)
    side = np.where(np.array(NOMINAL_HZ) < now.mono_below_hz, 0.0, side)
    power = lane.power - lane.side + side
    narrowed = power / np.maximum(lane.power, 1e-15)
    return Lane(MASTER, power, side, lane.frames * narrowed[:, None]), _k_db(lane.power) - _k_db(mix.lanes.mix.power)


def _k_db(power: np.ndarray) -> float:
    weight = 10 ** (eq.response_db(k_weighting(RATE_HZ), HZ, RATE_HZ) / 10)
    return float(10 * np.log10(max(float((power * weight).sum()), 1e-15)))


def _pumped(mix: SectionMix, after: Song) -> Ducked | None:
    """Ducking by the curves as they are set, on what was measured of the parts without them."""
    if mix.ducked is None:
        return None
    had, has = (np.array([set_gain_db(song, name) for name in mix.ducked.parts]) for song in (mix.song, after))
    if np.array_equal(had, has):
        return mix.ducked
    loose = mix.ducked.power
    told, wanted = (recovered((loose * 10 ** (gain / 10)).sum(axis=0), loose.sum(axis=0)) for gain in (had, has))
    # What the curves alone don't tell (their triggers, what else moves) stays as it was read.
    gain = mix.ducked.gain_db + (wanted - told)
    return replace(mix.ducked, gain_db=gain - gain.max())
