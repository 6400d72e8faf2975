"""What a remake takes over from its reference: rhythm, timing, presence. Notes stay the producer's own.

Conventions: `section` is an index into the survey's sections; patterns are bars long as the survey's picture of the section, one.
"""

from __future__ import annotations

from ersatz.core.edits.cells import PlacedCell
from ersatz.core.errors import InvalidEdit
from ersatz.core.gap.plans import counterparts
from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Groove, Note, Part
from ersatz.core.survey.document import DrumPattern, Section, Survey

#: A role plays in the bars where the reference's presence reaches this.
PLAYS = 0.4
#: Entries and exits inside a section that only presence tells of snap to this many bars.
ENTRY_BARS = 4
#: A section in which the role plays for less than this share of its bars leaves it out.
LEAST_SHARE = 0.2
BASS_MIDI = 31
TRACED = ("kick", "clap", "hats")
#: Bass notes that the survey is less sure of aren't traced.
SURE = 0.3


def pattern_of(survey: Survey, section: int) -> DrumPattern:
    """The drums of a section (0-based). Raises InvalidEdit where the survey found none."""
    found = next((p for p in survey.drums.patterns if p.section == section), None)
    if found is None:
        raise InvalidEdit("The survey has no drums there.")
    return found


def row_of(survey: Survey, section: int, role: str) -> list[tuple[int, float, float | None]]:
    """(tick in the bar, strength, ms off the grid or None) of a role's hits."""
    pattern = pattern_of(survey, section)
    bar = TICKS_PER_BEAT * survey.tempo.beats_per_bar
    strengths, timing = getattr(pattern, role), getattr(pattern.timing_ms, role)
    return [(k * bar // pattern.steps_per_bar, v, timing[k]) for k, v in enumerate(strengths) if v > 0]


def traced_hits(survey: Survey, section: int, role: str) -> tuple[Note, ...]:
    """One bar of a role's hits with their strength and their place beside the grid. Raises InvalidEdit for other roles."""
    if role not in TRACED:
        raise InvalidEdit(f"The survey hears {', '.join(TRACED)} hit by hit, no others.")
    sixteenth = TICKS_PER_BEAT // 4
    return tuple(
        Note(tick, sixteenth, 60, round(max(0.05, min(1.0, strength)), 3), nudge_ms=round(late or 0.0, 1))
        for tick, strength, late in row_of(survey, section, role)
    )


def traced_bass(survey: Survey, section: int, song: Song, bars: int) -> tuple[Note, ...]:
    """The rhythm of the reference's bass over the first `bars` of a section, on the song's own tonic."""
    measured, beats = survey.sections[section], survey.tempo.beats_per_bar
    first = (measured.start_bar - 1) * beats
    tonic = song.key.degree_midi(0, BASS_MIDI)
    sixteenth = TICKS_PER_BEAT // 4
    out = {}
    for note in survey.bass.notes:
        beat = note.start_beat - first
        if note.confidence >= SURE and 0 <= beat < bars * beats:
            tick = round(beat * 4) * sixteenth
            long = max(sixteenth, round(note.beats * 4) * sixteenth)
            out[tick] = Note(tick, min(long, bars * beats * TICKS_PER_BEAT - tick) - 20, tonic, 0.9)
    if not out:
        raise InvalidEdit("The survey heard no bass there.")
    return tuple(out[tick] for tick in sorted(out))


def groove_of(survey: Survey, section: int, role: str) -> Groove:
    """The timing of a role's hits in a section as a groove; steps without a hit get the reference's swing. Swing is in the timing
    already, so the groove has none beside it."""
    late = swung_ms(survey)
    bar = TICKS_PER_BEAT * survey.tempo.beats_per_bar
    step = bar // STEPS_PER_BAR
    heard = {tick // step: ms for tick, _, ms in row_of(survey, section, role) if ms is not None and tick % step == 0}
    if not heard:
        raise InvalidEdit("There are no hits there to take a groove from.")
    timing = tuple(round(heard.get(k, late * (k % 2)), 2) for k in range(STEPS_PER_BAR))
    return Groove(f"{role} of {section_title(survey, section)}", timing, 50.0)


def swung_ms(survey: Survey) -> float:
    """How much later than on the grid the reference's swing puts every second 16th."""
    return (survey.tempo.swing_percent - 50) / 100 * survey.tempo.grid.bar_s * 1000 / 8


def section_title(survey: Survey, section: int) -> str:
    """ "drop 2" where a label occurs more than once, else "intro"."""
    label = survey.sections[section].label
    same = [i for i, s in enumerate(survey.sections) if s.label == label]
    return label if len(same) == 1 else f"{label} {same.index(section) + 1}"


def played(survey: Survey, role: str, measured: Section, bars: int) -> tuple[bool, int, int]:
    """Whether a role plays in a section of the reference, and the bars after which it enters and before whose end it leaves, in a
    section of `bars`: at the bar line where it was heard to (survey.changes), else where its presence says so."""
    heard = survey.presence.of(role)[measured.start_bar - 1 : measured.end_bar - 1]
    playing = [i for i, v in enumerate(heard) if v >= PLAYS]
    if len(playing) < max(1, LEAST_SHARE * measured.bars):
        return False, 0, 0
    inside = [c for c in survey.changes if measured.start_bar < c.bar < measured.end_bar]
    enters = [c.bar for c in inside if role in c.enters]
    leaves = [c.bar for c in inside if role in c.leaves]
    # What left before it came in again has played from the start, and what came in again plays to the end.
    if enters and not any(bar < enters[0] for bar in leaves):
        entry = enters[0] - measured.start_bar
    else:
        entry = min(playing) // ENTRY_BARS * ENTRY_BARS
    if leaves and not any(bar > leaves[-1] for bar in enters):
        rest = measured.end_bar - leaves[-1]
    else:
        rest = (measured.bars - 1 - max(playing)) // ENTRY_BARS * ENTRY_BARS
    return (True, entry, rest) if entry + rest < bars else (True, 0, 0)


def followed(survey: Survey, song: Song, part: Part) -> tuple[PlacedCell, ...]:
    """Cells of a part where the reference plays its role, section by section as far as they have a counterpart; patterns stay."""
    if part.role == "impact" or not part.patterns:
        raise InvalidEdit(f"{part.name} has nothing in the reference to follow.")
    known = counterparts(song, survey)
    out = []
    for section in song.sections:
        if section.id not in known:
            continue
        on, entry, leaves = played(survey, part.role, survey.sections[known[section.id]], section.bars)
        old = part.cell(section.id)
        pattern = old.pattern if old and old.pattern in part.patterns else min(part.patterns)
        fill = old.fill_bars if old and old.fill_bars <= section.bars - entry - leaves else 0
        level = old.level_db if old else 0.0
        out.append(PlacedCell(part.id, section.id, on, pattern, entry, leaves, level, old.fill if old else "", fill))
    if not out:
        raise InvalidEdit("No section of the song has one in the reference to follow.")
    return tuple(out)
