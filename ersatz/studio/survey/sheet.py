"""What the printed survey and the page of two references show, as rows of text."""

from __future__ import annotations

from typing import Any

from ersatz.core.pitch import degree_name, hz_midi, note_name
from ersatz.core.survey.document import ROLES, DrumPattern, Pump, Survey
from ersatz.core.words import rounded

ROLE_NAMES = {
    "kick": "kick", "clap": "clap, snare", "hats": "hats", "perc": "percussion", "bass": "bass", "chords": "chords, pad",
    "lead": "lead, voice", "noise": "noise",
}  # fmt: skip
RATE_WORDS = {"1/4": "every beat", "1/8": "every half beat", "kick": "with the kick", "kick and snare": "with kick and snare"}


def figures(survey: Survey) -> list[tuple[str, str]]:
    """The track's figures, each with its unit."""
    tempo, key, pump, loudness = survey.tempo, survey.key, survey.pump, survey.loudness
    kick = survey.drums.kick
    rows = [
        ("Tempo", f"{tempo.bpm:.2f} BPM"),
        ("Bar", f"{tempo.beats_per_bar} beats, bar 1 at {tempo.first_downbeat_s:.3f} s"),
        ("Swing", f"{tempo.swing_percent:.1f} %"),
        ("Key", f"{key.pitch_key}, {rounded(key.tuning_cents, 0)} cents"),
        ("Length", f"{survey.bars} bars, {survey.source.duration_s:.0f} s"),
        ("Loudness", f"{rounded(loudness.integrated_lufs)} LUFS, range {loudness.range_lu:.1f} LU"),
        ("True peak", f"{rounded(loudness.true_peak_dbtp)} dBTP, peak to loudness {loudness.plr_db:.1f} dB"),
        ("Pump", pump_sentence(pump)),
        (
            "Balance",
            f"tilt {rounded(survey.spectrum.tilt_db_per_octave)} dB per octave, mono below {survey.stereo.mono_below_hz:.0f} Hz",
        ),
    ]
    if survey.spectrum.resonances:
        rings = ", ".join(f"{r.hz:.0f} Hz (+{r.over_db:.0f} dB)" for r in survey.spectrum.resonances)
        rows.append(("Rings at", rings))
    if kick:
        decay = f"decay {kick.decay_ms:.0f} ms" if kick.decays else f"rings past {kick.decay_ms:.0f} ms"
        fall = f", pitch falls in {kick.fall_ms:.0f} ms" if kick.fall_ms else ""
        note = note_name(round(hz_midi(kick.fundamental_hz)), survey.key.pitch_key)
        rows.append(("Kick", f"{kick.fundamental_hz:.1f} Hz ({note}), {decay}{fall}"))
    return rows


def pump_sentence(pump: Pump) -> str:
    """Depth, rate and release in one sentence."""
    if pump.depth_db:
        return f"{pump.depth_db:.1f} dB {RATE_WORDS[pump.rate]}, back after {pump.release_ms:.0f} ms"
    return "nothing ducks" if pump.told else "can't be told: nothing sounds long enough to show it"


def sheet_of(survey: Survey) -> dict[str, Any]:
    """A survey as the printed sheet shows it."""
    key = survey.key.pitch_key
    sections = []
    for i, section in enumerate(survey.sections):
        pattern = survey.drums.patterns[i]
        bass = [n for n in survey.bass.notes_per_bar[section.start_bar - 1 : section.end_bar - 1][:8]]
        sections.append(
            {
                "section": section,
                "last": section.end_bar - 1,
                "like": survey.sections[section.like].start_bar if section.like is not None else None,
                "plays": ", ".join(ROLE_NAMES[r] for r in ROLES if section.presence[r] >= 0.5) or "hardly anything",
                "steps": [(name, _steps(getattr(pattern, name), per_beat(survey, pattern))) for name in ("kick", "clap", "hats")],
                "bass": " ".join("·" if n is None else f"{note_name(n, key)} ({degree_name(n, key)})" for n in bass),
            }
        )
    return {"survey": survey, "figures": figures(survey), "sheet_sections": sections, "sheet_events": survey.events}


def per_beat(survey: Survey, pattern: DrumPattern) -> int:
    """Steps of a beat: four, or three in triplets."""
    return pattern.steps_per_bar // survey.tempo.beats_per_bar


def _steps(row: tuple[float, ...], beat: int) -> str:
    """One bar in text: a hit, a soft hit, nothing; beats apart."""
    marks = ["X" if v >= 0.7 else "x" if v else "·" for v in row]
    return " ".join("".join(marks[i : i + beat]) for i in range(0, len(marks), beat))


def beside_rows(first: Survey, second: Survey) -> list[tuple[str, str, str]]:
    """Figures of two references side by side."""
    names = dict.fromkeys([name for name, _ in figures(first)] + [name for name, _ in figures(second)])
    one, two = dict(figures(first)), dict(figures(second))
    return [(name, one.get(name, "none"), two.get(name, "none")) for name in names]
