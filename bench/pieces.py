"""The survey held against bench/material: ducking of real music, and modules arranged by plans of ours."""

from __future__ import annotations

import json
import os
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np

from bench.judge import Judgement, Stated, Targets, apart, boundaries, label_share
from bench.material.ducked import DEEPEST_DB
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Survey

TARGETS: Targets = {
    "depth": ("pump depth, error (both at most 24 dB)", "dB", 1.0, True),
    "ducked": ("ducked or not", "share", 0.98, False),
    "rate": ("pump rate", "share", 0.95, False),
    "release": ("pump release, relative error", "", 0.15, True),
    "curve": ("pump curve, mean error", "dB", 1.0, True),
    "said": ("can't be told, said of what can be", "share", 0.1, True),
    "kept": ("can't be told, said where it can't be", "share", 0.9, False),
    "phase": ("beat within 15 ms", "share", 0.95, False),
    "boundaries": ("section boundaries within half a bar, F1", "", 0.92, False),
    "labels": ("section labels on club forms", "share", 0.85, False),
    "changes": ("steps of 3 dB that are a change, within a bar", "share", 0.85, False),
}
#: A depth this near counts as right where its confidence is judged, dB.
NEAR_DB = 1.5
Piece = tuple[str, bool, Judgement, Stated]


def judge_ducked(truth: dict[str, Any], found: Survey) -> tuple[Judgement, Stated]:
    """Figures of one piece, and what its pump's confidence was worth. Where nothing can be told only that is judged."""
    pump = found.pump
    if not truth["told"]:
        return {"kept": float(not pump.told or pump.confidence < 0.5)}, []
    depth = min(pump.depth_db, DEEPEST_DB)
    out = {
        "depth": abs(depth - truth["depth_db"]),
        "ducked": float((pump.depth_db > 0) == (truth["depth_db"] > 0)),
        "said": float(not pump.told),
    }
    beat_s = truth["beat_s"]
    out["phase"] = float(abs(apart(found.tempo.first_downbeat_s, beat_s)) <= 0.015)
    if truth["depth_db"] > 0:
        out["rate"] = float(pump.depth_db > 0 and pump.rate == truth["rate"])
        if pump.depth_db > 0:
            out["release"] = abs(pump.release_ms / truth["release_ms"] - 1)
            out["curve"] = float(np.abs(np.maximum(pump.curve_db, -DEEPEST_DB) - truth["curve_db"]).mean())
    right = bool(out["ducked"]) and out["depth"] <= max(NEAR_DB, 0.2 * truth["depth_db"])
    return out, [("pump", pump.confidence, right)]


def judge_arranged(truth: dict[str, Any], found: Survey) -> Judgement:
    """Boundaries in seconds, so that a shifted bar 1 is no error of the sections."""
    bar_s = truth["bar_s"]
    lines = pairwise([0, *truth["boundaries"], truth["bars"]])
    theirs = [{"start_s": a * bar_s, "end_s": b * bar_s} for a, b in lines]
    changes = [found.tempo.first_downbeat_s + (c.bar - 1) * found.tempo.grid.bar_s for c in found.changes]
    met = [any(abs(t - b * bar_s) <= bar_s for t in changes) for b in truth["changes"]]
    out = {
        "boundaries": boundaries(theirs, found, bar_s / 2),
        "changes": float(np.mean(met)) if met else 1.0,
    }
    if "labels" in truth:
        out["labels"] = label_share([section | {"label": label} for section, label in zip(theirs, truth["labels"])], found)
    return out


def measure_pieces(folder: Path) -> list[Piece]:
    """Name, held back or not, figures and stated confidences of everything under a kind's folder."""
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        return list(pool.map(_measure, sorted(folder.glob("*.flac"))))


def _measure(path: Path) -> Piece:
    truth, found = json.loads(path.with_suffix(".json").read_text()), survey_file(path)
    if path.parent.name == "arranged":
        return path.stem, truth["held_back"], judge_arranged(truth, found), []
    figures, stated = judge_ducked(truth, found)
    return path.stem, truth["held_back"], figures, stated
