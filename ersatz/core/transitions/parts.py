"""Transitions that the parts make: a gap in which they rest, a note played backwards into the boundary, an echo thrown over it."""

from __future__ import annotations

from ersatz.core.song.parts import Note
from ersatz.core.transitions.spec import Boundary, Placed, Stage, TransitionSpec


def _gap(j: Boundary, stage: Stage) -> None:
    for part in j.parts(lambda p: True):
        stage.gaps[part.id].append((j.start, j.boundary))


def _swell(j: Boundary, stage: Stage) -> None:
    """What the part plays first behind the boundary, or else ahead of it, backwards."""
    section = j.section_behind() or j.section
    chosen = j.players(lambda p: p.role == "chords", section.id)[:1] or j.players(lambda p: p.role == "lead", section.id)[:1]
    for part in chosen:
        cell = part.cell(section.id)
        pattern = part.patterns.get(cell.pattern if cell else "") or next(iter(part.patterns.values()), None)
        notes = pattern.notes if pattern else ()
        first = [n for n in notes if n.tick == notes[0].tick][:6] or [Note(0, 1, 60, 1.0)]
        for note in first:
            swelling = Note(j.start, max(1, j.boundary - j.start), note.midi, round(0.2 + 0.8 * j.amount, 3))
            stage.placed[part.id].append(Placed(swelling, swell=True))


def _throw(j: Boundary, stage: Stage) -> None:
    """The delay's send opens for the last hit before the boundary."""
    inside = j.section.id
    for part in j.players(lambda p: p.role == "lead", inside)[:1] or j.players(lambda p: p.role == "clap", inside)[:1]:
        hits = [tick for tick, _ in j.hits_of(part) if j.start <= tick]
        if hits:
            stage.throws[part.id].append((hits[-1], j.boundary, -18 + 18 * j.amount))


GAP = TransitionSpec("gap", 2, "parts", _gap, has_amount=False)
REVERSE_SWELL = TransitionSpec("reverse swell", 4, "part", _swell)
ECHO_THROW = TransitionSpec("echo throw", 4, "part", _throw)
