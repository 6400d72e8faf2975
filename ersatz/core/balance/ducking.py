"""Ducking curves that fit: to what the reference does, or to the room that the kick itself takes."""

from __future__ import annotations

import numpy as np

from ersatz.core.edits.ducking import DrawCurve
from ersatz.core.errors import InvalidEdit
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import DUCK_POINTS, DuckCurve, Song
from ersatz.core.survey.document import Survey

#: The kick leaves room for a part where it has fallen this far under its peak.
ROOM_DB = 24.0
#: Window of the kick's level.
LEVEL_S = 0.008


def fitted_to_reference(curve: DuckCurve, survey: Survey) -> DrawCurve:
    """The reference's measured gain over one beat as the curve's shape. Raises InvalidEdit where nothing ducks there."""
    gain = np.array(survey.pump.beat_db)
    deepest = -float(gain.min()) if len(gain) else 0.0
    if deepest <= 0.1:
        raise InvalidEdit("Nothing ducks in the reference.")
    at = np.arange(DUCK_POINTS) / DUCK_POINTS * (len(gain) - 1)
    shape = np.interp(at, np.arange(len(gain)), -gain / deepest)
    return DrawCurve(curve.id, tuple(round(float(v), 4) for v in np.clip(shape, 0, 1)))


def fitted_to_kick(curve: DuckCurve, song: Song, mixdown: Mixdown) -> DrawCurve:
    """The curve that lets a part through where the kick leaves room: fully down while the kick is loud, back as it falls, open
    ROOM_DB under its peak. Of the part that triggers the curve, or else the first kick. Raises InvalidEdit without one."""
    named = [p for p in song.parts if p.id in curve.triggers] or [p for p in song.parts if p.role == "kick"]
    if not named:
        raise InvalidEdit("There is no kick to fit the curve to.")
    part = named[0]
    playing = sorted(mixdown.plays_in(part.id))
    if not playing:
        raise InvalidEdit(f"{part.name} plays nowhere.")
    beat = round(song.grid.beat_s * RATE_HZ)
    # The first hit that stands alone for a beat, behind its chain.
    x = mixdown.behind_chain(part.id, playing[0] + 1, playing[0] + 1)
    level = _level_db(x)
    start = int(np.argmax(level > level.max() - 3.0))
    piece = level[start : start + beat]
    at = np.arange(DUCK_POINTS) / DUCK_POINTS * beat
    fallen = piece.max() - np.interp(at, np.arange(len(piece)), piece, right=piece[-1])
    shape = np.clip(1 - fallen / ROOM_DB, 0, 1)
    # What has let go stays so: the next hit is the next trigger's.
    shape = np.minimum.accumulate(shape)
    shape *= np.clip((DUCK_POINTS - np.arange(DUCK_POINTS)) / 6, 0, 1)
    return DrawCurve(curve.id, tuple(round(float(v), 4) for v in shape))


def _level_db(x: np.ndarray) -> np.ndarray:
    """Level over time, dB: the highest sample of both sides within LEVEL_S on both sides."""
    n = max(1, round(LEVEL_S * RATE_HZ))
    peaks = np.abs(x).max(axis=0)
    padded = np.pad(peaks, (n, n))
    windows = np.lib.stride_tricks.sliding_window_view(padded, 2 * n + 1)[:: max(1, n // 4)]
    coarse = windows.max(axis=1)
    level = np.interp(np.arange(len(peaks)), np.arange(len(coarse)) * max(1, n // 4), coarse)
    return np.asarray(20 * np.log10(np.maximum(level, 1e-6)))
