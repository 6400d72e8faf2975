"""What a part plays, as its page shows it: patterns with their notes, and what the reference plays there."""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.draft.trace import SURE, TRACED, row_of
from ersatz.core.edits import section_name
from ersatz.core.edits.notes import UNITS
from ersatz.core.gap.plans import counterparts
from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.samples import Samples
from ersatz.core.song.document import Song
from ersatz.core.song.grooves import GROOVES
from ersatz.core.song.parts import DRUM_ROLES, Groove, Part, Pattern
from ersatz.core.survey.document import Survey
from ersatz.core.voices import complete, sampler, voice_of
from ersatz.studio.models import OwnSample, Remake, Revision
from ersatz.studio.shared.addresses import song_address
from ersatz.studio.shared.edit import Steps, steps
from ersatz.studio.shared.parts import middle_of


@dataclass(frozen=True)
class NoteRow:
    """A part in the grid. `slices`: pieces that its sample is cut into, 0 where it isn't; `cells` by section: [pattern, on, fill];
    `plays_pitch`: a hit's key counts, it is another pitch, or another slice."""

    id: str
    name: str
    role: str
    choke: str
    groove: Groove
    middle: int
    sound: str
    plays_pitch: bool
    slices: int
    patterns: dict[str, Pattern]
    cells: dict[str, tuple[str, bool, str]]


@dataclass(frozen=True)
class NoteSection:
    """`reference`: the index of its counterpart."""

    id: str
    name: str
    start: int
    bars: int
    reference: int | None


@dataclass(frozen=True)
class NotesState(Steps):
    """What a part plays. `parts`: all of the song as [id, name, role, has patterns, is pitched]; `scale` in pitch classes."""

    bars: int
    bpm: float
    key: tuple[str, str]
    scale: tuple[int, ...]
    swing: float
    part: str
    pitched: bool
    note: str
    parts: list[tuple[str, str, str, bool, bool]]
    rows: list[NoteRow]
    sections: list[NoteSection]


@dataclass(frozen=True)
class ReferenceNotes:
    """A section of the reference: hits of a bar by role as [tick, strength, ms off the grid], bass notes as [tick, ticks, MIDI,
    slide], chords as [bar, bars, name], both from the section's start."""

    label: str
    hits: dict[str, list[tuple[int, float, float]]]
    bass: list[tuple[int, int, int, float]]
    chords: list[tuple[float, float, str]]


@dataclass(frozen=True)
class NotesFixed:
    """What no edit changes. `units` of the tools that take an amount."""

    reference: list[ReferenceNotes]
    grooves: tuple[Groove, ...]
    units: dict[str, str]


def is_pitched(part: Part) -> bool:
    """Whether the part's page shows a grid of notes: else it is a row of the drum grid."""
    return part.role in ("bass", "chords", "lead") or (voice_of(part.sound).pitched and part.role not in DRUM_ROLES)


def in_grid_with(song: Song, part: Part) -> list[Part]:
    """The parts whose patterns the page shows: all drums together, anything else alone."""
    if is_pitched(part):
        return [part]
    return [p for p in song.parts if p.patterns and not is_pitched(p)]


def notes_state(remake: Remake, revision: Revision, part: Part) -> NotesState:
    """All that the editor of notes shows of a part."""
    song, survey = revision.song, remake.reference.survey
    return NotesState(
        **vars(steps(remake, revision)),
        bars=song.bars,
        bpm=song.bpm,
        key=(song.tonic, song.mode),
        scale=tuple(song.key.pitch_classes),
        swing=song.swing_percent,
        part=part.id,
        pitched=is_pitched(part),
        note=f"{song_address(remake.pk, revision.sha)}note/",
        parts=[(p.id, p.name, p.role, bool(p.patterns), is_pitched(p)) for p in song.parts],
        rows=[_row(p, OwnSample.objects.finder(remake.owner)) for p in in_grid_with(song, part)],
        sections=_sections(song, survey),
    )


def _row(part: Part, samples: Samples) -> NoteRow:
    return NoteRow(
        id=part.id, name=part.name, role=part.role, choke=part.choke, groove=part.groove, middle=middle_of(part),
        sound=part.sound.name, plays_pitch=plays_pitch(part), slices=_slices(part, samples),
        patterns=dict(sorted(part.patterns.items())), cells={c.section: (c.pattern, c.on, c.fill) for c in part.cells},
    )  # fmt: skip


def plays_pitch(part: Part) -> bool:
    """Whether a hit's key counts: it is another pitch, or another slice."""
    choices = complete(part.sound).choices
    stays = choices.get("sample_pitch") == "stays" and choices.get("slice_mode") == "off"
    return voice_of(part.sound).pitched and not stays


def _slices(part: Part, samples: Samples) -> int:
    patch = complete(part.sound, samples)
    sample = patch.samples.get(sampler.SLOT)
    if sample is None or patch.choices.get("slice_mode", "off") == "off":
        return 0
    return len(sampler.edges_of(patch, sample)) - 1


def _sections(song: Song, survey: Survey | None) -> list[NoteSection]:
    known = counterparts(song, survey) if survey else {}
    return [NoteSection(s.id, section_name(song, s.id), bar, s.bars, known.get(s.id)) for bar, s in song.placed()]


def reference_notes(survey: Survey) -> list[ReferenceNotes]:
    """By section; of the bass what is sure enough to be traced."""
    known = {p.section for p in survey.drums.patterns}
    beats = survey.tempo.beats_per_bar
    out = []
    for k, section in enumerate(survey.sections):
        first, last = (section.start_bar - 1) * beats, (section.end_bar - 1) * beats
        bass = [
            (round((n.start_beat - first) * TICKS_PER_BEAT), round(n.beats * TICKS_PER_BEAT), n.midi, n.slide_semitones)
            for n in survey.bass.notes
            if first <= n.start_beat < last and n.confidence >= SURE
        ]
        chords = [
            (max(0.0, c.start_bar - section.start_bar), c.bars, c.name)
            for c in survey.harmony.chords
            if c.start_bar + c.bars > section.start_bar and c.start_bar < section.end_bar
        ]
        hits = {role: [(t, v, ms or 0.0) for t, v, ms in row_of(survey, k, role)] for role in TRACED} if k in known else {}
        out.append(ReferenceNotes(section.label, hits, bass, chords))
    return out


def notes_fixed(survey: Survey | None) -> NotesFixed:
    """What the editor needs to know once: the reference's notes, grooves, units."""
    return NotesFixed(reference_notes(survey) if survey else [], tuple(GROOVES), UNITS)
