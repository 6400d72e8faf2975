"""The draft: the reference's section plan with parts of our own, placed where the reference has theirs."""

from __future__ import annotations

import random
from collections import Counter
from dataclasses import replace
from typing import cast

from ersatz.core.draft import hooks, palette, patterns, phrases
from ersatz.core.draft.kick import fitted_kick
from ersatz.core.draft.trace import PLAYS, played
from ersatz.core.errors import NoTempo
from ersatz.core.grid import MAX_BPM, MIN_BPM
from ersatz.core.pitch import SCALES, Key, degree_semitones
from ersatz.core.song.document import (
    BASS,
    DELAY_RETURN,
    DRUMS,
    DUCK_POINTS,
    MUSIC,
    PUMP,
    REVERB_RETURN,
    DuckCurve,
    Label,
    Master,
    Rate,
    Song,
    SongSection,
    Transition,
    TransitionKind,
    standard_returns,
)
from ersatz.core.song.parts import Cell, Part, Pattern, Role, Sound
from ersatz.core.song.strips import CLOSED_DB, Effect, Strip, ducked, sending
from ersatz.core.styles import Style, choose_style
from ersatz.core.survey.document import DrumPattern, KickPortrait, Pump, Section, Survey
from ersatz.core.transitions import carrier
from ersatz.core.voices import library

#: Depth on each role against the measured one: sub and bass most, effects least.
DUCK_SHARE: dict[str, float] = {"bass": 1.1, "chords": 1.0, "lead": 0.8, "noise": 0.5}
#: The returns duck with the music, or they fill what it leaves.
REVERB_SHARE, DELAY_SHARE = 0.7, 0.6
LOW_BASS_MIDI = 31
#: Patterns of the first, second, third and fourth drop.
IN_TURN = {"bass": "ABAB", "lead": "ABBA", "chords": "ABAA"}
#: Lowest notes of the first and of the second drop's hook.
LOW_LEAD_MIDI, HIGH_LEAD_MIDI = 67, 69
RISER_BARS = 16
EMPTY_BARS = 16
#: Width under 110 Hz from which a reference counts as stereo all the way down: its side 20 dB under its middle.
WIDE_LOW, WIDE_SUB = 0.02, 0.3
#: Width of a bass whose oscillators are spread all the way, typically; its square root goes with the spread.
SPREAD_WIDTH = 0.45
DEFAULT_BPM = 124.0
STEPS = 16
#: Drive of a kick whose own can't be told.
HARD_DRIVE, SOFT_DRIVE = 0.7, 0.25


def draft_song(survey: Survey, seed: int = 1, style_name: str | None = None, title: str | None = None) -> Song:
    """A song in the reference's tempo, key, plan and pump with notes and sounds of its own; the same seed gives the same song.

    Raises NoTempo where the reference has no steady tempo and none was given as a correction, OtherMetre where it isn't in 4/4.
    """
    survey.tempo.check_metre()
    if not survey.tempo.is_steady:
        raise NoTempo("This reference has no steady beat that could be trusted: set its tempo, then draft.")
    if not MIN_BPM <= survey.tempo.bpm <= MAX_BPM:
        raise NoTempo(f"Drafts are made between {MIN_BPM:.0f} and {MAX_BPM:.0f} BPM: correct the tempo, then draft.")
    rng = random.Random(f"{seed}|{survey.source.sha256}")
    main = survey.main_section()
    kick_row = _on_sixteenths(survey.drums.patterns[main])
    style = choose_style(survey.tempo.bpm, kick_row, style_name)
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
        transitions=_transitions(survey, sections),
        seed=seed,
        style=style.name,
    )
    return replace(song, parts=_parts(survey, style, key, kick_row, depth, rng, sections))


def empty_song(survey: Survey, title: str) -> Song:
    """One drop of EMPTY_BARS without a part, in the reference's tempo, key and pump: where a remake by hand begins. A reference
    without a steady tempo gives DEFAULT_BPM. Raises OtherMetre."""
    survey.tempo.check_metre()
    steady = survey.tempo.is_steady and MIN_BPM <= survey.tempo.bpm <= MAX_BPM
    bpm = survey.tempo.bpm if steady else DEFAULT_BPM
    kick_row = _on_sixteenths(survey.drums.patterns[survey.main_section()])
    style = choose_style(bpm, kick_row)
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


def _on_sixteenths(pattern: DrumPattern) -> tuple[float, ...]:
    """The kick's steps that a grid of 16ths has as well."""
    row = [0.0] * STEPS
    for i, strength in enumerate(pattern.kick):
        place, rest = divmod(i * STEPS, pattern.steps_per_bar)
        if not rest:
            row[place] = strength
    return tuple(row)


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
    trigger, key = ("the period", "") if pump.rate in ("1/4", "1/8") else ("a part's hits", "kick")
    choices = {"period": period, "trigger": trigger}
    return Effect("ducker", {"depth_db": pump.depth_db}, choices, shape=_shape(pump), key=key)


def _ducks(survey: Survey, section: int) -> bool:
    """Where the reference plays its kick the ducker goes with it; where it doesn't, only if it was seen to run on."""
    return section in survey.pump.active_sections or survey.sections[section].presence["kick"] >= PLAYS


def _gap_beats(survey: Survey, section: Section) -> float:
    """Beats of silence that end at the section's end."""
    for event in survey.events:
        end = event.start_bar + event.beats / 4
        if event.kind == "gap" and abs(end - section.end_bar) < 0.3:
            return min(event.beats, 8.0, section.bars * 4 - 1.0)
    return 0.0


def _reference_degrees(survey: Survey, key: Key) -> tuple[int, ...]:
    """Scale degrees of the reference's chords over four bars of its main section, as far as they lie in the key."""
    first = survey.sections[survey.main_section()].start_bar
    classes = [c % 12 for c in (key.pitch_class + step for step in SCALES[key.mode])]
    out = []
    for bar in range(first, first + 4):
        chord = next((c for c in survey.harmony.chords if c.start_bar <= bar < c.start_bar + c.bars), None)
        if chord is not None:
            pitch_class = (key.pitch_class + degree_semitones(chord.degree)) % 12
            if pitch_class in classes:
                out.append(classes.index(pitch_class))
    return tuple(out)


def _parts(
    survey: Survey, style: Style, key: Key, kick_row: tuple[float, ...], depth: float, rng: random.Random,
    sections: tuple[SongSection, ...],
) -> tuple[Part, ...]:  # fmt: skip
    degrees = patterns.progression(style, key, _reference_degrees(survey, key), rng)
    chords = patterns.voicings(key, degrees)
    low = LOW_BASS_MIDI + (0 if style.kick != "half" else -2)
    snare = style.backbeat == "snare"
    kick_sound = _kick_sound(survey.drums.kick, HARD_DRIVE if style.name == "hard-techno" else SOFT_DRIVE)
    chosen = palette.choose(style, rng)
    if survey.stereo.bands[0].width >= WIDE_LOW:
        chosen = {**chosen, "bass": _wide(chosen["bass"], survey.stereo.bands[0].width)}
    bass_a, bass_b = (phrases.bass(patterns.bass_pattern(style, key, degrees, low, rng), key) for _ in range(2))
    kick = phrases.drums(patterns.kick_pattern(style, kick_row, rng), "kick", rng)
    backbeat = phrases.drums(patterns.backbeat_pattern(style, rng), "clap", rng)
    closed, opened, rims = (
        phrases.drums(pattern, "hats", rng)
        for pattern in (patterns.closed_hats(rng), patterns.open_hats(style), patterns.rims(rng))
    )
    kind = hooks.kind_of(style.lead, library.words_of(chosen["lead"]), rng)
    lead_a, lead_b = (hooks.hook(kind, key, degrees, lowest, rng) for lowest in (LOW_LEAD_MIDI, HIGH_LEAD_MIDI))

    def part(
        role: Role, part_id: str, name: str, sound: Sound, bus: str, found: dict[str, Pattern], drops_only: bool = False,
        choke: str = "", slot: str = "", **settings: float,
    ) -> Part:  # fmt: skip
        duck = depth * DUCK_SHARE.get(role, 0.0)
        if "duck_db" in settings:
            duck = depth * settings.pop("duck_db")
        cells = _cells(survey, sections, role, found)
        if drops_only:
            cells = tuple(c if label == "drop" else replace(c, on=False) for c, label in zip(cells, (s.label for s in sections)))
        sends = sending({REVERB_RETURN: settings.pop("reverb_db", CLOSED_DB), DELAY_RETURN: settings.pop("delay_db", CLOSED_DB)})
        return Part(
            id=part_id, name=name, role=role, sound=sound, out=bus, patterns=found, cells=cells, duck=ducked(PUMP, round(duck, 2)),
            chain=palette.chain(slot), choke=choke, sends=sends, **settings,  # type: ignore[arg-type]
        )  # fmt: skip

    parts = [
        part("kick", "kick", "Kick", kick_sound, DRUMS,
             {"A": kick}, gain_db=-6.0, low_cut_hz=28.0),
        part("clap", "clap", "Snare" if snare else "Clap", chosen["backbeat"], DRUMS,
             {"A": backbeat}, gain_db=-11.0, low_cut_hz=140.0 if snare else 220.0,
             reverb_db=-16.0),
        part("hats", "hats", "Closed hats", chosen["closed hat"], DRUMS,
             {"A": closed}, gain_db=-20.0, low_cut_hz=500.0, pan=0.12, reverb_db=-30.0, choke="hats"),
        part("hats", "open-hat", "Open hat", chosen["open hat"], DRUMS,
             {"A": opened}, gain_db=-18.0, low_cut_hz=450.0, pan=-0.1, reverb_db=-26.0, duck_db=0.2,
             choke="hats"),
        part("perc", "shaker", "Shaker", chosen["shaker"], DRUMS, {"A": patterns.shaker(rng)}, gain_db=-22.0,
             low_cut_hz=600.0, pan=-0.3, reverb_db=-28.0),
        part("perc", "rim", "Rim", chosen["percussion"], DRUMS,
             {"A": rims}, gain_db=-20.0, low_cut_hz=250.0, pan=0.35, reverb_db=-18.0, delay_db=-24.0),
        part("bass", "bass", "Bass", chosen["bass"], BASS,
             {"A": bass_a, "B": bass_b}, gain_db=-9.0, low_cut_hz=30.0, high_cut_hz=7000.0, slot="bass"),
        part("chords", "pad", "Pad", chosen["pad"], MUSIC,
             {"A": phrases.chords(patterns.pad_pattern(chords))}, gain_db=-19.0, low_cut_hz=140.0, reverb_db=-18.0, slot="pad"),
        part("chords", "stabs", "Stabs", chosen["stab"], MUSIC,
             {"A": patterns.stab_pattern(chords, rng), "B": patterns.stab_pattern(chords, rng)}, drops_only=True, gain_db=-21.0,
             low_cut_hz=190.0, reverb_db=-17.0, delay_db=-22.0),
        part("lead", "lead", "Voice chops" if style.lead == "voice" else "Lead", chosen["lead"], MUSIC,
             {"A": lead_a, "B": lead_b}, gain_db=-17.0, low_cut_hz=220.0, reverb_db=-15.0, delay_db=-15.0),
    ]  # fmt: skip
    return (*parts, carrier("riser", round(depth * DUCK_SHARE["noise"], 2)), carrier("impact"))


def _wide(bass: Sound, width: float) -> Sound:
    """A bass whose low end is about as wide: its oscillators spread, its sub, which has one place, under them."""
    spread = round(min(1.0, (width / SPREAD_WIDTH) ** 0.5), 3)
    params = bass.params
    voices = max(2.0, params.get("osc1_voices", 1.0))
    wide = {"osc1_voices": voices, "osc1_spread": spread, "osc1_detune_cents": max(9.0, params.get("osc1_detune_cents", 0.0))}
    sub = {"sub_level": round(WIDE_SUB * params.get("sub_level", 0.0), 3), "osc1_level": max(0.5, params.get("osc1_level", 0.5))}
    return replace(bass, params={**params, **wide, **sub})


def _kick_sound(portrait: KickPortrait | None, drive: float) -> Sound:
    """Fitted where a hit was measured; by fundamental and decay alone where a style only says these."""
    if portrait is None:
        return Sound("kick", {"drive": drive})
    if portrait.envelope_db:
        return fitted_kick(portrait, drive)
    return Sound("kick", {"fundamental_hz": portrait.fundamental_hz, "decay_ms": portrait.decay_ms, "drive": drive})


def _cells(survey: Survey, sections: tuple[SongSection, ...], role: str, found: dict[str, Pattern]) -> tuple[Cell, ...]:
    """On where the reference plays the role, entering and leaving with it; drops in turn with A and B, so that no two are alike."""
    seen: Counter[str] = Counter()
    out = []
    for measured, section in zip(survey.sections, sections):
        seen[section.label] += 1
        turns = IN_TURN.get(role, "A")
        name = turns[(seen[section.label] - 1) % len(turns)] if section.label == "drop" and "B" in found else "A"
        out.append(Cell(section.id, name, *played(survey, role, measured, section.bars)))
    return tuple(out)


def _transitions(survey: Survey, sections: tuple[SongSection, ...]) -> tuple[Transition, ...]:
    """The reference's gaps; a riser into each drop, an impact on its first beat and on the first one behind it."""
    out: list[Transition] = []

    def add(kind: TransitionKind, section: SongSection, beats: float, amount: float = 1.0) -> None:
        out.append(Transition(f"t{len(out) + 1}", kind, section.id, beats, amount))

    for i, (measured, section) in enumerate(zip(survey.sections, sections)):
        following = sections[i + 1].label if i + 1 < len(sections) else ""
        if gap := _gap_beats(survey, measured):
            add("gap", section, gap)
        if following == "drop" and section.label != "drop" and section.bars >= 2:
            add("riser", section, min(section.bars, RISER_BARS) * 4.0)
        # A drop that goes over into another has its impact behind it.
        if following and following != section.label and "drop" in (section.label, following):
            add("impact", section, 4.0)
    return tuple(out)
