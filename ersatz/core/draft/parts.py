"""Which parts a draft has: what each plays, with which sound, through which strip.

Levels are what a mix begins with; balance/match.py moves them. Low cuts are where the trade puts them for a role.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, field, replace

from ersatz.core.draft import basses, drums, form, harmony, hooks, palette
from ersatz.core.draft.kick import fitted_kick
from ersatz.core.draft.patterns import BAR, PHRASE_BARS, Degrees
from ersatz.core.draft.trace import groove_of, pattern_of, swung_ms
from ersatz.core.errors import InvalidEdit
from ersatz.core.pitch import SCALES, Key, degree_semitones
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import BASS, DELAY_RETURN, DRUMS, MUSIC, PUMP, REVERB_RETURN, SongSection
from ersatz.core.song.parts import Cell, Follows, Groove, Note, Part, Pattern, Role, Sound
from ersatz.core.song.strips import CLOSED_DB, ducked, sending
from ersatz.core.song.transform import transposed
from ersatz.core.styles import Style
from ersatz.core.survey.document import DrumPattern, KickPortrait, Survey
from ersatz.core.transitions import carrier
from ersatz.core.voices import library

#: Depth on each role against the measured one: sub and bass most, effects least.
DUCK_SHARE: dict[str, float] = {"bass": 1.1, "chords": 1.0, "lead": 0.8, "noise": 0.5}
OPEN_HAT_DUCK_SHARE = 0.2
#: Lowest notes of basses, of half-time ones, and of the first and the second drop's hook.
LOW_BASS_MIDI, LOW_HALF_MIDI, LOW_LEAD_MIDI, HIGH_LEAD_MIDI = 31, 29, 67, 69
#: What plays over a sub is cut under this.
OVER_SUB_HZ, SUB_HIGH_CUT_HZ, BASS_HIGH_CUT_HZ = 90.0, 160.0, 7000.0
#: A middle over a sub lies an octave above a bass that has the lows for itself.
OVER_SUB_SEMITONES = 12
#: A pad is cut by its role, but where it has the roots as well; where these lie, and so far under the loudest band they are heard.
PAD_LOW_CUT_HZ, ROOTS_LOW_CUT_HZ = 140.0, 70.0
ROOTS_HZ, ROOT_UNDER_DB = (80.0, 160.0), 20.0
#: What is played on a sound without pitch.
ANY_MIDI = 60
#: Width under 110 Hz from which a reference counts as stereo all the way down: its side 20 dB under its middle.
WIDE_LOW, WIDE_SUB = 0.02, 0.3
#: Width of a bass whose oscillators are spread all the way, typically; its square root goes with the spread.
SPREAD_WIDTH = 0.45
#: Drive of a kick whose own can't be told.
HARD_DRIVE, SOFT_DRIVE = 0.7, 0.25
#: Nearer to the grid nothing is heard.
LEAST_TIMING_MS = 4.0
#: A second clap speaks a little later and softer than the first.
LAYER_LATE_MS, LAYER_VELOCITY = 7.0, 0.7


@dataclass(frozen=True)
class Brief:
    """What all parts of a draft go by. `energy`: 1 busier, -1 calmer, 0 as the style has it. `depth_db`: the reference's pump."""

    survey: Survey
    sections: tuple[SongSection, ...]
    style: Style
    key: Key
    depth_db: float
    energy: int = 0

    @property
    def main(self) -> int:
        """Index of the reference’s main section."""
        return self.survey.main_section()


@dataclass(frozen=True, kw_only=True)
class _Place:
    """A part's strip: `slot` names its sound and chain in the palette, `duck` its share of the pump's depth."""

    role: Role
    id: str
    name: str
    out: str
    slot: str = ""
    gain_db: float
    low_cut_hz: float
    high_cut_hz: float = 0.0
    pan: float = 0.0
    reverb_db: float = CLOSED_DB
    delay_db: float = CLOSED_DB
    duck: float | None = None
    choke: str = ""
    groove: Groove = field(default_factory=Groove)
    follows: Follows | None = None
    cells: tuple[Cell, ...] | None = None
    patterns: dict[str, Pattern] = field(default_factory=dict)


def parts(brief: Brief, rng: random.Random) -> tuple[Part, ...]:
    """All of them, and the carriers of risers and impacts."""
    sounds = palette.choose(brief.style, rng)
    sounds["kick"] = _kick_sound(brief.survey.drums.kick, HARD_DRIVE if brief.style.name == "hard-techno" else SOFT_DRIVE)
    places = [*_drums(brief, sounds, rng), *_pitched(brief, sounds, rng)]
    made = tuple(_part(brief, place, sounds[place.slot]) for place in places)
    return (*made, carrier("riser", round(brief.depth_db * DUCK_SHARE["noise"], 2)), carrier("impact"))


def _part(brief: Brief, p: _Place, sound: Sound) -> Part:
    duck = brief.depth_db * (DUCK_SHARE.get(p.role, 0.0) if p.duck is None else p.duck)
    cells = form.cells(brief.survey, brief.sections, p.role, p.patterns) if p.cells is None else p.cells
    return Part(
        id=p.id, name=p.name, role=p.role, sound=sound, out=p.out, patterns=p.patterns, cells=cells, gain_db=p.gain_db, pan=p.pan,
        low_cut_hz=p.low_cut_hz, high_cut_hz=p.high_cut_hz, duck=ducked(PUMP, round(duck, 2)), chain=palette.chain(p.slot),
        choke=p.choke, groove=p.groove, follows=p.follows,
        sends=sending({REVERB_RETURN: p.reverb_db, DELAY_RETURN: p.delay_db}),
    )  # fmt: skip


# Drums ---------------------------------------------------------------------------------------------------------------


def kick_row(survey: Survey) -> tuple[float, ...]:
    """The kick's 16ths in the main section."""
    return on_sixteenths(survey.drums.patterns[survey.main_section()], "kick")


def on_sixteenths(pattern: DrumPattern, role: str) -> tuple[float, ...]:
    """A row's steps that a grid of 16ths has as well."""
    row = [0.0] * STEPS_PER_BAR
    for i, strength in enumerate(getattr(pattern, role)):
        place, rest = divmod(i * STEPS_PER_BAR, pattern.steps_per_bar)
        if not rest:
            row[place] = strength
    return tuple(row)


def _groove(brief: Brief, role: str) -> Groove:
    """The reference's timing of a role in its main section beside its swing, which the song has."""
    try:
        heard = groove_of(brief.survey, brief.main, role)
    except InvalidEdit:
        return Groove()
    swung = swung_ms(brief.survey)
    timing = tuple(round(ms - swung * (k % 2), 2) for k, ms in enumerate(heard.timing_ms))
    return replace(heard, timing_ms=timing, swing_percent=0.0) if max(map(abs, timing)) >= LEAST_TIMING_MS else Groove()


def _drums(brief: Brief, sounds: dict[str, Sound], rng: random.Random) -> list[_Place]:
    family, energy, sections = brief.style.kick, brief.energy, brief.sections
    steps = drums.kick_steps(brief.style, kick_row(brief.survey), rng)
    theirs = on_sixteenths(pattern_of(brief.survey, brief.main), "hats")
    snare = brief.style.backbeat == "snare"
    clapping, hatting = _groove(brief, "clap"), _groove(brief, "hats")
    kick, backbeat = drums.kick(steps, family, rng), drums.backbeat(family, energy, rng)
    closed, opened = drums.closed_hats(theirs, energy, rng), drums.open_hats(family, rng)
    shaker, rims, ride = drums.shaker(energy, rng), drums.percussion(steps, family, rng), drums.ride(family, rng)
    played = {role: form.cells(brief.survey, sections, role, ()) for role in ("clap", "hats")}
    riding = form.in_drops if energy > 0 else form.in_second_halves
    out = [
        _Place(role="kick", id="kick", name="Kick", slot="kick", out=DRUMS, patterns={"A": kick}, gain_db=-6.0, low_cut_hz=28.0),
        _Place(role="clap", id="clap", name="Snare" if snare else "Clap", slot="backbeat", out=DRUMS, patterns={"A": backbeat},
               gain_db=-11.0, low_cut_hz=140.0 if snare else 220.0, reverb_db=-16.0, groove=clapping),
        _Place(role="clap", id="clap-layer", name="Clap layer", slot="clap layer", out=DRUMS, gain_db=-17.0, low_cut_hz=300.0,
               pan=0.1, reverb_db=-14.0, follows=Follows("clap", late_ms=LAYER_LATE_MS, velocity=LAYER_VELOCITY, only="accents"),
               cells=form.in_drops(played["clap"], sections)),
        _Place(role="hats", id="hats", name="Closed hats", slot="closed hat", out=DRUMS, patterns={"A": closed}, gain_db=-20.0,
               low_cut_hz=500.0, pan=0.12, reverb_db=-30.0, choke="hats", groove=hatting),
        _Place(role="hats", id="open-hat", name="Open hat", slot="open hat", out=DRUMS, patterns={"A": opened}, gain_db=-18.0,
               low_cut_hz=450.0, pan=-0.1, reverb_db=-26.0, duck=OPEN_HAT_DUCK_SHARE, choke="hats", groove=hatting),
        _Place(role="hats", id="ride", name="Ride", slot="ride", out=DRUMS, patterns={"A": ride}, gain_db=-24.0, low_cut_hz=500.0,
               pan=0.2, reverb_db=-26.0, groove=hatting, cells=riding(played["hats"], sections)),
        _Place(role="perc", id="shaker", name="Shaker", slot="shaker", out=DRUMS, patterns={"A": shaker}, gain_db=-22.0,
               low_cut_hz=600.0, pan=-0.3, reverb_db=-28.0, groove=hatting),
        _Place(role="perc", id="rim", name="Rim", slot="percussion", out=DRUMS, patterns={"A": rims}, gain_db=-20.0,
               low_cut_hz=250.0, pan=0.35, reverb_db=-18.0, delay_db=-24.0, groove=hatting),
    ]  # fmt: skip
    # What would play nowhere is left out; a calm draft has neither ride nor second clap.
    layers = ("ride", "clap-layer")
    return [p for p in out if p.id not in layers or (energy >= 0 and any(c.on for c in p.cells or ()))]


def _kick_sound(portrait: KickPortrait | None, drive: float) -> Sound:
    """Fitted where a hit was measured; by fundamental and decay alone where a style only says these."""
    if portrait is None:
        return Sound("kick", {"drive": drive})
    if portrait.envelope_db:
        return fitted_kick(portrait, drive)
    return Sound("kick", {"fundamental_hz": portrait.fundamental_hz, "decay_ms": portrait.decay_ms, "drive": drive})


# Bass, chords, lead --------------------------------------------------------------------------------------------------


def _pitched(brief: Brief, sounds: dict[str, Sound], rng: random.Random) -> list[_Place]:
    style, key, energy, survey = brief.style, brief.key, brief.energy, brief.survey
    degrees = harmony.progression(style, key, _reference_degrees(survey, key), rng)
    chords = harmony.voicings(key, degrees, style.colour)
    kind = hooks.kind_of(style.lead, library.words_of(sounds["lead"]), rng)
    leads = [hooks.phrases(kind, key, degrees, low, rng, energy, style.colour) for low in (LOW_LEAD_MIDI, HIGH_LEAD_MIDI)]
    held = {"A": harmony.pad(chords, degrees, style.colour, style.held, key, rng)}
    root_hz = _root_hz(survey)
    if root_hz:
        held[form.CALM] = harmony.on_roots(held["A"], degrees, key, root_hz)
    stabs = {name: harmony.stabs(chords, style.kick, energy, rng) for name in "AB"}
    stabbing = form.in_drops(form.cells(survey, brief.sections, "chords", stabs), brief.sections)
    return [
        *_basses(brief, degrees, sounds, rng),
        _Place(role="chords", id="pad", name="Pad", slot="pad", out=MUSIC, gain_db=-19.0, reverb_db=-18.0,
               low_cut_hz=ROOTS_LOW_CUT_HZ if root_hz else PAD_LOW_CUT_HZ, patterns=held),
        _Place(role="chords", id="stabs", name="Stabs", slot="stab", out=MUSIC, gain_db=-21.0, low_cut_hz=190.0, reverb_db=-17.0,
               delay_db=-22.0, patterns=stabs, cells=form.swapped_in_second_halves(stabbing, brief.sections)),
        _Place(role="lead", id="lead", name="Voice chops" if style.lead == "voice" else "Lead", slot="lead", out=MUSIC,
               gain_db=-17.0, low_cut_hz=220.0, reverb_db=-15.0, delay_db=-15.0,
               patterns={"A": leads[0], "B": leads[1], form.CALM: hooks.halved(leads[0])}),
        *_atmosphere(brief),
    ]  # fmt: skip


def _atmosphere(brief: Brief) -> list[_Place]:
    """Air over all but the drops, which have hats and sweeps enough: held sounds alone leave the highs of a breakdown empty."""
    cells = form.outside_drops(brief.sections)
    whole = Pattern(PHRASE_BARS, (Note(0, PHRASE_BARS * BAR, ANY_MIDI, 1.0),))
    place = _Place(role="noise", id="atmosphere", name="Atmosphere", slot="atmosphere", out=MUSIC, gain_db=-24.0, low_cut_hz=250.0,
                   patterns={"A": whole}, cells=cells)  # fmt: skip
    return [place] if any(c.on for c in cells) else []


def _root_hz(survey: Survey) -> float:
    """The third octave in which the reference's breakdowns have a root under their chords while no bass plays, Hz; 0 where none
    has."""
    breakdowns = [
        k for k, s in enumerate(survey.sections) if s.label == "breakdown" and not form.played(survey, "bass", s, s.bars)[0]
    ]
    levels = [dict(zip(survey.spectrum.centers_hz, survey.spectrum.per_section[k].level_db)) for k in breakdowns]
    lows = [{hz: x for hz, x in row.items() if ROOTS_HZ[0] <= hz <= ROOTS_HZ[1]} for row in levels]
    heard = [low for low, row in zip(lows, levels) if max(low.values()) >= max(row.values()) - ROOT_UNDER_DB]
    return max(heard[0], key=lambda hz: sum(low[hz] for low in heard)) if heard else 0.0


def _basses(brief: Brief, degrees: Degrees, sounds: dict[str, Sound], rng: random.Random) -> list[_Place]:
    """One bass with its own lows; or a middle, or two that talk, over a sub, where the reference's lows are mono."""
    style, width = brief.style, brief.survey.stereo.bands[0].width
    wide = width >= WIDE_LOW
    talks = style.low == "talking" and not wide
    low = LOW_HALF_MIDI if style.kick == "half" else LOW_BASS_MIDI
    first, second = (basses.lines(style.bass, brief.key, degrees, low, brief.energy, rng, talks) for _ in range(2))
    if wide:
        sounds["bass"] = _wide(sounds["bass"], width)
    one = {"A": first.bass, "B": second.bass}
    if wide or style.low == "one":
        return [_Place(role="bass", id="bass", name="Bass", slot="bass", out=BASS, patterns=one, gain_db=-9.0, low_cut_hz=30.0,
                       high_cut_hz=BASS_HIGH_CUT_HZ)]  # fmt: skip
    out = [
        _Place(role="bass", id="sub", name="Sub", slot="sub", out=BASS, patterns={"A": first.sub, "B": second.sub}, gain_db=-9.0,
               low_cut_hz=28.0, high_cut_hz=SUB_HIGH_CUT_HZ),
        _Place(role="bass", id="bass", name="Bass", slot="bass", out=BASS, gain_db=-12.0,
               patterns={name: over_sub(p) for name, p in one.items()},
               low_cut_hz=OVER_SUB_HZ, high_cut_hz=BASS_HIGH_CUT_HZ),
    ]  # fmt: skip
    if first.answer and second.answer:
        answers = {"A": over_sub(first.answer), "B": over_sub(second.answer)}
        out.append(
            _Place(role="bass", id="bass-answer", name="Bass answer", slot="answer", out=BASS, patterns=answers, gain_db=-12.0,
                   low_cut_hz=OVER_SUB_HZ, high_cut_hz=BASS_HIGH_CUT_HZ)
        )  # fmt: skip
    return out


def over_sub(pattern: Pattern) -> Pattern:
    """What a bass plays that leaves the lows to a sub."""
    return replace(pattern, notes=transposed(pattern.notes, OVER_SUB_SEMITONES))


def _wide(bass: Sound, width: float) -> Sound:
    """A bass whose low end is about as wide: its oscillators spread, its sub, which has one place, under them."""
    spread = round(min(1.0, (width / SPREAD_WIDTH) ** 0.5), 3)
    params = bass.params
    voices = max(2.0, params.get("osc1_voices", 1.0))
    wide = {"osc1_voices": voices, "osc1_spread": spread, "osc1_detune_cents": max(9.0, params.get("osc1_detune_cents", 0.0))}
    sub = {"sub_level": round(WIDE_SUB * params.get("sub_level", 0.0), 3), "osc1_level": max(0.5, params.get("osc1_level", 0.5))}
    return replace(bass, params={**params, **wide, **sub})


def _reference_degrees(survey: Survey, key: Key) -> Degrees:
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
