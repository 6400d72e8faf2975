"""The draft: the reference's section plan with parts of our own, placed where the reference has theirs."""

from __future__ import annotations

import random
from dataclasses import replace
from typing import cast

from ersatz.core.draft import form, movement
from ersatz.core.draft.parts import Brief, kick_row, parts
from ersatz.core.draft.trace import PLAYS
from ersatz.core.errors import NoTempo
from ersatz.core.grid import MAX_BPM, MIN_BPM
from ersatz.core.pitch import Key
from ersatz.core.song.document import (
    DELAY_RETURN,
    DUCK_POINTS,
    PUMP,
    REVERB_RETURN,
    DuckCurve,
    Label,
    Master,
    Rate,
    Song,
    SongSection,
    standard_returns,
)
from ersatz.core.song.strips import Effect, Strip, ducked
from ersatz.core.styles import choose_style
from ersatz.core.survey.document import Pump, Survey

#: The returns duck with the music, or they fill what it leaves.
REVERB_SHARE, DELAY_SHARE = 0.7, 0.6
EMPTY_BARS = 16
DEFAULT_BPM = 124.0


def draft_song(survey: Survey, seed: int = 1, style_name: str | None = None, title: str | None = None, energy: int = 0) -> Song:
    """A song in the reference's tempo, key, plan and pump with notes and sounds of its own; the same seed gives the same song.
    `energy`: 1 busier, -1 calmer than the style usually is.

    Raises NoTempo where the reference has no steady tempo and none was given as a correction, OtherMetre where it isn't in 4/4.
    """
    survey.tempo.check_metre()
    if not survey.tempo.is_steady:
        raise NoTempo("This reference has no steady beat that could be trusted: set its tempo, then draft.")
    if not MIN_BPM <= survey.tempo.bpm <= MAX_BPM:
        raise NoTempo(f"Drafts are made between {MIN_BPM:.0f} and {MAX_BPM:.0f} BPM: correct the tempo, then draft.")
    rng = random.Random(f"{seed}|{survey.source.sha256}")
    style = choose_style(survey.tempo.bpm, kick_row(survey), style_name)
    key = Key(survey.key.tonic, survey.key.mode)
    sections = tuple(
        SongSection(f"s{i + 1}", cast(Label, s.label), s.bars, ducks=_ducks(survey, i)) for i, s in enumerate(survey.sections)
    )
    curve, depth = _pump(survey)
    song = Song(
        title=title or f"Remake of {survey.source.file.rsplit('.', 1)[0]}",
        bpm=survey.tempo.bpm,
        tonic=key.tonic,
        mode=key.mode,
        swing_percent=survey.tempo.swing_percent,
        sections=sections,
        parts=(),
        returns=_returns(depth),
        master=Master(target_lufs=round(min(survey.loudness.integrated_lufs, 0.0), 2)),
        curves=(curve,),
        transitions=form.transitions(survey, sections),
        seed=seed,
        style=style.name,
    )
    song = replace(song, parts=parts(Brief(survey, sections, style, key, depth, energy), rng))
    return movement.moved(song, survey)


def empty_song(survey: Survey, title: str) -> Song:
    """One drop of EMPTY_BARS without a part, in the reference's tempo, key and pump: where a remake by hand begins. A reference
    without a steady tempo gives DEFAULT_BPM. Raises OtherMetre."""
    survey.tempo.check_metre()
    steady = survey.tempo.is_steady and MIN_BPM <= survey.tempo.bpm <= MAX_BPM
    bpm = survey.tempo.bpm if steady else DEFAULT_BPM
    style = choose_style(bpm, kick_row(survey))
    curve, depth = _pump(survey)
    return Song(
        title, bpm, survey.key.tonic, survey.key.mode, survey.tempo.swing_percent if steady else 50.0,
        (SongSection("s1", "drop", EMPTY_BARS),), (), returns=_returns(depth), curves=(curve,), style=style.name,
        master=Master(target_lufs=round(min(survey.loudness.integrated_lufs, 0.0), 2)),
    )  # fmt: skip


def _returns(depth_db: float) -> tuple[Strip, ...]:
    """A room and echoes that step back with everything else."""
    shares = {REVERB_RETURN: REVERB_SHARE, DELAY_RETURN: DELAY_SHARE}
    return tuple(replace(r, duck=ducked(PUMP, round(shares[r.id] * depth_db, 2))) for r in standard_returns())


def _pump(survey: Survey) -> tuple[DuckCurve, float]:
    """The measured curve and its depth in dB; a curve that does nothing where none was measured."""
    pump = survey.pump
    if pump.depth_db <= 0:
        return DuckCurve(PUMP, "Pump", "1/4", tuple([0.0] * DUCK_POINTS)), 0.0
    shape = _shape(pump)
    if pump.rate == "1/8":
        # A song's curve is spread over a beat.
        shape = (*shape[::2], *[0.0] * (len(shape) // 2))
    rate = pump.rate if pump.rate in ("1/4", "1/8") else "hits"
    triggers = ("kick", "clap") if pump.rate == "kick and snare" else ()
    return DuckCurve(PUMP, "Pump", cast(Rate, rate), shape, triggers), pump.depth_db


def _shape(pump: Pump) -> tuple[float, ...]:
    """The measured curve, 0 untouched to 1 fully down."""
    return tuple(round(min(1.0, max(0.0, -v / pump.depth_db)), 4) for v in pump.curve_db)


def ducker_of(pump: Pump) -> Effect | None:
    """A ducker with the measured curve and depth, triggered by its period or, where the reference's kick does it, by the kick part;
    None where nothing ducks."""
    if pump.depth_db <= 0:
        return None
    period = pump.rate if pump.rate in ("1/4", "1/8") else "1/4"
    trigger, sidechain = ("the period", "") if pump.rate in ("1/4", "1/8") else ("a part's hits", "kick")
    choices = {"period": period, "trigger": trigger}
    return Effect("ducker", {"depth_db": pump.depth_db}, choices, shape=_shape(pump), sidechain=sidechain)


def _ducks(survey: Survey, section: int) -> bool:
    """Where the reference plays its kick the ducker goes with it; where it doesn't, only if it was seen to run on."""
    return section in survey.pump.active_sections or survey.sections[section].presence["kick"] >= PLAYS
