"""“Cold Harbour Relay”: electro breaks, 131.5 BPM, E flat minor, 116 bars after 0.4 s of air."""

from __future__ import annotations

import numpy as np

from demo import synth
from demo.ferry_at_four import _section_truth
from demo.synth import RATE_HZ, Desk

BPM = 131.5
AIR_S = 0.4
SWING_PERCENT = 56.0
KEY = {"tonic": "Eb", "mode": "minor"}
SECTIONS = [("intro", 16), ("breakdown", 12), ("build", 8), ("drop", 32), ("breakdown", 16), ("drop", 24), ("outro", 8)]
DUCK_DB = 7.0
CURVE_S = np.concatenate([[0.0, 0.004], np.linspace(0.03, 0.23, 40)])
_U = (CURVE_S[2:] - 0.03) / 0.2
CURVE = np.concatenate([[0.0, 1.0], 0.5 + 0.5 * np.cos(np.pi * _U)])
KICK = {"a": [0, 6, 10], "b": [0, 3, 10, 13]}
SNARE = [4, 12]
HATS = [1.0, 0.4, 0.7, 0.4, 0.9, 0.4, 0.7, 0.5, 1.0, 0.4, 0.7, 0.4, 0.9, 0.5, 0.8, 0.6]
BASS = [(0, 39, 2), (3, 39, 1), (6, 42, 1), (8, 39, 1), (9, 37, 2), (13, 34, 2)]
BASS_TURN = [(0, 35, 2), (3, 35, 1), (6, 39, 2), (9, 37, 2), (12, 34, 3)]
PAD = [(51, 54, 58, 61), (51, 54, 58, 61), (47, 51, 54, 58), (49, 53, 56, 58)]
LEAD = [(0, 75, 2), (4, 73, 1), (6, 70, 2), (11, 73, 1), (14, 78, 2)]


def make() -> tuple[np.ndarray, dict]:
    """Stereo mix, shape (2, samples), and the truth as a JSON-ready dict."""
    rng = np.random.default_rng(1315)
    beat = 60 / BPM
    bars = sum(length for _, length in SECTIONS)
    frames = int((AIR_S + bars * 4 * beat + 1.5) * RATE_HZ)
    desk = Desk(frames)
    late = (SWING_PERCENT - 50) / 100 * beat / 2

    def at(bar: float, step: float = 0.0) -> int:
        swung = late if int(step) % 2 else 0.0
        return round((AIR_S + (bar * 4 + step / 4) * beat + swung) * RATE_HZ)

    kick = synth.kick(46.0, 0.26, 260, rng)
    snare = synth.clap(rng, (0.0, 0.004), 1500, 0.09)
    n = int(0.18 * RATE_HZ)
    snare[:n] += 0.8 * np.sin(2 * np.pi * 196 * np.arange(n) / RATE_HZ) * synth.decay(n, 0.05)
    closed = [synth.hat(rng, 0.022, 7500) for _ in range(5)]
    bass = {(m, s): synth.growl_bass(m, s * beat / 4) for _, m, s in BASS + BASS_TURN}
    pads = {}
    leads = {m: synth.strings(m, int(0.24 * RATE_HZ), rng, 0.004, 7000) for _, m, _ in LEAD}

    triggers: list[tuple[int, float]] = []
    bass_truth, drums_truth, parts_truth = [], [], []
    bar = drop = 0
    for label, length in SECTIONS:
        drop += label == "drop"
        drums = {"kick": [0] * 16, "clap": [0] * 16, "hats": [0] * 16}
        parts: dict[str, list[int]] = {}
        for i in range(length):
            b = bar + i

            def on(part: str, index: int = i, parts: dict[str, list[int]] = parts, length: int = length) -> None:
                parts.setdefault(part, [0] * length)[index] = 1

            steps = KICK["b" if b % 4 == 3 else "a"]
            beat_on = label in ("drop", "outro") or (label == "intro" and i >= 4)
            for step in steps:
                triggers.append((at(b, step), DUCK_DB))
                if beat_on:
                    desk.place("kick", at(b, step), kick, 1.0)
                    if b % 4 != 3:
                        drums["kick"][step] = 1
                    on("kick")
            if label == "drop" or (label == "intro" and i >= 8) or label == "outro":
                for step in SNARE:
                    desk.place("snare", at(b, step), snare, 0.7)
                    drums["clap"][step] = 1
                    on("clap")
            if label in ("drop", "outro") or (label == "intro"):
                for step in range(16):
                    desk.place("hats", at(b, step), closed[(b + step * 3) % 5], 0.3 * HATS[step], 0.1)
                    drums["hats"][step] = 1
                    on("hats")
            if label == "drop" or (label == "build" and i < 6):
                for step, midi, long in BASS_TURN if b % 4 == 2 else BASS:
                    desk.place("bass", at(b, step), bass[midi, long], 0.55 if label == "drop" else 0.25)
                    bass_truth.append({"start_beat": b * 4 + step / 4, "beats": long / 4, "midi": midi})
                    on("bass")
            if label in ("breakdown", "build", "drop"):
                top = 1800.0 if label == "breakdown" else 4500.0
                for midi in PAD[b % 4]:
                    if (midi, top) not in pads:
                        pads[midi, top] = synth.strings(midi, int(4 * beat * RATE_HZ), rng, 0.08, top)
                    desk.place("pad", at(b), pads[midi, top], 0.13)
                on("chords")
            if (label == "drop" and (drop == 2 or i >= 16)) or (label == "breakdown" and i >= 8):
                for step, midi, _ in LEAD:
                    desk.place("lead", at(b, step), leads[midi], 0.3)
                on("lead")
        if label == "build":
            m = at(bar + length) - at(bar)
            rise = synth.sweep_noise(rng, m, 250, 8000) * np.linspace(0.03, 0.55, m) ** 1.4
            desk.place("riser", at(bar), synth.fade(rise, 0.1, 0.02), 0.5)
            parts["noise"] = [1] * length
        if label == "drop":
            desk.place("impact", at(bar), synth.impact(rng), 0.45)
        parts_truth.append(parts)
        drums_truth.append({"section": len(drums_truth), "steps_per_bar": 16, **drums})
        bar += length

    gain = synth.duck_gain(frames, triggers, CURVE_S, CURVE)
    for name in ("bass", "pad", "lead"):
        desk.tracks[name] *= gain
    desk.tracks["lead"] = synth.room(desk.tracks["lead"], rng, 1.6, 0.3)
    desk.tracks["snare"] = synth.room(desk.tracks["snare"], rng, 0.8, 0.15)
    desk.tracks["pad"] = synth.band(desk.tracks["pad"], 180, None)
    mix = sum(desk.tracks.values(), np.zeros((2, frames), np.float32))
    mix = synth.master(mix, -8.8)
    mix += rng.standard_normal(mix.shape) * 10 ** (-72 / 20)

    beats = np.arange(64) / 64 * beat
    back = CURVE_S[1:][DUCK_DB * CURVE[1:] <= 1.0][0]
    truth = {
        "title": "Cold Harbour Relay",
        "tempo": {"bpm": BPM, "first_downbeat_s": AIR_S, "beats_per_bar": 4, "swing_percent": SWING_PERCENT},
        "key": KEY,
        "sections": _section_truth(SECTIONS, BPM, AIR_S),
        "pump": {
            "depth_db": DUCK_DB, "rate": "kick",
            "curve_db": [round(float(-DUCK_DB * v), 3) for v in np.interp(beats, CURVE_S, CURVE, right=0.0)],
            "release_ms": round(float(back - CURVE_S[1]) * 1000, 1),
        },
        "drums": {"kick": {"fundamental_hz": 46.0}, "patterns": drums_truth},
        "bass": {"notes": bass_truth},
        "parts": parts_truth,
        "loudness": {"integrated_lufs": synth.loudness_lufs(mix)},
    }  # fmt: skip
    return mix, truth
