"""How much of the reference does a remake take over? Hook, bass line, chords, drum rhythm, arrangement, samples.

What a song plays is known; the reference is heard (heard.py). Keys and speeds don't matter, and what everybody's track of a style
does doesn't count: four on the floor, claps on 2 and 4, off-beat hats, a bass that keeps to the chords' roots, one or two chords,
the four commonest progressions. A share is None where the song plays nothing of its own to judge by.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

import numpy as np

from ersatz.core.audio import Audio
from ersatz.core.own.cuts import cut_from
from ersatz.core.own.drums import drums_taken
from ersatz.core.own.heard import Heard
from ersatz.core.own.match import Match, match_chords, match_line
from ersatz.core.own.plan import plan_taken
from ersatz.core.own.played import STRETCH_BARS, chords, moves_in_bars, stretches
from ersatz.core.samples import Samples, no_samples
from ersatz.core.song.document import Song
from ersatz.core.song.parts import Role
from ersatz.core.survey.document import Survey

#: Facets that are lines of notes, and whose.
LINES: dict[str, Role] = {"Hook": "lead", "Bass line": "bass"}
#: Chords that everybody uses, as semitones of their roots over the first, in any rotation: those of the minor key's i VI III VII
#: and i VII VI VII, of the major key's I IV V IV and I vi IV V.
COMMONEST = ((0, 8, 3, 10), (0, 10, 8, 10), (0, 5, 7, 5), (0, 9, 5, 7))
#: A progression of fewer different chords is nobody's.
LEAST_CHORDS = 3
#: Intervals over a root that speak for it.
OVER_ROOT = {0: 1.0, 7: 0.9, 3: 0.6, 4: 0.6, 10: 0.1, 11: 0.1}


@dataclass(frozen=True)
class Passage:
    """Bars that both share, 1-based; `semitones`: how much higher the reference plays them; `share` 0..1 of it that is taken over.
    `part` whose notes they are, "" where several parts make it up."""

    bar: int
    bars: int
    reference_bars: tuple[int, ...]
    share: float
    semitones: int = 0
    part: str = ""


@dataclass(frozen=True)
class Facet:
    """`share` 0..1 that is taken over, None with a reason where there is nothing to judge by."""

    name: str
    share: float | None
    said: str = ""
    passages: tuple[Passage, ...] = ()


@dataclass(frozen=True)
class Own:
    """`cuts`: (id of a part that plays a sample of the reference, seconds at which it is cut from it)."""

    facets: tuple[Facet, ...]
    cuts: tuple[tuple[str, float], ...] = field(default=())

    def facet(self, name: str) -> Facet:
        """The facet of that name."""
        return next(f for f in self.facets if f.name == name)


def measure_own(
    song: Song, reference: Survey, heard: Heard, audio: Callable[[], Audio] | None = None, samples: Samples = no_samples
) -> Own:
    """`heard` of the reference (`hear`, on its survey's grid and swing). Where `audio` reads it, samples are looked for in it as
    well. The same song gives the same figures."""
    lines = [measure_line(name, song, heard) for name in LINES]
    facets = (*lines, _chords(song, heard), _drums(song, reference), _plan(song, reference))
    return Own(facets, cut_from(song, samples, audio) if audio is not None else ())


def measure_line(name: str, song: Song, heard: Heard) -> Facet:
    """The hook or the bass line alone."""
    role = LINES[name]
    found = stretches(song, role)
    if role == "bass":
        if found and not any(moves_in_bars(stretch) for stretch in found):
            return Facet(name, None, "plays the roots of the chords, which count as chords")
        found = [stretch for stretch in found if moves_in_bars(stretch)]
    if not found:
        return Facet(name, None, f"no {role} plays a line")
    rng = np.random.default_rng(0)
    matches = [(stretch, match_line(stretch, heard, rng)) for stretch in found]
    share = float(np.average([match.share for _, match in matches], weights=[len(stretch.bars) for stretch in found]))
    passages = [_passage(bar, match, stretch.part) for stretch, match in matches for bar in stretch.bars if match.share]
    return Facet(name, share, "", tuple(sorted(passages, key=lambda p: p.bar)))


def _passage(bar: int, match: Match, part: str = "") -> Passage:
    return Passage(bar, STRETCH_BARS, match.bars, round(match.share, 2), match.semitones, part)


def _chords(song: Song, heard: Heard) -> Facet:
    bars = chords(song)
    found: dict[tuple[frozenset[int], ...], list[int]] = {}
    for bar, section in song.placed():
        for k in range(0, section.bars - STRETCH_BARS + 1, STRETCH_BARS):
            row = tuple(bars[bar - 1 + k : bar - 1 + k + STRETCH_BARS])
            if all(row) and len(set(row)) >= LEAST_CHORDS:
                found.setdefault(row, []).append(bar + k)
    own = {row: at for row, at in found.items() if not is_commonest(row)}
    if not own:
        return Facet("Chords", None, "one of the commonest progressions" if found else "fewer than three chords in a row of four")
    rng = np.random.default_rng(0)
    matches = {row: match_chords([*row, *row], heard, rng) for row in own}
    share = float(np.average([matches[row].share for row in own], weights=[len(at) for at in own.values()]))
    passages = [_passage(bar, matches[row]) for row, at in own.items() for bar in at if matches[row].share]
    return Facet("Chords", share, "", tuple(sorted(passages, key=lambda p: p.bar)))


def is_commonest(row: Iterable[frozenset[int]]) -> bool:
    """Whether a row of chords is one of COMMONEST, in any key and from any of its chords on."""
    roots = [root_of(chord) for chord in row]
    rotations = [roots[k:] + roots[:k] for k in range(len(roots))]
    return any(tuple((root - turned[0]) % 12 for root in turned) in COMMONEST for turned in rotations)


def root_of(chord: frozenset[int]) -> int:
    """The pitch class that most of a chord speaks for."""
    return max(sorted(chord), key=lambda root: sum(OVER_ROOT.get((note - root) % 12, -0.2) for note in chord))


def _drums(song: Song, reference: Survey) -> Facet:
    found = drums_taken(song, reference)
    if found.share is None:
        return Facet("Drum rhythm", None, "plays what every track of its kind does")
    passages: list[Passage] = []
    for bar, start in found.bars:
        last = passages[-1] if passages else None
        if last and last.bar + last.bars == bar and last.reference_bars == (start,):
            passages[-1] = Passage(last.bar, last.bars + 1, (start,), 1.0)
        else:
            passages.append(Passage(bar, 1, (start,), 1.0))
    return Facet("Drum rhythm", found.share, "", tuple(passages))


def _plan(song: Song, reference: Survey) -> Facet:
    share, run = plan_taken(song, reference)
    said = "a draft takes it over on purpose" if share else ""
    return Facet("Arrangement", share, said, tuple(Passage(bar, bars, (at,), 1.0) for bar, bars, at in run))
