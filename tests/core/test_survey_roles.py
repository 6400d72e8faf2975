"""What plays where: an arrangement of known parts, bar by bar, and what the survey says of it."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import signal

from ersatz.core.audio import Audio
from ersatz.core.survey import Track, survey_audio, survey_track
from ersatz.core.survey.document import ROLES, Corrections, Source, Survey
from ersatz.core.survey.presence import role_confidence
from tests.signals import RATE, kick_hit, noise_hit

BPM = 125.0
BAR_S = 240 / BPM
#: (bars, roles): an intro, a breakdown, a build, a drop, and the last three once more.
ALL = "kick clap hats bass chords"
PLAN = (
    (8, "kick hats"), (16, "chords"), (8, "chords noise"), (16, ALL),
    (16, "chords"), (8, "chords noise"), (16, ALL), (8, "kick hats"),
)  # fmt: skip
LABELS = ("intro", "breakdown", "build", "drop", "breakdown", "build", "drop", "outro")
ROOTS = (45, 41, 48, 43)


def arrangement(plan: tuple[tuple[int, str], ...]) -> np.ndarray:
    """Kick on the beats, backbeat, off-beat hats, bass in 8ths off the kick, wide saw triads, a swell of noise; shape (2, n)."""
    bars = sum(length for length, _ in plan)
    n = round((bars * BAR_S + 0.5) * RATE)
    out = np.zeros((2, n))
    rng = np.random.default_rng(11)
    kick, clap, hat = kick_hit(), noise_hit(0.25, 0.07, 900, 1), noise_hit(0.05, 0.012, 7000, 2)
    low = signal.butter(2, 600, "lowpass", fs=RATE, output="sos")

    def put(at_s: float, sound: np.ndarray, gain: float, side: float = 0.0) -> None:
        i = round(at_s * RATE)
        piece = gain * sound[: n - i]
        out[0, i : i + len(piece)] += (1 - side) * piece
        out[1, i : i + len(piece)] += (1 + side) * piece

    def tone(midi: int, seconds: float) -> np.ndarray:
        t = np.arange(round(seconds * RATE)) / RATE
        fade = np.minimum(1, np.minimum(t, t[::-1]) / 0.005)
        return signal.sawtooth(2 * np.pi * 440 * 2 ** ((midi - 69) / 12) * t) * fade

    bar = 0
    for length, roles in plan:
        if "noise" in roles:
            m = round(length * BAR_S * RATE)
            swell = signal.sosfilt(signal.butter(2, 2000, "highpass", fs=RATE, output="sos"), rng.standard_normal(m))
            put(bar * BAR_S, swell * np.linspace(0, 1, m) ** 2, 0.3)
        for _ in range(length):
            start, root = bar * BAR_S, ROOTS[bar % 4]
            for beat in range(4):
                at = start + beat * BAR_S / 4
                if "kick" in roles:
                    put(at, kick, 0.8)
                if "clap" in roles and beat % 2:
                    put(at, clap, 0.3)
                if "hats" in roles:
                    put(at + BAR_S / 8, hat, 0.25)
                if "bass" in roles:
                    put(at + BAR_S / 8, signal.sosfilt(low, tone(root - 12, BAR_S / 8)), 0.35)
            if "chords" in roles:
                for k, step in enumerate((0, 3 if root == 45 else 4, 7)):
                    put(start, tone(root + 12 + step, BAR_S), 0.05, (k - 1) * 0.6)
            bar += 1
    return (out / np.abs(out).max() * 0.9).astype(np.float32)


def surveyed(samples: np.ndarray) -> Survey:
    audio = Audio(samples, RATE)
    return survey_audio(audio, Source("plan.wav", audio.duration_s, RATE, 2, "plan"))


@pytest.fixture(scope="module")
def track() -> Track:
    audio = Audio(arrangement(PLAN), RATE)
    return Track(audio, Source("plan.wav", audio.duration_s, RATE, 2, "plan"))


@pytest.fixture(scope="module")
def found(track) -> Survey:
    return survey_track(track)


@pytest.mark.parametrize("role", ["kick", "clap", "hats", "bass", "chords"])
def test_a_role_is_present_in_its_bars_and_in_no_others(found, role):
    played = np.concatenate([np.full(length, role in roles.split()) for length, roles in PLAN])
    said = np.array(found.presence.of(role))[: len(played)]
    assert said[played].min() > 0.5
    assert said[~played].max() < 0.5


def test_what_is_said_of_a_role_with_confidence_is_right(found):
    """Sections of the plan, all but one bar in ten rightly heard wherever it is sure of it."""
    played = {role: np.concatenate([np.full(length, role in roles.split()) for length, roles in PLAN]) for role in ROLES}
    sure = []
    for section in found.sections:
        bars = np.arange(section.start_bar - 1, min(section.end_bar - 1, len(played["kick"])))
        for role in set(ROLES) - {"noise"}:
            values = np.array(found.presence.within(role, section.start_bar, section.end_bar))[: len(bars)]
            if role_confidence(values) >= 0.9:
                sure.append(np.mean((values >= 0.5) == played[role][bars]) >= 0.9)
    assert len(sure) >= 30 and np.mean(sure) >= 0.9


def test_confidence_grows_with_how_plainly_a_role_is_there_or_not():
    assert role_confidence([1.0] * 8) == role_confidence([0.0] * 8) == role_confidence([0.0, 1.0] * 4) > 0.9
    assert role_confidence([0.5] * 8) < 0.3
    steps = [role_confidence([0.5 + by] * 8) for by in np.linspace(0, 0.5, 20)]
    assert steps == sorted(steps) and role_confidence([0.8] * 4) == pytest.approx(role_confidence([0.2] * 4))
    assert role_confidence([]) == 0.0


def test_noise_grows_where_it_swells(found):
    said = np.array(found.presence.noise)
    assert said[30:32].min() > 0.9
    # Saws without end fill the top as well, but less; drums alone don't.
    assert said[8:24].max() < 0.6
    assert max(said[:8].max(), said[32:48].max()) < 0.3


def test_the_plan_is_read_with_its_labels(found):
    starts = np.cumsum([1, *(length for length, _ in PLAN)])[:-1]
    assert [(s.label, s.start_bar) for s in found.sections] == list(zip(LABELS, starts))


def test_a_section_that_comes_again_is_recognised(found):
    assert [s.like for s in found.sections] == [None, None, None, None, 1, 2, 3, None]


def test_the_swell_is_a_riser_of_the_whole_build(found):
    risers = [(e.start_bar, e.beats) for e in found.events if e.kind == "riser"]
    assert risers == [(25, 32.0), (65, 32.0)]


def test_the_bass_is_read_with_its_octave_between_the_kicks(found):
    notes = found.bass.notes_per_bar[32:48]
    assert notes == tuple(ROOTS[bar % 4] - 12 for bar in range(32, 48))


def test_chords_are_named_by_bar(found):
    names = {int(c.start_bar) + k: c.name for c in found.harmony.chords for k in range(int(c.bars))}
    assert [names[bar] for bar in range(33, 37)] == ["Am", "F", "C", "G"]


def test_a_key_given_by_the_producer_renames_degrees_only(track, found):
    other = survey_track(track, Corrections(tonic="C", mode="major"))
    assert [c.name for c in other.harmony.chords] == [c.name for c in found.harmony.chords]
    assert {c.name: c.degree for c in found.harmony.chords}["Am"] == "1"
    assert {c.name: c.degree for c in other.harmony.chords}["Am"] == "6"
    assert other.sections == found.sections


def test_a_drop_on_one_note_is_not_turned_into_a_key_by_its_fifth():
    t = np.arange(round(32 * BAR_S * RATE)) / RATE
    drone = sum(np.sin(2 * np.pi * 55 * k * t) / k for k in (1, 2, 3, 4, 5, 6)) * 0.1
    beat = arrangement(((32, "kick clap hats"),))
    mix = beat[:, : len(t)] * 0.7 + drone * (1 + 0.2 * np.sin(2 * np.pi * t / BAR_S))
    assert surveyed(mix.astype(np.float32)).key.tonic == "A"
