"""The mix as the page shows it: every strip with its figures, chain, sends and ducking; curves; sections."""

from __future__ import annotations

from typing import Any

from django.urls import reverse

from ersatz.core.balance.lanes import measured_bars
from ersatz.core.balance.meters import DYNAMICS
from ersatz.core.edits import section_name
from ersatz.core.edits.strips import MOST_DUCKED_DB
from ersatz.core.edits.whole import MASTER_VALUES
from ersatz.core.effects import EFFECTS
from ersatz.core.gap.plans import counterparts
from ersatz.core.serial import to_json
from ersatz.core.song.document import Master, Song
from ersatz.core.song.parts import Part
from ersatz.core.song.strips import MASTER, Strip
from ersatz.core.targets import SEND_HIGH_DB, STRIP_VALUES
from ersatz.studio.models import Remake, Revision
from ersatz.studio.shared.chains import chains_for
from ersatz.studio.shared.edit import shown_on, steps
from ersatz.studio.shared.effects import effect_state, field
from ersatz.studio.shared.frame import latest_measurement


@shown_on("balance")
def balance_state(remake: Remake, revision: Revision, part: str = "") -> dict[str, Any]:
    song = revision.song
    return {
        **steps(remake, revision),
        "remake": remake.pk,
        "bars": song.bars,
        "bpm": song.bpm,
        "measuredPump": _measured_pump(remake, revision),
        "sections": _sections(remake, song),
        "strips": [strip_state(remake, song, strip) for strip in song.strips()],
        "curves": to_json(song.curves),
        "master": {
            "lowCutHz": song.master.low_cut_hz, "ceilingDbtp": song.master.ceiling_dbtp, "targetLufs": song.master.target_lufs,
            "eq": to_json(song.master.eq),
        },
    }  # fmt: skip


def _measured_pump(remake: Remake, revision: Revision) -> dict[str, Any] | None:
    """What the survey reads of the pump in our own finished mix, as it was measured last."""
    measured = latest_measurement(remake)
    if measured is None:
        return None
    return {"depthDb": measured.survey.pump.depth_db, "isCurrent": measured.sha == revision.sha}


def _sections(remake: Remake, song: Song) -> list[dict[str, Any]]:
    """`from` and `to`: the bars that stand for the section. `reference`: the place of its counterpart, or None."""
    survey = remake.reference.survey
    theirs = counterparts(song, survey) if survey else {}
    out = []
    for k, (bar, section) in enumerate(song.placed()):
        first, last = measured_bars(song, k)
        out.append(
            {"id": section.id, "name": section_name(song, section.id), "start": bar, "bars": section.bars, "from": first,
             "to": last, "reference": theirs.get(section.id)}
        )  # fmt: skip
    return out


def strip_state(remake: Remake, song: Song, strip: Strip) -> dict[str, Any]:
    part = strip if isinstance(strip, Part) else None
    kind = "part" if part else "master" if strip.id == MASTER else "return" if strip in song.returns else "bus"
    return {
        "id": strip.id, "name": strip.name, "kind": kind, "role": part.role if part else "", "out": strip.out,
        "figures": {name: getattr(strip, name) for name in STRIP_VALUES}, "mute": strip.mute,
        "duck": to_json(strip.duck), "sends": to_json(strip.sends),
        "cuts": _cuts(strip), "eq": to_json(strip.eq) if isinstance(strip, Master) else [],
        "effects": [effect_state(e) for e in strip.chain],
        "href": reverse("part", args=[remake.pk, part.id]) if part else "",
    }  # fmt: skip


def _cuts(strip: Strip) -> list[float] | None:
    """Low and high cut that aren't effects, Hz; 0 for none."""
    if isinstance(strip, Part):
        return [strip.low_cut_hz, strip.high_cut_hz]
    return [strip.low_cut_hz, 0.0] if isinstance(strip, Master) else None


def fixed_state(remake: Remake) -> dict[str, Any]:
    """What no edit changes: ranges, kinds of effects, the reference."""
    survey = remake.reference.survey
    return {
        "values": {name: field(p, p.default) for name, p in STRIP_VALUES.items()},
        "masterValues": {name: field(p, p.default) for name, p in MASTER_VALUES.items()},
        "sendHighDb": SEND_HIGH_DB,
        "mostDuckedDb": MOST_DUCKED_DB,
        "dynamics": list(DYNAMICS),
        "chains": chains_for(remake.owner, remake.revision.song if remake.revision else None),
        "kinds": [[s.name, s.title] for s in EFFECTS.values()],
        "reference": survey and {
            "pump": {"curveDb": list(survey.pump.beat_db), "depthDb": survey.pump.depth_db},
        },
    }  # fmt: skip
