"""Are drafts music, in figures? `./run drafts --music [--modules DIR] [TRACK ...]`.

Twelve styles by twenty seeds: what the leads and basses of untouched drafts do, beside the same statistics of tunes that people
wrote, of the pitched instruments of tracker modules read through libopenmpt; figures only, nothing is taken. Per figure the
median, and the share of drafts inside the middle 80 % of the modules'. Chords are known of our own songs alone. Of TRACKs three
drafts each, and how much of the track they take over (core/own).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np

from bench.material.modules import fetch_modules, row_seconds, written_notes
from ersatz.core.audio import read_audio
from ersatz.core.draft import draft_song
from ersatz.core.draft.variation import standstills
from ersatz.core.own import hear, measure_own
from ersatz.core.own.played import STEP_TICKS, chords, line_of
from ersatz.core.song.bounds import STEPS_PER_BAR
from ersatz.core.song.document import Song
from ersatz.core.styles import STYLES
from ersatz.core.survey import survey_file
from ersatz.core.target.from_style import target_of_style

SEEDS, TRACK_SEEDS = 20, 3
SECONDS = 120.0
#: Semitones: a step, and what is a leap; a motif is so many notes; a phrase so many bars.
STEP, LEAP, MOTIF, PHRASE = 2, 5, 4, 8
#: An instrument that plays so far under the middle of its module is a bass, semitones: octaves of modules are not ours.
BASS_UNDER = 8
LEAST_NOTES = 16
Line = list[tuple[int, int]]


@dataclass(frozen=True)
class Drafted:
    song: Song
    lead: Line
    bass: Line


def figures(line: Line) -> dict[str, float]:
    """Of a line as (16th, MIDI note), one note at a time, in stretches of PHRASE bars."""
    moves = [b[1] - a[1] for a, b in pairwise(line) if b[0] - a[0] <= STEPS_PER_BAR]
    intervals = [(b[1] - a[1], b[0] - a[0]) for a, b in pairwise(line)]
    grams = [tuple(intervals[k : k + MOTIF]) for k in range(len(intervals) - MOTIF + 1)]
    bars = {step // STEPS_PER_BAR for step, _ in line}
    phrases: dict[int, list[int]] = defaultdict(list)
    for step, midi in line:
        phrases[step // (PHRASE * STEPS_PER_BAR)].append(midi)
    return {
        "notes a bar": len(line) / max(len(bars), 1),
        "range of a phrase, semitones": float(np.mean([max(p) - min(p) for p in phrases.values()])),
        "steps": _share(moves, lambda i: 1 <= abs(i) <= STEP),
        "repeated notes": _share(moves, lambda i: i == 0),
        "leaps": _share(moves, lambda i: abs(i) >= LEAP),
        "leaps over a fifth": _share(moves, lambda i: abs(i) > 7),
        "motif comes again": 1 - len(set(grams)) / len(grams) if grams else 0.0,
        "16ths without a beginning": 1 - len({s for s, _ in line}) / (len(bars) * STEPS_PER_BAR),
    }


def _share(values: list[int], holds: Callable[[int], bool]) -> float:
    return float(np.mean([holds(v) for v in values])) if values else 0.0


def drafts() -> Iterable[tuple[str, list[Drafted]]]:
    for style in STYLES:
        reference = target_of_style(style.name).typical
        songs = [draft_song(reference, seed, style.name) for seed in range(1, SEEDS + 1)]
        yield style.name, [Drafted(s, line_of(s, "lead"), line_of(s, "bass")) for s in songs]


def on_chords(drafted: Drafted) -> float:
    """Share of the lead's notes on beats that are tones of the bar's chords."""
    held = chords(drafted.song)
    strong = [(s, m) for s, m in drafted.lead if s % 4 == 0 and held[s // STEPS_PER_BAR]]
    return float(np.mean([m % 12 in held[s // STEPS_PER_BAR] for s, m in strong])) if strong else 1.0


def voices_move(drafted: Drafted) -> float:
    """Semitones that a voice of the pad goes from one bar's chord to the next, on average."""
    pad = drafted.song.part("pad")
    pattern = pad.patterns[min(pad.patterns)] if pad else None
    if pattern is None:
        return 0.0
    ticks = STEPS_PER_BAR * STEP_TICKS
    held = [sorted(n.midi for n in pattern.notes if n.tick <= bar * ticks < n.tick + n.ticks) for bar in range(pattern.bars)]
    moves = [abs(x - y) for a, b in pairwise(held) if len(a) == len(b) for x, y in zip(a, b)]
    return float(np.mean(moves)) if moves else 0.0


def off_scale(drafted: Drafted) -> float:
    lines = [*drafted.lead, *drafted.bass]
    return float(np.mean([m % 12 not in drafted.song.key.pitch_classes for _, m in lines])) if lines else 0.0


def written(folder: Path | None) -> dict[str, list[dict[str, float]]]:
    """Figures of every instrument of the modules that plays a line: basses and the others."""
    out: dict[str, list[dict[str, float]]] = {"lead": [], "bass": []}
    for path in fetch_modules(folder) if folder else []:
        row_s, notes = row_seconds(path), written_notes(path, SECONDS) or {}
        middle = np.median([m for found in notes.values() for _, m in found]) if notes else 0
        for found in notes.values():
            top = {}
            for at, midi in found:
                step = round(at / row_s) if row_s else 0
                top[step] = max(midi, top.get(step, 0))
            line = sorted(top.items())
            if len(line) >= LEAST_NOTES and len({m for _, m in line}) >= 3:
                out["bass" if np.median([m for _, m in line]) <= middle - BASS_UNDER else "lead"].append(figures(line))
    return out


def print_music(folder: Path | None) -> None:
    theirs = written(folder)
    rows: dict[str, list[dict[str, float]]] = {"lead": [], "bass": []}
    print("Twelve styles by twenty seeds: median over the seeds")
    for name, made in drafts():
        still = sum(len(standstills(d.song)) for d in made)
        alike = len(made) - len({tuple(d.lead) for d in made})
        print(f"  {name:17} beats on tones of the chord {np.median([on_chords(d) for d in made]):.2f} (least "
              f"{min(on_chords(d) for d in made):.2f}), off the scale {np.mean([off_scale(d) for d in made]):.3f}, "
              f"a voice of the pad moves {np.mean([voices_move(d) for d in made]):.2f} semitones, standstills {still}, "
              f"leads alike {alike}")  # fmt: skip
        for d in made:
            for role, line in (("lead", d.lead), ("bass", d.bass)):
                if len(line) >= LEAST_NOTES:
                    rows[role].append(figures(line))
    for role in ("lead", "bass"):
        print(f"{role.capitalize()}: drafts {len(rows[role])}, instruments of modules {len(theirs[role])}")
        for name in rows[role][0]:
            values = np.array([r[name] for r in rows[role]])
            if not theirs[role]:
                print(f"  {name:30} {np.median(values):6.2f}")
                continue
            low, middle, high = np.percentile([r[name] for r in theirs[role]], (10, 50, 90))
            inside = ((values >= low - 1e-9) & (values <= high + 1e-9)).mean()
            print(f"  {name:30} {np.median(values):6.2f}   modules {middle:6.2f} ({low:.2f} to {high:.2f}); {inside:4.0%} inside")


def print_tracks(tracks: Iterable[Path]) -> None:
    """Drafts of real tracks: chords, standstills, and what is taken over."""
    for track in tracks:
        survey = survey_file(track)
        heard = hear(read_audio(track), survey.tempo.grid, survey.tempo.swing_percent)
        songs = [draft_song(survey, seed) for seed in range(1, TRACK_SEEDS + 1)]
        made = [Drafted(s, line_of(s, "lead"), line_of(s, "bass")) for s in songs]
        taken: dict[str, list[float | None]] = defaultdict(list)
        for d in made:
            for facet in measure_own(d.song, survey, heard).facets:
                taken[facet.name].append(facet.share)
        own = ", ".join(f"{name.lower()} {' '.join('-' if v is None else f'{v:.2f}' for v in row)}" for name, row in taken.items())
        print(f"  {track.stem:20} {songs[0].style}: beats on tones of the chord {np.mean([on_chords(d) for d in made]):.2f}, "
              f"standstills {sum(len(standstills(s)) for s in songs)}; taken over: {own}", flush=True)  # fmt: skip
