"""The shipped sounds: named starting points by role and kind, all made of the voices beside this file.

`levels.json` holds what was measured on each (python -m bench.sounds --write): the level that brings it to its role's loudness, and its
brightness. A sound is a starting point: a part takes a copy and goes its own way.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cache
from importlib import resources

import numpy as np

from ersatz.core.dsp import filters
from ersatz.core.loudness import k_weighting
from ersatz.core.serial import from_json, to_json
from ersatz.core.song.parts import Modulation, Sound
from ersatz.core.voices import render_note
from ersatz.core.voices.spec import Played

RATE_HZ = 44_100
#: Loudness of the loudest 400 ms of a sound's test note, LUFS, by role.
ROLE_LUFS = {
    "kick": -9.0, "clap": -10.0, "hats": -13.0, "perc": -13.0, "bass": -6.0, "chords": -9.0, "lead": -11.0, "noise": -4.5, "impact": -5.0,
}  # fmt: skip
#: Test notes: MIDI and seconds held. Chords are tested by one of their notes.
TEST_NOTES = {"bass": (36, 0.5), "chords": (60, 1.2), "lead": (69, 0.5), "noise": (60, 2.0)}
DRUM_NOTE = (60, 0.2)
BLOCK_S = 0.4
#: Limits of "dark" and "bright" on the spectrum's centroid, Hz, by role.
BRIGHTNESS = {
    "kick": (60, 80), "clap": (2000, 4000), "hats": (7000, 12_500), "perc": (600, 4500), "bass": (70, 105), "chords": (380, 560),
    "lead": (540, 850), "noise": (1500, 6400), "impact": (500, 3000),
}  # fmt: skip


@dataclass(frozen=True)
class LibrarySound:
    """`kind` divides a role ("closed hat", "sub"); `character` is a few words of the trade."""

    name: str
    role: str
    kind: str
    character: tuple[str, ...]
    sound: Sound
    centroid_hz: float = 0.0

    @property
    def brightness(self) -> str:
        """“dark”, “middle” or “bright” among sounds of its role, by the spectral centroid."""
        low, high = BRIGHTNESS[self.role]
        return "dark" if self.centroid_hz < low else "bright" if self.centroid_hz > high else "middle"


#: Short names of the table for the synthesiser's parameters.
_SHORT = {
    "l": "osc{}_level", "o": "osc{}_octave", "st": "osc{}_semitones", "c": "osc{}_cents", "v": "osc{}_voices", "d": "osc{}_detune_cents",
    "sp": "osc{}_spread", "pw": "osc{}_width", "pos": "osc{}_position", "ph": "osc{}_phase",
}  # fmt: skip
_PLAIN = {"sub": "sub_level", "subo": "sub_octave", "noise": "noise_level", "glide": "glide_ms", "vel": "velocity_level"}
_CHOICES = {"colour": "noise_colour", "subw": "sub_wave"}


def _synth(**given: object) -> Sound:
    """A synthesiser sound from the table's short names: w1, l1 ... for oscillators, f1, hz1, res1, trk1, vow1 for filters, e1..e3 for
    envelopes (attack, decay, sustain, release in ms), r1, shape1, song1 for LFOs, mods as (source, target, amount)."""
    params: dict[str, float] = {}
    choices: dict[str, str] = {}
    mods: tuple[Modulation, ...] = ()
    for key, value in given.items():
        stem, number = key.rstrip("123"), key[len(key.rstrip("123")) :]
        if key == "mods":
            mods = tuple(Modulation(*m) for m in value)  # type: ignore[attr-defined]
        elif stem == "e" and number:
            for part, v in zip(("attack_ms", "decay_ms", "sustain", "release_ms"), value):  # type: ignore[call-overload]
                params[f"env{number}_{part}"] = float(v)
        elif stem == "w" and number:
            choices[f"osc{number}_wave"] = str(value)
        elif stem == "start" and number:
            choices[f"osc{number}_start"] = str(value)
        elif stem in ("f", "r", "shape") and number:
            name = {"f": "filter{}_kind", "r": "lfo{}_rate", "shape": "lfo{}_shape"}[stem].format(number)
            choices[name] = str(value)
        elif stem == "song" and number:
            choices[f"lfo{number}_start"] = "with the song"
        elif stem in ("hz", "res", "trk", "vow") and number:
            full = {"hz": "hz", "res": "resonance", "trk": "track", "vow": "vowel"}[stem]
            params[f"filter{number}_{full}"] = float(value)  # type: ignore[arg-type]
        elif stem in _SHORT and number:
            params[_SHORT[stem].format(number)] = float(value)  # type: ignore[arg-type]
        elif isinstance(value, str):
            choices[_CHOICES.get(key, key)] = value
        else:
            params[_PLAIN.get(key, key)] = float(value)  # type: ignore[arg-type]
    return Sound("synth", params, choices, mods)


def _drum(voice: str, **params: float) -> Sound:
    return Sound(voice, dict(params))


CUT = "filter1_hz"
# One line per sound: name, kind, character, sound.
# ruff: noqa: E501
_TABLE: dict[str, tuple[tuple[str, str, str, Sound], ...]] = {
    "kick": (
        ("Mooring post", "kick", "round plain", _drum("kick")),
        ("Engine room", "kick", "deep long", _drum("kick", fundamental_hz=44, decay_ms=420, fall_ms=22, click=0.25)),
        ("Deck boards", "kick", "short woody", _drum("kick", fundamental_hz=56, decay_ms=150, body=0.5, click=0.6)),
        ("Bollard", "kick", "tight clicky", _drum("kick", fundamental_hz=52, decay_ms=180, fall_octaves=2.4, fall_ms=9, click=0.9)),
        ("Rubber fender", "kick", "soft round", _drum("kick", fundamental_hz=50, decay_ms=300, fall_octaves=0.9, fall_ms=30, click=0.12, drive=0.05)),
        ("Hull plate", "kick", "driven hard", _drum("kick", fundamental_hz=51, decay_ms=320, drive=0.85, click=0.7, fall_octaves=2.2)),
        ("Bulkhead", "kick", "driven long", _drum("kick", fundamental_hz=48, decay_ms=250, tail=0.7, tail_ms=520, drive=0.95, click=0.6)),
        ("Fog bank", "kick", "booming long", _drum("kick", fundamental_hz=42, decay_ms=240, tail=0.9, tail_ms=1100, click=0.2, drive=0.1)),
        ("Harbour wall", "kick", "broken punchy", _drum("kick", fundamental_hz=60, decay_ms=200, body=0.8, click=0.7, drive=0.4)),
        ("Lead line", "kick", "sub soft", _drum("kick", fundamental_hz=38, decay_ms=500, fall_octaves=0.6, fall_ms=40, click=0.05, drive=0.0)),
        ("Gangway", "kick", "punchy dry", _drum("kick", fundamental_hz=54, decay_ms=230, fall_octaves=1.9, fall_ms=13, click=0.55, body=0.25, drive=0.35)),
    ),
    "clap": (
        ("Four hands", "clap", "plain wide", _drum("clap")),
        ("Tight crew", "clap", "tight dry", _drum("clap", bursts=3, spread_ms=6, tail_ms=38, tone_hz=1500)),
        ("Car deck", "clap", "roomy long", _drum("clap", bursts=5, spread_ms=12, tail_ms=210, tone_hz=1100)),
        ("Paper bag", "clap", "bright short", _drum("clap", bursts=2, spread_ms=5, tail_ms=55, tone_hz=2600)),
        ("Wet gloves", "clap", "dark soft", _drum("clap", bursts=4, spread_ms=11, tail_ms=90, tone_hz=750)),
        ("Snap line", "clap", "snap tight", _drum("clap", bursts=1, tail_ms=28, tone_hz=3200)),
        ("Galley snare", "snare", "plain crisp", _drum("snare")),
        ("Brass snare", "snare", "bright ringing", _drum("snare", tone_hz=240, tail_ms=120, rattle=1.3, rattle_hz=2600)),
        ("Canvas snare", "snare", "dark short", _drum("snare", tone_hz=165, tail_ms=48, rattle=0.8, rattle_hz=900)),
        ("Crate snare", "snare", "fat long", _drum("snare", tone_hz=150, tail_ms=190, rattle=1.1, rattle_hz=1000)),
        ("Chart-table snare", "snare", "tight high", _drum("snare", tone_hz=310, tail_ms=60, rattle=1.5, rattle_hz=3200)),
        ("Breakwater snare", "snare", "noisy wide", _drum("snare", tone_hz=200, tail_ms=150, rattle=2.0, rattle_hz=1800)),
    ),
    "hats": (
        ("Rivet", "closed hat", "plain tight", _drum("hat")),
        ("Salt", "closed hat", "noisy soft", _drum("hat", noise=0.95, decay_ms=24, tone_hz=8200)),
        ("Needle", "closed hat", "bright tiny", _drum("hat", noise=0.5, decay_ms=13, tone_hz=10_500)),
        ("Tin lid", "closed hat", "metallic", _drum("hat", noise=0.1, decay_ms=36, tone_hz=5200)),
        ("Dry rope", "closed hat", "dark short", _drum("hat", noise=0.75, decay_ms=20, tone_hz=4300)),
        ("Spray", "open hat", "plain airy", _drum("hat", decay_ms=110, tone_hz=6300, noise=0.7)),
        ("Steam valve", "open hat", "noisy long", _drum("hat", decay_ms=240, tone_hz=7600, noise=1.0)),
        ("Shackle", "open hat", "metallic", _drum("hat", decay_ms=160, tone_hz=5200, noise=0.15)),
        ("Half tide", "open hat", "half-open", _drum("hat", decay_ms=65, tone_hz=6800, noise=0.55)),
        ("Whitecap", "crash", "bright long", _drum("cymbal", decay_ms=900, tone_hz=4200, noise=0.6, stick=0.1)),
        ("Swell", "crash", "dark long", _drum("cymbal", decay_ms=1400, tone_hz=2400, noise=0.5, stick=0.05)),
        ("Porthole ride", "ride", "clear", _drum("cymbal", decay_ms=420, tone_hz=5200, noise=0.15, stick=0.7)),
        ("Anchor ride", "ride", "dark wash", _drum("cymbal", decay_ms=700, tone_hz=3000, noise=0.3, stick=0.4)),
    ),
    "perc": (
        ("Grit", "shaker", "plain", _drum("shaker")),
        ("Rice tin", "shaker", "bright short", _drum("shaker", tone_hz=9500, attack_ms=6, decay_ms=16)),
        ("Gravel", "shaker", "dark long", _drum("shaker", tone_hz=3800, attack_ms=24, decay_ms=50)),
        ("Rail tap", "rim", "plain", _drum("rim")),
        ("Winch click", "rim", "high tight", _drum("rim", tone_hz=1700, decay_ms=10, ratio=1.9)),
        ("Oar block", "rim", "woody", _drum("rim", tone_hz=560, decay_ms=30, ratio=2.3)),
        ("Hollow crate", "rim", "low woody", _drum("rim", tone_hz=260, decay_ms=55, ratio=1.6)),
        ("Buoy bell", "bell", "ringing", _drum("rim", tone_hz=1150, decay_ms=320, ratio=2.76)),
        ("Two pipes", "bell", "metallic clank", _drum("rim", tone_hz=540, decay_ms=140, ratio=1.48)),
        ("Low cask", "tom", "low round", _drum("tom", tone_hz=82, decay_ms=190)),
        ("Mid cask", "tom", "round", _drum("tom", tone_hz=125, decay_ms=150)),
        ("High cask", "tom", "short tight", _drum("tom", tone_hz=190, decay_ms=95, fall_octaves=0.8)),
        ("Bilge drop", "tom", "falling wet", _drum("tom", tone_hz=150, decay_ms=220, fall_octaves=1.8, noise=0.05)),
        ("Air hose", "noise hit", "falling wide", _drum("noise-hit")),
        ("Match strike", "noise hit", "rising bright", _drum("noise-hit", from_hz=3000, to_hz=9000, decay_ms=70, q=1.2)),
        ("Radio tick", "noise hit", "narrow tiny", _drum("noise-hit", from_hz=4200, to_hz=4000, q=9, decay_ms=12, width=0.1)),
        ("Wave slap", "noise hit", "dark wide", _drum("noise-hit", from_hz=1800, to_hz=300, q=1.0, decay_ms=120, width=0.8)),
    ),
    "bass": (
        ("Keel", "bass", "round plain", _synth(w1="saw", v1=2, d1=5, sp1=0, l1=0.52, w2="pulse", l2=0.25, sub=0.6, subo=0, f1="low-pass 12", hz1=320, res1=0.21, e1=(3, 400, 0.75, 50), e2=(0.5, 300, 0, 60), drive=0.3, vel=0.45, mods=(("envelope 2", CUT, 2.0), ("velocity", CUT, 0.4)))),
        ("Undertow", "bass", "reese wide dark", _synth(w1="saw", v1=4, d1=14, sp1=0.3, l1=0.6, w2="saw", l2=0.4, c2=-11, sub=0.7, subo=0, f1="low-pass 24", hz1=420, res1=0.15, e1=(4, 300, 0.9, 70), drive=0.45, r1="1 bar", song1=1, mods=(("lfo 1", CUT, 0.5),))),
        ("Ballast", "sub", "pure deep", _synth(w1="sine", l1=0.9, start1="fixed", hz1=20_000, e1=(5, 200, 0.95, 60), vel=0.3)),
        ("Plumb", "sub", "warm deep", _synth(w1="triangle", l1=0.8, start1="fixed", f1="low-pass 24", hz1=180, e1=(4, 300, 0.85, 70), drive=0.25, vel=0.3)),
        ("Sounding rope", "sub", "sliding mono", _synth(w1="sine", l1=0.9, start1="fixed", drive=0.35, e1=(4, 400, 0.9, 80), mode="legato", glide=90, vel=0.2)),
        ("Bilge pump", "bass", "rolling short", _synth(w1="saw", l1=0.6, start1="fixed", w2="pulse", l2=0.3, o2=-1, f1="low-pass 24", hz1=190, res1=0.25, e1=(2, 140, 0.1, 30), e2=(0.5, 110, 0, 40), drive=0.3, mods=(("envelope 2", CUT, 2.6),))),
        ("Donkey engine", "bass", "offbeat punchy", _synth(w1="pulse", pw1=0.4, l1=0.6, start1="fixed", sub=0.5, f1="low-pass 24", hz1=260, res1=0.2, e1=(2, 220, 0.5, 40), e2=(0.5, 150, 0, 50), drive=0.5, mods=(("envelope 2", CUT, 2.2),))),
        ("Chart house", "bass", "plucked mellow", _synth(w1="triangle", l1=0.7, w2="saw", l2=0.2, f1="low-pass 12", hz1=500, res1=0.15, e1=(2, 280, 0.2, 80), e2=(0.5, 180, 0, 60), mods=(("envelope 2", CUT, 1.6),))),
        ("Rust", "bass", "driven growling", _synth(w1="saw", l1=0.6, w2="pulse", l2=0.4, c2=7, sub=0.4, f1="low-pass 24", hz1=700, res1=0.35, e1=(2, 300, 0.8, 50), drive=0.95, r1="1/8", mods=(("lfo 1", CUT, 1.0),))),
        ("Two-stroke", "bass", "FM metallic", _synth(w1="sine", l1=0.8, start1="fixed", w2="sine", st2=12, start2="fixed", fm=0.15, sub=0.4, subo=0, hz1=6000, e1=(2, 260, 0.6, 50), e2=(0.5, 160, 0, 50), mods=(("envelope 2", "fm", 0.8),))),
        ("Foghorn", "bass", "FM talking", _synth(w1="sine", l1=0.7, start1="fixed", w2="sine", start2="fixed", fm=0.6, sub=0.5, subo=0, f1="vowel", hz1=900, res1=0.5, f2="low-pass 12", hz2=4000, e1=(3, 300, 0.9, 60), r1="1/4 triplet", mods=(("lfo 1", "filter1_vowel", 1.6), ("lfo 1", "fm", 0.4)))),
        ("Wobble plate", "bass", "wobbling half-time", _synth(w1="saw", v1=3, d1=9, sp1=0.1, l1=0.6, w2="pulse", o2=-1, l2=0.4, sub=0.5, subo=0, f1="low-pass 24", hz1=380, res1=0.4, e1=(3, 300, 0.95, 60), drive=0.6, r1="1/8 triplet", mods=(("lfo 1", CUT, 1.8),))),
        ("Grinder", "bass", "folded hard", _synth(w1="unfolding", l1=0.8, pos1=0.4, start1="fixed", sub=0.5, subo=0, f1="low-pass 12", hz1=2600, res1=0.2, e1=(2, 300, 0.85, 40), e2=(0.5, 240, 0, 60), drive=0.6, mods=(("envelope 2", "osc1_position", 0.5),))),
        ("Pilot flame", "acid line", "resonant squelching", _synth(w1="saw", l1=0.8, start1="fixed", f1="low-pass 24", hz1=260, res1=0.72, trk1=0.3, e1=(1, 300, 0.4, 30), e2=(0.5, 170, 0, 40), drive=0.4, mode="legato", glide=60, vel=0.4, mods=(("envelope 2", CUT, 2.6), ("velocity", CUT, 1.2)))),
        ("Signal lamp", "acid line", "square resonant", _synth(w1="pulse", l1=0.7, start1="fixed", f1="low-pass 24", hz1=320, res1=0.66, trk1=0.4, e1=(1, 300, 0.6, 30), e2=(0.5, 120, 0, 40), drive=0.3, mode="legato", glide=50, mods=(("envelope 2", CUT, 2.3), ("velocity", CUT, 1.0)))),
        ("Organ hold", "bass", "house organ", _synth(w1="drawbars", pos1=0.3, l1=0.7, start1="fixed", hz1=3000, f1="low-pass 12", e1=(1, 180, 0.45, 40), e2=(0.5, 60, 0, 30), mods=(("envelope 2", "osc1_position", 0.3),))),
        ("Dub anchor", "bass", "dub soft", _synth(w1="sine", l1=0.8, w2="triangle", o2=1, l2=0.25, f1="low-pass 12", hz1=380, e1=(6, 300, 0.8, 120), drive=0.4, mode="mono", glide=40)),
        ("Screw shaft", "bass", "sync tearing", _synth(w1="saw", l1=0.3, w2="saw", l2=0.6, st2=7, sync="on", f1="low-pass 24", hz1=1400, res1=0.25, sub=0.5, subo=0, e1=(2, 300, 0.8, 50), e2=(0.5, 300, 0.1, 60), mods=(("envelope 2", "osc2_semitones", 14), ("envelope 2", CUT, 1.0)))),
        ("Brown water", "bass", "dirty broken", _synth(w1="torn", pos1=0.6, l1=0.7, w2="saw", l2=0.3, o2=1, c2=9, sub=0.5, subo=0, f1="low-pass 24", hz1=900, res1=0.3, e1=(2, 260, 0.6, 50), e2=(0.5, 180, 0, 50), drive=0.7, mods=(("envelope 2", CUT, 1.6),))),
        ("Diesel", "bass", "mid bass driving", _synth(w1="saw", v1=2, d1=7, sp1=0, l1=0.6, w2="saw", o2=1, l2=0.3, f1="low-pass 24", hz1=480, res1=0.22, e1=(2, 200, 0.55, 40), e2=(0.5, 140, 0, 40), drive=0.55, mods=(("envelope 2", CUT, 1.8),))),
        ("Call sign", "bass", "square dembow", _synth(w1="pulse", pw1=0.5, l1=0.6, start1="fixed", sub=0.7, subo=0, f1="low-pass 12", hz1=600, e1=(3, 300, 0.9, 50), mode="mono", glide=70)),
    ),
    "chords": (
        ("Wake", "pad", "wide warm", _synth(w1="saw", v1=7, d1=14, sp1=0.9, l1=0.5, f1="low-pass 12", hz1=1900, res1=0.1, trk1=0.4, e1=(40, 500, 0.85, 260), e2=(5, 400, 0, 200), mods=(("envelope 2", CUT, 0.8),))),
        ("Long swell", "pad", "slow dark", _synth(w1="saw", v1=6, d1=18, sp1=1, l1=0.45, w2="triangle", o2=-1, l2=0.3, f1="low-pass 24", hz1=900, trk1=0.3, e1=(900, 800, 0.9, 1400), e3=(1200, 2000, 0.4, 500), mods=(("envelope 3", CUT, 1.2),))),
        ("Glass bottom", "pad", "glassy bright", _synth(w1="glass", v1=4, d1=9, sp1=0.9, l1=0.5, w2="sine", l2=0.3, hz1=9000, f1="low-pass 12", e1=(120, 600, 0.8, 700), r1="2 bars", song1=1, mods=(("lfo 1", "osc1_position", 0.35),))),
        ("Harbour lights", "pad", "airy wide", _synth(w1="hollow", pos1=0.4, v1=5, d1=12, sp1=1, l1=0.5, noise=0.06, f1="band-pass", hz1=1500, res1=0.12, e1=(200, 500, 0.9, 800), r1="1/4 triplet", mods=(("lfo 1", CUT, 0.6),))),
        ("Choir loft", "pad", "vocal soft", _synth(w1="saw", v1=5, d1=16, sp1=0.9, l1=0.6, f1="vowel", hz1=1000, res1=0.4, e1=(160, 500, 0.9, 500), r1="4 bars", song1=1, mods=(("lfo 1", "filter1_vowel", 2.0),))),
        ("Low drone", "pad", "drone dark", _synth(w1="saw", v1=3, d1=8, sp1=0.7, o1=-1, l1=0.5, w2="sine", st2=7, l2=0.25, f1="low-pass 24", hz1=600, res1=0.2, e1=(400, 800, 1, 900), r1="8 bars", song1=1, mods=(("lfo 1", CUT, 0.8),))),
        ("Tide table", "pad", "pulsing trance", _synth(w1="saw", v1=7, d1=16, sp1=1, l1=0.5, f1="low-pass 24", hz1=2600, trk1=0.3, e1=(20, 400, 0.9, 200), r1="1/8", shape1="fall", mods=(("lfo 1", "level_db", 7),))),
        ("Drift", "pad", "phasing slow", _synth(w1="saw", v1=4, d1=10, sp1=0.8, l1=0.5, f1="all-pass chain", hz1=700, res1=0.6, f2="low-pass 12", hz2=3000, e1=(150, 500, 0.9, 600), r1="2 bars", song1=1, mods=(("lfo 1", CUT, 1.5),))),
        ("Deck stab", "stab", "house short", _synth(w1="saw", v1=7, d1=10, sp1=0.9, l1=0.5, f1="low-pass 12", hz1=2300, res1=0.1, trk1=0.4, e1=(2, 300, 0.85, 110), e2=(0.5, 160, 0, 100), mods=(("envelope 2", CUT, 1.5),))),
        ("Dub chord", "stab", "dub filtered", _synth(w1="saw", v1=3, d1=9, sp1=0.5, l1=0.5, w2="pulse", l2=0.3, f1="band-pass", hz1=800, res1=0.25, e1=(2, 240, 0.15, 120), e2=(0.5, 200, 0, 100), mods=(("envelope 2", CUT, 1.1),))),
        ("Siren deck", "stab", "rave hard", _synth(w1="saw", v1=5, d1=22, sp1=0.9, l1=0.5, w2="pulse", o2=1, l2=0.25, f1="low-pass 12", hz1=5200, e1=(2, 260, 0.5, 90), drive=0.4)),
        ("Organ deck", "stab", "organ house", _synth(w1="drawbars", pos1=0.5, l1=0.5, v1=2, d1=4, sp1=0.4, hz1=6000, f1="low-pass 12", e1=(1, 260, 0.5, 60), e2=(0.5, 40, 0, 40), mods=(("envelope 2", "osc1_position", 0.3),))),
        ("Mess-room keys", "keys", "electric mellow", _synth(w1="sine", l1=0.6, start1="fixed", w2="sine", st2=24, o2=1, l2=0.0, start2="fixed", fm=0.05, hz1=7000, f1="low-pass 12", e1=(1, 900, 0.25, 200), e2=(0.5, 300, 0, 150), mods=(("envelope 2", "fm", 0.18), ("velocity", "fm", 0.06)))),
        ("Saloon piano", "keys", "piano-like bright", _synth(w1="hollow", pos1=0.8, l1=0.5, v1=2, d1=5, sp1=0.4, w2="triangle", l2=0.4, o2=1, f1="low-pass 12", hz1=2600, trk1=0.5, e1=(1, 1400, 0.0, 160), e2=(0.5, 400, 0, 150), mods=(("envelope 2", CUT, 1.4), ("velocity", CUT, 0.8)))),
        ("Strings below", "pad", "string machine", _synth(w1="saw", v1=3, d1=11, sp1=0.9, l1=0.4, w2="saw", o2=1, v2=3, d2=13, l2=0.3, f1="low-pass 12", hz1=4200, f2="high-pass 12", hz2=220, e1=(70, 400, 0.9, 350))),
        ("Cold front", "pad", "cold thin", _synth(w1="pulse", pw1=0.25, v1=4, d1=12, sp1=0.9, l1=0.5, f1="high-pass 12", hz1=500, f2="low-pass 12", hz2=5200, e1=(80, 500, 0.85, 500), r1="2 bars", song1=1, mods=(("lfo 1", "osc1_width", 0.15),))),
        ("Night ferry", "pad", "deep minor", _synth(w1="triangle", v1=4, d1=9, sp1=0.8, l1=0.6, w2="saw", l2=0.2, v2=3, d2=12, f1="low-pass 24", hz1=1100, trk1=0.3, e1=(120, 600, 0.9, 700), r1="4 bars", song1=1, mods=(("lfo 1", CUT, 0.5),))),
        ("Comb wire", "stab", "plucked metallic", _synth(w1="saw", v1=2, d1=6, sp1=0.6, l1=0.6, f1="comb", hz1=880, res1=0.6, f2="low-pass 12", hz2=4500, e1=(1, 260, 0.1, 120))),
    ),
    "lead": (
        ("Beacon", "pluck", "plain plucked", _synth(w1="saw", v1=3, d1=7, sp1=0.4, l1=0.55, w2="pulse", o2=1, pw2=0.3, l2=0.28, f1="low-pass 12", hz1=900, res1=0.24, e1=(2, 260, 0.25, 160), e2=(0.5, 180, 0, 80), vel=0.6, mods=(("envelope 2", CUT, 2.2), ("velocity", CUT, 0.6)))),
        ("Ferry voice", "voice", "vocal chop", _synth(w1="pulse", pw1=0.2, l1=0.6, noise=0.05, f1="vowel", hz1=1050, res1=0.55, e1=(15, 300, 0.75, 90), e2=(120, 500, 0.5, 100), r2="Hz", lfo2_hz=5.2, lfo2_fade_ms=250, mods=(("envelope 2", "filter1_vowel", 1.4), ("lfo 2", "pitch_semitones", 0.09)))),
        ("Second deckhand", "voice", "vocal dark", _synth(w1="saw", l1=0.6, noise=0.04, f1="vowel", hz1=850, res1=0.5, vow1=3, e1=(20, 300, 0.8, 110), r2="Hz", lfo2_hz=4.8, lfo2_fade_ms=200, mods=(("lfo 2", "pitch_semitones", 0.08), ("envelope 2", "filter1_vowel", -1.5)))),
        ("Radio mouth", "voice", "vocal thin formant", _synth(w1="throat", pos1=0.4, l1=0.6, f1="band-pass", hz1=1800, res1=0.2, e1=(8, 250, 0.7, 80), e2=(30, 300, 0, 80), mods=(("envelope 2", "osc1_position", 0.5),))),
        ("Main light", "lead", "saw stack wide", _synth(w1="saw", v1=8, d1=20, sp1=0.9, l1=0.5, w2="saw", o2=1, v2=4, d2=16, l2=0.25, f1="low-pass 12", hz1=6500, trk1=0.3, e1=(4, 300, 0.9, 180), e2=(0.5, 200, 0, 100), mods=(("envelope 2", CUT, 0.8),))),
        ("Backwards tide", "lead", "swelling almost reversed", _synth(w1="saw", v1=7, d1=17, sp1=0.8, l1=0.5, f1="low-pass 24", hz1=700, res1=0.2, e1=(6, 300, 0.9, 140), e2=(140, 180, 0.15, 120), mode="mono", glide=50, mods=(("envelope 2", CUT, 3.0),))),
        ("Masthead", "lead", "mono square", _synth(w1="pulse", pw1=0.5, l1=0.6, start1="fixed", w2="pulse", c2=8, l2=0.4, pw2=0.35, f1="low-pass 12", hz1=3800, e1=(3, 300, 0.85, 90), mode="legato", glide=70, r2="Hz", lfo2_hz=5.5, lfo2_fade_ms=350, mods=(("lfo 2", "pitch_semitones", 0.12),))),
        ("Gull", "lead", "screeching hard", _synth(w1="saw", l1=0.3, w2="saw", st2=12, l2=0.6, sync="on", f1="band-pass", hz1=2200, res1=0.2, e1=(2, 300, 0.9, 60), e2=(60, 300, 0.4, 60), drive=0.7, mode="mono", glide=60, mods=(("envelope 2", "osc2_semitones", 16),))),
        ("Air-raid", "lead", "siren", _synth(w1="pulse", l1=0.6, f1="low-pass 12", hz1=4200, e1=(20, 300, 1, 120), r1="1/2", mods=(("lfo 1", "pitch_semitones", 3.5),))),
        ("Morse", "pluck", "tiny bleep", _synth(w1="sine", l1=0.8, start1="fixed", e1=(1, 90, 0.0, 50), w2="sine", o2=1, start2="fixed", fm=0.05, e2=(0.5, 60, 0, 40), mods=(("envelope 2", "fm", 0.3),))),
        ("Ship's bell", "pluck", "FM bell", _synth(w1="sine", l1=0.7, start1="fixed", w2="sine", st2=17, o2=1, start2="fixed", fm=0.1, hz1=12_000, f1="low-pass 12", e1=(1, 900, 0.0, 500), e2=(0.5, 500, 0, 300), mods=(("envelope 2", "fm", 0.45),))),
        ("Rain on steel", "pluck", "bright high", _synth(w1="saw", v1=3, d1=11, sp1=0.8, o1=1, l1=0.5, f1="low-pass 24", hz1=1500, res1=0.2, e1=(1, 160, 0.05, 120), e2=(0.5, 110, 0, 80), mods=(("envelope 2", CUT, 2.4),))),
        ("Kelp", "pluck", "dark rubber", _synth(w1="triangle", l1=0.7, w2="pulse", o2=-1, l2=0.25, f1="low-pass 24", hz1=500, res1=0.4, e1=(1, 200, 0.1, 90), e2=(0.5, 130, 0, 60), mods=(("envelope 2", CUT, 2.6),))),
        ("Rigging", "pluck", "comb string", _synth(w1="saw", l1=0.6, f1="comb", hz1=660, res1=0.85, trk1=1, f2="low-pass 12", hz2=5000, e1=(1, 320, 0.05, 220))),
        ("Arp lamp", "arp", "trance sequence", _synth(w1="saw", v1=4, d1=13, sp1=0.7, l1=0.5, f1="low-pass 24", hz1=1300, res1=0.3, e1=(1, 180, 0.2, 90), e2=(0.5, 140, 0, 60), r1="4 bars", song1=1, mods=(("envelope 2", CUT, 1.8), ("lfo 1", CUT, 0.9)))),
        ("Arp tide", "arp", "melodic soft", _synth(w1="triangle", l1=0.5, w2="saw", l2=0.3, v2=3, d2=9, f1="low-pass 12", hz1=1400, res1=0.25, e1=(2, 220, 0.3, 140), e2=(0.5, 180, 0, 80), mods=(("envelope 2", CUT, 1.5),))),
        ("Brass deck", "lead", "brassy", _synth(w1="saw", v1=3, d1=9, sp1=0.6, l1=0.6, f1="low-pass 24", hz1=700, res1=0.12, trk1=0.4, e1=(18, 300, 0.85, 120), e2=(45, 300, 0.6, 100), vel=0.5, mods=(("envelope 2", CUT, 1.9), ("velocity", CUT, 0.7)))),
        ("Hollow reed", "lead", "reedy soft", _synth(w1="hollow", pos1=0.1, l1=0.6, noise=0.03, f1="low-pass 12", hz1=2600, trk1=0.5, e1=(25, 200, 0.85, 110), r2="Hz", lfo2_hz=5, lfo2_fade_ms=300, mods=(("lfo 2", "pitch_semitones", 0.1),))),
        ("Torn flag", "lead", "dirty morphing", _synth(w1="torn", pos1=0.2, v1=3, d1=12, sp1=0.7, l1=0.6, f1="low-pass 12", hz1=5200, e1=(3, 300, 0.8, 90), drive=0.4, r1="1/8 dotted", mods=(("lfo 1", "osc1_position", 0.4),))),
        ("Ring buoy", "lead", "ring metallic", _synth(w1="sine", l1=0.2, w2="sine", st2=7, l2=0.0, ring=0.8, hz1=9000, f1="low-pass 12", e1=(2, 400, 0.4, 200))),
        ("Stab lead", "stab", "mono stab short", _synth(w1="saw", v1=4, d1=14, sp1=0.5, l1=0.55, w2="pulse", l2=0.25, f1="low-pass 24", hz1=1100, res1=0.3, e1=(1, 140, 0.1, 70), e2=(0.5, 100, 0, 50), drive=0.35, mods=(("envelope 2", CUT, 2.0),))),
        ("Whistle", "lead", "pure glide", _synth(w1="sine", l1=0.8, w2="triangle", o2=1, l2=0.1, e1=(12, 200, 0.9, 120), mode="legato", glide=110, r2="Hz", lfo2_hz=5.4, lfo2_fade_ms=300, mods=(("lfo 2", "pitch_semitones", 0.15),))),
    ),
    "noise": (
        ("Rising fog", "riser", "plain wide", _drum("riser")),
        ("Rising gale", "riser", "bright steep", _drum("riser", from_hz=900, to_hz=14_000, curve=2.6)),
        ("Rising engine", "riser", "dark slow", _drum("riser", from_hz=90, to_hz=3500, curve=1.2)),
        ("Ebb", "fall", "plain wide", _drum("fall")),
        ("Quick ebb", "fall", "bright fast", _drum("fall", from_hz=700, to_hz=15_000, curve=3.2)),
        ("Climbing saw", "riser", "tonal tense", _synth(w1="saw", v1=5, d1=18, sp1=0.9, l1=0.5, f1="high-pass 12", hz1=300, e1=(600, 200, 1, 60), e3=(8000, 200, 1, 50), env3_attack_curve=-0.6, mods=(("envelope 3", "pitch_semitones", 24), ("envelope 3", CUT, 2.0)))),
        ("Hiss bed", "bed", "noise bed", _synth(l1=0, noise=0.5, colour="pink", f1="band-pass", hz1=3000, res1=0.0, e1=(300, 200, 1, 600), r1="4 bars", song1=1, mods=(("lfo 1", CUT, 0.7),))),
        ("Open deck", "bed", "plain air", _synth(l1=0, noise=0.6, colour="brown", f1="low-pass 12", hz1=9000, f2="high-pass 12", hz2=120, e1=(400, 200, 1, 900), r1="4 bars", song1=1, mods=(("lfo 1", CUT, 0.5), ("lfo 1", "level_db", 1.5)))),
        ("Surf bed", "bed", "slow waves", _synth(l1=0, noise=0.6, colour="brown", f1="low-pass 12", hz1=2200, f2="high-pass 12", hz2=150, e1=(500, 200, 1, 900), r1="2 bars", song1=1, mods=(("lfo 1", CUT, 1.4), ("lfo 1", "level_db", 5)))),
        ("Carrier wave", "bed", "radio drone", _synth(w1="sine", l1=0.25, w2="sine", st2=1, ring=0.4, noise=0.12, colour="pink", f1="band-pass", hz1=1500, res1=0.15, e1=(200, 200, 1, 500), r1="1 bar", shape1="random", song1=1, mods=(("lfo 1", CUT, 0.8),))),
    ),
    "impact": (
        ("Dropped anchor", "impact", "plain deep", _drum("impact")),
        ("Hatch slam", "impact", "short hard", _drum("impact", decay_ms=240, thud=1.0, crash_hz=1500)),
        ("Breaker", "impact", "long noisy", _drum("impact", decay_ms=1300, thud=0.35, crash_hz=500)),
        ("Depth only", "impact", "sub", _drum("impact", decay_ms=500, thud=1.0, crash_hz=6000)),
    ),
}  # fmt: skip


@cache
def _measured() -> dict[str, dict[str, float]]:
    return dict(json.loads(resources.files("ersatz.core.voices").joinpath("levels.json").read_text()))


def unlevelled() -> Iterator[LibrarySound]:
    """The table as it is written, for measuring."""
    for role, rows in _TABLE.items():
        for name, kind, character, sound in rows:
            # Through JSON, where whole numbers become what a stored song has: equal sounds are then equal to the last bit.
            plain = from_json(Sound, to_json(replace(sound, name=name)))
            yield LibrarySound(name, role, kind, tuple(character.split()), plain)


@cache
def library() -> dict[str, LibrarySound]:
    """All sounds by name, each at its role's loudness."""
    out = {}
    for entry in unlevelled():
        measured = _measured().get(entry.name, {"level_db": 0.0, "centroid_hz": 0.0})
        sound = replace(entry.sound, level_db=measured["level_db"], kind=entry.kind)
        out[entry.name] = replace(entry, sound=sound, centroid_hz=measured["centroid_hz"])
    return out


def sound(name: str, **params: float) -> Sound:
    """A library sound by name, some of its parameters changed. Raises KeyError for a name that isn't there."""
    found = library()[name].sound
    return replace(found, params={**found.params, **params}) if params else found


#: The kind of what lies under everything.
BED = "bed"
#: Voices whose every sound is of one kind.
_KIND_OF_VOICE = {"kick": "kick", "clap": "clap", "snare": "snare", "shaker": "shaker", "rim": "rim", "tom": "tom",
                  "noise-hit": "noise hit", "riser": "riser", "fall": "fall", "impact": "impact"}  # fmt: skip
#: A hat that rings longer is open; a cymbal that decays faster is a ride.
OPEN_HAT_MS, CRASH_MS = 60.0, 500.0


def kind_of(sound: Sound, role: str) -> str:
    """What instrument a sound is: what it says, or what its voice always is, or else its role."""
    if sound.kind:
        return sound.kind
    # Songs that were made before sounds said it have the shipped sound's name alone.
    shipped = library().get(sound.name)
    if shipped is not None and shipped.sound.voice == sound.voice:
        return shipped.kind
    if sound.voice == "hat":
        return "open hat" if sound.params.get("decay_ms", 28.0) >= OPEN_HAT_MS else "closed hat"
    if sound.voice == "cymbal":
        return "crash" if sound.params.get("decay_ms", 700.0) >= CRASH_MS else "ride"
    return _KIND_OF_VOICE.get(sound.voice, role)


def words_of(sound: Sound) -> tuple[str, ...]:
    """Kind and character of a shipped sound, in words of the trade; of any other its kind alone."""
    entry = library().get(sound.name)
    return (entry.kind, *entry.character) if entry is not None else (sound.kind,)


def first_of(kind: str, role: str) -> str:
    """Name of the first shipped sound of a kind, or else of a role."""
    rows = library().values()
    return next((s.name for s in rows if s.kind == kind and s.role == role), "") or next(s.name for s in rows if s.role == role)


def note_of(role: str) -> tuple[int, float]:
    """MIDI note and seconds held that a role's sounds are measured and heard by."""
    return TEST_NOTES.get(role, DRUM_NOTE)


def sample_note(entry: LibrarySound) -> np.ndarray:
    """The note that a sound is measured and heard by, shape (2, n)."""
    midi, held_s = note_of(entry.role)
    return render_note(entry.sound, Played(midi, int(held_s * RATE_HZ), 0.9, RATE_HZ, 124.0))


def loudness_lufs(samples: np.ndarray) -> float:
    """Loudness of the loudest 400 ms of (2, n), as BS.1770's momentary loudness at sample steps."""
    power = np.square(filters.cascade(k_weighting(RATE_HZ), samples)).sum(axis=0)
    width = int(BLOCK_S * RATE_HZ)
    total = np.cumsum(np.concatenate([np.zeros(width), power, np.zeros(width)]))
    return float(-0.691 + 10 * np.log10(max(float((total[width:] - total[:-width]).max()) / width, 1e-12)))


def centroid_hz(samples: np.ndarray) -> float:
    """Power-weighted mean frequency of the spectrum on a log axis."""
    power = (np.abs(np.fft.rfft(samples, axis=-1)) ** 2).sum(axis=0)
    hz = np.fft.rfftfreq(samples.shape[1], 1 / RATE_HZ)
    heard = (hz > 20) & (hz < 20_000)
    return float(np.exp((power[heard] * np.log(hz[heard])).sum() / power[heard].sum()))
