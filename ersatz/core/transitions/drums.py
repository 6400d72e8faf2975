"""Transitions that the drums play: a roll of the backbeat, a fill."""

from __future__ import annotations

import random

from ersatz.core.grid import TICKS_PER_BEAT
from ersatz.core.song.parts import DRUM_ROLES, Note
from ersatz.core.transitions.spec import Boundary, Placed, Stage, TransitionSpec, base_of, versions_of

#: Roll rhythms: (share of the length, ticks between hits).
RHYTHMS: dict[str, tuple[tuple[float, int], ...]] = {
    "8ths to 32nds": ((0.5, 480), (0.25, 240), (0.25, 120)), "8ths to 16ths": ((0.5, 480), (0.5, 240)),
    "16ths to 32nds": ((0.5, 240), (0.5, 120)), "8ths": ((1.0, 480),), "16ths": ((1.0, 240),), "triplets": ((1.0, 320),),
}  # fmt: skip
#: Accents of a fill of one bar, by 16ths; of a shorter one its end.
FILLS = (
    (0, 0, 0.5, 0, 0.8, 0, 0.5, 0.6, 0, 0.5, 0.7, 0, 0.8, 0.6, 0.9, 0.7),
    (0.7, 0, 0, 0.5, 0.7, 0, 0, 0.6, 0.8, 0, 0.6, 0, 0.9, 0, 0.9, 0.9),
    (0, 0, 0.6, 0.5, 0.8, 0, 0.6, 0, 0.6, 0.5, 0.8, 0, 0.7, 0.7, 0.8, 1.0),
    (0.6, 0, 0.4, 0.6, 0, 0.4, 0.7, 0, 0.5, 0.8, 0, 0.6, 0.8, 0.8, 0.9, 1.0),
)


def _roll(j: Boundary, stage: Stage) -> None:
    """The backbeat's own sound, faster and louder towards the boundary."""
    chosen = j.players(lambda p: p.role == "clap", j.section.id)[:1] or [p for p in j.song.parts if p.role in DRUM_ROLES][:1]
    spans = RHYTHMS.get(j.transition.rhythm, RHYTHMS["8ths to 32nds"])
    start, ticks, amount = j.start, j.boundary - j.start, j.amount
    for part in chosen:
        struck, at = j.struck_at(part), float(start)
        for share, step in spans:
            end = at + share * ticks
            while at < end - 1:
                velocity = (0.3 + 0.7 * (at - start) / max(1, ticks)) * (0.4 + 0.6 * amount)
                hit = struck(at)
                note = Note(round(at), step, hit.midi, round(velocity, 3), semitones=hit.semitones)
                stage.placed[part.id].append(Placed(note))
                at += step
        for version in versions_of(base_of(part), j.song):
            stage.rests[version.id].append((start, j.boundary))


def _fill(j: Boundary, stage: Stage) -> None:
    """Backbeat and percussion share out the accents of a figure, the percussion falling in pitch; the kick keeps the beats of the
    first half."""
    chance = random.Random(f"{j.transition.seed}|fill")
    voices = j.players(lambda p: p.role in ("clap", "perc"), j.section.id)
    struck = {part.id: j.struck_at(part) for part in voices}
    figure, sixteenth = chance.choice(FILLS), TICKS_PER_BEAT // 4
    steps = (j.boundary - j.start) // sixteenth
    for k in range(steps):
        accent = figure[(k - steps) % len(figure)]
        if not accent or not voices:
            continue
        part = voices[0] if accent >= 0.8 else chance.choice(voices)
        at = j.start + k * sixteenth
        hit = struck[part.id](at)
        falls = hit.semitones if part.role == "clap" else float(round(5 - 10 * k / max(1, steps)))
        velocity = round(accent * (0.4 + 0.6 * j.amount), 3)
        stage.placed[part.id].append(Placed(Note(at, sixteenth, hit.midi, velocity, semitones=falls)))
    for part in voices:
        for version in versions_of(base_of(part), j.song):
            stage.rests[version.id].append((j.start, j.boundary))
    for kick in (p for p in j.song.parts if p.role == "kick"):
        stage.rests[kick.id].append(((j.start + j.boundary) // 2, j.boundary))


SNARE_ROLL = TransitionSpec("snare roll", 16, "part", _roll, rhythms=tuple(RHYTHMS))
DRUM_FILL = TransitionSpec("drum fill", 4, "parts", _fill, has_seed=True)
