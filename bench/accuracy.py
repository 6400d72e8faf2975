"""How right is the survey? `./run accuracy [--set DIR] [--real DIR --truth FILE [--material DIR]] [--survey] [--only NAME]`.

Measures the demo references and the generated test set (bench/testset, made once and kept in DIR) against the truth that their
generators wrote, and a folder of real tracks against a truth file (a list of {file, bpm, octave_ok, beat_time_s,
downbeat_time_s, key, lufs, lra, true_peak}). Of the real tracks, and of tracker modules, pieces with known ducking and known
arrangements are made (bench/material) and measured too. Prints figure against target, the failures by name, and how often
answers were right at the confidence that they stated. What is held back while tuning is reported without names.
"""

from __future__ import annotations

import argparse
import json
import os
import tempfile
import zlib
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import mir_eval
import numpy as np

from bench.drafts import REAL as DRAFTED
from bench.drafts import print_table
from bench.judge import Judgement, Stated, Targets, apart, confidences, judge, tempo_is_right
from bench.likeness import print_likeness
from bench.material import write_material
from bench.moves import print_moves
from bench.pieces import TARGETS as PIECE_TARGETS
from bench.pieces import Piece, measure_pieces
from bench.plain import NOTHING_DB, levels_of, plain_changes
from bench.spoilings import print_table as print_table_of_spoilings
from bench.testset import write_testset
from bench.testset.recipes import recipes
from demo.references import write_references
from ersatz.core.audio import Audio, read_audio
from ersatz.core.pitch import parse_tonic
from ersatz.core.survey import survey_file
from ersatz.core.survey.shared import prepare
from ersatz.core.survey.tempo import measure_beat

#: So many drafts are spoiled.
SPOILED = 4
#: Tracks cut anywhere: how often, from where and up to which share of them, and how near bar 1 must be.
CUTS, CUT_FROM_S, CUT_SHARE, CUT_WITHIN_S = 6, 3.0, 0.4, 0.03


@dataclass
class Figure:
    """One figure over all tracks: values, the target, and how it is judged."""

    name: str
    unit: str
    target: float
    most: bool
    summarise: Callable[[list[float]], float] = field(default=lambda v: float(np.mean(v)))
    values: list[tuple[str, float]] = field(default_factory=list)

    def add(self, track: str, value: float) -> None:
        self.values.append((track, float(value)))

    def row(self, names: bool = True) -> str:
        if not self.values:
            return f"{self.name:44} no track has a truth for it"
        figure = self.summarise([v for _, v in self.values])
        met = figure <= self.target if self.most else figure >= self.target
        relation = "at most" if self.most else "at least"
        bad = [(t, v) for t, v in self.values if (v > self.target if self.most else v < self.target)]
        failures = f"  off: {', '.join(_named(t, v) for t, v in bad)}" if bad and names else ""
        verdict = "met" if met else "MISSED"
        return f"{self.name:44} {figure:8.3f} {self.unit:5} {relation} {self.target:g}  {verdict:6} n={len(self.values)}{failures}"


def _named(track: str, value: float) -> str:
    return track if value in (0.0, 1.0) else f"{track} {value:.3g}"


TARGETS: Targets = {
    "tempo": ("tempo within 0.05 BPM, octave right", "share", 0.98, False),
    "steady said": ("steady tempo said to be steady", "share", 0.98, False),
    "unsteady said": ("drift or tempo change said", "share", 1.0, False),
    "missing beat said": ("missing beat said", "share", 1.0, False),
    "metre": ("beats per bar", "share", 0.98, False),
    "downbeat": ("bar 1 beat 1 within 15 ms", "share", 0.95, False),
    "swing": ("swing, error", "pts", 1.0, True),
    "key": ("key, tonic and mode", "share", 0.85, False),
    "key score": ("key score (weighted)", "", 0.90, False),
    "tuning": ("tuning, error", "cents", 5.0, True),
    "boundaries": ("section boundaries within half a bar, F1", "", 0.90, False),
    "labels": ("section labels, share of the time", "share", 0.85, False),
    "pump": ("pump depth, mean error", "dB", 1.0, True),
    "ducked or not": ("ducked or not", "share", 1.0, False),
    "release": ("pump release, error", "share", 0.15, True),
    "drums": ("drum steps in the drops, F1", "", 0.90, False),
    "bass": ("bass note per bar", "share", 0.90, False),
    "slides": ("bass notes slid to, F1", "", 0.8, False),
    "chords": ("chord per bar", "share", 0.80, False),
    "kick": ("kick fundamental, error", "share", 0.03, True),
    "loudness": ("integrated loudness, error", "LU", 0.1, True),
    "spectrum": ("spectrum, mean per third octave", "dB", 0.3, True),
    "resonances": ("resonances within a quarter octave, F1", "", 0.8, False),
    **{f"presence {role}": (f"bars with {role} or without", "share", 0.9, False)
       for role in ("kick", "clap", "hats", "perc", "bass", "chords", "lead", "noise")},
    **{f"events {kind}": (f"{kind}s within a bar, F1", "", 0.8, False)
       for kind in ("riser", "snare roll", "gap", "impact", "fall")},
}  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(prog="./run accuracy")
    parser.add_argument("--set", type=Path, default=Path("var/testset"), help="folder that keeps the generated test set")
    parser.add_argument("--real", type=Path, help="folder with real tracks")
    parser.add_argument("--truth", type=Path, help="truth file of the real tracks")
    parser.add_argument("--material", type=Path, default=Path("var/material"), help="folder that keeps what is made of them")
    parser.add_argument("--only", help="only generated tracks whose name holds this, with every figure")
    parser.add_argument("--survey", action="store_true", help="only the survey's figures: no drafts and moves, which take hours")
    arguments = parser.parse_args()
    if arguments.only:
        _one_by_one(arguments.set, arguments.only)
        return
    with tempfile.TemporaryDirectory() as folder:
        demo = write_references(Path(folder))
        _print_survey(demo, arguments)
        if not arguments.survey:
            _print_drafts([*demo, *_drafted(arguments.real)], arguments)


def _print_survey(demo: Sequence[Path], arguments: argparse.Namespace) -> None:
    _report("Demo references", _judged([(p, _truth(p)) for p in demo]))
    made = [(p, _truth(p)) for p in write_testset(arguments.set)]
    _report("Generated set, tuned on", _judged([t for t in made if not t[1]["held_back"]]))
    _report("Generated set, held back", _judged([t for t in made if t[1]["held_back"]]), names=False)
    if arguments.real and arguments.truth:
        truths = json.loads(arguments.truth.read_text())
        print("Real tracks")
        for figure in _real(arguments.real, truths).values():
            print("  " + figure.row())
        write_material(arguments.real, truths, arguments.material)
        _report_pieces("Real music, ducked by us", measure_pieces(arguments.material / "ducked"))
        _report_pieces("Generated, every factor varied", measure_pieces(arguments.material / "factorial"))
        _report_pieces("Modules, arranged by us", measure_pieces(arguments.material / "arranged"))


def _print_drafts(drafted: list[Path], arguments: argparse.Namespace) -> None:
    print("Drafts")
    print_table(drafted)
    print("Moves: sums of gaps in tolerances, all sections")
    print_moves(drafted)
    print("Moves on remakes that were spoiled")
    print_table_of_spoilings(drafted[:SPOILED])
    print("Your own: what is taken over, of copies and of other tunes")
    print_likeness(drafted, arguments.set, arguments.real)


def _drafted(folder: Path | None) -> list[Path]:
    """Real tracks that are drafted too, where there are any."""
    return [p for name in DRAFTED for p in sorted(folder.rglob(f"{name}.ogg"))[:1]] if folder else []


def _truth(path: Path) -> dict[str, Any]:
    return dict(json.loads(path.with_name(f"{path.stem}.truth.json").read_text()))


def _one_by_one(folder: Path, only: str) -> None:
    wanted = [r for r in recipes() if only in r.name and not r.held_back]
    for path in write_testset(folder, wanted):
        judgement, _ = _judge(path, _truth(path))
        print(path.stem, " ".join(f"{k}={v:.3g}" for k, v in judgement.items()))


def _judge(path: Path, truth: dict[str, Any]) -> tuple[Judgement, Stated]:
    found = survey_file(path)
    judgement = judge(path, truth, found)
    return judgement, confidences(truth, found, judgement)


def _judged(tracks: list[tuple[Path, dict[str, Any]]]) -> list[tuple[str, Judgement, Stated]]:
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        found = pool.map(_judge, [p for p, _ in tracks], [t for _, t in tracks])
        return [(p.stem, judgement, stated) for (p, _), (judgement, stated) in zip(tracks, found)]


def _report(
    title: str,
    judged: list[tuple[str, Judgement, Stated]],
    names: bool = True,
    targets: Targets = TARGETS,
) -> None:
    print(f"{title} ({len(judged)} tracks)")
    for key, target in targets.items():
        figure = Figure(*target)
        for track, judgement, _ in judged:
            if key in judgement:
                figure.add(track, judgement[key])
        if figure.values:
            print("  " + figure.row(names))
    _calibration(entry for _, _, stated in judged for entry in stated)


def _report_pieces(title: str, pieces: list[Piece]) -> None:
    for held_back in (False, True):
        inside = [(name, figures, stated) for name, back, figures, stated in pieces if back == held_back]
        _report(f"{title}, {'held back' if held_back else 'tuned on'}", inside, names=False, targets=PIECE_TARGETS)


def _calibration(stated: Iterable[tuple[str, float, bool]]) -> None:
    """Share of right answers by the confidence that was stated: at 0.9 and above it should be nine in ten."""
    rows: dict[str, list[tuple[float, bool]]] = {}
    for question, confidence, right in stated:
        rows.setdefault(question, []).append((confidence, right))
    for question, answers in rows.items():
        cells = []
        for low, high in ((0.9, 1.01), (0.7, 0.9), (0.5, 0.7), (0.0, 0.5)):
            inside = [right for confidence, right in answers if low <= confidence < high]
            share = f"{np.mean(inside):.2f}" if inside else "   -"
            cells.append(f"{low:g}+: {share} of {len(inside)}")
        print(f"  confidence, {question + ' right at':29} " + "   ".join(cells))


def _real(folder: Path, truths: list[dict]) -> dict[str, Figure]:
    figures = {
        "tempo": Figure(*TARGETS["tempo"]),
        "beat": Figure("beat within 15 ms", "share", 0.95, False),
        "downbeat": Figure(*TARGETS["downbeat"]),
        "cut": Figure(f"bar 1 within {CUT_WITHIN_S * 1000:g} ms where tracks are cut anywhere", "share", 0.95, False),
        "steady": Figure(*TARGETS["steady said"]),
        "key": Figure(*TARGETS["key"]),
        "score": Figure(*TARGETS["key score"]),
        "lufs": Figure("integrated loudness, largest error", "LU", 0.1, True, max),
        "lra": Figure("loudness range, largest error", "LU", 0.2, True, max),
        "peak": Figure("true peak, largest error", "dB", 0.1, True, max),
        "changes": Figure("plain changes that are a change, within a bar", "share", 0.85, False),
        "divided": Figure("plain changes that begin a section, same", "share", 0.7, False),
        "empty": Figure("sections that begin where nothing changes", "share", 0.05, True),
        "sure": Figure("tempo right among those at 0.9 and above", "share", 0.9, False),
    }
    present = [t for t in truths if (folder / t["file"]).exists()]
    for absent in [t["file"] for t in truths if t not in present]:
        print(f"  missing: {absent}")
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        surveys = list(pool.map(survey_file, [folder / t["file"] for t in present]))
        known = [t for t in present if t["downbeat_time_s"] is not None]
        for truth, errors_s in zip(known, pool.map(_bar_one_of_cuts, [folder / t["file"] for t in known], known)):
            for error_s in errors_s:
                figures["cut"].add(Path(truth["file"]).name, abs(error_s) <= CUT_WITHIN_S)
    for truth, found in zip(present, surveys):
        name = Path(truth["file"]).name
        right = tempo_is_right(found, truth["bpm"], truth["octave_ok"])
        figures["tempo"].add(name, right)
        if found.tempo.confidence >= 0.9:
            figures["sure"].add(name, right)
        figures["steady"].add(name, not found.tempo.changes and found.tempo.is_steady)
        levels = levels_of(folder / truth["file"], found.tempo.first_downbeat_s, found.tempo.grid.bar_s, found.bars)
        begins = [s.start_bar - 1 for s in found.sections[1:]]
        for bar in plain_changes(levels):
            figures["changes"].add(f"{name} bar {bar + 1}", any(abs(c.bar - 1 - bar) <= 1 for c in found.changes))
            figures["divided"].add(f"{name} bar {bar + 1}", any(abs(b - bar) <= 1 for b in begins))
        for bar in begins:
            figures["empty"].add(f"{name} bar {bar + 1}", levels.moves_db(bar) < NOTHING_DB)
        beat = 60 / truth["bpm"]
        figures["beat"].add(name, abs(apart(found.tempo.first_downbeat_s - truth["beat_time_s"], beat)) <= 0.015)
        if truth["downbeat_time_s"] is not None:
            late = apart(found.tempo.first_downbeat_s - truth["downbeat_time_s"], 4 * beat)
            figures["downbeat"].add(name, abs(late) <= 0.015)
        if truth["key"]:
            tonic, mode = truth["key"].split()
            mine = f"{found.key.tonic} {found.key.mode}"
            figures["key"].add(name, mine == f"{parse_tonic(tonic)} {mode}")
            figures["score"].add(name, mir_eval.key.weighted_score(truth["key"], mine))
        figures["lufs"].add(name, abs(found.loudness.integrated_lufs - truth["lufs"]))
        figures["lra"].add(name, abs(found.loudness.range_lu - truth["lra"]))
        figures["peak"].add(name, abs(found.loudness.true_peak_dbtp - truth["true_peak"]))
    return figures


def _bar_one_of_cuts(path: Path, truth: dict) -> list[float]:
    """How late bar 1 is said to begin, seconds, in the track from CUTS places on that are drawn from its name."""
    audio = read_audio(path)
    rng = np.random.default_rng(zlib.crc32(path.name.encode()))
    out = []
    for cut_s in rng.uniform(CUT_FROM_S, CUT_SHARE * audio.duration_s, CUTS):
        beat = measure_beat(prepare(Audio(audio.samples[:, int(cut_s * audio.rate_hz) :], audio.rate_hz)))
        late = beat.first_downbeat_s + int(cut_s * audio.rate_hz) / audio.rate_hz - truth["downbeat_time_s"]
        out.append(apart(late, 240 / truth["bpm"]))
    return out


if __name__ == "__main__":
    main()
