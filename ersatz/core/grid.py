"""The one time base: bars, beats and ticks to seconds and samples, and back.

Positions in a song are integer ticks, 960 per quarter note, from bar 1 beat 1. Bars are 1-based where a person
sees them. One tempo holds for the whole track, as in club music.
"""

from __future__ import annotations

from dataclasses import dataclass

TICKS_PER_BEAT = 960
#: Tempi and beats per bar that songs and corrections may have.
MIN_BPM, MAX_BPM = 40.0, 240.0
MIN_BEATS, MAX_BEATS = 2, 7


@dataclass(frozen=True)
class BarGrid:
    """Bar 1 beat 1 lies `first_downbeat_s` after the start of the audio."""

    bpm: float
    first_downbeat_s: float = 0.0
    beats_per_bar: int = 4

    def __post_init__(self) -> None:
        if not self.bpm > 0:
            raise ValueError("tempo must be above 0 BPM")

    @property
    def beat_s(self) -> float:
        """Seconds of a beat."""
        return 60.0 / self.bpm

    @property
    def bar_s(self) -> float:
        """Seconds of a bar."""
        return self.beat_s * self.beats_per_bar

    @property
    def ticks_per_bar(self) -> int:
        """Ticks of a bar."""
        return TICKS_PER_BEAT * self.beats_per_bar

    def seconds_of_bar(self, bar: float) -> float:
        """Seconds at the start of 1-based `bar`; fractions are parts of the bar."""
        return self.first_downbeat_s + (bar - 1) * self.bar_s

    def bar_at(self, seconds: float) -> float:
        """1-based bar, fractional, at `seconds`."""
        return 1 + (seconds - self.first_downbeat_s) / self.bar_s

    def seconds_of_ticks(self, ticks: float) -> float:
        """Seconds at a position in ticks."""
        return self.first_downbeat_s + ticks / TICKS_PER_BEAT * self.beat_s

    def ticks_at(self, seconds: float) -> int:
        """Nearest tick at `seconds`."""
        return round((seconds - self.first_downbeat_s) / self.beat_s * TICKS_PER_BEAT)

    def sample_of_ticks(self, ticks: float, rate_hz: int) -> int:
        """Rounded inside its bar: a place in the bar lies equally many samples after every bar line."""
        bar, inside = divmod(ticks, self.ticks_per_bar)
        return self.sample_of_bar(bar + 1, rate_hz) + self.samples_in_ticks(inside, rate_hz)

    def samples_in_ticks(self, ticks: float, rate_hz: int) -> int:
        """Length of a stretch."""
        return round(ticks / TICKS_PER_BEAT * self.beat_s * rate_hz)

    def sample_of_bar(self, bar: float, rate_hz: int) -> int:
        """Nearest sample at the start of 1-based `bar`."""
        return round(self.seconds_of_bar(bar) * rate_hz)

    def ticks_of_bar(self, bar: int) -> int:
        """Position of the start of 1-based `bar`."""
        return (bar - 1) * self.ticks_per_bar

    def bars_in(self, duration_s: float) -> int:
        """Whole bars that fit between bar 1 and `duration_s`, at least one; a bar cut by less than a tenth counts."""
        return max(1, int((duration_s - self.first_downbeat_s) / self.bar_s + 0.1))
