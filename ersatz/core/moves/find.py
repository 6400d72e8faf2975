"""The next moves for a section: proposed by rules, predicted by the model, the best of them rendered and measured.

A move is offered only where the rendered section is nearer to the reference than before, so that taking the first one in turn
brings the gap down every time; moves are ranked by what they close, in tolerances, for what they change and by how sure they are.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from ersatz.core.gap.plans import counterparts
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.moves.elsewhere import Elsewhere
from ersatz.core.moves.model import predicted
from ersatz.core.moves.proposal import Proposal
from ersatz.core.moves.readings import Reading, gap_of, readings
from ersatz.core.moves.rules import proposals
from ersatz.core.moves.section import SectionMix, measure_again, measure_section
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song, digest
from ersatz.core.survey.document import Survey
from ersatz.core.threads import one_thread_of_algebra

SCHEMA = "ersatz.moves/1"
#: So many are rendered, the most promising first.
MOST_RENDERED = 7
#: By how many tolerances a move has to close the gap for each step of what it changes, by the rendering.
LEAST_CLOSED = 0.1
#: By how many tolerances the figures that it is for may be further off all the same: no more than readings err by.
LEAST_SERVED = 0.02
#: What a move opens may be this share of what it closes.
MOST_OPENED = 2 / 3
#: A figure moves where it changes by this share of its tolerance; the model tells changes from that share on.
MOVES, TELLS = 0.15, 0.05


@dataclass(frozen=True)
class MoveReason:
    """A figure that is off: what each side has."""

    figure: str
    section: str
    unit: str
    reference: float
    remake: float
    difference: float
    tolerance: float


@dataclass(frozen=True)
class MoveEffect:
    """What the move does to a figure: as it stands, as the model has it (None where it can't tell), and as the rendering measures
    it."""

    figure: str
    section: str
    unit: str
    before: float
    predicted: float | None
    measured: float


@dataclass(frozen=True)
class Move:
    """`closes`: by how many tolerances the section's gap becomes smaller, measured; `elsewhere`: by how many the other sections are
    further off, measured where the move is offered, else by the model; `edits` as the pages send them; `size` and `sure` as its
    proposal has them."""

    id: str
    kind: str
    sentence: str
    strip: str
    section: str
    reasons: tuple[MoveReason, ...]
    effects: tuple[MoveEffect, ...]
    edits: tuple[dict[str, Any], ...]
    closes: float
    elsewhere: float = 0.0
    size: float = 1.0
    sure: float = 1.0

    @property
    def rank(self) -> float:
        """What moves are ordered by."""
        return ranked(self.worth, self.size, self.sure)

    @property
    def worth(self) -> float:
        """What it closes of the whole song, in tolerances."""
        return self.closes - max(0.0, self.elsewhere)


def ranked(worth: float, size: float, sure: float) -> float:
    """What a move is worth for what it changes and by how sure it is. Four steps have to be worth twice as much as one: with four
    times as much, a part that is 12 dB off would come last."""
    return worth * sure / size**0.5


@dataclass(frozen=True)
class Tried:
    """A move that was rendered: by how many tolerances it closes and opens gaps, and how many of those that it is for it closes;
    whether that is reason to offer it."""

    move: Move
    opens: float
    serves: float

    @property
    def is_offered(self) -> bool:
        """Whether it closes enough for what it changes, opens little, and doesn't do the opposite of what it is for."""
        closed = self.move.closes + self.opens
        closes_enough = self.move.worth >= LEAST_CLOSED * self.move.size
        return closes_enough and self.opens <= MOST_OPENED * closed and self.serves >= -LEAST_SERVED


def find_moves(
    song: Song, mixdown: Mixdown, place: int, survey: Survey, most: int = 5,
    progress: Callable[[float], None] = lambda fraction: None,
) -> list[Move]:  # fmt: skip
    """For the section at a place of the plan, the best first; empty where the reference has no counterpart of it, or where it is
    silent. Deterministic."""
    offered = [t.move for t in try_moves(song, mixdown, place, survey, progress, most) if t.is_offered]
    return sorted(offered, key=lambda m: -m.rank)[:most]


@one_thread_of_algebra
def try_moves(
    song: Song, mixdown: Mixdown, place: int, survey: Survey, progress: Callable[[float], None] = lambda fraction: None,
    enough: int = MOST_RENDERED,
) -> list[Tried]:  # fmt: skip
    """All moves that were rendered, offered or not: the most promising by the model, until `enough` can be offered."""
    section = song.sections[place]
    theirs = counterparts(song, survey).get(section.id)
    if theirs is None:
        return []
    mix = measure_section(song, mixdown, place, theirs)
    if len(mix.lanes.lanes) < 2:
        return []
    before = readings(mix, survey)
    progress(0.3)
    elsewhere = Elsewhere(mix, mixdown, survey) if theirs == survey.main_section() else None
    guessed: list[tuple[float, float, Proposal, SectionMix, dict[str, Reading]]] = []
    for proposal in proposals(mix, survey, before):
        after = proposal.applied(song)
        if after is None or after == song:
            continue
        guess_mix = predicted(mix, after)
        guess = readings(guess_mix, survey)
        opened = elsewhere.opened(after) if elsewhere is not None else 0.0
        guessed.append((gap_of(before) - gap_of(guess) - max(0.0, opened), opened, proposal, guess_mix, guess))
    # What the model sees no good in isn't rendered.
    guessed = sorted((row for row in guessed if row[0] > 0), key=lambda row: -ranked(row[0], row[2].size, row[2].sure))
    found = []
    for k, (_, opened, proposal, guess_mix, guess) in enumerate(guessed[:MOST_RENDERED]):
        rendering = mixdown.varied(guess_mix.song)
        tried = _measured(mix, before, proposal, guess_mix.song, guess, rendering, survey, opened)
        if elsewhere is not None and tried.is_offered:
            tried = replace(tried, move=replace(tried.move, elsewhere=round(elsewhere.measured(rendering), 3)))
        found.append(tried)
        progress(0.3 + 0.7 * (k + 1) / min(MOST_RENDERED, len(guessed)))
        if sum(t.is_offered for t in found) >= enough:
            break
    return found


def _guessed(guess: dict[str, Reading], figure: str, old: Reading) -> float | None:
    """None where the model sees a figure hardly move, which is less than it can tell: it is named for having been measured to."""
    now = _now(guess, figure, old)
    return None if abs(now - old.remake) < TELLS * old.tolerance else _r(now)


def _measured(
    mix: SectionMix, before: dict[str, Reading], proposal: Proposal, after: Song, guess: dict[str, Reading], rendering: Mixdown,
    survey: Survey, elsewhere: float,
) -> Tried:  # fmt: skip
    heard = readings(measure_again(mix, after, rendering), survey)
    closes, opens = _closed(before, heard), _closed(heard, before)
    section = mix.section.id
    effects = tuple(
        MoveEffect(figure, section, old.unit, _r(old.remake), _guessed(guess, figure, old), _r(_now(heard, figure, old)))
        for figure, old in before.items()
        if abs(_now(heard, figure, old) - old.remake) >= MOVES * old.tolerance
    )
    reasons = tuple(
        MoveReason(f, section, r.unit, _r(r.reference), _r(r.remake), _r(r.difference), _r(r.tolerance))
        for f in proposal.figures
        if (r := before.get(f)) is not None
    )
    move = Move(
        digest([proposal.sentence, section])[:10], proposal.kind, proposal.sentence, proposal.strip, section, reasons, effects,
        proposal.edits, round(closes - opens, 3), round(elsewhere, 3), round(proposal.size, 2), round(proposal.sure, 2),
    )  # fmt: skip
    serves = sum(_gap(before, f) - _gap(heard, f) for f in proposal.figures)
    return Tried(move, opens, serves)


def _closed(before: dict[str, Reading], after: dict[str, Reading]) -> float:
    """By how many tolerances the figures that come nearer do so."""
    return sum(max(0.0, _gap(before, figure) - _gap(after, figure)) for figure in before.keys() | after.keys())


def _gap(side: dict[str, Reading], figure: str) -> float:
    """A clash that is gone, and what isn't heard, are matched."""
    return side[figure].gap if figure in side else 0.0


def _now(side: dict[str, Reading], figure: str, old: Reading) -> float:
    """A clash that is gone is at its reference."""
    return side[figure].remake if figure in side else old.reference


def _r(value: float) -> float:
    return round(value, 3)


def moves_document(moves: list[Move]) -> dict[str, Any]:
    """As `ersatz moves` writes it."""
    return {"schema": SCHEMA, "moves": [to_json(m) for m in moves]}
