"""The mix as the page shows it: every strip with its figures, chain, sends and ducking; curves; sections."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from django.urls import reverse

from ersatz.core.balance.lanes import measured_bars
from ersatz.core.balance.meters import DYNAMICS
from ersatz.core.edits import section_name
from ersatz.core.edits.strips import MOST_DUCKED_DB
from ersatz.core.edits.whole import MASTER_VALUES
from ersatz.core.effects import EFFECTS
from ersatz.core.gap.plans import counterparts
from ersatz.core.mixdown.render import HEADROOM_DB
from ersatz.core.song.document import DuckCurve, EqBand, Master, Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import MASTER, SEND_HIGH_DB, Duck, Send, Strip
from ersatz.core.targets import STRIP_VALUES
from ersatz.studio.models import Remake, Revision
from ersatz.studio.shared.chains import ChainChoice, chains_for
from ersatz.studio.shared.edit import Steps, shown_on, steps
from ersatz.studio.shared.effects import EffectState, Figure, effect_state, figure
from ersatz.studio.shared.frame import latest_measurement


@dataclass(frozen=True)
class MeasuredPump:
    """What the survey reads of the pump in our own finished mix, as it was measured last."""

    depth_db: float
    is_current: bool


@dataclass(frozen=True)
class MixSection:
    """`first` and `last`: the bars that stand for the section. `reference`: the place of its counterpart, or None."""

    id: str
    name: str
    start: int
    bars: int
    first: int
    last: int
    reference: int | None


@dataclass(frozen=True)
class StripState:
    """`cuts`: low and high cut that aren't effects, Hz, 0 for none; None where a strip has none. `href`: the page of its sound."""

    id: str
    name: str
    kind: Literal["part", "bus", "return", "master"]
    role: str
    out: str
    figures: dict[str, float]
    mute: bool
    duck: Duck | None
    sends: dict[str, Send]
    cuts: tuple[float, float] | None
    eq: tuple[EqBand, ...]
    effects: list[EffectState]
    href: str


@dataclass(frozen=True)
class MasterState:
    low_cut_hz: float
    ceiling_dbtp: float
    target_lufs: float | None
    eq: tuple[EqBand, ...]


@dataclass(frozen=True)
class BalanceState(Steps):
    remake: int
    bars: int
    bpm: float
    measured_pump: MeasuredPump | None
    sections: list[MixSection]
    strips: list[StripState]
    curves: tuple[DuckCurve, ...]
    master: MasterState


@dataclass(frozen=True)
class PumpDrawn:
    curve_db: tuple[float, ...]
    depth_db: float


@dataclass(frozen=True)
class MixReference:
    pump: PumpDrawn


@dataclass(frozen=True)
class BalanceFixed:
    """What no edit changes: ranges, kinds of effects as [name, title], the reference."""

    values: dict[str, Figure]
    master_values: dict[str, Figure]
    send_high_db: float
    most_ducked_db: float
    headroom_db: float
    dynamics: list[str]
    chains: list[ChainChoice]
    kinds: list[tuple[str, str]]
    reference: MixReference | None


@shown_on("balance")
def balance_state(remake: Remake, revision: Revision, part: str = "") -> BalanceState:
    """All that Balance shows of a revision."""
    song = revision.song
    master = song.master
    return BalanceState(
        **vars(steps(remake, revision)),
        remake=remake.pk,
        bars=song.bars,
        bpm=song.bpm,
        measured_pump=_measured_pump(remake, revision),
        sections=_sections(remake, song),
        strips=[strip_state(remake, song, strip) for strip in song.strips()],
        curves=song.curves,
        master=MasterState(master.low_cut_hz, master.ceiling_dbtp, master.target_lufs, master.eq),
    )


def _measured_pump(remake: Remake, revision: Revision) -> MeasuredPump | None:
    measured = latest_measurement(remake)
    return None if measured is None else MeasuredPump(measured.survey.pump.depth_db, measured.sha == revision.sha)


def _sections(remake: Remake, song: Song) -> list[MixSection]:
    survey = remake.reference.survey
    theirs = counterparts(song, survey) if survey else {}
    out = []
    for k, (bar, section) in enumerate(song.placed()):
        first, last = measured_bars(song, k)
        name = section_name(song, section.id)
        out.append(MixSection(section.id, name, bar, section.bars, first, last, theirs.get(section.id)))
    return out


def strip_state(remake: Remake, song: Song, strip: Strip) -> StripState:
    """One strip as Balance shows it."""
    part = strip if isinstance(strip, Part) else None
    return StripState(
        id=strip.id,
        name=strip.name,
        kind="part" if part else "master" if strip.id == MASTER else "return" if strip in song.returns else "bus",
        role=part.role if part else "",
        out=strip.out,
        figures={name: getattr(strip, name) for name in STRIP_VALUES},
        mute=strip.mute,
        duck=strip.duck,
        sends=strip.sends,
        cuts=_cuts(strip),
        eq=strip.eq if isinstance(strip, Master) else (),
        effects=[effect_state(e) for e in strip.chain],
        href=reverse("part", args=[remake.pk, part.id]) if part else "",
    )


def _cuts(strip: Strip) -> tuple[float, float] | None:
    if isinstance(strip, Part):
        return strip.low_cut_hz, strip.high_cut_hz
    return (strip.low_cut_hz, 0.0) if isinstance(strip, Master) else None


def balance_fixed(remake: Remake) -> BalanceFixed:
    """What Balance needs to know once: ranges, kinds of effects, chains that are kept, the reference's pump."""
    survey = remake.reference.survey
    return BalanceFixed(
        values={name: figure(p, p.default) for name, p in STRIP_VALUES.items()},
        master_values={name: figure(p, p.default) for name, p in MASTER_VALUES.items()},
        send_high_db=SEND_HIGH_DB,
        most_ducked_db=MOST_DUCKED_DB,
        headroom_db=HEADROOM_DB,
        dynamics=list(DYNAMICS),
        chains=chains_for(remake.owner, remake.revision.song if remake.revision else None),
        kinds=[(s.name, s.title) for s in EFFECTS.values()],
        reference=survey and MixReference(PumpDrawn(survey.pump.beat_db, survey.pump.depth_db)),
    )
