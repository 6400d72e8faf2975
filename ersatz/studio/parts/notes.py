"""What a part plays, as its page shows it: patterns with their notes, and what the reference plays there."""

from __future__ import annotations

from typing import Any

from ersatz.core.draft.trace import SURE, TRACED, row_of
from ersatz.core.edits import section_name
from ersatz.core.edits.notes import UNITS
from ersatz.core.gap.plans import counterparts
from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.samples import Samples
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song
from ersatz.core.song.grooves import GROOVES
from ersatz.core.song.parts import DRUM_ROLES, Part
from ersatz.core.survey.document import Survey
from ersatz.core.voices import complete, sampler, voice_of
from ersatz.studio.models import OwnSample, Remake, Revision
from ersatz.studio.shared.edit import steps
from ersatz.studio.shared.parts import middle_of


def is_pitched(part: Part) -> bool:
    """Whether the part's page shows a grid of notes: else it is a row of the drum grid."""
    return part.role in ("bass", "chords", "lead") or (voice_of(part.sound).pitched and part.role not in DRUM_ROLES)


def in_grid_with(song: Song, part: Part) -> list[Part]:
    """The parts whose patterns the page shows: all drums together, anything else alone."""
    if is_pitched(part):
        return [part]
    return [p for p in song.parts if p.patterns and not is_pitched(p)]


def notes_state(remake: Remake, revision: Revision, part: Part) -> dict[str, Any]:
    song, survey = revision.song, remake.reference.survey
    return {
        **steps(remake, revision),
        "bars": song.bars,
        "bpm": song.bpm,
        "key": [song.tonic, song.mode],
        "scale": song.key.pitch_classes,
        "swing": song.swing_percent,
        "part": part.id,
        "pitched": is_pitched(part),
        "note": f"/listen/note/{remake.pk}/{revision.sha}/",
        "parts": [[p.id, p.name, p.role, bool(p.patterns), is_pitched(p)] for p in song.parts],
        "rows": [_row(p, OwnSample.objects.finder(remake.owner)) for p in in_grid_with(song, part)],
        "sections": _sections(song, survey),
    }


def _row(part: Part, samples: Samples) -> dict[str, Any]:
    return {
        "id": part.id, "name": part.name, "role": part.role, "choke": part.choke, "groove": to_json(part.groove),
        "middle": middle_of(part), "sound": part.sound.name, "playsPitch": plays_pitch(part),
        "slices": _slices(part, samples),
        "patterns": {name: to_json(p) for name, p in sorted(part.patterns.items())},
        "cells": {c.section: [c.pattern, c.on, c.fill] for c in part.cells},
    }  # fmt: skip


def plays_pitch(part: Part) -> bool:
    """Whether a hit's key counts: it is another pitch, or another slice."""
    choices = complete(part.sound).choices
    stays = choices.get("sample_pitch") == "stays" and choices.get("slice_mode") == "off"
    return voice_of(part.sound).pitched and not stays


def _slices(part: Part, samples: Samples) -> int:
    """How many pieces its sample is cut into; 0 where it isn't."""
    patch = complete(part.sound, samples)
    sample = patch.samples.get(sampler.SLOT)
    if sample is None or patch.choices.get("slice_mode", "off") == "off":
        return 0
    return len(sampler.edges_of(patch, sample)) - 1


def _sections(song: Song, survey: Survey | None) -> list[dict[str, Any]]:
    known = counterparts(song, survey) if survey else {}
    return [
        {"id": s.id, "name": section_name(song, s.id), "start": bar, "bars": s.bars, "reference": known.get(s.id)}
        for bar, s in song.placed()
    ]


def reference_notes(survey: Survey) -> list[dict[str, Any]]:
    """Per section of the reference: hits of a bar as [tick, strength, ms off the grid], bass notes as [tick, ticks, MIDI, slide]
    and chords as [bar, bars, name], both from the section's start; and how sure the bass is."""
    known = {p.section for p in survey.drums.patterns}
    beats = survey.tempo.beats_per_bar
    out = []
    for k, section in enumerate(survey.sections):
        first, last = (section.start_bar - 1) * beats, (section.end_bar - 1) * beats
        bass = [
            [round((n.start_beat - first) * TICKS_PER_BEAT), round(n.beats * TICKS_PER_BEAT), n.midi, n.slide_semitones]
            for n in survey.bass.notes
            if first <= n.start_beat < last and n.confidence >= SURE
        ]
        chords = [
            [max(0.0, c.start_bar - section.start_bar), c.bars, c.name]
            for c in survey.harmony.chords
            if c.start_bar + c.bars > section.start_bar and c.start_bar < section.end_bar
        ]
        hits = {role: [[t, v, ms or 0.0] for t, v, ms in row_of(survey, k, role)] for role in TRACED} if k in known else {}
        out.append({"label": section.label, "hits": hits, "bass": bass, "chords": chords})
    return out


def fixed_state(survey: Survey | None) -> dict[str, Any]:
    """What no edit changes."""
    return {
        "reference": reference_notes(survey) if survey else [],
        "grooves": [to_json(g) for g in GROOVES],
        "units": UNITS,
    }
