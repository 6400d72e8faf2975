"""What a section will be like after an edit, from the strips' own energies: no rendering.

Between uncorrelated parts power adds; a fader, a cut or a band of an equaliser multiplies a part's power per third octave, a level
that is automated and a compressor multiply it frame by frame, a ducking curve at each place of the beat; a return has what it is
fed. What bus and master dynamics make of it is left out but for the limiter, which keeps part of a change of level for itself. What
the model can't know (a part that begins to play) stays as it is.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ersatz.core.balance.lanes import Lane, Lanes
from ersatz.core.balance.pumping import Ducked, recovered, set_gain_db
from ersatz.core.effects import dynamics, eq
from ersatz.core.effects.chain import settings_of
from ersatz.core.loudness import k_weighting
from ersatz.core.mixdown.automation import values_at
from ersatz.core.mixdown.render import RATE_HZ
from ersatz.core.moves.section import HZ, SectionMix
from ersatz.core.song.document import Master, Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import FADER, MASTER, Effect, Strip
from ersatz.core.survey.document import StereoBand
from ersatz.core.survey.spectrum import MOST_BETWEEN_DB, between_db

#: Of a change of level the limiter keeps a share that grows with what it takes already: half at this much, dB, by renderings.
HALF_KEPT_DB = 11.0
SILENT_DB = -200.0
HIGH_PASS = "high-pass 24"
#: Peaks of hits over the level of a frame of 93 ms.
PEAK_OVER_DB = 9.0


def predicted(mix: SectionMix, after: Song) -> SectionMix:
    """The section of `after` as the model has it, from the one that was measured."""
    change = {p.id: change_db(mix.song, after, p.id) + _of_section_db(mix, after, p.id) for p in mix.song.parts}
    lanes = {name: _scaled(lane, change.get(name, np.zeros(len(HZ)))) for name, lane in mix.lanes.lanes.items() if name != MASTER}
    lanes = {name: _over_time(lane, _gain_course_db(mix, after, name, lane)) for name, lane in lanes.items()}
    lanes = {name: _widened(lane, mix.song.strip(name), after.strip(name)) for name, lane in lanes.items()}
    lanes |= {r.id: _fed(mix, after, r.id, lanes) for r in after.returns if r.id in lanes}
    master, gained = _master(mix, after, lanes)
    return replace(
        mix, song=after, lanes=Lanes(mix.lanes.first, mix.lanes.last, {**lanes, MASTER: master}),
        lufs=mix.lufs + through_limiter_db(mix.limited_db, gained), limited_db=max(0.0, mix.limited_db + gained),
        ducked=_pumped(mix, after), bands=_bands(mix, after, master),
    )  # fmt: skip


def through_limiter_db(limited_db: float, gained_db: float) -> float:
    """What becomes of a change of level in front of a limiter that takes so much: the integral of the share that passes, which is 1
    where it takes nothing."""
    under = min(0.0, limited_db + gained_db)
    over = max(limited_db + gained_db, 0.0)
    return under + HALF_KEPT_DB * float(np.log((HALF_KEPT_DB + over) / (HALF_KEPT_DB + limited_db)))


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


def change_db(before: Song, after: Song, name: str) -> np.ndarray:
    """Of a part, with the buses that it goes through."""
    out = np.zeros(len(HZ))
    old, new = before.strip(name), after.strip(name)
    while old is not None and new is not None and old.id != MASTER:
        if old != new:
            out += response_db(new) - response_db(old)
        old, new = before.strip(old.out), after.strip(new.out)
    return out


def _of_section_db(mix: SectionMix, after: Song, name: str) -> np.ndarray | float:
    """What another level in this section, filters that are blended in here, and another ducking do to a part, dB."""
    levels = []
    for song in (mix.song, after):
        part = song.part(name)
        cell = part.cell(mix.section.id) if part is not None else None
        levels.append(cell.level_db if cell is not None and cell.on else 0.0)
    swept = _swept_db(mix, after, name) - _swept_db(mix, mix.song, name)
    return levels[1] - levels[0] + _ducked_db(mix, after, name) + swept


def _ducked_db(mix: SectionMix, after: Song, name: str) -> float:
    """By how much another ducking changes what a sustained part has over a whole beat, dB."""
    if mix.ducked is None or name not in mix.ducked.parts:
        return 0.0
    loose = mix.ducked.power[mix.ducked.parts.index(name)]
    had, has = (float((loose * 10 ** (set_gain_db(song, name) / 10)).sum()) for song in (mix.song, after))
    return 0.0 if had <= 0 else 10 * float(np.log10(has / had))


def _swept_db(mix: SectionMix, song: Song, name: str) -> np.ndarray:
    """What the high-pass filters of a part do to it here, dB, as far as they are blended in in the middle of the section."""
    out = np.zeros(len(HZ))
    part = song.part(name)
    for effect in part.chain if part is not None else ():
        if part is None or effect.kind != "sweep" or not effect.on or effect.choices.get("kind") != HIGH_PASS:
            continue
        blend, corner = cut_of(part, effect, float(_ticks(mix, 1)[0]))
        passed = 1 / np.sqrt(1 + (corner / HZ) ** 8)
        out += 20 * np.log10(np.maximum(1 - blend + blend * passed, 1e-6))
    return out


def cut_of(part: Part, effect: Effect, tick: float) -> tuple[float, float]:
    """How far a filter of a part is blended in at a tick, 0..1, and where its corner is, Hz."""
    at = np.array([tick])
    stands = {"blend": effect.blend, "cutoff_hz": settings_of(effect).flat("cutoff_hz")}
    curves = {name: part.curve(effect.id, name) for name in stands}
    blend, corner = (float(values_at(c, at)[0]) if (c := curves[name]) is not None else stands[name] for name in stands)
    return blend, corner


def _ticks(mix: SectionMix, count: int) -> np.ndarray:
    """Ticks of the middles of so many equal stretches of the measured bars."""
    bar = mix.song.grid.ticks_per_bar
    first, last = (mix.lanes.first - 1) * bar, mix.lanes.last * bar
    return first + (np.arange(count) + 0.5) / count * (last - first)


def _gain_course_db(mix: SectionMix, after: Song, name: str, lane: Lane) -> np.ndarray | None:
    """By how much a strip's automated level and its compressors change it at each frame, dB; None where nothing does."""
    old, new = mix.song.strip(name), after.strip(name)
    if old is None or new is None or (old.automation, old.chain) == (new.automation, new.chain):
        return None
    ticks = _ticks(mix, lane.frames.shape[1])

    def automated(strip: Strip) -> np.ndarray | float:
        curve = strip.curve(FADER, "gain_db")
        return values_at(curve, ticks) - strip.gain_db if curve is not None else 0.0

    level = 10 * np.log10(np.maximum(lane.frames.sum(axis=0), 1e-15))
    course = automated(new) - automated(old) + _compressed_db(new, level) - _compressed_db(old, level)
    return np.broadcast_to(course, ticks.shape)


def _compressed_db(strip: Strip, level_db: np.ndarray) -> np.ndarray:
    """What the compressors of a chain make of frames whose level is known: their static curves, time constants left out."""
    out = np.zeros(len(level_db))
    for effect in strip.chain:
        if effect.kind == "compressor" and effect.on:
            s = settings_of(effect)
            # The detector follows peaks, which lie over the frames' own level.
            reduction = dynamics.gain_db(level_db + PEAK_OVER_DB, s.flat("threshold_db"), s.flat("ratio"), s.flat("knee_db"))
            out += effect.blend * (reduction + s.flat("gain_db"))
    return out


def _widened(lane: Lane, old: Strip | None, new: Strip | None) -> Lane:
    """What width and mono lows of a strip make of its sides; the middle stays."""
    if old is None or new is None or (old.width, old.mono_below_hz) == (new.width, new.mono_below_hz):
        return lane
    side = lane.side * ((new.width / old.width) ** 2 if old.width > 0 else 1.0)
    side = np.where(new.mono_below_hz > HZ, 0.0, side)
    power = lane.power - lane.side + side
    narrowed = power / np.maximum(lane.power, 1e-15)
    return Lane(lane.strip, power, side, lane.frames * narrowed[:, None])


def _over_time(lane: Lane, by_db: np.ndarray | None) -> Lane:
    if by_db is None or not by_db.any():
        return lane
    frames = lane.frames * 10 ** (by_db / 10)
    ratio = frames.sum(axis=1) / np.maximum(lane.frames.sum(axis=1), 1e-15)
    return Lane(lane.strip, lane.power * ratio, lane.side * ratio, frames)


def _fed(mix: SectionMix, after: Song, name: str, lanes: dict[str, Lane]) -> Lane:
    """A return's lane, with the power that it is fed: what the parts send, by their sends."""
    had, has = (
        np.sum(
            [found[p.id].power * 10 ** (p.send_db(name) / 10) for p in song.parts if p.id in found and name in p.sends]
            or [np.zeros(len(HZ))], axis=0,
        )
        for song, found in ((mix.song, mix.lanes.lanes), (after, lanes))
    )  # fmt: skip
    old, new = mix.song.strip(name), after.strip(name)
    own = response_db(new) - response_db(old) if old is not None and new is not None else 0.0
    ratio = np.where(had > 1e-15, has / np.maximum(had, 1e-15), 1.0)
    return _scaled(lanes[name], 10 * np.log10(np.maximum(ratio, 1e-9)) + own)


def _bands(mix: SectionMix, after: Song, master: Lane) -> tuple[StereoBand, ...]:
    """What lies between the hits moves as it does in the longer frames of the lanes, and so does the crest where a compressor is
    set; what another level of a part makes of peaks is too short for them."""
    compresses = [[e for e in strip.chain if e.kind == "compressor"] for strip in mix.song.strips()] != [
        [e for e in strip.chain if e.kind == "compressor"] for strip in after.strips()
    ]
    out = []
    for band in mix.bands:
        rows = (band.low_hz <= HZ) & (band.high_hz > HZ)
        had, has = mix.lanes.mix.frames[rows].sum(axis=0), master.frames[rows].sum(axis=0)
        crest = _crest_db(has) - _crest_db(had) if compresses else 0.0
        between = (band.between_db or 0.0) + between_db(has) - between_db(had)
        out.append(replace(band, crest_db=band.crest_db + crest, between_db=max(between, -MOST_BETWEEN_DB)))
    return tuple(out)


def _crest_db(power: np.ndarray) -> float:
    return 10 * float(np.log10(max(float(np.percentile(power, 99)), 1e-15) / max(float(power.mean()), 1e-15)))


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
    frames = mix.lanes.mix.frames * _frames_of(lanes, parts) / np.maximum(_frames_of(mix.lanes.lanes, parts), 1e-15)
    # Frame by frame as the parts' sum changes, in the mean as the power does.
    mean = np.maximum(frames.mean(axis=1), 1e-15)
    lane = replace(lane, frames=frames * (lane.frames.mean(axis=1) / mean)[:, None])
    # Its sides are its parts' sides, as loud as they come out.
    was, has = (np.sum([found[name].side for name in parts], axis=0) for found in (mix.lanes.lanes, lanes))
    wider = (has / np.maximum(new, 1e-15)) / np.maximum(was / np.maximum(old, 1e-15), 1e-9)
    lane = replace(lane, side=np.minimum(lane.side * np.clip(wider, 0.0, 1e3), lane.power))
    return _widened(lane, before, now), k_db(lane.power) - k_db(mix.lanes.mix.power)


def _frames_of(lanes: dict[str, Lane], names: list[str]) -> np.ndarray:
    return np.asarray(np.sum([lanes[name].frames for name in names], axis=0))


def k_db(power: np.ndarray) -> float:
    """Loudness of power per third octave, as K-weighting hears it, dB."""
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
