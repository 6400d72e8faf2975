"""One survey held against the truth of its track: what came out, by figure.

A judgement is a dict from the figure's name to a number: 1 or 0 where the target is a share of tracks, else the error or score
of this track. Names that don't apply to a track are left out.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import mir_eval
import numpy as np
from scipy import signal

from demo.synth import loudness_lufs
from ersatz.core import bands
from ersatz.core.audio import Audio, read_audio
from ersatz.core.pitch import parse_tonic
from ersatz.core.survey.document import ROLES, STEADY_CONFIDENCE, Survey
from ersatz.core.survey.presence import role_confidence

Judgement = dict[str, float]
#: (question, confidence, right) of every answer that states one.
Stated = list[tuple[str, float, bool]]
#: Name in a judgement: what is printed, unit, target, and whether the target is the most allowed.
Targets = dict[str, tuple[str, str, float, bool]]
#: Events count as found within a bar of where they start.
EVENT_BARS = 1.0


def judge(path: Path, truth: dict[str, Any], found: Survey) -> Judgement:
    """All figures that the truth knows. Times are compared in seconds, so that a shifted bar 1 is one error and not all of them."""
    out: Judgement = {}
    tempo = truth["tempo"]
    steady = tempo.get("steady", True)
    metre = tempo["beats_per_bar"]
    bar_s = 60 / tempo["bpm"] * metre
    right_tempo = tempo_is_right(found, tempo["bpm"], tempo.get("octave_ok", []))
    # At an accepted octave the bars are others than the truth's: what is counted by bars can't be judged.
    same_bars = abs(found.tempo.bpm / tempo["bpm"] - 1) < 0.01 or not right_tempo
    if not steady:
        out["unsteady said"] = float(found.tempo.confidence < STEADY_CONFIDENCE or bool(found.tempo.changes))
        return out
    out["tempo"] = float(right_tempo)
    out["metre"] = float(found.tempo.beats_per_bar == metre)
    if "missing_beat_s" in truth:
        at = truth["missing_beat_s"]
        out["missing beat said"] = float(any(abs(c.t_s - at) < 2 * bar_s for c in found.tempo.changes))
    else:
        out["steady said"] = float(not found.tempo.changes and found.tempo.confidence >= STEADY_CONFIDENCE)
    if metre == 4:
        out["downbeat"] = float(abs(apart(found.tempo.first_downbeat_s - tempo["first_downbeat_s"], bar_s)) <= 0.015)
    out["swing"] = abs(found.tempo.swing_percent - tempo["swing_percent"])
    mine = f"{found.key.tonic} {found.key.mode}"
    theirs = f"{parse_tonic(truth['key']['tonic'])} {truth['key']['mode']}"
    out["key"] = float(mine == theirs)
    out["key score"] = float(mir_eval.key.weighted_score(theirs, mine))
    if "tuning_cents" in truth["key"]:
        out["tuning"] = abs(apart(found.key.tuning_cents - truth["key"]["tuning_cents"], 100))
    if any(n.get("slide_semitones") for n in truth["bass"]["notes"]):
        out["slides"] = _slides(truth["bass"]["notes"], found)
    out["boundaries"] = boundaries(truth["sections"], found, bar_s / 2)
    out["labels"] = label_share(truth["sections"], found)
    out |= _pump(truth["pump"], found)
    if metre == 4 and same_bars:
        out["drums"] = _drums_f1(truth, found)
        out["bass"] = _bass_share(truth, found)
        out |= _presence(truth, found)
        if "chords" in truth:
            out["chords"] = _chord_share(truth, found)
        if "events" in truth:
            out |= _events(truth, found)
    kick = truth["drums"]["kick"]
    if kick and found.drums.kick:
        out["kick"] = abs(found.drums.kick.fundamental_hz / kick["fundamental_hz"] - 1)
    elif kick:
        out["kick"] = 1.0
    if truth.get("resonances"):
        out["resonances"] = _resonances(truth["resonances"], found)
    audio = read_audio(path)
    out["spectrum"] = _spectrum_error(audio, found)
    if audio.rate_hz == 48_000 and audio.channels == 2:
        out["loudness"] = abs(found.loudness.integrated_lufs - loudness_lufs(audio.samples))
    return out


def confidences(truth: dict[str, Any], found: Survey, judgement: Judgement) -> Stated:
    """Of the answers that the truth can judge."""
    out: Stated = []
    for question, confidence in (("tempo", found.tempo.confidence), ("key", found.key.confidence)):
        if question in judgement:
            out.append((question, confidence, judgement[question] == 1.0))
    if "swing" in judgement:
        out.append(("swing", found.tempo.swing_confidence or 0.0, judgement["swing"] <= 1.0))
    if found.drums.kick and "kick" in judgement:
        out.append(("kick", found.drums.kick.confidence or 0.0, judgement["kick"] <= 0.03))
    if "drums" in judgement:
        out += _drum_pictures(truth, found)
    if "chords" in judgement:
        named = {c["bar"]: _plain(c["name"]) for c in truth["chords"]}
        out += [
            ("chord", c.confidence or 0.0, named[int(c.start_bar)] == _plain(c.name))
            for c in found.harmony.chords
            if int(c.start_bar) in named
        ]
    if found.pump.depth_db > 0 and "pump" in judgement:
        out.append(("pump", found.pump.confidence, judgement["pump"] <= 1.5))
    if "labels" in judgement:
        starts = [s["start_s"] for s in truth["sections"]]
        half_bar = 120 / truth["tempo"]["bpm"]
        out += [("section", s.confidence, min(abs(s.start_s - t) for t in starts) <= half_bar) for s in found.sections]
    if isinstance(truth.get("presence"), dict):
        out += _role_confidences(truth, found)
    if "bass" in judgement:
        longest = _longest_notes(truth)
        for note in found.bass.notes:
            bar = int(note.start_beat // 4)
            sounding = [n for n in truth["bass"]["notes"] if n["start_beat"] < note.start_beat + note.beats
                        and n["start_beat"] + n["beats"] > note.start_beat] if bar in longest else []  # fmt: skip
            out.append(("bass note", note.confidence, any(n["midi"] % 12 == note.midi % 12 for n in sounding)))
    return out


def tempo_is_right(found: Survey, bpm: float, octave_ok: list[float]) -> bool:
    return any(abs(found.tempo.bpm - t) <= 0.05 for t in [bpm, *octave_ok])


def apart(difference: float, period: float) -> float:
    """Distance on a circle, signed."""
    return (difference + period / 2) % period - period / 2


def boundaries(sections: list[dict], found: Survey, window_s: float) -> float:
    theirs = np.array([[s["start_s"], s["end_s"]] for s in sections])
    mine = np.array([[s.start_s, s.end_s] for s in found.sections])
    return float(mir_eval.segment.detection(theirs, mine, window=window_s, trim=True)[2])


def label_share(sections: list[dict], found: Survey) -> float:
    times = np.arange(0.05, sections[-1]["end_s"], 0.1)

    def labels(spans: list[tuple[float, float, str]]) -> list[str]:
        return [next((label for a, b, label in spans if a <= t < b), "") for t in times]

    mine = labels([(s.start_s, s.end_s, s.label) for s in found.sections])
    theirs = labels([(s["start_s"], s["end_s"], s["label"]) for s in sections])
    return float(np.mean([a == b for a, b in zip(mine, theirs)]))


def _pump(truth: dict, found: Survey) -> Judgement:
    ducked = truth["depth_db"] > 0
    out = {"pump": abs(found.pump.depth_db - truth["depth_db"]), "ducked or not": float((found.pump.depth_db > 0) == ducked)}
    if ducked and found.pump.depth_db > 0:
        out["release"] = abs(found.pump.release_ms / truth["release_ms"] - 1)
    return out


def _drums_f1(truth: dict, found: Survey) -> float:
    """Over kick, clap and hats in the truth's drops, against the found pattern of the section that holds their middle."""
    drops = [i for i, section in enumerate(truth["sections"]) if section["label"] == "drop"]
    return float(np.mean([score for i in drops for score in _picture_f1(truth, found, i)[1]]))


def _picture_f1(truth: dict, found: Survey, i: int) -> tuple[int | None, list[float]]:
    """The found section that holds the middle of the truth's section `i`, and F1 of its steps of kick, clap and hats."""
    section = truth["sections"][i]
    middle = (section["start_s"] + section["end_s"]) / 2
    k = next((k for k, s in enumerate(found.sections) if s.start_s <= middle < s.end_s), None)
    scores = []
    for drum in ("kick", "clap", "hats"):
        theirs = {s for s, v in enumerate(truth["drums"]["patterns"][i][drum]) if v}
        mine = set() if k is None else {s for s, v in enumerate(getattr(found.drums.patterns[k], drum)) if v}
        scores.append(2 * len(theirs & mine) / (len(theirs) + len(mine)) if theirs or mine else 1.0)
    return k, scores


def _drum_pictures(truth: dict, found: Survey) -> Stated:
    out: Stated = []
    for i in range(len(truth["sections"])):
        k, scores = _picture_f1(truth, found, i)
        if k is not None:
            out.append(("drum picture", found.drums.patterns[k].confidence or 0.0, float(np.mean(scores)) >= 0.9))
    return out


def _longest_notes(truth: dict) -> dict[int, int]:
    """Per bar with a bass the pitch class that it holds longest."""
    longest: dict[int, dict[int, float]] = {}
    for note in truth["bass"]["notes"]:
        classes = longest.setdefault(int(note["start_beat"] // 4), {})
        classes[note["midi"] % 12] = classes.get(note["midi"] % 12, 0) + note["beats"]
    return {bar: max(classes, key=lambda c: classes[c]) for bar, classes in longest.items()}


def _bass_share(truth: dict, found: Survey) -> float:
    """Share of the bars with bass whose pitch class, octave left aside, is the one that the truth holds longest."""
    per_bar = found.bass.notes_per_bar
    hits = []
    for bar, pitch_class in _longest_notes(truth).items():
        mine = per_bar[bar] if bar < len(per_bar) else None
        hits.append(mine is not None and mine % 12 == pitch_class)
    return float(np.mean(hits))


def _slides(notes: list[dict], found: Survey) -> float:
    """F1 of the notes that are slid to, within half a beat and a semitone and a half of where they come from."""
    theirs = [(n["start_beat"], n["slide_semitones"]) for n in notes if n["slide_semitones"]]
    mine = [(n.start_beat, n.slide_semitones) for n in found.bass.notes if n.slide_semitones]

    def met(a: tuple[float, float], others: list[tuple[float, float]]) -> bool:
        return any(abs(a[0] - b[0]) <= 0.5 and abs(a[1] - b[1]) <= 1.5 for b in others)

    hits = sum(met(a, mine) for a in theirs) + sum(met(b, theirs) for b in mine)
    return hits / (len(theirs) + len(mine))


def _presence(truth: dict, found: Survey) -> Judgement:
    """Share of the bars in which each role is rightly said to play or not."""
    if not isinstance(truth.get("presence"), dict):
        return {}
    out = {}
    for role in ROLES:
        theirs = set(truth["presence"][role])
        out[f"presence {role}"] = float(
            np.mean([(v >= 0.5) == (b in theirs) for b, v in zip(found.presence.bars, found.presence.of(role))])
        )
    return out


def _role_confidences(truth: dict, found: Survey) -> Stated:
    """Of every section and role; right where nine in ten bars are."""
    out: Stated = []
    for section in found.sections:
        bars = range(section.start_bar, section.end_bar)
        for role in ROLES:
            values = found.presence.within(role, section.start_bar, section.end_bar)
            theirs = set(truth["presence"][role])
            right = [(v >= 0.5) == (bar in theirs) for bar, v in zip(bars, values)]
            if right:
                out.append(("roles", role_confidence(values), float(np.mean(right)) >= 0.9))
    return out


def _chord_share(truth: dict, found: Survey) -> float:
    named = {c["bar"]: c["name"] for c in truth["chords"]}
    if not named:
        return 1.0
    mine: dict[int, set[str]] = {}
    for chord in found.harmony.chords:
        for bar in range(int(chord.start_bar), int(np.ceil(chord.start_bar + chord.bars))):
            mine.setdefault(bar, set()).add(_plain(chord.name))
    # A bar counts where it is said to hold this chord and no other.
    return float(np.mean([mine.get(bar) == {_plain(name)} for bar, name in named.items()]))


def _plain(name: str) -> str:
    """Root as survey format 1 writes it, and m for minor."""
    name = name.split("/")[0].replace("♭", "b").replace("♯", "#")
    minor = "m" if name.endswith(("m", "m7")) else ""
    return str(parse_tonic(name.rstrip("m7"))) + minor


def _events(truth: dict, found: Survey) -> Judgement:
    out = {}
    for kind in ("riser", "snare roll", "gap", "impact", "fall"):
        theirs = [e["start_beat"] / 4 + 1 for e in truth["events"] if e["kind"] == kind]
        mine = [e.start_bar for e in found.events if e.kind == kind]
        if theirs or mine:
            hits = sum(any(abs(t - m) <= EVENT_BARS for m in mine) for t in theirs)
            good = sum(any(abs(t - m) <= EVENT_BARS for t in theirs) for m in mine)
            out[f"events {kind}"] = 2 * min(hits, good) / (len(theirs) + len(mine)) if hits and good else 0.0
    return out


def _resonances(truth: list[dict], found: Survey) -> float:
    """F1 of the centres, within a quarter of an octave."""
    near = [[abs(np.log2(r.hz / t["hz"])) <= 0.25 for r in found.spectrum.resonances] for t in truth]
    return 2 * sum(any(row) for row in near) / (len(truth) + len(found.spectrum.resonances))


def _spectrum_error(audio: Audio, found: Survey) -> float:
    """Against SciPy's Welch estimate with another window and length, 40 Hz to 16 kHz (or what the rate holds)."""
    hz, power = signal.welch(audio.samples, audio.rate_hz, "blackmanharris", 32_768, axis=1)
    power = power.sum(axis=0)
    level = [power[(hz >= c * 10**-0.05) & (hz < c * 10**0.05)].sum() for c in bands.EXACT_HZ]
    theirs = 10 * np.log10(np.maximum(level, 1e-30) / np.sum(level))
    top_hz = min(16_500, 0.4 * audio.rate_hz)
    kept = (bands.EXACT_HZ >= 39) & (bands.EXACT_HZ <= top_hz)  # noqa: SIM300
    return float(np.abs(np.array(found.spectrum.level_db) - theirs)[kept].mean())
