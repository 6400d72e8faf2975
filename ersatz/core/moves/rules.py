"""What might be changed: each rule reads a measured section beside its reference and yields proposals.

What stands for the whole song (faders, equalisers, ducking, master) is judged by the reference's main section and proposed
there; of any other section only what is its own: who plays, how loud there, and what leads out.

A proposal is a set of edits as the pages send them with the sentence that names it. Whether it helps is not its business: the model
(model.py) and a rendering (find.py) judge that.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ersatz.core.balance.ducking import fitted_to_reference
from ersatz.core.balance.pumping import SUSTAINED
from ersatz.core.edits import edit_json, parse_edit
from ersatz.core.edits.strips import MOST_DUCKED_DB
from ersatz.core.errors import ErsatzError
from ersatz.core.moves.model import predicted
from ersatz.core.moves.section import (
    EVENTS,
    HZ,
    Reading,
    SectionMix,
    clash_figure,
    clashes_of,
    difference_db,
    gap_of,
    readings,
)
from ersatz.core.song.document import PUMP, Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import with_fader
from ersatz.core.survey.document import ROLES, Survey
from ersatz.core.target.document import in_balance

#: Faders are tried so far from where they stand, dB.
STEPS_DB = (-12.0, -9.0, -6.0, -4.5, -3.0, -2.0, -1.0, 1.0, 2.0, 3.0, 4.5, 6.0, 9.0, 12.0)
#: A fader move has to close this much by the model, in tolerances.
LEAST_GAIN = 0.25
#: A part's level in one section is within this of its fader, dB.
MOST_LEVEL_DB = 12.0
#: Faders that are proposed.
MOST_FADERS = 4
LEAST_WIDTH, MOST_WIDTH = 0.0, 1.8
#: The longest transition that is proposed.
MOST_BEATS = 16.0


@dataclass(frozen=True)
class Proposal:
    """`figures`: the readings that it is about."""

    kind: str
    strip: str
    sentence: str
    edits: tuple[dict[str, Any], ...]
    figures: tuple[str, ...]

    def applied(self, song: Song) -> Song | None:
        """None where an edit doesn't fit the song."""
        try:
            for edit in self.edits:
                song = parse_edit(edit).apply(song)
        except (ErsatzError, ValueError, KeyError, TypeError):
            return None
        return song


Found = dict[str, Reading]
Rule = Callable[[SectionMix, Survey, Found], Iterator[Proposal]]


def proposals(mix: SectionMix, survey: Survey, found: Found) -> list[Proposal]:
    """Of all rules, each once."""
    out: dict[str, Proposal] = {}
    for rule in RULES if mix.theirs == survey.main_section() else OWN_RULES:
        for proposal in rule(mix, survey, found):
            out.setdefault(proposal.sentence, proposal)
    return list(out.values())


def _off(found: Found, figure: str) -> float:
    """How far a figure is off where it isn't matched, in its own unit; 0 where it is."""
    reading = found.get(figure)
    return reading.difference if reading is not None and reading.gap > 0 else 0.0


def _minus(text: str) -> str:
    return text.replace("-", "−")


def _set(strip: str, name: str, value: float) -> dict[str, Any]:
    return {"kind": "set_strip", "strip": strip, "name": name, "value": round(value, 2)}


def _faders(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """The fader moves that close most by the model, the best of each part."""
    before = gap_of(found)
    best: list[tuple[float, Part, float]] = []
    for part in mix.song.parts:
        if part.id not in mix.lanes.lanes:
            continue
        tried = []
        for by in STEPS_DB:
            after = replace(mix.song, parts=tuple(with_fader(p, p.gain_db + by) if p.id == part.id else p for p in mix.song.parts))
            # Of two that close alike the smaller.
            tried.append((before - gap_of(readings(predicted(mix, after), survey)) - 0.02 * abs(by), by))
        gained, by = max(tried)
        if gained >= LEAST_GAIN:
            best.append((gained, part, by))
    for _, part, by in sorted(best, key=lambda row: -row[0])[:MOST_FADERS]:
        figures = tuple(f for f, r in found.items() if f.startswith("Balance") and r.gap > 0)
        yield Proposal(
            "level", part.id, _minus(f"{part.name} {by:+.1f} dB"), (_set(part.id, "gain_db", part.gain_db + by),),
            figures or ("Balance, mean",),
        )  # fmt: skip


def _levels(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """The same for the level that a part has in this section alone."""
    before, section = gap_of(found), mix.section.id
    best: list[tuple[float, str, str, dict[str, Any]]] = []
    for part in mix.song.parts:
        cell = part.cell(section)
        if cell is None or not cell.on or part.id not in mix.lanes.lanes:
            continue
        for by in STEPS_DB:
            level = round(cell.level_db + by, 1)
            if abs(level) > MOST_LEVEL_DB:
                continue
            edit = {
                "kind": "set_cell", "part": part.id, "section": section, "pattern": cell.pattern, "entry_bars": cell.entry_bars,
                "exit_bars": cell.exit_bars, "level_db": level, "fill": cell.fill, "fill_bars": cell.fill_bars,
            }  # fmt: skip
            sentence = _minus(f"{part.name} {by:+.1f} dB here")
            after = Proposal("level", part.id, sentence, (edit,), ()).applied(mix.song)
            if after is not None:
                gained = before - gap_of(readings(predicted(mix, after), survey)) - 0.02 * abs(by)
                best.append((gained, part.id, sentence, edit))
    tried: set[str] = set()
    for gained, strip, sentence, edit in sorted(best, key=lambda row: -row[0]):
        if gained < LEAST_GAIN or len(tried) == MOST_FADERS:
            break
        if strip not in tried:
            tried.add(strip)
            figures = tuple(f for f, r in found.items() if f.startswith(("Balance", "Loudness")) and r.gap > 0)
            yield Proposal("level", strip, sentence, (edit,), figures or ("Balance, mean",))


def _cures(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """What cures a clash: cuts, narrow bands, ducking, mono lows, levels."""
    for clash in clashes_of(mix, survey):
        if clash.edits:
            yield Proposal(f"clash: {clash.kind}", clash.strips[-1], clash.cure, clash.edits, (clash_figure(mix.song, clash),))


def _ducking(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """Deeper, shallower, or at last some; the reference's curve where the way back is off."""
    off, song = _off(found, "Pump depth"), mix.song
    curve = song.curve(PUMP) or (song.curves[0] if song.curves else None)
    if curve is None:
        return
    ducked = [p for p in song.parts if p.duck is not None and p.duck.curve == curve.id and p.duck.depth_db > 0]
    if off and mix.ducked is not None and mix.ducked.depth_db > 1.0 and ducked:
        wanted = found["Pump depth"].reference
        ratio = float(np.clip(wanted / mix.ducked.depth_db, 0.0, 3.0))
        edits = tuple(
            {"kind": "set_duck", "strip": p.id, "curve": curve.id, "depth_db": round(min(MOST_DUCKED_DB, p.duck_db * ratio), 1)}
            for p in ducked
        )
        sentence = f"Ducking of all × {ratio:.2f}: {mix.ducked.depth_db:.1f} → {wanted:.1f} dB"
        yield Proposal("ducking depth", ducked[0].id, sentence, edits, ("Pump depth",))
    if off < 0:
        loose = [p for p in song.parts if p.role in SUSTAINED and p.id in mix.lanes.lanes and p.duck_db < 1.0]
        depth = round(found["Pump depth"].reference, 1)
        if loose:
            edits = tuple({"kind": "set_duck", "strip": p.id, "curve": curve.id, "depth_db": depth} for p in loose)
            names = ", ".join(p.name for p in loose)
            yield Proposal("ducking depth", loose[0].id, f"Duck {names} by {depth:.1f} dB", edits, ("Pump depth",))
    if _off(found, "Pump release"):
        edit = edit_json(fitted_to_reference(curve, survey))
        ms = found["Pump release"]
        sentence = f"Ducking curve of the reference: release {ms.remake:.0f} → {ms.reference:.0f} ms"
        yield Proposal("ducking release", ducked[0].id if ducked else "", sentence, (edit,), ("Pump release",))
    if survey.pump.depth_db > 0 and curve.rate != survey.pump.rate and {curve.rate, survey.pump.rate} <= {"1/4", "1/8"}:
        edit = {"kind": "set_triggers", "curve": curve.id, "rate": survey.pump.rate, "triggers": []}
        yield Proposal("ducking rate", "", f"Duck at every {survey.pump.rate}", (edit,), ("Pump depth",))


def _master(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """Width, mono lows, loudness and what goes into the limiter: of the whole song."""
    master = mix.song.master
    if _off(found, "Width above 270 Hz"):
        reading = found["Width above 270 Hz"]
        # Width is the sides' share of the power: w / (2 - w) is their ratio, which goes with the square of the level.
        own, wanted = (min(v, 1.95) / (2 - min(v, 1.95)) for v in (max(reading.remake, 1e-3), max(reading.reference, 1e-3)))
        width = float(np.clip(master.width * np.sqrt(wanted / own), LEAST_WIDTH, MOST_WIDTH))
        sentence = f"Master width {master.width:.2f} → {width:.2f}"
        yield Proposal("width", "master", sentence, (_set("master", "width", width),), ("Width above 270 Hz",))
    if _off(found, "Width below 120 Hz"):
        below = float(np.clip(max(survey.stereo.mono_below_hz, 120.0), 20, 250))
        edit = _set("master", "mono_below_hz", below)
        yield Proposal("mono lows", "master", f"Mono below {below:.0f} Hz", (edit,), ("Width below 120 Hz",))
    off = _off(found, "Limiter")
    if off:
        sentence = _minus(f"Master fader {-off:+.1f} dB")
        yield Proposal("loudness", "master", sentence, (_set("master", "gain_db", master.gain_db - off),), ("Limiter",))
    louder = _off(found, "Loudness here")
    if louder and mix.theirs == survey.main_section():
        sentence = _minus(f"Master fader {-louder:+.1f} dB")
        yield Proposal("loudness", "master", sentence, (_set("master", "gain_db", master.gain_db - louder),), ("Loudness here",))


def _roles(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """Roles that the reference has here and we rest, or the other way round."""
    for role in ROLES:
        figure = f"Plays: {role}"
        off = _off(found, figure)
        if not off:
            continue
        parts = [p for p in mix.song.parts if p.role == role and p.patterns and not p.mute]
        playing = [p for p in parts if (c := p.cell(mix.section.id)) is not None and c.on]
        for part in parts[:1] if off < 0 else playing:
            cell = part.cell(mix.section.id)
            pattern = cell.pattern if cell is not None and cell.pattern in part.patterns else min(part.patterns)
            edit = {"kind": "put_cells", "how": "on" if off < 0 else "off", "cells": [
                {"part": part.id, "section": mix.section.id, "on": off < 0, "pattern": pattern},
            ]}  # fmt: skip
            verb = "plays here, as in the reference" if off < 0 else "rests here, as in the reference"
            yield Proposal("presence", part.id, f"{part.name} {verb}", (edit,), (figure,))


def _transitions(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    for event, what in EVENTS.items():
        figure = f"Leads out: {event}"
        if _off(found, figure):
            theirs = max((e.beats for e in survey.events if e.kind == event), default=0.0)
            beats = 0.0 if what == "gap" else float(min(theirs, MOST_BEATS))
            edit = {"kind": "put_transition", "section": mix.section.id, "what": what, "beats": beats}
            yield Proposal("transition", "", f"A {what} at the end of the section, as in the reference", (edit,), (figure,))


def _swing(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    if _off(found, "Swing"):
        percent = round(float(np.clip(survey.tempo.swing_percent, 50, 75)), 1)
        sentence = f"Swing {mix.song.swing_percent:.1f} → {percent:.1f} %"
        yield Proposal("groove", "", sentence, ({"kind": "set_swing", "swing_percent": percent},), ("Swing",))


def _tone(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """Bells of the master where the mix as a whole leans: within its 3 dB, what no strip alone explains."""
    off = difference_db(mix, survey)
    worst = [(abs(v), hz, v) for hz, v, inside in zip(HZ, off, in_balance()) if inside]
    size, hz, by = max(worst)
    if size >= 4.0 and mix.song.master.eq:
        bands = list(mix.song.master.eq)
        k = min(range(len(bands)), key=lambda i: abs(np.log(bands[i].hz / hz)))
        gain = float(np.clip(bands[k].gain_db - by, -3.0, 3.0))
        if abs(gain - bands[k].gain_db) >= 0.7:
            bands[k] = replace(bands[k], gain_db=round(gain, 2))
            edit = {"kind": "set_master_eq", "bands": [{"hz": b.hz, "gain_db": b.gain_db, "q": b.q} for b in bands]}
            sentence = _minus(f"Master {gain - mix.song.master.eq[k].gain_db:+.1f} dB at {bands[k].hz:.0f} Hz")
            yield Proposal("tone", "master", sentence, (edit,), ("Balance, mean",))


RULES: tuple[Rule, ...] = (_roles, _transitions, _swing, _ducking, _master, _cures, _faders, _tone)
OWN_RULES: tuple[Rule, ...] = (_roles, _transitions, _levels)
