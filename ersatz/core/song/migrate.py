"""Older song documents brought to the present format, as JSON before it is read.

ersatz.song/1 had four pitched voices of its own; they are synthesiser sounds now, with the old values in their places.
ersatz.song/2 kept the gap at the end of a section with the section; it is a transition now.
ersatz.song/3 had four buses, a reverb and a delay that were no strips, one ducker, and targets of automation in one name.
ersatz.song/4 called the part that steers an effect its key, which is a musical key and a hash as well; it is its sidechain now.
"""

from __future__ import annotations

from itertools import count
from typing import Any

from ersatz.core.errors import UnusableDocument
from ersatz.core.song.strips import MASTER

#: Old voice -> synthesiser values: (new name, old name or None, default or fixed value).
_SYNTH: dict[str, tuple[tuple[str, str | None, float], ...]] = {
    "bass": (
        ("osc1_voices", None, 2), ("osc1_detune_cents", "detune_cents", 5), ("osc1_spread", None, 0), ("osc1_level", None, 0.5),
        ("osc2_level", "square", 0.35), ("sub_level", "sub", 0.6), ("sub_octave", None, 0), ("filter1_hz", "cutoff_hz", 320),
        ("env2_decay_ms", "envelope_ms", 130), ("env1_sustain", "sustain", 0.75), ("drive", "drive", 0.3),
    ),
    "stack": (
        ("osc1_voices", None, 7), ("osc1_detune_cents", "detune_cents", 14), ("osc1_spread", "width", 0.9), ("osc1_level",
        None, 0.5),
        ("filter1_hz", "cutoff_hz", 2200), ("env2_decay_ms", "envelope_ms", 300), ("env1_attack_ms", "attack_ms", 12),
        ("env1_sustain", "sustain", 0.85), ("env1_release_ms", "release_ms", 140),
    ),
    "pluck": (
        ("osc1_voices", None, 3), ("osc1_detune_cents", "detune_cents", 7), ("osc1_spread", None, 0.4), ("osc1_level", None, 0.5),
        ("osc2_level", None, 0.25), ("osc2_octave", None, 1), ("filter1_hz", "cutoff_hz", 900), ("env2_decay_ms",
        "envelope_ms", 110),
        ("env1_decay_ms", "decay_ms", 260), ("env1_sustain", "sustain", 0.25), ("env1_release_ms", "release_ms", 160),
    ),
    "voice": (
        ("osc1_level", None, 0.6), ("osc1_width", None, 0.2), ("noise_level", None, 0.05), ("filter1_hz", None, 1050),
        ("filter1_resonance", None, 0.55), ("filter1_vowel", "vowel", 0), ("env1_attack_ms", None, 15), ("env1_release_ms",
        None, 90),
    ),
}  # fmt: skip
_CHOICES = {
    "bass": {"osc2_wave": "pulse", "filter1_kind": "low-pass 12"}, "stack": {"filter1_kind": "low-pass 12"},
    "pluck": {"osc2_wave": "pulse", "filter1_kind": "low-pass 12"}, "voice": {"osc1_wave": "pulse", "filter1_kind": "vowel"},
}  # fmt: skip
_ENVELOPE_OCTAVES = {"bass": 2.4, "stack": 1.0, "pluck": 3.0}
#: Vowels stood in the order a, o, e, i; they stand in the order a, e, i, o, u.
_VOWELS = (0.0, 3.0, 1.0, 2.0)


def brought_up(data: Any) -> Any:
    """A document of any format as one of the present format; what is no such document, as it is. Raises UnusableDocument for one
    that lacks what its format has."""
    try:
        while isinstance(data, dict) and (step := STEPS.get(str(data.get("schema")))):
            data = step(data)
    except (AttributeError, KeyError, TypeError, ValueError) as error:
        raise UnusableDocument("The document is damaged: it isn’t the song that it says it is.") from error
    return data


def from_version_1(data: dict[str, Any]) -> dict[str, Any]:
    """A copy of an ersatz.song/1 document as ersatz.song/2."""
    parts = [{**part, "sound": _sound(part.get("sound", {}))} for part in data.get("parts", [])]
    return {**data, "schema": "ersatz.song/2", "parts": parts}


def from_version_2(data: dict[str, Any]) -> dict[str, Any]:
    """A copy of an ersatz.song/2 document as ersatz.song/3."""
    gaps = [
        {"id": f"t{k}", "kind": "gap", "section": section["id"], "beats": section["gap_beats"]}
        for k, section in enumerate(data.get("sections", []), 1)
        if section.get("gap_beats")
    ]
    return {**data, "schema": "ersatz.song/3", "transitions": gaps}


def from_version_3(data: dict[str, Any]) -> dict[str, Any]:
    """A copy of an ersatz.song/3 document as ersatz.song/4."""
    moved = data.get("automation", {})
    chains = data.get("buses", {})
    curve = data["ducking"]
    by_kick = curve["rate"] == "kick"
    # A part that has the master's id: strips share one space of ids.
    ids = {MASTER: _free_id(data)} if any(p["id"] == MASTER for p in data["parts"]) else {}
    out = {k: v for k, v in data.items() if k not in ("buses", "automation", "ducking", "reverb", "delay")}
    return out | {
        "schema": "ersatz.song/4",
        "parts": [_part_4(part, ids) for part in data["parts"]],
        "buses": [
            {"id": f"bus:{name}", "name": name.capitalize(), "chain": _chain_4(chains.get(name, []), ids),
             "automation": [_automation_4(a) for a in moved.get(name, [])]}
            for name in ("drums", "bass", "music", "effects")
        ],
        "returns": [
            _return_4("reverb", _room(data.get("reverb", {})), data.get("reverb", {}).get("duck_db", 4.0), moved),
            _return_4("delay", _echoes(data.get("delay", {}), data["bpm"]), data.get("delay", {}).get("duck_db", 3.0), moved),
        ],
        "master": _master_4(data.get("master", {}), moved.get(MASTER, []), ids),
        "curves": [{"id": "pump", "name": "Pump", "rate": "hits" if by_kick else curve["rate"], "shape": curve["shape"]}],
    }  # fmt: skip


def from_version_4(data: dict[str, Any]) -> dict[str, Any]:
    """A copy of an ersatz.song/4 document as ersatz.song/5."""
    strips = {kind: [_strip_5(strip) for strip in data.get(kind, [])] for kind in ("parts", "buses", "returns")}
    return {**data, "schema": "ersatz.song/5", **strips, "master": _strip_5(data.get("master", {}))}


def _strip_5(strip: dict[str, Any]) -> dict[str, Any]:
    chain = [{("sidechain" if name == "key" else name): value for name, value in e.items()} for e in strip.get("chain", [])]
    return {**strip, "chain": chain}


def _free_id(data: dict[str, Any]) -> str:
    taken = {p["id"] for p in data["parts"]}
    return next(name for k in count(2) if (name := f"{MASTER}-{k}") not in taken)


def _part_4(part: dict[str, Any], ids: dict[str, str]) -> dict[str, Any]:
    gone = ("bus", "effects", "duck_db", "reverb_db", "delay_db")
    sends = {f"return:{name}": {"db": part[f"{name}_db"]} for name in ("reverb", "delay") if part.get(f"{name}_db", -60.0) > -60.0}
    cells = [{**c, "part": ids.get(c.get("part", ""), c.get("part", ""))} for c in part["cells"]]
    return {k: v for k, v in part.items() if k not in gone} | {
        "id": ids.get(part["id"], part["id"]),
        "out": f"bus:{part['bus']}",
        "chain": _chain_4(part.get("effects", []), ids),
        "duck": {"curve": "pump", "depth_db": part["duck_db"]} if part.get("duck_db") else None,
        "sends": sends,
        "cells": cells,
        "automation": [_automation_4(a) for a in part.get("automation", [])],
    }


def _chain_4(chain: list[dict[str, Any]], ids: dict[str, str]) -> list[dict[str, Any]]:
    """Effects that had no id get the one that their place gave them in a curve's name."""
    return [{**e, "id": e.get("id") or f"e{k}", "key": ids.get(e.get("key", ""), e.get("key", ""))} for k, e in enumerate(chain, 1)]


def _automation_4(curve: dict[str, Any], on_top_of_db: float = 0.0) -> dict[str, Any]:
    """A curve with its target in two names; an effect was named by its place once. `on_top_of_db`: the level that it moved on top
    of."""
    target, points = curve["target"], curve["points"]
    if target in ("reverb_db", "delay_db"):
        return {"device": "sends", "param": f"return:{target.removesuffix('_db')}", "points": points}
    effect, _, param = target.rpartition(".")
    if not effect:
        return {"device": "fader", "param": param, "points": [{**p, "value": p["value"] + on_top_of_db} for p in points]}
    device = effect.removeprefix("effects.")
    return {"device": f"e{int(device) + 1}" if device.isdecimal() else device, "param": param, "points": points}


def _return_4(name: str, effect: dict[str, Any], duck_db: float, moved: dict[str, Any]) -> dict[str, Any]:
    return {
        "id": f"return:{name}", "name": name.capitalize(), "chain": [effect],
        "duck": {"curve": "pump", "depth_db": duck_db} if duck_db else None,
        "automation": [_automation_4(a) for a in moved.get(name, [])],
    }  # fmt: skip


def _room(old: dict[str, Any]) -> dict[str, Any]:
    params = {"decay_s": 1.8, "pre_delay_ms": 18.0, "low_cut_hz": 280.0, "high_cut_hz": 8500.0}
    params = {name: old.get(name, usual) for name, usual in params.items()}
    choices = {"kind": old.get("kind", "room"), "dry": "taken out"}
    return {"id": "e1", "kind": "reverb", "params": params | {"level_db": 0.0}, "choices": choices}


def _echoes(old: dict[str, Any], bpm: float) -> dict[str, Any]:
    steps = old.get("steps", 3.0)
    named = {0.5: "1/32", 1.0: "1/16", 1.5: "1/16 dotted", 2.0: "1/8", 3.0: "1/8 dotted", 4.0: "1/4", 6.0: "1/4 dotted", 8.0: "1/2"}
    params = {"feedback": min(old.get("feedback", 0.42), 0.8), "low_cut_hz": old.get("low_cut_hz", 350.0),
              "high_cut_hz": old.get("high_cut_hz", 5500.0), "level": 1.0}  # fmt: skip
    if steps not in named:
        params["time_ms"] = steps * 15_000 / bpm
    return {"id": "e1", "kind": "delay", "params": params,
            "choices": {"time": named.get(steps, "ms"), "mode": "alternating", "dry": "taken out"}}  # fmt: skip


def _master_4(old: dict[str, Any], moved: list[dict[str, Any]], ids: dict[str, str]) -> dict[str, Any]:
    curves = [_automation_4(a, old.get("gain_db", 0.0)) for a in moved]
    return {k: v for k, v in old.items() if k != "effects"} | {"chain": _chain_4(old.get("effects", []), ids), "automation": curves}


def _sound(old: dict[str, Any]) -> dict[str, Any]:
    voice, given = old.get("voice"), old.get("params", {})
    if voice not in _SYNTH:
        return old
    params = {new: float(given.get(name, value)) if name else float(value) for new, name, value in _SYNTH[voice]}
    if voice == "voice":
        params["filter1_vowel"] = _VOWELS[int(params["filter1_vowel"]) % len(_VOWELS)]
    modulations = []
    if voice in _ENVELOPE_OCTAVES:
        amount = float(given.get("envelope_octaves", _ENVELOPE_OCTAVES[voice]))
        modulations.append({"source": "envelope 2", "target": "filter1_hz", "amount": amount})
    return {"voice": "synth", "params": params, "choices": _CHOICES[voice], "modulations": modulations}


OLDEST = "ersatz.song/1"
#: From each format to the next.
STEPS = {
    OLDEST: from_version_1, "ersatz.song/2": from_version_2, "ersatz.song/3": from_version_3, "ersatz.song/4": from_version_4,
}  # fmt: skip
