"""Reverb as an impulse response, so that a render in pieces joins without a seam.

The reverb is exponentially decaying noise, uncorrelated on both sides, its highs dying faster than its lows (Moorer 1979), after a
few early reflections. Its kinds differ in what comes first: a room's early reflections, a plate's density from the first moment, a
hall's slow build-up, a dome's slower one, for the very long. Frozen, it holds a moment as noise of its spectrum.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy import fft

from ersatz.core.dsp import filters, followers
from ersatz.core.dsp.convolution import convolved, parts_of
from ersatz.core.dsp.levels import factor
from ersatz.core.effects import eq
from ersatz.core.effects.spec import DRY, NO_DRY, EffectSpec, Settings, Where
from ersatz.core.params import Choice, Param

RANDOM_SEED = 20_031
#: How often a frozen reverb takes hold again, in beats; its noises come round after FREEZE_ROUND_BEATS.
FREEZES = {"beat": 1.0, "2 beats": 2.0, "bar": 4.0, "2 bars": 8.0, "4 bars": 16.0}
FREEZE_ROUND_BEATS = 96.0
FREEZE_WINDOW = 8192
FREEZE_FADE_S = 0.05
#: The levels between which the reverb steps back behind what plays, and how fast.
DUCK_FROM_DB, DUCK_TO_DB = -45.0, -20.0
DUCK_ATTACK_S, DUCK_RELEASE_S = 0.005, 0.16
#: Early reflections: time in ms and share of the left side.
REFLECTIONS = ((7.3, 0.7), (11.9, 0.35), (17.1, 0.6), (23.3, 0.4), (31.7, 0.55))
REFLECTION_GAIN = 14.0
LOW_SPLIT_HZ, HIGH_SPLIT_HZ = 900.0, 4500.0


@dataclass(frozen=True)
class Space:
    """`build_s`: how long the late part takes to stand; `early`: gain of the reflections; `low`, `high`: decay of the lows and the
    highs against the middle."""

    build_s: float
    early: float
    low: float
    high: float


SPACES = {
    "room": Space(0.012, 1.0, 1.1, 0.62),
    "plate": Space(0.001, 0.0, 1.0, 0.85),
    "hall": Space(0.080, 0.6, 1.25, 0.5),
    "dome": Space(0.300, 0.2, 1.4, 0.35),
}


@dataclass(frozen=True)
class Reverb:
    """`decay_s` to -60 dB in the middle band; `kind` one of SPACES."""

    kind: str = "room"
    decay_s: float = 1.8
    pre_delay_ms: float = 18.0
    low_cut_hz: float = 280.0
    high_cut_hz: float = 8500.0


@lru_cache(maxsize=24)
def reverb_response(reverb: Reverb, rate_hz: int) -> np.ndarray:
    """Impulse response, unit energy per side, shape (2, n). `decay_s` is the time to -60 dB of the middle band."""
    space = SPACES[reverb.kind]
    n = int((reverb.decay_s * 1.05 + reverb.pre_delay_ms / 1000) * rate_hz)
    rng = np.random.default_rng(RANDOM_SEED)
    t = np.arange(n) / rate_hz
    out = np.zeros((2, n))
    for low, high, share in (
        (None, LOW_SPLIT_HZ, space.low),
        (LOW_SPLIT_HZ, HIGH_SPLIT_HZ, 1.0),
        (HIGH_SPLIT_HZ, None, space.high),
    ):
        noise = rng.standard_normal((2, n))
        if low:
            noise = filters.cascade(eq.low_cut(low, rate_hz), noise)
        if high:
            noise = filters.cascade(eq.high_cut(high, rate_hz), noise)
        out += noise * 10 ** (-3 * t / (reverb.decay_s * share))
    out *= np.minimum(1, t / space.build_s)
    for k, (ms, pan) in enumerate(REFLECTIONS):
        at = int(ms / 1000 * rate_hz)
        if at < n:
            out[:, at] += np.array([pan, 1 - pan]) * space.early * REFLECTION_GAIN * 0.8**k
    shift = int(reverb.pre_delay_ms / 1000 * rate_hz)
    out = np.concatenate([np.zeros((2, shift)), out[:, : n - shift]], axis=1)
    out = filters.cascade(eq.low_cut(reverb.low_cut_hz, rate_hz), out)
    out = filters.cascade(eq.high_cut(reverb.high_cut_hz, rate_hz), out)
    # What is left at -60 dB is faded out, or the tail would end with an edge.
    last = max(1, int(0.05 * n))
    out[:, -last:] *= np.linspace(1, 0, last)
    response = np.asarray(out / np.sqrt(np.square(out).sum(axis=1, keepdims=True)), np.float32)
    response.setflags(write=False)
    return response


@lru_cache(maxsize=8)
def parts_of_reverb(reverb: Reverb, rate_hz: int) -> np.ndarray:
    """Of its response, for `convolved`."""
    return parts_of(reverb_response(reverb, rate_hz))


def reverb_of(s: Settings) -> Reverb:
    """The reverb that an effect’s settings describe; rounded, as responses are kept by it."""
    return Reverb(s.choices["kind"], *(round(s.flat(k), 4) for k in ("decay_s", "pre_delay_ms", "low_cut_hz", "high_cut_hz")))


def _reverb(x: np.ndarray, s: Settings, where: Where) -> np.ndarray:
    """Dry and reverberant sound."""
    reverb = reverb_of(s)
    frozen = s.choices["freeze"] != "off"
    # What is held was heard in front of the stretch, as soon as the response is all there.
    lead = min(where.lead, reverb_response(reverb, where.rate).shape[1]) if frozen else where.lead
    wet = convolved(x, parts_of_reverb(reverb, where.rate), lead)
    if frozen:
        wet = _frozen(wet, FREEZES[s.choices["freeze"]], where)
    if s.is_moving("duck_db") or s.flat("duck_db") > 0:
        wet = wet * factor(-s.values["duck_db"] * _presence(where.steering(x), where.rate))
    wet = factor(s.values["level_db"]) * wet
    return wet if s.choices["dry"] == NO_DRY else np.asarray(x + wet)


def _presence(x: np.ndarray, rate: int) -> np.ndarray:
    """How much is playing, 0 at DUCK_FROM_DB and under, 1 at DUCK_TO_DB and above, smoothed; shape (n,)."""
    level = np.clip((followers.peak_db(x) - DUCK_FROM_DB) / (DUCK_TO_DB - DUCK_FROM_DB), 0.0, 1.0)
    attack, release = followers.coefficient(DUCK_ATTACK_S, rate), followers.coefficient(DUCK_RELEASE_S, rate)
    return followers.decoupled(level, attack, release)


def _frozen(wet: np.ndarray, beats: float, where: Where) -> np.ndarray:
    """What a reverb holds at the start of each period goes on until the next: windows of noise with the spectrum of its last
    FREEZE_WINDOW samples, random phases, adding up in power."""
    n, period = wet.shape[1], beats * 60 / where.bpm * where.rate
    half = FREEZE_WINDOW // 2
    window = np.sqrt(0.5 - 0.5 * np.cos(2 * np.pi * (np.arange(FREEZE_WINDOW) + 0.5) / FREEZE_WINDOW))
    out = np.zeros_like(wet)
    for k in range(int(np.floor(where.start / period)), int(np.floor((where.start + n) / period)) + 1):
        start = round(k * period) - where.start
        stop = round((k + 1) * period) - where.start
        if start < FREEZE_WINDOW:
            continue
        held = np.abs(fft.rfft(wet[:, start - FREEZE_WINDOW : start] * np.hanning(FREEZE_WINDOW), axis=1)) * np.sqrt(8 / 3)
        rng = np.random.default_rng([RANDOM_SEED, round(k * beats) % 96])
        texture = np.zeros((2, stop - start + 2 * FREEZE_WINDOW))
        for at in range(0, texture.shape[1] - FREEZE_WINDOW, half):
            turns = np.exp(2j * np.pi * rng.random(held.shape))
            texture[:, at : at + FREEZE_WINDOW] += fft.irfft(held * turns, FREEZE_WINDOW, axis=1) * window
        # Held textures take turns by equal power around the beat.
        fade = int(FREEZE_FADE_S * where.rate)
        piece = texture[:, half : half + stop - start + fade]
        rise = np.sin(np.linspace(0, np.pi / 2, fade))
        piece[:, :fade] *= rise
        piece[:, -fade:] *= rise[::-1]
        end = min(n, start + piece.shape[1])
        if start < end:
            out[:, start:end] += piece[:, : end - start]
    return out


def _reverb_before(s: Settings, bpm: float) -> float:
    ringing = s.flat("decay_s") * 1.05 + s.flat("pre_delay_ms") / 1000
    if s.choices["freeze"] != "off":
        ringing += FREEZES[s.choices["freeze"]] * 60 / bpm + FREEZE_FADE_S + (FREEZE_WINDOW + 1) / 44_100
    return ringing + (7 * (DUCK_ATTACK_S + DUCK_RELEASE_S) if s.most("duck_db") > 0 else 0.0)


REVERB = EffectSpec(
    "reverb", "Reverb",
    (Param("decay_s", "s", 0.1, 20, 1.2, "Decay", "log"), Param("pre_delay_ms", "ms", 0, 250, 10, "Pre-delay"),
     Param("low_cut_hz", "Hz", 20, 2000, 250, "Low cut", "log"), Param("high_cut_hz", "Hz", 500, 20_000, 8000, "High cut", "log"),
     Param("level_db", "dB", -40, 6, -12, "Level", moves=""), Param("duck_db", "dB", 0, 36, 0, "Ducks while it plays", moves="")),
    _reverb,
    (Choice("kind", tuple(SPACES), "room", "Kind"), Choice("freeze", ("off", *FREEZES), "off", "Freezes every"), DRY),
    _reverb_before, period_beats=lambda s: FREEZES.get(s.choices["freeze"], 0.0) and FREEZE_ROUND_BEATS, has_sidechain=True,
)  # fmt: skip
