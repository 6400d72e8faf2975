"""The survey as a document: survey format 1, one frozen dataclass per answer.

Field names are the format's (docs/survey-format.md). Confidence is 0..1. What stands beside the format's own fields is
evidence for drawing: the tempo curve, the chroma, the energy per bar.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

import numpy as np

from ersatz.core.errors import OtherMetre, UnusableDocument
from ersatz.core.grid import MAX_BEATS, MAX_BPM, MIN_BEATS, MIN_BPM, BarGrid
from ersatz.core.pitch import Key as PitchKey
from ersatz.core.serial import Within, from_json, to_json

SCHEMA = "ersatz.survey/1"
ROLES = ("kick", "clap", "hats", "perc", "bass", "chords", "lead", "noise")
Label = Literal["intro", "build", "drop", "breakdown", "bridge", "outro"]
LABELS: tuple[Label, ...] = ("intro", "build", "drop", "breakdown", "bridge", "outro")
#: Window of short-term loudness (EBU Tech 3341), which ends at its time.
SHORT_TERM_S = 3.0
#: Below this a tempo is said to be uncertain, and a draft asks for one.
STEADY_CONFIDENCE = 0.5


@dataclass(frozen=True)
class Source:
    """The file as it came in; `sha256` of its bytes."""

    file: str
    duration_s: float
    sample_rate_hz: int
    channels: int
    sha256: str


@dataclass(frozen=True)
class TempoGuess:
    """Another tempo that the track could have, BPM."""

    bpm: float
    confidence: float


@dataclass(frozen=True)
class TempoEvidence:
    """Strength of the beat hypothesis over tempo, 0..1."""

    bpm: tuple[float, ...]
    strength: tuple[float, ...]


@dataclass(frozen=True)
class TempoChange:
    """Where one grid stops holding: the tempo from there on, and by how many beats the bar lines jump."""

    t_s: float
    bpm: float
    beats: float


@dataclass(frozen=True)
class Tempo:
    """`bpm` of the one grid that holds, with bar 1 beat 1 at `first_downbeat_s`; `swing_percent`: where the second 16th of a pair
    stands, 50 straight; `drift_percent`: how far the tempo wanders."""

    bpm: float
    confidence: float
    alternatives: tuple[TempoGuess, ...]
    beats_per_bar: int
    first_downbeat_s: float
    swing_percent: float
    drift_percent: float
    evidence: TempoEvidence = TempoEvidence((), ())
    changes: tuple[TempoChange, ...] = ()
    #: None in surveys made before it was told; so elsewhere.
    swing_confidence: float | None = None

    @property
    def counts_four(self) -> bool:
        """Whether a bar has four beats."""
        return self.beats_per_bar == 4

    def check_metre(self) -> None:
        """Raises OtherMetre where a remake, which counts in fours, can't follow."""
        if not self.counts_four:
            raise OtherMetre(f"This reference counts {self.beats_per_bar} beats to the bar; remakes are made in 4/4 so far.")

    @property
    def grid(self) -> BarGrid:
        """Bars and beats to seconds and back."""
        return BarGrid(self.bpm, self.first_downbeat_s, self.beats_per_bar)

    @property
    def is_steady(self) -> bool:
        """Whether a draft may be made without asking for the tempo."""
        return self.confidence >= STEADY_CONFIDENCE


@dataclass(frozen=True)
class KeyGuess:
    """Another key that the track could be in."""

    tonic: str
    mode: str
    confidence: float


@dataclass(frozen=True)
class Key:
    """`tonic` and `mode` as pitch.Key has them; `tuning_cents`: how far A4 lies from 440 Hz; `chroma`: share of each pitch
    class."""

    tonic: str
    mode: str
    confidence: float
    alternatives: tuple[KeyGuess, ...]
    tuning_cents: float
    chroma: tuple[float, ...] = ()

    @property
    def pitch_key(self) -> PitchKey:
        """As the note functions take it."""
        return PitchKey(self.tonic, self.mode)


@dataclass(frozen=True)
class Section:
    """A stretch of whole bars, 1-based. `like`: 0-based section that it repeats, or None; `presence`: share of its bars in which
    each role plays."""

    label: Label
    start_bar: int
    bars: int
    start_s: float
    end_s: float
    confidence: float
    like: int | None
    loudness_lufs: float
    presence: dict[str, float]

    @property
    def end_bar(self) -> int:
        """First bar after the section."""
        return self.start_bar + self.bars


@dataclass(frozen=True)
class Presence:
    """How much of each role is there in each of `bars`, 0..1."""

    bars: tuple[int, ...]
    kick: tuple[float, ...]
    clap: tuple[float, ...]
    hats: tuple[float, ...]
    perc: tuple[float, ...]
    bass: tuple[float, ...]
    chords: tuple[float, ...]
    lead: tuple[float, ...]
    noise: tuple[float, ...]

    def of(self, role: str) -> tuple[float, ...]:
        """Of one role, in order of the bars. Raises ValueError for none of ROLES."""
        if role not in ROLES:
            raise ValueError(f"no such role: {role}")
        return tuple(getattr(self, role))

    def within(self, role: str, start_bar: int, end_bar: int) -> tuple[float, ...]:
        """Of the bars from `start_bar` to before `end_bar`."""
        return tuple(v for bar, v in zip(self.bars, self.of(role)) if start_bar <= bar < end_bar)


@dataclass(frozen=True)
class Energy:
    """Level per bar in three bands, dB relative to the loudest bar of the full signal: the portrait."""

    low_db: tuple[float, ...]
    mid_db: tuple[float, ...]
    high_db: tuple[float, ...]
    full_db: tuple[float, ...]


@dataclass(frozen=True)
class KickPortrait:
    """`decay_ms` to -20 dB, `fall_ms` until the pitch is within 15 % of the fundamental (0: not heard to), `drive_db`
    the tail's partials against it.

    `envelope_db` covers kick.LENGTH_S evenly; `pitch` holds (ms, Hz).
    """

    fundamental_hz: float
    note: str
    decay_ms: float
    click_db: float
    start_hz: float = 0.0
    fall_ms: float = 0.0
    drive_db: float = 0.0
    envelope_db: tuple[float, ...] = ()
    pitch: tuple[tuple[float, float], ...] = ()
    #: That the fundamental is right.
    confidence: float | None = None

    @property
    def decays(self) -> bool:
        """Whether its level falls 20 dB within the portrait, or something else sounds on under it."""
        return not self.envelope_db or min(self.envelope_db) < -20


@dataclass(frozen=True)
class StepTiming:
    """How late each step is struck, ms; None where it isn't."""

    kick: tuple[float | None, ...]
    clap: tuple[float | None, ...]
    hats: tuple[float | None, ...]


@dataclass(frozen=True)
class DrumPattern:
    """Usual velocity of each step of a bar, 0..1, in a 0-based section."""

    section: int
    steps_per_bar: int
    kick: tuple[float, ...]
    clap: tuple[float, ...]
    hats: tuple[float, ...]
    timing_ms: StepTiming
    confidence: float | None = None


@dataclass(frozen=True)
class Drums:
    """The kick's sound, None where no kick was found, and who strikes where in each section."""

    kick: KickPortrait | None
    patterns: tuple[DrumPattern, ...]


@dataclass(frozen=True)
class BassNote:
    """`slide_semitones`: how far over its pitch the note starts before it glides there, 0 where it starts on it."""

    start_beat: float
    beats: float
    midi: int
    confidence: float
    slide_semitones: float = 0.0


@dataclass(frozen=True)
class Bass:
    """MIDI pitch of each bar's bass, None where it rests; and the notes themselves."""

    notes_per_bar: tuple[int | None, ...]
    notes: tuple[BassNote, ...]


@dataclass(frozen=True)
class Chord:
    """`start_bar` is whole, or half in the middle of a bar."""

    start_bar: float
    bars: float
    name: str
    degree: str
    confidence: float | None = None


@dataclass(frozen=True)
class Harmony:
    """Chords in order."""

    chords: tuple[Chord, ...]


@dataclass(frozen=True)
class BandDepth:
    """Depth of the ducking in one band, dB."""

    depth_db: float


@dataclass(frozen=True)
class SectionPump:
    """Depth of the ducking in one 0-based section, dB."""

    section: int
    depth_db: float


@dataclass(frozen=True)
class Pump:
    """Sidechain pumping. `depth_db`: how far levels fall, 0 where nothing ducks; `rate`: one of RATES; `release_ms`: from the
    lowest point until they have recovered to within 1 dB; `curve_db`: over one period, 0 or below; `confidence`: that the depth is
    right."""

    depth_db: float
    rate: str
    release_ms: float
    curve_db: tuple[float, ...]
    confidence: float
    bands: dict[str, BandDepth]
    active_sections: tuple[int, ...]
    per_section: tuple[SectionPump, ...]
    #: False where nothing sounds that could show whether anything ducks.
    told: bool = True

    @property
    def beat_db(self) -> tuple[float, ...]:
        """The curve over a whole beat from the trigger on, as many points: at "1/8" twice."""
        return self.curve_db if self.rate != "1/8" else self.curve_db[::2] * 2


#: What may trigger a ducker.
RATES = ("1/4", "1/8", "kick", "kick and snare")


@dataclass(frozen=True)
class PumpCorrection:
    """The ducking as the producer hears it; 0 dB: nothing ducks."""

    depth_db: Annotated[float, Within(0, 60)]
    rate: str
    release_ms: Annotated[float, Within(10, 4000)]

    def __post_init__(self) -> None:
        if self.rate not in RATES:
            raise ValueError(f"a ducker follows one of {', '.join(RATES)}")


@dataclass(frozen=True)
class SectionSpectrum:
    """Level per third octave of one section, dB."""

    level_db: tuple[float, ...]


@dataclass(frozen=True)
class Resonance:
    """A narrow peak that stays, and how far it stands over what lies around it."""

    hz: float
    over_db: float


@dataclass(frozen=True)
class Spectrum:
    """Level per third octave, dB, of the track and of its sections; `tilt_db_per_octave`: the slope of a line through it."""

    centers_hz: tuple[float, ...]
    level_db: tuple[float, ...]
    tilt_db_per_octave: float
    per_section: tuple[SectionSpectrum, ...]
    #: Over the drops, or the main section where there is none.
    full_energy_db: tuple[float, ...] = ()
    resonances: tuple[Resonance, ...] = ()


@dataclass(frozen=True)
class StereoBand:
    """`width`: 0 mono to 1 for unrelated sides (2 side / (mid + side), powers); `correlation` -1..1; `crest_db`: peaks over the
    mean."""

    low_hz: float
    high_hz: float
    width: float
    correlation: float
    crest_db: float = 0.0
    #: How often something is struck in the band, and how far the quietest tenth of it lies under its average: what room and
    #: sustained sounds leave between the hits. None in surveys made before it was told.
    onsets_per_beat: float | None = None
    between_db: float | None = None


@dataclass(frozen=True)
class SectionBands:
    """The bands of one section."""

    bands: tuple[StereoBand, ...]


@dataclass(frozen=True)
class Stereo:
    """Of the track and, since they are told, of its sections; up to `mono_below_hz` the sides are as good as silent."""

    bands: tuple[StereoBand, ...]
    mono_below_hz: float
    per_section: tuple[SectionBands, ...] = ()


@dataclass(frozen=True)
class ShortTerm:
    """Short-term loudness (EBU Tech 3341) of the window that ends at `t_s`."""

    t_s: float
    lufs: float


@dataclass(frozen=True)
class Loudness:
    """BS.1770 and EBU Tech 3341 and 3342; `plr_db`: true peak less integrated loudness."""

    integrated_lufs: float
    range_lu: float
    true_peak_dbtp: float
    max_short_term_lufs: float
    max_momentary_lufs: float
    short_term: tuple[ShortTerm, ...]
    plr_db: float


@dataclass(frozen=True)
class Event:
    """`edge_hz`: of a sweep, the upper edge of what sounds where it begins and ends; None where an earlier survey didn't say it."""

    kind: Literal["riser", "fall", "snare roll", "gap", "impact", "sweep"]
    start_bar: float
    beats: float
    confidence: float
    edge_hz: tuple[float, float] | None = None


@dataclass(frozen=True)
class BandChange:
    """`change_db`: how much louder the bars behind are in the band."""

    low_hz: float
    high_hz: float
    change_db: float


@dataclass(frozen=True)
class Change:
    """A bar line at which something enters, leaves, opens or closes for four bars or more: roles that enter and leave, and the
    bands that step."""

    bar: int
    enters: tuple[str, ...]
    leaves: tuple[str, ...]
    bands: tuple[BandChange, ...]
    confidence: float


@dataclass(frozen=True)
class SectionCorrection:
    """A section as the producer has it; 1-based bar."""

    label: Label
    start_bar: Annotated[int, Within(1, 100_000)]
    bars: Annotated[int, Within(1, 100_000)]


@dataclass(frozen=True)
class Corrections:
    """What the producer says over the measurement. None: as measured."""

    bpm: Annotated[float, Within(MIN_BPM, MAX_BPM)] | None = None
    first_downbeat_s: Annotated[float, Within(0, 36_000)] | None = None
    tonic: str | None = None
    mode: str | None = None
    sections: tuple[SectionCorrection, ...] | None = None
    beats_per_bar: Annotated[int, Within(MIN_BEATS, MAX_BEATS)] | None = None
    pump: PumpCorrection | None = None

    def __post_init__(self) -> None:
        if (self.tonic is None) != (self.mode is None):
            raise ValueError("a key has a tonic and a mode")
        if self.tonic is not None and self.mode is not None:
            PitchKey(self.tonic, self.mode)
        if self.sections is not None and not self.sections:
            raise ValueError("a track has at least one section")
        expected = 1
        for section in self.sections or ():
            if section.start_bar != expected:
                raise ValueError(f"sections follow each other: bar {expected} belongs to none or to two")
            expected += section.bars

    @property
    def moves_grid(self) -> bool:
        """Whether tempo, bar 1 or metre are corrected, so that everything behind is measured anew."""
        return (self.bpm, self.first_downbeat_s, self.beats_per_bar) != (None, None, None)

    def __bool__(self) -> bool:
        return self != Corrections()


@dataclass(frozen=True)
class Survey:
    source: Source
    tempo: Tempo
    key: Key
    sections: tuple[Section, ...]
    presence: Presence
    energy: Energy
    drums: Drums
    bass: Bass
    harmony: Harmony
    pump: Pump
    spectrum: Spectrum
    stereo: Stereo
    loudness: Loudness
    events: tuple[Event, ...] = ()
    #: Inside sections and at their boundaries, in order of time.
    changes: tuple[Change, ...] = ()
    corrections: Corrections = field(default_factory=Corrections)

    @property
    def bars(self) -> int:
        """Number of bars."""
        return len(self.presence.bars)

    def to_json(self) -> dict[str, Any]:
        """The document with its schema, as plain JSON data."""
        return {"schema": SCHEMA, **to_json(self)}

    @staticmethod
    def from_json(data: Any) -> Survey:
        """Raises UnusableDocument for what isn’t a survey of this format."""
        if not isinstance(data, dict) or data.get("schema") != SCHEMA:
            raise UnusableDocument(f"This is not a survey of format “{SCHEMA}”.")
        return from_json(Survey, data)

    def kick_times_s(self) -> np.ndarray:
        """Seconds of every hit that the sections' kick patterns say, in the bars where a kick plays."""
        grid = self.tempo.grid
        out = []
        for pattern in self.drums.patterns:
            section = self.sections[pattern.section]
            steps = [i for i, strength in enumerate(pattern.kick) if strength]
            for bar in range(section.start_bar, section.end_bar):
                if bar <= self.bars and self.presence.kick[bar - 1] > 0.5:
                    out += [grid.seconds_of_bar(bar + i / pattern.steps_per_bar) for i in steps]
        return np.array(out)

    def loudness_course(self) -> list[tuple[float, float]]:
        """Short-term loudness as (bar on the track's own grid, LUFS): a window ends at its time, its middle says where the loudness
        is."""
        grid = self.tempo.grid
        return [(grid.bar_at(s.t_s - SHORT_TERM_S / 2), s.lufs) for s in self.loudness.short_term]

    def main_section(self) -> int:
        """Index of the section that matters most: the loudest drop, or the loudest of all if there is no drop."""
        drops = [i for i, s in enumerate(self.sections) if s.label == "drop"]
        return max(drops or range(len(self.sections)), key=lambda i: self.sections[i].loudness_lufs)
