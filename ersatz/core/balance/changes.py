"""What a balance has changed, strip by strip, in sentences: for the one list that is shown when it is done."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ersatz.core.bands import hz_said
from ersatz.core.edits import section_name
from ersatz.core.edits.arrangement import strip_of
from ersatz.core.effects.eq import BAND_HZ
from ersatz.core.song.document import Master, Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import Strip
from ersatz.core.words import minus

LEAST_DB = 0.3


@dataclass(frozen=True)
class Change:
    """`what` was changed of a strip; `why`, where a figure says it."""

    strip: str
    name: str
    what: str
    why: str = ""


def changes(before: Song, after: Song, reasons: dict[str, str] | None = None) -> list[Change]:
    """Strips that differ, in the order of the song; `reasons` by strip."""
    old = {s.id: s for s in before.strips()}
    out = []
    for strip in after.strips():
        if strip.id in old and old[strip.id] != strip:
            said = [*_of_strip(old[strip.id], strip, after)]
            if said:
                out.append(Change(strip.id, strip.name, ", ".join(said), (reasons or {}).get(strip.id, "")))
    moved = [
        (s, float(np.mean(s.levels_db or (0.0,))), float(np.mean(o.levels_db or (0.0,))))
        for s, o in zip(after.sections, before.sections)
    ]
    levels = [f"{section_name(after, s.id)} {_db(now - was)}" for s, now, was in moved if abs(now - was) >= LEAST_DB]
    if levels:
        out.append(Change("", "Sections", ", ".join(levels), "their loudness follows the reference’s"))
    return out


def _db(value: float) -> str:
    return minus(f"{value:+.1f} dB")


def _of_strip(old: Strip, new: Strip, song: Song) -> Iterator[str]:
    if abs(new.gain_db - old.gain_db) >= LEAST_DB:
        yield f"fader {_db(new.gain_db - old.gain_db)}"
    if abs(new.duck_db - old.duck_db) >= LEAST_DB:
        yield f"ducking {_db(new.duck_db - old.duck_db)}"
    for to, send in new.sends.items():
        by = send.db - old.send_db(to)
        if to in old.sends and abs(by) >= LEAST_DB:
            yield f"send to {strip_of(song, to).name} {_db(by)}"
    yield from _bands(old, new)
    if new.width != old.width:
        yield f"width {new.width:.2f}"
    if new.mono_below_hz != old.mono_below_hz:
        yield f"mono below {new.mono_below_hz:.0f} Hz"
    if isinstance(new, Part) and isinstance(old, Part):
        if new.low_cut_hz != old.low_cut_hz:
            yield f"low cut {hz_said(new.low_cut_hz)}"
        was = {c.section: c.level_db for c in old.cells}
        for cell in new.cells:
            by = cell.level_db - was.get(cell.section, 0.0)
            if abs(by) >= LEAST_DB:
                yield f"{_db(by)} in {section_name(song, cell.section)}"
    if isinstance(new, Master) and isinstance(old, Master) and new.eq != old.eq:
        most = max((abs(b.gain_db) for b in new.eq), default=0.0)
        yield f"EQ of {len(new.eq)} bands, {most:.1f} dB at most"


def _bands(old: Strip, new: Strip) -> Iterator[str]:
    """Bells that an equaliser has other than before."""
    was = {e.id: e for e in old.chain}
    for effect in new.chain:
        if effect.kind != "eq" or was.get(effect.id) == effect:
            continue
        for k in range(1, len(BAND_HZ) + 1):
            now, then = (e.params.get(f"band{k}_db", 0.0) if e else 0.0 for e in (effect, was.get(effect.id)))
            if abs(now - then) >= LEAST_DB:
                yield f"{_db(now - then)} at {hz_said(effect.params.get(f'band{k}_hz', 0.0))}"
