"""Instruments. VOICES names them all; `render_note` plays one note of one of them."""

from __future__ import annotations

import hashlib
from dataclasses import replace

import numpy as np
import soxr

from ersatz.core.errors import UnusableDocument
from ersatz.core.samples import Samples, no_samples
from ersatz.core.song.parts import Sound
from ersatz.core.voices import drums, noise, path, sampler, synth
from ersatz.core.voices.spec import Patch, Played, VoiceSpec

VOICES: dict[str, VoiceSpec] = {spec.name: spec for spec in (*drums.SPECS, *noise.SPECS, synth.SPEC, sampler.SPEC)}
#: Hits of unpitched voices, and notes whose oscillators start anywhere, come in this many takes: a roll isn't a machine gun.
VARIANTS = 3


def voice_of(sound: Sound) -> VoiceSpec:
    """Raises UnusableDocument for a voice that doesn't exist."""
    spec = VOICES.get(sound.voice)
    if spec is None:
        raise UnusableDocument(f"There is no voice “{sound.voice}”.")
    return spec


def complete(sound: Sound, samples: Samples = no_samples) -> Patch:
    """The sound with everything filled in and checked. Raises UnusableDocument."""
    return voice_of(sound).patch(sound, samples)


def gone(sound: Sound, samples: Samples) -> list[str]:
    """Slots of a sound whose audio isn't found, in order of their names."""
    return sorted(slot for slot, sha in sound.samples.items() if samples(sha) is None)


def has_takes(sound: Sound) -> bool:
    """Whether the same note may be played in several takes: where its oscillators start anywhere, or something of it is left to
    chance. Kicks and sweeps are the same each time."""
    spec = voice_of(sound)
    if any(m.source == "random" for m in sound.modulations):
        return True
    if spec.pitched:
        choices = spec.patch(sound).choices
        return any(choices.get(f"osc{k}_start") == "free" for k in (1, 2))
    return spec.name != "kick" and not spec.held


def song_round_beats(sound: Sound) -> float:
    """Beats after which a note at the same place sounds the same: 0 if the place doesn't count, infinite if it always does."""
    return path.song_round_beats(complete(sound)) if voice_of(sound).sources else 0.0


def _at_start(spec: VoiceSpec, patch: Patch, note: Played) -> Patch:
    """A patch with the values that are moved as they are where the note begins, and that is all for those that the voice doesn't
    move inside a note."""
    if not note.moved:
        return patch
    fixed = {p.name: min(max(float(note.moved[p.name][0]), p.low), p.high) for p in spec.params if p.name in note.moved}
    return replace(patch, params=patch.params | fixed) if fixed else patch


def render_note(sound: Sound, note: Played, samples: Samples = no_samples) -> np.ndarray:
    """One note, float32, shape (2, n) with its tail. The same arguments give the same samples: noise is seeded by them."""
    return render_patch(sound, complete(sound, samples), note)


def render_patch(sound: Sound, patch: Patch, note: Played) -> np.ndarray:
    """`render_note` of a sound that is `complete` already: what plays many notes of it completes it once."""
    spec = voice_of(sound)
    patch = _at_start(spec, patch, note)
    content = f"({spec.name!r}, {patch.written})|{note.midi if spec.pitched else 0}|{note.variant}"
    seed = int.from_bytes(hashlib.blake2b(content.encode(), digest_size=8).digest(), "big")
    out = spec.render(patch, note, np.random.default_rng(seed))
    out *= 10 ** (sound.level_db / 20)
    if note.semitones and not spec.pitched:
        # As a tape that runs faster: read at another rate.
        out = soxr.resample(np.ascontiguousarray(out.T), note.rate * 2 ** (note.semitones / 12), note.rate).T
    return np.ascontiguousarray(out, np.float32)
