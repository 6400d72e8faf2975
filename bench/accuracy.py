"""How right is the survey? `./run accuracy [--real DIR --truth FILE]`.

Measures the demo references against the truth that their generator wrote, and a folder of real tracks against a truth
file (a list of {file, bpm, octave_ok, beat_time_s, downbeat_time_s, key, lufs, lra, true_peak}). Prints figure against
target and the failures by name.
"""

from __future__ import annotations

import argparse
import json
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import mir_eval
import numpy as np
from scipy import signal

from demo.references import write_references
from ersatz.core import bands
from ersatz.core.audio import read_audio
from ersatz.core.pitch import parse_tonic
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Survey


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

    def row(self) -> str:
        if not self.values:
            return f"{self.name:44} no track has a truth for it"
        figure = self.summarise([v for _, v in self.values])
        met = figure <= self.target if self.most else figure >= self.target
        relation = "at most" if self.most else "at least"
        bad = [t for t, v in self.values if (v > self.target if self.most else v < self.target)]
        failures = f"  off: {', '.join(bad)}" if bad else ""
        verdict = "met" if met else "MISSED"
        return f"{self.name:44} {figure:8.3f} {self.unit:5} {relation} {self.target:g}  {verdict:6} n={len(self.values)}{failures}"


def main() -> None:
    parser = argparse.ArgumentParser(prog="./run accuracy")
    parser.add_argument("--real", type=Path, help="folder with real tracks")
    parser.add_argument("--truth", type=Path, help="truth file of the real tracks")
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        figures = _demo(Path(folder))
    print("Demo references")
    for figure in figures.values():
        print("  " + figure.row())
    if arguments.real and arguments.truth:
        print("Real tracks")
        for figure in _real(arguments.real, json.loads(arguments.truth.read_text())).values():
            print("  " + figure.row())


def _demo(folder: Path) -> dict[str, Figure]:
    figures = {
        "tempo": Figure("tempo within 0.05 BPM", "share", 0.98, False),
        "downbeat": Figure("bar 1 beat 1 within 15 ms", "share", 0.95, False),
        "key": Figure("key, tonic and mode", "share", 0.85, False),
        "boundaries": Figure("section boundaries within half a bar, F1", "", 0.90, False),
        "labels": Figure("section labels, share of the time", "share", 0.85, False),
        "pump": Figure("pump depth, mean error", "dB", 1.0, True),
        "release": Figure("pump release, error", "share", 0.15, True),
        "swing": Figure("swing, error", "pts", 1.0, True),
        "drums": Figure("drum steps in the drops, F1", "", 0.90, False),
        "bass": Figure("bass note per bar", "share", 0.90, False),
        "loudness": Figure("integrated loudness, error", "LU", 0.1, True),
        "spectrum": Figure("spectrum, mean per third octave", "dB", 0.3, True),
        "kick": Figure("kick fundamental, error", "share", 0.03, True),
    }
    for path in write_references(folder):
        truth = json.loads(path.with_name(f"{path.stem}.truth.json").read_text())
        _judge_demo(figures, path, survey_file(path), truth)
    return figures


def _judge_demo(figures: dict[str, Figure], path: Path, found: Survey, truth: dict) -> None:
    name = path.stem
    tempo = truth["tempo"]
    figures["tempo"].add(name, abs(found.tempo.bpm - tempo["bpm"]) <= 0.05)
    figures["downbeat"].add(name, abs(found.tempo.first_downbeat_s - tempo["first_downbeat_s"]) <= 0.015)
    figures["swing"].add(name, abs(found.tempo.swing_percent - tempo["swing_percent"]))
    figures["key"].add(name, (found.key.tonic, found.key.mode) == (truth["key"]["tonic"], truth["key"]["mode"]))
    theirs = np.array([[s["start_s"], s["end_s"]] for s in truth["sections"]])
    mine = np.array([[s.start_s, s.end_s] for s in found.sections])
    half_bar = 120 / tempo["bpm"]
    figures["boundaries"].add(name, mir_eval.segment.detection(theirs, mine, window=half_bar, trim=True)[2])
    figures["labels"].add(name, _label_share(truth["sections"], found))
    figures["pump"].add(name, abs(found.pump.depth_db - truth["pump"]["depth_db"]))
    figures["release"].add(name, abs(found.pump.release_ms / truth["pump"]["release_ms"] - 1))
    figures["drums"].add(name, _drums_f1(truth, found))
    figures["bass"].add(name, _bass_share(truth, found))
    figures["loudness"].add(name, abs(found.loudness.integrated_lufs - truth["loudness"]["integrated_lufs"]))
    figures["spectrum"].add(name, _spectrum_error(path, found))
    kick = truth["drums"]["kick"]["fundamental_hz"]
    figures["kick"].add(name, abs(found.drums.kick.fundamental_hz / kick - 1) if found.drums.kick else 1.0)


def _label_share(sections: list[dict], found: Survey) -> float:
    times = np.arange(0.05, sections[-1]["end_s"], 0.1)

    def labels(spans: list[tuple[float, float, str]]) -> list[str]:
        return [next((label for a, b, label in spans if a <= t < b), "") for t in times]

    mine = labels([(s.start_s, s.end_s, s.label) for s in found.sections])
    theirs = labels([(s["start_s"], s["end_s"], s["label"]) for s in sections])
    return float(np.mean([a == b for a, b in zip(mine, theirs)]))


def _drums_f1(truth: dict, found: Survey) -> float:
    """Over kick, clap and hats in the truth's drops, against the found pattern of the section that holds their middle."""
    scores = []
    for i, section in enumerate(truth["sections"]):
        if section["label"] != "drop":
            continue
        middle = section["start_bar"] + section["bars"] / 2
        k = next((k for k, s in enumerate(found.sections) if s.start_bar <= middle < s.end_bar), None)
        if k is None:
            scores.append(0.0)
            continue
        for drum in ("kick", "clap", "hats"):
            theirs = {s for s, v in enumerate(truth["drums"]["patterns"][i][drum]) if v}
            mine = {s for s, v in enumerate(getattr(found.drums.patterns[k], drum)) if v}
            scores.append(2 * len(theirs & mine) / max(1, len(theirs) + len(mine)))
    return float(np.mean(scores))


def _bass_share(truth: dict, found: Survey) -> float:
    """Share of the bars with bass whose pitch class, octave left aside, is the one that the truth holds longest."""
    hits = []
    longest: dict[int, dict[int, float]] = {}
    for note in truth["bass"]["notes"]:
        bar = int(note["start_beat"] // 4)
        classes = longest.setdefault(bar, {})
        classes[note["midi"] % 12] = classes.get(note["midi"] % 12, 0) + note["beats"]
    for bar, classes in longest.items():
        mine = found.bass.notes_per_bar[bar] if bar < len(found.bass.notes_per_bar) else None
        hits.append(mine is not None and mine % 12 == max(classes, key=lambda c: classes[c]))
    return float(np.mean(hits))


def _spectrum_error(path: Path, found: Survey) -> float:
    """Against SciPy's Welch estimate with another window and length, 40 Hz to 16 kHz."""
    audio = read_audio(path)
    hz, power = signal.welch(audio.samples, audio.rate_hz, "blackmanharris", 32_768, axis=1)
    power = power.sum(axis=0)
    level = []
    for centre in bands.EXACT_HZ:
        inside = (hz >= centre * 10**-0.05) & (hz < centre * 10**0.05)
        level.append(power[inside].sum())
    theirs = 10 * np.log10(np.maximum(level, 1e-30) / np.sum(level))
    kept = (bands.EXACT_HZ >= 39) & (bands.EXACT_HZ <= 16_500)
    return float(np.abs(np.array(found.spectrum.level_db) - theirs)[kept].mean())


def _real(folder: Path, truths: list[dict]) -> dict[str, Figure]:
    figures = {
        "tempo": Figure("tempo within 0.05 BPM, octave right", "share", 0.98, False),
        "beat": Figure("beat within 15 ms", "share", 0.95, False),
        "downbeat": Figure("bar 1 beat 1 within 15 ms", "share", 0.95, False),
        "key": Figure("key, tonic and mode", "share", 0.85, False),
        "score": Figure("key score (weighted)", "", 0.90, False),
        "lufs": Figure("integrated loudness, largest error", "LU", 0.1, True, max),
        "lra": Figure("loudness range, largest error", "LU", 0.2, True, max),
        "peak": Figure("true peak, largest error", "dB", 0.1, True, max),
        "sure": Figure("tempo right among those at 0.9 and above", "share", 0.9, False),
    }
    for truth in truths:
        path = folder / truth["file"]
        if not path.exists():
            print(f"  missing: {truth['file']}")
            continue
        found = survey_file(path)
        name = path.name
        right = any(abs(found.tempo.bpm - t) <= 0.05 for t in [truth["bpm"], *truth["octave_ok"]])
        figures["tempo"].add(name, right)
        if found.tempo.confidence >= 0.9:
            figures["sure"].add(name, right)
        beat = 60 / truth["bpm"]
        figures["beat"].add(name, abs(_apart(found.tempo.first_downbeat_s - truth["beat_time_s"], beat)) <= 0.015)
        if truth["downbeat_time_s"] is not None:
            apart = _apart(found.tempo.first_downbeat_s - truth["downbeat_time_s"], 4 * beat)
            figures["downbeat"].add(name, abs(apart) <= 0.015)
        if truth["key"]:
            tonic, mode = truth["key"].split()
            mine = f"{found.key.tonic} {found.key.mode}"
            figures["key"].add(name, mine == f"{parse_tonic(tonic)} {mode}")
            figures["score"].add(name, mir_eval.key.weighted_score(truth["key"], mine))
        figures["lufs"].add(name, abs(found.loudness.integrated_lufs - truth["lufs"]))
        figures["lra"].add(name, abs(found.loudness.range_lu - truth["lra"]))
        figures["peak"].add(name, abs(found.loudness.true_peak_dbtp - truth["true_peak"]))
    return figures


def _apart(difference_s: float, period_s: float) -> float:
    return (difference_s + period_s / 2) % period_s - period_s / 2


if __name__ == "__main__":
    main()
