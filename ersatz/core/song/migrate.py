"""Older song documents brought to the present format, as JSON before it is read.

ersatz.song/1 had four pitched voices of its own; they are synthesiser sounds now, with the old values in their places.
ersatz.song/3 named an automated effect by its place at first.
ersatz.song/2 kept the gap at the end of a section with the section; it is a transition now.
"""

from __future__ import annotations

import re
from typing import Any

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
_BY_PLACE = re.compile(r"^effects\.(\d+)\.")
#: Vowels stood in the order a, o, e, i; they stand in the order a, e, i, o, u.
_VOWELS = (0.0, 3.0, 1.0, 2.0)


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


def with_named_effects(data: dict[str, Any]) -> dict[str, Any]:
    """A copy of a document whose curves name an effect by its place in the chain ("effects.0.blend"), naming it by the id that
    it gets there (song.document.identified); any other as it is."""

    def named(curves: Any) -> Any:
        return [{**curve, "target": _BY_PLACE.sub(lambda m: f"effects.e{int(m[1]) + 1}.", curve["target"])} for curve in curves]

    try:
        parts = [{**part, "automation": named(part.get("automation", []))} for part in data["parts"]]
        automation = {owner: named(curves) for owner, curves in data.get("automation", {}).items()}
    except (AttributeError, KeyError, TypeError):
        # Not a song's shape: what reads it says so.
        return data
    return {**data, "parts": parts, "automation": automation}


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
