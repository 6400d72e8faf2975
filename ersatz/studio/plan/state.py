"""The song as the Plan shows it: its sections beside the reference's, parts by section, transitions, automation."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

from django.urls import reverse

from ersatz.core.edits import section_name
from ersatz.core.gap.plans import PlanDifference, plan_differences
from ersatz.core.song.document import Song, Transition
from ersatz.core.song.parts import Alternative, Cell, Part, Pattern
from ersatz.core.survey.document import ROLES, Change, Survey
from ersatz.core.target import Target
from ersatz.core.voices import library
from ersatz.studio.models import Remake, Revision
from ersatz.studio.shared.edit import Steps, shown_on, steps


@dataclass(frozen=True)
class OwnSection:
    """`start` is its first bar, from 1."""

    id: str
    name: str
    label: str
    start: int
    bars: int


@dataclass(frozen=True)
class OtherState:
    """What a cell plays instead every other time; empty texts for what stays."""

    pattern: str
    level: float
    sound: str
    part: str


@dataclass(frozen=True)
class CellState:
    """A part in a section. `entry` and `exit`: bars that it rests at either end; `level` in dB."""

    on: bool
    pattern: str
    entry: int
    exit: int
    level: float
    fill: str
    fill_bars: int
    sound: str
    part: str
    other: OtherState | None


@dataclass(frozen=True)
class PatternSketch:
    """Notes as [tick, length, MIDI]: enough to draw them small. `loop` in ticks, 0 for its bars."""

    bars: int
    loop: int
    notes: list[tuple[int, int, int]]


@dataclass(frozen=True)
class PlanPart:
    """`follows`: of a layer the name of the part whose notes it plays, else ""."""

    id: str
    name: str
    role: str
    out: str
    gain_db: float
    duck_db: float
    cells: dict[str, CellState]
    patterns: dict[str, PatternSketch]
    follows: str


@dataclass(frozen=True)
class PlanState(Steps):
    """`automation`: curves as [tick, value, curve] by strip and by what a target is called there, "DEVICE.VALUE". `strips`: buses
    and returns as [id, name, kind]. `key`: [tonic, mode]."""

    bars: int
    style: str
    sections: list[OwnSection]
    bpm: float
    swing: float
    key: tuple[str, str]
    transitions: tuple[Transition, ...]
    automation: dict[str, dict[str, list[tuple[int, float, float]]]]
    strips: list[tuple[str, str, str]]
    differences: tuple[PlanDifference, ...]
    parts: list[PlanPart]


@dataclass(frozen=True)
class TheirSection:
    label: str
    start: int
    bars: int


@dataclass(frozen=True)
class MeasuredCurves:
    """[bars from the start, LUFS] and [bars from the start, dB of the highs over all]."""

    loudness: list[tuple[float, float]]
    brightness: list[tuple[float, float]]


@dataclass(frozen=True)
class ReferencePlan:
    """`usual`: how long a target's sections are elsewhere, fewest and most bars; `level` in dB per bar."""

    bars: int
    sections: list[TheirSection]
    usual: list[tuple[float, float]]
    presence: dict[str, list[float]]
    changes: tuple[Change, ...]
    level: list[float]
    curves: MeasuredCurves


@dataclass(frozen=True)
class ShippedSound:
    """`listen`: where it is heard."""

    name: str
    kind: str
    character: str
    brightness: str
    listen: str


@dataclass(frozen=True)
class PlanFixed:
    """What no edit changes. `sounds` by role."""

    reference: ReferencePlan | None
    sounds: dict[str, list[ShippedSound]]


@shown_on("plan")
def plan_state(remake: Remake, revision: Revision, part: str = "") -> PlanState:
    """All that Plan shows of a revision."""
    song = revision.song
    survey = remake.reference.survey
    return PlanState(
        **vars(steps(remake, revision)),
        bars=song.bars,
        style=song.style.replace("-", " "),
        sections=[OwnSection(s.id, section_name(song, s.id), s.label, bar, s.bars) for bar, s in song.placed()],
        bpm=song.bpm,
        swing=song.swing_percent,
        key=(song.tonic, song.mode),
        transitions=song.transitions,
        automation=_automation(song),
        strips=[(s.id, s.name, kind) for kind, row in (("bus", song.buses), ("return", song.returns)) for s in row],
        differences=tuple(plan_differences(song, survey)) if survey else (),
        parts=[_part(p, song) for p in song.parts],
    )


def _part(part: Part, song: Song) -> PlanPart:
    cells = {c.section: _cell(c) for c in part.cells}
    patterns = {name: _sketch(part.patterns[name]) for name in sorted(part.patterns)}
    leader = song.part(part.follows.part) if part.follows else None
    return PlanPart(
        part.id, part.name, part.role, part.out, part.gain_db, part.duck_db, cells, patterns, leader.name if leader else ""
    )


def _cell(cell: Cell) -> CellState:
    return CellState(
        on=cell.on, pattern=cell.pattern, entry=cell.entry_bars, exit=cell.exit_bars, level=cell.level_db, fill=cell.fill,
        fill_bars=cell.fill_bars, sound=_sound_name(cell), part=cell.part, other=_other(cell.other) if cell.other else None,
    )  # fmt: skip


def _other(other: Alternative) -> OtherState:
    return OtherState(other.pattern, other.level_db, _sound_name(other), other.part)


def _sound_name(of: Cell | Alternative) -> str:
    return of.sound.name or "own sound" if of.sound else ""


def _sketch(pattern: Pattern) -> PatternSketch:
    return PatternSketch(pattern.bars, pattern.loop_ticks, [(n.tick, n.ticks, n.midi) for n in pattern.notes])


def _automation(song: Song) -> dict[str, dict[str, list[tuple[int, float, float]]]]:
    return {
        strip.id: {f"{a.device}.{a.param}": [(p.tick, p.value, p.curve) for p in a.points] for a in strip.automation}
        for strip in song.strips()
        if strip.automation
    }


def plan_fixed(survey: Survey | None, target: Target | None) -> PlanFixed:
    """What Plan needs to know once: the reference's plan and the sounds by role."""
    return PlanFixed(_reference(survey, target) if survey else None, _sounds_by_role())


@cache
def _sounds_by_role() -> dict[str, list[ShippedSound]]:
    """The shipped sounds with what each is."""
    out: dict[str, list[ShippedSound]] = {}
    for sound in library.library().values():
        listen = reverse("listen-sound", args=[sound.name])
        shipped = ShippedSound(sound.name, sound.kind, " ".join(sound.character), sound.brightness, listen)
        out.setdefault(sound.role, []).append(shipped)
    return out


def _reference(survey: Survey, target: Target | None) -> ReferencePlan:
    energy = survey.energy
    return ReferencePlan(
        bars=survey.bars,
        sections=[TheirSection(s.label, s.start_bar, s.bars) for s in survey.sections],
        usual=[(span.low, span.high) for span in (target.spread.section_bars if target else ())],
        presence={role: list(survey.presence.of(role)) for role in ROLES},
        changes=survey.changes,
        level=[round(v, 1) for v in energy.full_db],
        curves=MeasuredCurves(
            loudness=[(bar - 1, lufs) for bar, lufs in survey.loudness_course()],
            brightness=[(k + 0.5, round(h - f, 2)) for k, (h, f) in enumerate(zip(energy.high_db, energy.full_db))],
        ),
    )
