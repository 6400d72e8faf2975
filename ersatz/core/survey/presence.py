"""What plays in each bar, 0..1, per role?

Method: drums by their hits per bar against the track's own full bars; pitched roles by the level of their band's
sustained part (a low percentile within the bar, so that hits don't count) against the track's loud bars; noise by a flat, sustained
top band that hats don't explain. First version: roles that share a band (chords, lead) are told apart by register and
movement only.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import scipy

from ersatz.core.survey.bars import BarTable
from ersatz.core.survey.document import ROLES, Bass, Energy, Presence
from ersatz.core.survey.hits import HATS_HZ, HIT, Hits
from ersatz.core.survey.shared import LOW_HZ, MIDI_LOW, TONAL_HOP, TONAL_HZ, Shared
from ersatz.core.survey.slots import peaks_at, sustained_rise

#: A band this far under the track's loud bars counts as absent, dB.
ABSENT_DB = 18.0
#: Odd 16ths with this share of the strong hits are as likely percussion as not: counted on the tuned part of the generated set.
PERCUSSIVE = 0.1
PERCUSSION_HZ = (4000, 5600)
#: The first twelve partials above a note, in semitones, and the octave below it.
PARTIAL_SEMITONES = np.array([-12, 0, 12, 19, 24, 28, 31, 34, 36, 38, 40, 42, 43])

#: How far a section's bars lie from half there in the mean, and how often nine in ten of such bars were rightly said to have the
#: role or not: counted on the tuned part of the generated set.
DECIDED = (0.2, 0.5, 0.85, 0.93, 0.985)
RIGHT = (0.2, 0.5, 0.62, 0.8, 0.98)


def role_confidence(presence: Sequence[float]) -> float:
    """How sure it is in which bars of a section a role plays, from its presence in each of them (0..1): what lies between there and
    not there tells little. 0 where there are no bars."""
    if not len(presence):
        return 0.0
    decided = float(np.mean(np.abs(2 * np.asarray(presence) - 1)))
    return round(float(np.interp(decided, DECIDED, RIGHT)), 2)


def bass_presence(shared: Shared, bars: BarTable, hits: Hits, between: np.ndarray) -> np.ndarray:
    """Whether a bass plays in each bar, 0..1: needed before its notes can be read. `between` as between_kicks gives it."""
    return np.minimum(_bass(bars, hits), _level(10 * np.log10(between[shared.rows(20, 155)].sum(axis=0) + 1e-12), 14.0))


def measure_presence(shared: Shared, bars: BarTable, hits: Hits, between: np.ndarray, in_bass: np.ndarray, bass: Bass) -> Presence:
    """How much of each role plays in each bar, 0..1; `between` as between_kicks gives it, `in_bass` per bar."""
    rows = {
        "kick": _share_of_hits(hits.kick, 2),
        "clap": _backbeat(hits),
        "hats": _share_of_hits(hits.hats, 3),
        "perc": _percussion(shared, bars, hits),
        "bass": in_bass,
        "chords": _chords(shared, bars, between, bass),
        "lead": _lead(shared, bars),
        "noise": _noise(shared, bars),
    }
    values = {role: tuple(round(float(v), 2) for v in rows[role]) for role in ROLES}
    return Presence(bars=tuple(range(1, bars.count + 1)), **values)


def measure_energy(shared: Shared, bars: BarTable) -> Energy:
    """Level per bar in three bands, dB against the loudest bar."""
    low = bars.means(shared.power(20, 200), shared.hop_s)
    middle = bars.means(shared.power(200, 2800), shared.hop_s)
    high = bars.means(shared.power(2800, 18_000), shared.hop_s)
    top = float((low + middle + high).max()) + 1e-20

    def db(power: np.ndarray) -> tuple[float, ...]:
        return tuple(round(float(v), 1) for v in np.maximum(10 * np.log10(power / top + 1e-9), -90))

    return Energy(db(low), db(middle), db(high), db(low + middle + high))


def _share_of_hits(steps: np.ndarray, full: int, least: float = HIT) -> np.ndarray:
    """Strength of the bar's `full` strongest hits, those under `least` left out; 1 from 0.7 on."""
    strongest = np.sort(steps, axis=1)[:, -full:]
    value = np.where(strongest >= least, strongest, 0).mean(axis=1)
    return np.clip(value / 0.7, 0, 1)


def _backbeat(hits: Hits) -> np.ndarray:
    """Strength on the backbeat's steps, less what as many other steps have: a roll hits them all."""
    if not hits.backbeat:
        return _share_of_hits(hits.clap, 2)
    on = list(hits.backbeat)
    others = np.sort(np.delete(hits.clap, on, axis=1), axis=1)[:, -2 * len(on) :]
    value = np.minimum(hits.clap[:, on], 1).mean(axis=1) - 0.5 * others.mean(axis=1)
    return np.clip(value / 0.5, 0, 1)


def _chords(shared: Shared, bars: BarTable, between: np.ndarray, bass: Bass) -> np.ndarray:
    """Level of the tones from C3 to C6 that no bass note of the bar has among its partials."""
    tones = np.square(bars.means(shared.semitones, TONAL_HOP / TONAL_HZ))
    low, high = 48, 84
    kept = np.ones((high - low, bars.count), bool)
    beats = bars.grid.beats_per_bar
    for note in bass.notes:
        bar = int(note.start_beat // beats)
        rows = note.midi + PARTIAL_SEMITONES - low
        kept[rows[(rows >= 0) & (rows < high - low)], bar] = False
    # What rings between the kicks: a distorted kick has tones of its own.
    ringing = between[shared.rows(200, 1700)].sum(axis=0)
    rest = np.where(kept, tones[low - MIDI_LOW : high - MIDI_LOW], 0).sum(axis=0) / np.maximum(kept.sum(axis=0), 1)
    return np.minimum(_level(10 * np.log10(rest + 1e-12), ABSENT_DB), _level(10 * np.log10(ringing + 1e-12), ABSENT_DB))


def between_kicks(shared: Shared, bars: BarTable, hits: Hits) -> np.ndarray:
    """Power per band and bar in the steps well after a kick, so that what sustains is seen, shape (bands, bars)."""
    power = shared.mid_power + shared.side_power
    steps = bars.step_means(power, shared.hop_s)
    kick = hits.kick_mask()
    near = kick | np.roll(kick, 1, axis=1)
    near[near.all(axis=1)] = False
    weight = (~near).astype(float)
    return np.asarray((steps * weight).sum(axis=-1) / np.maximum(weight.sum(axis=-1), 1))


def _level(db: np.ndarray, span_db: float) -> np.ndarray:
    """0..1 from level: 1 at the track's loud bars, 0 at `span_db` under them."""
    top = float(np.percentile(db, 90))
    return np.clip(1 - (top - db - 3) / span_db, 0, 1)


def _bass(bars: BarTable, hits: Hits) -> np.ndarray:
    """Level of the register under 160 Hz once the kick's waveform is taken out, against the loud bars."""
    low = scipy.signal.sosfilt(scipy.signal.butter(4, 160, "lowpass", fs=LOW_HZ, output="sos"), hits.low_without_kick)
    steps = bars.step_means(np.square(low), 1 / LOW_HZ)
    # Half of the bar's steps must sound: what a kick leaves behind is short.
    return _level(10 * np.log10(np.percentile(steps, 50, axis=1) + 1e-12), 14.0)


def _percussion(shared: Shared, bars: BarTable, hits: Hits) -> np.ndarray:
    """Noise that sets in from 4 to 5.6 kHz on odd 16ths without kick or clap, more than the hats above it explain, against the
    track's strong hits."""
    times = bars.step_times_s(hits.swing_s)
    rises, above = (
        peaks_at(sustained_rise(shared.noise(*band)), times, shared.hop_s).reshape(bars.count, bars.steps)
        for band in (PERCUSSION_HZ, HATS_HZ)
    )
    strong = float(np.median(np.sort(rises.ravel())[-max(16, rises.size // 30) :]))
    free = ~hits.kick_mask() & (hits.clap < HIT)
    hats = free & (above > 0.25 * np.percentile(above, 95))
    # A hat's own share of the lower band: what the steps with least percussion have.
    share = float(np.percentile(rises[hats] / above[hats], 20)) if hats.sum() > 8 else 0.0
    more = np.where(free, np.maximum(rises - share * above, 0), 0)[:, 1::2]
    busy = more.sum(axis=1) / np.maximum(free[:, 1::2].sum(axis=1), 1)
    return np.clip(busy / max(strong, 1e-9) / (2 * PERCUSSIVE), 0, 1)


def _lead(shared: Shared, bars: BarTable) -> np.ndarray:
    """Tonal energy from C5 up that moves, against the track's loud bars."""
    high = shared.semitones[72 - MIDI_LOW :]
    hop_s = TONAL_HOP / TONAL_HZ
    peak = high.max(axis=0)
    stand_out = np.maximum(peak - 2.2 * np.median(high, axis=0), 0)
    bar = bars.means(stand_out, hop_s)
    return _level(20 * np.log10(bar + 1e-9), 10.0)


def _noise(shared: Shared, bars: BarTable) -> np.ndarray:
    """Sustained noise on top: its level in the quiet steps of the bar, where no hat sounds, against the loudest such bar."""
    steps = bars.step_means(shared.noise(4000, 16_000), shared.hop_s, bars.steps * 2)
    floor = 10 * np.log10(np.percentile(steps, 20, axis=1) + 1e-12)
    loud = 10 * np.log10(np.percentile(steps, 90, axis=1) + 1e-12)
    steady = np.clip(1 - (loud - floor - 4) / 8, 0, 1)
    return _level(floor, 12.0) * steady
