"""“Ferry at Four”: disco house, 121 BPM, B flat minor, 144 bars. The mix and the truth about it."""

from __future__ import annotations

import numpy as np

from demo import synth
from demo.synth import RATE_HZ, Desk

BPM = 121.0
KEY = {"tonic": "Bb", "mode": "minor"}
SECTIONS = [("intro", 16), ("breakdown", 16), ("build", 8), ("drop", 32), ("breakdown", 16), ("build", 8), ("drop", 32),
            ("outro", 16)]  # fmt: skip
DUCK_DB = {"drop": 9.0}
DUCK_ELSEWHERE_DB = 3.0
#: Fall within 4 ms, hold to 24 ms, then an exponential way back.
_T = np.linspace(0.024, 60 / BPM, 60)
CURVE_S = np.concatenate([[0.0, 0.004], _T])
CURVE = np.concatenate([[0.0, 1.0], (np.exp(-(_T - 0.024) / 0.125) - np.exp(-(_T[-1] - 0.024) / 0.125))
                        / (1 - np.exp(-(_T[-1] - 0.024) / 0.125))])  # fmt: skip
CHORDS = [(46, (58, 61, 65, 68)), (42, (58, 61, 66, 65)), (39, (58, 63, 66, 61)), (41, (56, 60, 63, 68))]
#: (16th step, semitones above the chord's root, 16ths long), one pattern per drop.
BASS = {
    1: [(0, 0, 2), (3, 0, 1), (6, 12, 1), (7, 0, 2), (10, 7, 2), (14, 10, 1), (15, 12, 1)],
    2: [(0, 0, 3), (4, 12, 1), (6, 0, 1), (8, 0, 2), (11, 3, 1), (12, 5, 2), (15, 7, 1)],
}
CHOPS = {1: [(2, 70, "a"), (5, 68, "o"), (11, 73, "e")], 2: [(0, 77, "e"), (3, 75, "a"), (6, 73, "a"), (10, 70, "o"),
                                                             (13, 68, "o")]}  # fmt: skip
SHAKER = [0.9, 0.35, 0.6, 0.45] * 4


def make() -> tuple[np.ndarray, dict]:
    """Stereo mix, shape (2, samples), and the truth as a JSON-ready dict."""
    rng = np.random.default_rng(904)
    beat = 60 / BPM
    bars = sum(length for _, length in SECTIONS)
    frames = int((bars * 4 * beat + 2.0) * RATE_HZ)
    desk = Desk(frames)

    def at(bar: float, step: float = 0.0) -> int:
        """Sample of a 0-based bar and 16th; odd 16ths stay straight in this track."""
        return round((bar * 4 + step / 4) * beat * RATE_HZ)

    kick = synth.kick(51.9, 0.34, 210, rng)
    claps = [synth.clap(rng, (0.0, 0.009, 0.019, 0.028), 1300, 0.07), synth.clap(rng, (0.0, 0.012), 2100, 0.05)]
    open_hats = [synth.hat(rng, 0.11) for _ in range(4)]
    shakers = [synth.shaker(rng) for _ in range(6)]
    bass_notes: dict[tuple[int, int], np.ndarray] = {}
    string_notes: dict[tuple[int, float, float], np.ndarray] = {}
    chop_notes = {}

    def string(midi: int, beats: float, attack: float, top: float = 9000) -> np.ndarray:
        key = (midi, beats, attack + top)
        if key not in string_notes:
            string_notes[key] = synth.strings(midi, int(beats * beat * RATE_HZ), rng, attack, top)
        return string_notes[key]

    kick_beats: list[int] = []
    triggers: list[tuple[int, float]] = []
    bass_truth, drums_truth, parts_truth = [], [], []
    bar = 0
    seen: dict[str, int] = {}
    for label, length in SECTIONS:
        seen[label] = seen.get(label, 0) + 1
        nth = seen[label]
        depth = DUCK_DB.get(label, DUCK_ELSEWHERE_DB)
        drums = {"kick": [0] * 16, "clap": [0] * 16, "hats": [0] * 16}
        parts: dict[str, list[int]] = {}

        def on(part: str, index: int, parts: dict[str, list[int]] = parts, length: int = length) -> None:
            parts.setdefault(part, [0] * length)[index] = 1

        for i in range(length):
            b = bar + i
            phrase = CHORDS[b % 4]
            has_kick = label in ("intro", "drop", "outro")
            gap_beats = 2 if label == "build" and i == length - 1 else 0
            for q in range(4):
                silent = q >= 4 - gap_beats
                triggers.append((at(b, q * 4), 0.0 if silent else depth))
                if has_kick:
                    desk.place("kick", at(b, q * 4), kick, 1.0)
                    kick_beats.append(b * 4 + q)
                    drums["kick"][q * 4] = 1
                    on("kick", i)
            late = round(0.004 * RATE_HZ)
            if label == "drop" or (label == "intro" and i >= 8) or (label == "outro" and i < 12) or label == "build":
                for step in (4, 12):
                    if gap_beats and step >= 8:
                        continue
                    for layer, gain in zip(claps, (0.55, 0.35)):
                        desk.place("clap", at(b, step) + late, layer, gain * (0.6 if label == "build" else 1))
                    drums["clap"][step] = 1
                    on("clap", i)
            if label == "build" and i >= length - 4:
                steps = range(0, 16, 2) if i < length - 2 else range(16)
                for step in steps:
                    if step >= 16 - gap_beats * 4:
                        continue
                    desk.place("roll", at(b, step), claps[1], 0.15 + 0.25 * (i - length + 4 + step / 16) / 4)
            if label == "drop" or (label == "intro" and i >= 4) or label == "outro":
                for k, step in enumerate((2, 6, 10, 14)):
                    desk.place("hats", at(b, step), open_hats[(b + k) % 4], 0.24, 0.15)
                    drums["hats"][step] = 1
                    on("hats", i)
            if label == "drop" or (label == "intro" and i >= 12):
                for step in range(16):
                    desk.place("shaker", at(b, step), shakers[(b * 5 + step) % 6], 0.16 * SHAKER[step], -0.35)
                    on("perc", i)
            if label == "drop" or (label == "outro" and i < 8):
                for step, up, long in BASS[2 if nth == 2 and label == "drop" else 1]:
                    midi = phrase[0] - 12 + up
                    if (midi, long) not in bass_notes:
                        bass_notes[midi, long] = synth.slap_bass(midi, long * beat / 4)
                    desk.place("bass", at(b, step), bass_notes[midi, long], 0.5)
                    bass_truth.append({"start_beat": b * 4 + step / 4, "beats": long / 4, "midi": midi})
                    on("bass", i)
            if label in ("drop", "breakdown", "build"):
                top = {"breakdown": 1500 + 2500 * i / length, "build": 3000 + 500 * i}.get(label, 7000)
                top = float(round(top, -2))
                if not gap_beats:
                    for midi in phrase[1]:
                        desk.place("chords", at(b), string(midi, 4, 0.02, top), 0.11)
                    on("chords", i)
                else:
                    for midi in phrase[1]:
                        desk.place("chords", at(b), string(midi, 2, 0.02, top), 0.11)
            if label == "drop":
                for step in (3, 6, 11, 14):
                    for midi in phrase[1][1:]:
                        desk.place("strings", at(b, step), string(midi + 12, 0.4, 0.008), 0.13)
                on("strings", i)
            if (label == "drop" and (i >= 16 or nth == 2)) or (label == "breakdown" and i >= 8):
                for step, midi, vowel in CHOPS[2 if nth == 2 and label == "drop" else 1]:
                    if (midi, vowel) not in chop_notes:
                        chop_notes[midi, vowel] = synth.voice_chop(midi, 0.33, vowel)
                    desk.place("chops", at(b, step), chop_notes[midi, vowel], 0.5, 0.2 if step % 2 else -0.2)
                on("lead", i)
        if label == "build":
            n = at(bar + length) - at(bar) - round(2 * beat * RATE_HZ)
            rise = synth.sweep_noise(rng, n, 300, 9000) * np.linspace(0.02, 0.5, n) ** 1.5
            desk.place("riser", at(bar), synth.fade(rise, 0.1, 0.02), 0.55)
            parts["noise"] = [1] * length
        if label == "drop":
            desk.place("impact", at(bar), synth.impact(rng), 0.5)
        parts_truth.append(parts)
        drums_truth.append({"section": len(drums_truth), "steps_per_bar": 16, **drums})
        bar += length

    gain = synth.duck_gain(frames, triggers, CURVE_S, CURVE)
    for name in ("bass", "chords", "strings"):
        desk.tracks[name] *= gain
    for name, amount in (("clap", 0.18), ("chops", 0.35), ("strings", 0.12)):
        desk.tracks[name] = synth.room(desk.tracks[name], rng, 1.3, amount)
    desk.tracks["chords"] = synth.band(desk.tracks["chords"], 160, None)
    mix = synth.master(sum(desk.tracks.values(), np.zeros((2, frames), np.float32)), -8.5)

    beats = np.arange(64) / 64 * beat
    truth = {
        "title": "Ferry at Four",
        "tempo": {"bpm": BPM, "first_downbeat_s": 0.0, "beats_per_bar": 4, "swing_percent": 50},
        "key": KEY,
        "sections": _section_truth(SECTIONS, BPM, 0.0),
        "pump": {
            "depth_db": DUCK_DB["drop"], "rate": "1/4",
            "curve_db": [round(float(-DUCK_DB["drop"] * v), 3) for v in np.interp(beats, CURVE_S, CURVE)],
            "release_ms": _release_ms(DUCK_DB["drop"]),
        },
        "drums": {"kick": {"fundamental_hz": 51.9}, "patterns": drums_truth},
        "bass": {"notes": bass_truth},
        "parts": parts_truth,
        "loudness": {"integrated_lufs": synth.loudness_lufs(mix)},
    }  # fmt: skip
    return mix, truth


def _release_ms(depth_db: float) -> float:
    """From the end of the fall to within 1 dB of full level, as the survey defines it."""
    left = depth_db * CURVE
    back = CURVE_S[1:][left[1:] <= 1.0][0]
    return round(float(back - CURVE_S[1]) * 1000, 1)


def _section_truth(sections: list[tuple[str, int]], bpm: float, first_s: float) -> list[dict]:
    out, bar = [], 0
    for label, length in sections:
        start = first_s + bar * 240 / bpm
        out.append({"label": label, "start_bar": bar + 1, "bars": length, "start_s": round(start, 4),
                    "end_s": round(start + length * 240 / bpm, 4)})  # fmt: skip
        bar += length
    return out
