"""What might be changed: each rule reads a measured section beside its reference and yields proposals.

What stands for the whole song (faders, equalisers, ducking, sends, dynamics, master) is judged by the reference's main section and
proposed there; of any other section only what is its own: who plays and from which bar on, how loud there, what is cut there, what
rises, and what leads out (within.py).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from ersatz.core.balance.ducking import fitted_to_reference
from ersatz.core.balance.pumping import SUSTAINED
from ersatz.core.edits import edit_json
from ersatz.core.edits.sound import SetEffects
from ersatz.core.edits.strips import MOST_DUCKED_DB
from ersatz.core.effects.chain import settings_of
from ersatz.core.gap.details import band_said
from ersatz.core.moves.model import PEAK_OVER_DB
from ersatz.core.moves.proposal import STEPS_DB, Found, Proposal, Rule, about, best_of, off_by, set_strip, steps_of
from ersatz.core.moves.readings import EVENTS, clash_figure, clashes_of, difference_db
from ersatz.core.moves.section import HZ, SectionMix
from ersatz.core.moves.within import entries, levels, low_cuts, rises, sure_of_role, variations
from ersatz.core.song.document import PUMP
from ersatz.core.song.parts import DRUM_ROLES
from ersatz.core.song.strips import Effect
from ersatz.core.survey.document import ROLES, Survey
from ersatz.core.target.document import in_balance
from ersatz.core.words import minus

LEAST_WIDTH, MOST_WIDTH = 0.0, 1.8
#: How much of a transition is proposed: a riser at full height fills the highs of a thin section.
AMOUNT = 0.5
#: The longest transition that is proposed.
MOST_BEATS = 16.0
#: Low cuts are tried at, Hz, of all but these roles, where the mix leans by so much there, dB.
CUTS_HZ, LOWS, LEAN_DB = (60.0, 90.0, 130.0, 180.0, 250.0, 350.0, 500.0), ("kick", "bass"), 2.5
#: Sends are tried so far from where they stand, dB; one that is closed from UNSENT_DB on. What keeps out of rooms.
SENT_DB, UNSENT_DB, MOST_SENT_DB, DRY = (-9.0, -6.0, -3.0, 3.0, 6.0, 9.0), -27.0, 3.0, ("kick", "bass")
#: How sure a reading is that surveys of an earlier version say nothing of.
UNTOLD = 0.5
#: Of a compressor that is proposed, and for which roles: the crest of what sustains is its notes.
RATIO, STRUCK = 3.0, (*DRUM_ROLES, "bass")


def proposals(mix: SectionMix, survey: Survey, found: Found) -> list[Proposal]:
    """Of all rules, each once."""
    out: dict[str, Proposal] = {}
    for rule in RULES if mix.theirs == survey.main_section() else OWN_RULES:
        for proposal in rule(mix, survey, found):
            out.setdefault(proposal.sentence, proposal)
    return list(out.values())


def _faders(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    figures = about(found, "Balance")

    def steps() -> Iterator[tuple[float, Proposal]]:
        for part in mix.song.parts:
            if part.id in mix.lanes.lanes:
                for by in STEPS_DB:
                    edit = set_strip(part.id, "gain_db", part.gain_db + by)
                    yield by, Proposal("level", part.id, minus(f"{part.name} {by:+.1f} dB"), (edit,), figures, steps_of(by))

    return best_of(mix, survey, found, steps())


def _cuts(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """A higher low cut for what leans on lows that the reference has less of; a lower one for what is missed there."""
    figures = about(found, "Balance")
    low, high = CUTS_HZ[0], CUTS_HZ[-1]
    if float(np.abs(difference_db(mix, survey)[(low <= HZ) & (high >= HZ)]).max()) < LEAN_DB:
        return

    def steps() -> Iterator[tuple[float, Proposal]]:
        for part in mix.song.parts:
            if part.id in mix.lanes.lanes and part.role not in LOWS:
                for hz in CUTS_HZ:
                    edit = {"kind": "set_cuts", "part": part.id, "low_cut_hz": hz, "high_cut_hz": part.high_cut_hz}
                    sentence = f"{part.name}: low cut {part.low_cut_hz:.0f} → {hz:.0f} Hz"
                    yield 1.0, Proposal("cut", part.id, sentence, (edit,), figures)

    yield from best_of(mix, survey, found, steps())


def _cures(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """What cures a clash: cuts, narrow bands, ducking, mono lows, levels."""
    for clash in clashes_of(mix, survey):
        if clash.edits:
            yield Proposal(f"clash: {clash.kind}", clash.strips[-1], clash.cure, clash.edits, (clash_figure(mix.song, clash),))


def _ducking(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """Deeper, shallower, or at last some; the reference's curve where the way back is off."""
    off, song = off_by(found, "Pump depth"), mix.song
    curve = song.curve(PUMP) or (song.curves[0] if song.curves else None)
    if curve is None:
        return
    ducked = [p for p in song.parts if p.duck is not None and p.duck.curve == curve.id and p.duck.depth_db > 0]
    first, sure = ducked[0].id if ducked else "", survey.pump.confidence
    if off and mix.ducked is not None and mix.ducked.depth_db > 1.0 and ducked:
        wanted = found["Pump depth"].reference
        ratio = float(np.clip(wanted / mix.ducked.depth_db, 0.0, 3.0))
        edits = tuple(
            {"kind": "set_duck", "strip": p.id, "curve": curve.id, "depth_db": round(min(MOST_DUCKED_DB, p.duck_db * ratio), 1)}
            for p in ducked
        )
        sentence = f"Ducking of all × {ratio:.2f}: {mix.ducked.depth_db:.1f} → {wanted:.1f} dB"
        yield Proposal("ducking depth", ducked[0].id, sentence, edits, ("Pump depth",), steps_of(off), sure)
    if off < 0:
        loose = [p for p in song.parts if p.role in SUSTAINED and p.id in mix.lanes.lanes and p.duck_db < 1.0]
        depth = round(found["Pump depth"].reference, 1)
        if loose:
            edits = tuple({"kind": "set_duck", "strip": p.id, "curve": curve.id, "depth_db": depth} for p in loose)
            names = ", ".join(p.name for p in loose)
            sentence = f"Duck {names} by {depth:.1f} dB"
            yield Proposal("ducking depth", loose[0].id, sentence, edits, ("Pump depth",), steps_of(depth), sure)
    if off_by(found, "Pump release"):
        edit = edit_json(fitted_to_reference(curve, survey))
        ms = found["Pump release"]
        sentence = f"Ducking curve of the reference: release {ms.remake:.0f} → {ms.reference:.0f} ms"
        yield Proposal("ducking release", first, sentence, (edit,), ("Pump release",), sure=sure)
    if off_by(found, "Pump rate"):
        rate = survey.pump.rate
        hitting = ("kick",) if rate == "kick" else ("kick", "clap")
        triggers = [p.id for p in song.parts if p.role in hitting and p.patterns] if rate not in ("1/4", "1/8") else []
        edit = {"kind": "set_triggers", "curve": curve.id, "rate": rate if not triggers else "hits", "triggers": triggers}
        sentence = f"Duck at every {rate}" if not triggers else f"Duck with the {rate}"
        yield Proposal("ducking rate", first, sentence, (edit,), ("Pump rate",), sure=sure)


def _master(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """Width, mono lows, loudness and what goes into the limiter: of the whole song."""
    master = mix.song.master
    if off_by(found, "Width above 270 Hz"):
        reading = found["Width above 270 Hz"]
        # Width is the sides' share of the power: w / (2 - w) is their ratio, which goes with the square of the level.
        own, wanted = (min(v, 1.95) / (2 - min(v, 1.95)) for v in (max(reading.remake, 1e-3), max(reading.reference, 1e-3)))
        width = float(np.clip(master.width * np.sqrt(wanted / own), LEAST_WIDTH, MOST_WIDTH))
        sentence = f"Master width {master.width:.2f} → {width:.2f}"
        yield Proposal("width", "master", sentence, (set_strip("master", "width", width),), ("Width above 270 Hz",))
    if off_by(found, "Width below 120 Hz"):
        below = float(np.clip(max(survey.stereo.mono_below_hz, 120.0), 20, 250))
        edit = set_strip("master", "mono_below_hz", below)
        yield Proposal("mono lows", "master", f"Mono below {below:.0f} Hz", (edit,), ("Width below 120 Hz",))
    off = off_by(found, "Limiter")
    if off:
        sentence = minus(f"Master fader {-off:+.1f} dB")
        edit = set_strip("master", "gain_db", master.gain_db - off)
        yield Proposal("loudness", "master", sentence, (edit,), ("Limiter",), steps_of(off))
    louder = off_by(found, "Loudness here")
    if louder and mix.theirs == survey.main_section():
        sentence = minus(f"Master fader {-louder:+.1f} dB")
        edit = set_strip("master", "gain_db", master.gain_db - louder)
        yield Proposal("loudness", "master", sentence, (edit,), ("Loudness here",), steps_of(louder))


def _roles(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """Roles that the reference has here and we rest, or the other way round."""
    for role in ROLES:
        figure = f"Plays: {role}"
        off = off_by(found, figure)
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
            yield Proposal("presence", part.id, f"{part.name} {verb}", (edit,), (figure,), sure=sure_of_role(mix, survey, role))


def _transitions(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    for event, what in EVENTS.items():
        figure = f"Leads out: {event}"
        if off_by(found, figure):
            theirs = max((e.beats for e in survey.events if e.kind == event), default=0.0)
            beats = 0.0 if what == "gap" else float(min(theirs, MOST_BEATS))
            edit = {"kind": "put_transition", "section": mix.section.id, "what": what, "beats": beats, "amount": AMOUNT}
            sentence = f"A {what} at the end of the section, as in the reference"
            sure = max(e.confidence for e in survey.events if e.kind == event)
            yield Proposal("transition", "", sentence, (edit,), (figure,), sure=sure)


def _swing(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    if off_by(found, "Swing"):
        percent = round(float(np.clip(survey.tempo.swing_percent, 50, 75)), 1)
        sentence = f"Swing {mix.song.swing_percent:.1f} → {percent:.1f} %"
        edit = {"kind": "set_swing", "swing_percent": percent}
        yield Proposal("groove", "", sentence, (edit,), ("Swing",), sure=survey.tempo.swing_confidence or UNTOLD)


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
            sentence = minus(f"Master {gain - mix.song.master.eq[k].gain_db:+.1f} dB at {bands[k].hz:.0f} Hz")
            yield Proposal("tone", "master", sentence, (edit,), ("Balance, mean",))


def _sends(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """More or less room, where what lies between the hits is further down or up than in the reference."""
    figures = about(found, "Between hits")
    room = mix.song.return_with("reverb")
    if room is None or not any(f.startswith("Between hits") for f in figures):
        return
    to, _ = room

    def steps() -> Iterator[tuple[float, Proposal]]:
        for part in mix.song.parts:
            if part.id not in mix.lanes.lanes or part.role in DRY:
                continue
            stands = part.send_db(to.id)
            for by in SENT_DB:
                db = (stands if to.id in part.sends else UNSENT_DB) + by
                if UNSENT_DB <= db <= MOST_SENT_DB:
                    edit = {"kind": "set_send", "strip": part.id, "to": to.id, "db": round(db, 1)}
                    said = f"{part.name}: send to {to.name} {db:+.1f} dB"
                    yield by / 2, Proposal("room", part.id, minus(said), (edit,), figures, steps_of(by / 2))

    yield from best_of(mix, survey, found, steps())


def _dynamics(mix: SectionMix, survey: Survey, found: Found) -> Iterator[Proposal]:
    """A compressor on what is loudest in a band whose crest is too high; an easier one where it is too low."""
    for band in mix.bands:
        figure = f"Crest, {band_said(band)}"
        off = off_by(found, figure)
        inside = (band.low_hz <= HZ) & (band.high_hz > HZ)
        parts = [p for p in mix.song.parts if p.id in mix.lanes.lanes and p.role in STRUCK]
        if not off or not parts:
            continue
        part = max(parts, key=lambda p: float(mix.lanes.lanes[p.id].power[inside].sum()))
        chain = list(part.chain)
        at = next((k for k, e in enumerate(chain) if e.kind == "compressor" and e.on), None)
        if off < 0 and at is None:
            continue
        if at is not None:
            settings = settings_of(chain[at])
            threshold = float(np.clip(settings.flat("threshold_db") - off, -60.0, 0.0))
            chain[at] = replace(chain[at], params={**chain[at].params, "threshold_db": round(threshold, 1)})
            sentence = minus(f"{part.name}: compressor’s threshold {threshold:.1f} dB")
        else:
            frames = 10 * np.log10(np.maximum(mix.lanes.lanes[part.id].frames.sum(axis=0), 1e-12))
            # The loudest frames come down by what the crest is over.
            threshold = float(np.clip(np.percentile(frames, 98) + PEAK_OVER_DB - off * RATIO / (RATIO - 1), -50.0, 0.0))
            params = {"threshold_db": round(threshold, 1), "ratio": RATIO, "attack_ms": 10.0, "release_ms": 90.0}
            made = Effect("compressor", {**params, "gain_db": round(off / 4, 1)})
            chain.append(made)
            sentence = minus(f"{part.name}: compressor {RATIO:.0f}:1 from {threshold:.1f} dB")
        yield Proposal("dynamics", part.id, sentence, (edit_json(SetEffects(part.id, tuple(chain))),), (figure,))


RULES: tuple[Rule, ...] = (
    _roles, _transitions, _swing, _ducking, _master, _cures, _faders, _cuts, _tone, _sends, _dynamics, entries, variations,
)  # fmt: skip
OWN_RULES: tuple[Rule, ...] = (_roles, _transitions, levels, entries, rises, low_cuts, variations)
