"""One recipe made into audio and its truth.

The truth uses survey format 1's names where there are any. Bars count from the first bar line at or after the file's start.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy import signal

from bench.testset import voices
from bench.testset.recipes import KICKS, PROGRESSIONS, STYLES, Recipe, Style
from demo.synth import RATE_HZ, Desk, band, duck_gain, loudness_lufs, room

TONICS = ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
MINOR_SHAPES = {0: (0, 3, 7), 3: (0, 4, 7), 5: (0, 3, 7), 7: (0, 3, 7), -5: (0, 3, 7), -4: (0, 4, 7), -2: (0, 4, 7), 1: (0, 4, 7)}
MAJOR_SHAPES = {0: (0, 4, 7), 5: (0, 4, 7), -5: (0, 4, 7), -3: (0, 3, 7)}
SCALES = {"minor": (0, 2, 3, 5, 7, 8, 10), "major": (0, 2, 4, 5, 7, 9, 11)}
BASS_STEPS = {
    "off-beat": tuple((s, 2) for s in (2, 6, 10, 14)),
    "rolling": tuple((s, 1) for s in range(16) if s % 4),
    "16ths": tuple((s, 1) for s in range(16)),
    "long": ((0, 16),),
}
STABS = ((0, 3, 6, 10), (2, 6, 10, 14), (3, 6, 11, 14), (0, 3, 8, 11))
HATS = {"off-beat": (2, 6, 10, 14), "8ths": tuple(range(0, 16, 2)), "16ths": tuple(range(16))}
ROLES = ("kick", "clap", "hats", "perc", "bass", "chords", "lead", "noise")
DUCKED = ("bass", "chords", "lead")
#: A sliding note is on its way for so long.
SLIDE_STEPS = 1.5
RING_Q = 14.0


@dataclass
class Draw:
    """All that a recipe leaves to chance, drawn once, before any sound is made."""

    bpm: float
    swing: float
    tonic: int
    mode: str
    roots: tuple[int, ...]
    steps: int
    sections: list[tuple[str, int]]
    duck_db: float
    curve_s: np.ndarray
    curve: np.ndarray
    bass_rhythm: tuple[tuple[int, int], ...]
    bass_ups: tuple[int, ...]
    clap_ms: float
    rng: np.random.Generator
    kick_hz: float = 50.0
    #: Centre and height of a peak that rings in the chords and leads of the whole track.
    ring: tuple[float, float] | None = None

    @property
    def step_s(self) -> float:
        return 15 / self.bpm

    @property
    def bar_s(self) -> float:
        return self.steps * self.step_s


@dataclass
class Truth:
    """What was played, by bar."""

    presence: dict[str, set[int]] = field(default_factory=lambda: {role: set() for role in ROLES})
    bass: list[tuple[float, float, int, float]] = field(default_factory=list)
    lead: list[tuple[float, int]] = field(default_factory=list)
    chords: list[tuple[int, str]] = field(default_factory=list)
    events: list[tuple[str, float, float]] = field(default_factory=list)
    patterns: list[dict[str, list[int]]] = field(default_factory=list)
    pumping: list[int] = field(default_factory=list)


def make(recipe: Recipe) -> tuple[np.ndarray, dict[str, Any]]:
    """Mix at RATE_HZ, shape (2, samples), and its truth, before the treatment of the file."""
    style = STYLES[recipe.style]
    draw = draw_track(recipe, style)
    truth = Truth()
    bars = sum(b for _, b in draw.sections)
    desk = Desk(int((bars * draw.bar_s + 1.5) * RATE_HZ))
    triggers = play(recipe, style, draw, desk, truth)
    mix = _mixed(desk, draw, triggers)
    gain = 10 ** ((style.lufs - loudness_lufs(mix)) / 20)
    mix = np.tanh(1.15 * gain * mix).astype(np.float32)
    mix *= 0.97 / max(1.0, float(np.abs(mix).max()))
    return mix, _document(recipe, draw, truth)


def draw_track(recipe: Recipe, style: Style) -> Draw:
    rng = np.random.default_rng(recipe.seed)
    traps = recipe.traps
    bpm = float(rng.uniform(*style.bpm))
    bpm = round(bpm) if rng.random() < 0.6 else round(bpm * 2) / 2 if rng.random() < 0.5 else round(bpm, 2)
    swing = 62.0 if "strong swing" in traps else round(float(rng.uniform(*style.swing)), 1)
    swing = 50.0 if swing < 51.5 else swing
    harmony = style.harmony[int(rng.integers(len(style.harmony)))]
    roots = PROGRESSIONS[harmony][int(rng.integers(len(PROGRESSIONS[harmony])))]
    beat = 60 / bpm
    duck_db = 0.0 if "no ducking" in traps or "no kick" in traps else float(rng.uniform(*style.duck_db))
    fall_s, hold_s = rng.uniform(0.001, 0.006), rng.uniform(0.004, 0.04)
    room_s = beat if style.duck_rate == "1/4" else min(beat, 0.5)
    release_s = rng.uniform(0.5, 0.9) * room_s - hold_s - fall_s
    x = np.linspace(0, 1, 200)
    shape = str(rng.choice(["exponential", "straight", "s", "gain"]))
    low = 10 ** (-max(duck_db, 0.1) / 20)
    rising = {
        "exponential": (np.exp(-3.5 * x) - np.exp(-3.5)) / (1 - np.exp(-3.5)),
        "straight": 1 - x,
        "s": 0.5 + 0.5 * np.cos(np.pi * x),
        "gain": np.log(low + (1 - low) * x) / np.log(low),
    }[shape]
    curve_s = np.concatenate([[0, fall_s], fall_s + hold_s + release_s * x])
    curve = np.concatenate([[0, 1], rising])
    rhythm_name = style.bass_rhythm[int(rng.integers(len(style.bass_rhythm)))]
    if rhythm_name == "riff":
        places = np.sort(rng.choice(np.arange(0, 16), int(rng.integers(5, 8)), replace=False))
        rhythm = tuple((int(a), int(min(b - a, 3))) for a, b in zip(places, [*places[1:], 16]))
    else:
        rhythm = BASS_STEPS[rhythm_name]
    ups = tuple(int(v) for v in rng.choice([0, 0, 0, 0, 12, 7, -2], len(rhythm))) if rhythm_name == "riff" else (0,) * len(rhythm)
    clap_ms = 14.0 if "late clap" in traps else float(rng.choice([0, 0, 4, 8, -4]))
    own = np.random.default_rng(recipe.seed + 11)
    ring = (float(np.exp(own.uniform(np.log(900), np.log(4500)))), float(own.uniform(14, 19))) if "ringing" in traps else None
    if "sliding bass" in traps:
        rhythm, ups = ((0, 6), (6, 6), (12, 4)), tuple(int(v) for v in own.permutation([0, 12, 7]))
    return Draw(
        bpm=float(bpm), swing=swing, tonic=int(rng.integers(12)), mode="major" if harmony == "major" else "minor", roots=roots,
        steps=12 if "three four" in traps else 16, sections=_sections(rng, recipe, bpm), duck_db=duck_db, curve_s=curve_s,
        curve=curve, bass_rhythm=rhythm, bass_ups=ups, clap_ms=clap_ms, rng=rng, kick_hz=float(rng.uniform(44, 60)),
        ring=ring,
    )  # fmt: skip


def _sections(rng: np.random.Generator, recipe: Recipe, bpm: float) -> list[tuple[str, int]]:
    def pick(*lengths: int) -> int:
        return int(rng.choice(lengths))

    slow = bpm < 115
    drop = 16 if slow else pick(16, 16, 32)
    plan = [("intro", 8 if slow else pick(8, 16)), ("breakdown", pick(8, 16)), ("build", pick(4, 8)), ("drop", drop),
            ("breakdown", 8 if slow else pick(8, 16)), ("build", 8), ("drop", drop), ("outro", pick(8, 16))]  # fmt: skip
    if rng.random() < 0.3:
        plan = [plan[0], ("drop", drop), *plan[4:]]
    if "odd lengths" in recipe.traps:
        plan = [("intro", 12), ("breakdown", 10), ("build", 6), ("drop", 20), ("breakdown", 12), ("drop", 18), ("outro", 10)]
    return plan


def play(recipe: Recipe, style: Style, draw: Draw, desk: Desk, truth: Truth) -> list[int]:
    """Places every hit and note; returns the samples at which the ducker is triggered."""
    rng = draw.rng
    traps = recipe.traps
    kick_steps = () if "no kick" in traps else KICKS[style.kick]
    back = (8,) if "half time drums" in traps else (3, 6, 11, 14) if style.kick == "dembow" else (4, 12)
    kick_steps = (0,) if "half time drums" in traps else kick_steps
    if "three four" in traps:
        kick_steps, back = (0, 4, 8), (8,)
    kick = voices.kick(rng, draw.kick_hz, 4.0 if "hard" in recipe.style else 1.3)
    backbeat = [(voices.snare if style.snare else voices.clap)(rng) for _ in range(1 if rng.random() < 0.6 else 5)]
    closed = [voices.hat(rng, 0.018) for _ in range(4)]
    opened = [voices.hat(rng, 0.06) for _ in range(3)]
    shakers = [voices.shaker(rng) for _ in range(5)]
    perc = [voices.rim(rng), voices.conga(rng, 60), voices.conga(rng, 55)]
    perc_steps = sorted(int(s) for s in rng.choice(16, 4, replace=False))
    hat_kind = style.hats[int(rng.integers(len(style.hats)))]
    shaken = bool(rng.random() < 0.5)
    bass_kind, chord_kind, lead_kind = (str(rng.choice(kinds)) for kinds in (style.bass, style.chords, style.lead))
    stabs = STABS[int(rng.integers(len(STABS)))]
    melodies = [_melody(rng, draw) for _ in range(2)]
    duck_in_build = bool(rng.random() < 0.5)
    levels = {"bass": rng.uniform(0.35, 0.55), "chords": rng.uniform(0.09, 0.14), "lead": rng.uniform(0.14, 0.24)}
    notes: dict[tuple, np.ndarray] = {}
    triggers: list[int] = []

    def sample(bar: int, step: float, swung: bool = True) -> int:
        late = (draw.swing - 50) / 100 * 2 * draw.step_s if swung and step % 2 == 1 else 0.0
        return round((bar * draw.bar_s + step * draw.step_s + late) * RATE_HZ)

    def note(kind: str, midi: int, steps: float) -> np.ndarray:
        key = (kind, midi, steps)
        if key not in notes:
            long_s = steps * draw.step_s * 0.95
            if kind == "bass":
                notes[key] = voices.bass(bass_kind, midi, long_s)
            elif kind == "chords":
                notes[key] = voices.chord_note(chord_kind, midi, long_s, rng)
            else:
                notes[key] = voices.lead(lead_kind, midi, long_s, rng)
        return notes[key]

    bar, drop_number = 0, 0
    for index, (label, length) in enumerate(draw.sections):
        drop_number += label == "drop"
        last = index + 1 == len(draw.sections)
        rolling = label == "build" and bool(rng.random() < 0.7) and kick_steps != ()
        gap = int(rng.choice([0, 1, 2, 4])) if label == "build" else 0
        shapes = MINOR_SHAPES if draw.mode == "minor" else MAJOR_SHAPES
        pattern: dict[str, list[int]] = {d: [0] * draw.steps for d in ("kick", "clap", "hats")}
        for i in range(length):
            b = bar + i
            second = i >= length // 2
            free = draw.steps - 4 * gap if i == length - 1 else draw.steps
            root = draw.roots[b % 4]
            shape = tuple(v + 12 if root + v < -5 else v for v in shapes[root])
            drums = {
                "kick": label == "drop" or label == "outro" or (label == "intro" and "kickless intro" not in traps),
                "clap": label == "drop" or (label == "intro" and second) or (label == "outro" and not second),
                "hats": label in ("drop", "intro", "outro") and (label != "intro" or i >= 4),
                "perc": label == "drop" and second,
            }
            if "noise intro" in traps and label == "intro":
                drums = dict.fromkeys(drums, False)
            for step in kick_steps if drums["kick"] else ():
                desk.place("kick", sample(b, step), kick, 0.85)
                pattern["kick"][step] = 1
                truth.presence["kick"].add(b)
            ghosted = label == "drop" or (label == "build" and duck_in_build)
            triggers.extend(sample(b, s) for s in kick_steps if ghosted or drums["kick"])
            for step in back if drums["clap"] else ():
                at = sample(b, step) + round(draw.clap_ms / 1000 * RATE_HZ)
                desk.place("clap", at, backbeat[int(rng.integers(len(backbeat)))], 0.42)
                pattern["clap"][step] = 1
                truth.presence["clap"].add(b)
            for step in HATS[hat_kind] if drums["hats"] else ():
                if step < draw.steps:
                    loud = 0.2 if hat_kind == "off-beat" else 0.17 if step % 4 == 2 else 0.12
                    bank = opened if hat_kind == "off-beat" else closed
                    desk.place("hats", sample(b, step), bank[int(rng.integers(len(bank)))], loud * rng.uniform(0.9, 1.1), 0.1)
                    pattern["hats"][step] = 1
                    truth.presence["hats"].add(b)
            for k, step in enumerate(perc_steps if drums["perc"] else ()):
                if step < draw.steps:
                    desk.place("perc", sample(b, step), perc[k % 3], 0.16, -0.4)
                    truth.presence["perc"].add(b)
            if shaken and drums["perc"]:
                for step in range(draw.steps):
                    desk.place("perc", sample(b, step), shakers[step % 5], 0.08 if step % 2 else 0.13, 0.3)
            if label == "drop" or (label == "outro" and not second) or (label == "intro" and "kickless intro" in traps and second):
                for (step, long), up in zip(draw.bass_rhythm, draw.bass_ups):
                    if step >= draw.steps:
                        continue
                    long = min(long, draw.steps - step)
                    midi = 28 + (draw.tonic - 4) % 12 + root % 12 - (12 if root % 12 > 6 else 0) + up
                    sound = note("bass", midi, long)
                    slide = 0.0
                    if "sliding bass" in traps and step and (b + step) % 2 == 0:
                        slide = float(truth.bass[-1][2] - midi)
                        sound = voices.slid(sound, slide, SLIDE_STEPS * draw.step_s)
                    desk.place("bass", sample(b, step), sound, levels["bass"])
                    truth.bass.append(((b * draw.steps + step) / 4, long / 4, midi, slide))
                    truth.presence["bass"].add(b)
            if (label in ("drop", "breakdown", "build") and free > 0) or ("kickless intro" in traps and label == "intro"):
                held = chord_kind in ("pad", "keys")
                opening = label == "breakdown"
                for step in (0,) if held else stabs:
                    if step >= free:
                        continue
                    long = free if held else 2
                    for k, tone in enumerate(shape):
                        midi = 60 + (draw.tonic + root + tone) % 12
                        gain = levels["chords"] * (0.5 + 0.5 * i / length if opening else 1.0)
                        desk.place("chords", sample(b, step), note("chords", midi, long), gain, (k - 1) * 0.5)
                truth.presence["chords"].add(b)
                truth.chords.append((b, TONICS[(draw.tonic + root) % 12] + ("m" if shape[1] - shape[0] == 3 else "")))
            if (label == "drop" and (second or drop_number == 2)) or (label == "breakdown" and second):
                for step, degree, long in melodies[drop_number % 2][b % 2]:
                    if step < draw.steps:
                        midi = 72 + draw.tonic + degree - 12 * (draw.tonic > 6)
                        desk.place("lead", sample(b, step), note("lead", midi, long), levels["lead"], 0.1)
                        truth.lead.append(((b * draw.steps + step) / 4, midi))
                truth.presence["lead"].add(b)
            if rolling and i >= length - 4:
                every = 4 if i == length - 4 else 2 if i < length - 1 else 1
                for step in range(0, free, every):
                    desk.place("roll", sample(b, step), backbeat[0], 0.12 + 0.25 * (i - length + 4 + step / 16) / 4)
        if label == "drop" or (label == "build" and duck_in_build):
            truth.pumping.append(index)
        if rolling:
            truth.events.append(("snare roll", (bar + length - 4) * draw.steps / 4, 4 * draw.steps / 4 - gap))
        if label == "build":
            n = sample(bar + length, -4 * gap, False) - sample(bar, 0)
            rise = voices.swept_noise(rng, n, 250, 9000) * np.linspace(0.03, 0.5, n) ** 1.4
            desk.place("noise", sample(bar, 0), rise, 0.6)
            truth.presence["noise"].update(range(bar, bar + length))
            truth.events.append(("riser", bar * draw.steps / 4, length * draw.steps / 4 - gap))
        if gap:
            truth.events.append(("gap", (bar + length) * draw.steps / 4 - gap, float(gap)))
        if label == "drop" and rng.random() < 0.7:
            desk.place("noise", sample(bar, 0), voices.impact(rng), 0.6)
            truth.events.append(("impact", bar * draw.steps / 4, 1.0))
        if label in ("breakdown", "outro") and index and rng.random() < 0.5:
            n = sample(bar + 2, 0) - sample(bar, 0)
            desk.place("noise", sample(bar, 0), voices.swept_noise(rng, n, 9000, 400) * np.linspace(0.5, 0.0, n), 0.5)
            truth.events.append(("fall", bar * draw.steps / 4, 2 * draw.steps / 4))
        if "noise intro" in traps and index == 0:
            n = sample(bar + length, 0) - sample(bar, 0)
            desk.place("noise", 0, band(rng.standard_normal(n), 200, 7000) * np.linspace(0.25, 0.6, n), 0.5)
            truth.presence["noise"].update(range(bar, bar + length))
        if last and kick_steps:
            desk.place("kick", sample(bar + length, 0), kick, 0.85)
        truth.patterns.append(pattern)
        bar += length
    return triggers


def _melody(rng: np.random.Generator, draw: Draw) -> list[list[tuple[int, int, int]]]:
    """Two bars of (step, semitones over the tonic, length in steps)."""
    scale = SCALES[draw.mode]
    out = []
    degree = int(rng.integers(7))
    for _ in range(2):
        line = []
        for step in sorted(int(s) for s in rng.choice(np.arange(0, 16), int(rng.integers(4, 7)), replace=False)):
            degree = int(np.clip(degree + rng.integers(-2, 3), 0, 8))
            line.append((step, scale[degree % 7] + 12 * (degree // 7), int(rng.integers(1, 4))))
        out.append(line)
    return out


def _mixed(desk: Desk, draw: Draw, triggers: list[int]) -> np.ndarray:
    rng = draw.rng
    tracks = desk.tracks
    for name, length_s, amount in (("clap", 0.9, 0.15), ("chords", 1.6, 0.18), ("lead", 1.4, 0.25), ("roll", 0.8, 0.15)):
        if name in tracks:
            tracks[name] = room(tracks[name], rng, length_s, amount)
    if "chords" in tracks:
        tracks["chords"] = band(tracks["chords"], float(rng.uniform(110, 190)), None)
    if "lead" in tracks:
        tracks["lead"] = band(tracks["lead"], 200, None)
    for name in ("chords", "lead") if draw.ring else ():
        if name in tracks:
            tracks[name] = voices.ringing(tracks[name], draw.ring[0], RING_Q, draw.ring[1])
    if draw.duck_db:
        gain = duck_gain(desk.frames, [(t, draw.duck_db) for t in triggers], draw.curve_s, draw.curve)
        for name in DUCKED:
            if name in tracks:
                tracks[name] = tracks[name] * gain
    # What a mastering equaliser does: a gentle tilt.
    mix = sum(tracks.values(), np.zeros((2, desk.frames), np.float32))
    dull = band(mix, None, 1000, 1)
    return mix + float(rng.uniform(-0.25, 0.35)) * dull


def _document(recipe: Recipe, draw: Draw, truth: Truth) -> dict[str, Any]:
    left = draw.duck_db * draw.curve
    back = draw.curve_s[2:][left[2:] <= 1.0]
    half = recipe.traps == ("half time drums",)
    sections, bar = [], 0
    for label, length in draw.sections:
        sections.append({"label": label, "start_bar": bar + 1, "bars": length, "start_s": bar * draw.bar_s,
                         "end_s": (bar + length) * draw.bar_s})  # fmt: skip
        bar += length
    return {
        "name": recipe.name,
        "held_back": recipe.held_back,
        "tempo": {"bpm": draw.bpm, "octave_ok": [draw.bpm / 2] if half else [], "beats_per_bar": draw.steps // 4,
                  "first_downbeat_s": 0.0, "swing_percent": draw.swing, "steady": True},
        "key": {"tonic": TONICS[draw.tonic], "mode": draw.mode, "tuning_cents": 0.0},
        "sections": sections,
        "presence": {role: sorted(b + 1 for b in bars) for role, bars in truth.presence.items()},
        "drums": {"kick": {"fundamental_hz": round(draw.kick_hz, 2)} if truth.presence["kick"] else None,
                  "patterns": truth.patterns, "clap_ms": draw.clap_ms},
        "bass": {"notes": [{"start_beat": s, "beats": b, "midi": m, "slide_semitones": v} for s, b, m, v in truth.bass]},
        "lead": {"notes": [{"start_beat": s, "midi": m} for s, m in truth.lead]},
        "resonances": [{"hz": round(draw.ring[0], 1)}] if draw.ring else [],
        "chords": [{"bar": b + 1, "name": name} for b, name in truth.chords],
        "pump": {"depth_db": round(draw.duck_db, 2), "rate": STYLES[recipe.style].duck_rate, "sections": truth.pumping,
                 "release_ms": round(float(back[0] - draw.curve_s[1]) * 1000, 1) if draw.duck_db > 1 else 0.0},
        "events": [{"kind": k, "start_beat": s, "beats": b} for k, s, b in truth.events],
    }  # fmt: skip


def treat(recipe: Recipe, mix: np.ndarray, truth: dict[str, Any]) -> tuple[np.ndarray, int, str]:
    """Samples, rate and file ending after the recipe's treatment and traps; the truth is changed with them."""
    rng = np.random.default_rng(recipe.seed + 7)
    treatment = recipe.treatment
    rate, ending = RATE_HZ, "wav"
    bar_s = 60 / truth["tempo"]["bpm"] * truth["tempo"]["beats_per_bar"]
    if "drifting" in recipe.traps or "tempo change" in recipe.traps:
        mix = _warped(mix, "drifting" in recipe.traps)
        truth["tempo"]["steady"] = False
    if "missing beat" in recipe.traps:
        drop = [s for s in truth["sections"] if s["label"] == "drop"][1]
        mix, truth["missing_beat_s"] = _without_beat(mix, drop["start_s"], bar_s / 4), drop["start_s"] - bar_s / 4
        for section in truth["sections"]:
            for edge in ("start_s", "end_s"):
                section[edge] -= bar_s / 4 if section[edge] >= drop["start_s"] else 0.0
    if treatment == "varispeed":
        ratio = float(rng.choice([rng.uniform(0.978, 0.992), rng.uniform(1.008, 1.022)]))
        mix = _resampled(mix, ratio)
        truth["tempo"]["bpm"] *= ratio
        truth["key"]["tuning_cents"] = round(float(1200 * np.log2(ratio)), 1)
        if truth["drums"]["kick"]:
            truth["drums"]["kick"]["fundamental_hz"] *= ratio
        truth["pump"]["release_ms"] /= ratio
        for section in truth["sections"]:
            section["start_s"], section["end_s"] = section["start_s"] / ratio, section["end_s"] / ratio
    elif treatment == "clipped":
        mix = np.clip(mix * 1.5, -0.99, 0.99)
    elif treatment == "silence":
        silence_s = float(rng.uniform(0.1, 1.1))
        mix = np.pad(mix, ((0, 0), (round(silence_s * RATE_HZ), 0)))
        _moved(truth, silence_s)
    elif treatment == "excerpt":
        cut_s = float(rng.uniform(1.0, 9.0))
        mix = mix[:, round(cut_s * RATE_HZ) :]
        _moved(truth, -cut_s)
    elif treatment == "mono":
        mix = mix.mean(axis=0, keepdims=True)
    elif treatment == "faded":
        n = 6 * RATE_HZ
        mix = mix.copy()
        mix[:, :n] *= np.linspace(0.02, 1, n)
        mix[:, -n:] *= np.linspace(1, 0.0, n)
    elif treatment in ("44100", "22050", "mp3", "ogg"):
        rate = 22_050 if treatment == "22050" else 44_100
        mix = signal.resample_poly(mix, rate // 150, RATE_HZ // 150, axis=1)
        ending = treatment if treatment in ("mp3", "ogg") else "wav"
    return mix, rate, ending


def _moved(truth: dict[str, Any], by_s: float) -> None:
    """Shifts every time, renumbers the bars from the first bar line in the file and drops what lies before it."""
    bar_s = 60 / truth["tempo"]["bpm"] * truth["tempo"]["beats_per_bar"]
    gone = int(np.ceil(max(0.0, -by_s) / bar_s - 1e-9))
    beats = gone * truth["tempo"]["beats_per_bar"]
    if by_s > 0:
        # Silence before the first hit may hold a bar line of the grid.
        gone = -int(by_s // bar_s)
        beats = gone * truth["tempo"]["beats_per_bar"]
    truth["tempo"]["first_downbeat_s"] = by_s + gone * bar_s
    for section in truth["sections"]:
        section["start_s"], section["end_s"] = max(0.0, section["start_s"] + by_s), section["end_s"] + by_s
        end = section["start_bar"] + section["bars"] - gone
        section["start_bar"] = max(1, section["start_bar"] - gone)
        section["bars"] = end - section["start_bar"]
    truth["presence"] = {role: [b - gone for b in bars if b > gone] for role, bars in truth["presence"].items()}
    truth["chords"] = [{**c, "bar": c["bar"] - gone} for c in truth["chords"] if c["bar"] > gone]
    for name in ("events", "bass"):
        rows = truth[name]["notes"] if name == "bass" else truth[name]
        kept = [{**row, "start_beat": row["start_beat"] - beats} for row in rows if row["start_beat"] >= beats]
        truth[name] = {"notes": kept} if name == "bass" else kept


def _resampled(mix: np.ndarray, ratio: float) -> np.ndarray:
    """Played `ratio` times as fast. Linear interpolation of the doubled rate is 60 dB clean where it matters here."""
    double = signal.resample_poly(mix, 2, 1, axis=1)
    return _read_at(double, np.arange(int(mix.shape[1] / ratio)) * ratio * 2)


def _warped(mix: np.ndarray, drifting: bool) -> np.ndarray:
    """A tempo that wanders by one percent, or one that rises by three in the middle of the track."""
    n = mix.shape[1]
    t = np.arange(n) / RATE_HZ
    speed = 1 + 0.01 * np.sin(2 * np.pi * t / 47) if drifting else np.where(t < n / RATE_HZ / 2, 1.0, 1.03)
    place = np.cumsum(speed)
    return _read_at(mix, place[place < n - 2])


def _read_at(x: np.ndarray, place: np.ndarray) -> np.ndarray:
    base = np.minimum(place.astype(int), x.shape[1] - 2)
    part = (place - base).astype(np.float32)
    return np.asarray(x[:, base] * (1 - part) + x[:, base + 1] * part)


def _without_beat(mix: np.ndarray, before_s: float, beat_s: float) -> np.ndarray:
    a, b = round((before_s - beat_s) * RATE_HZ), round(before_s * RATE_HZ)
    return np.concatenate([mix[:, :a], mix[:, b:]], axis=1)
