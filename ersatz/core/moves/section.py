"""A section of a song as it sounds.

What is measured of the rendered section: the energy of every strip per third octave (balance/lanes.py), loudness, what the limiter
takes, what ducking does to the sustained parts, and the finished mix in the bands of a survey. How it reads beside its reference:
readings.py.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ersatz.core.balance.lanes import Lanes, lane_of, measure_lane, measure_lanes, measured_bars
from ersatz.core.balance.meters import most_limited_db
from ersatz.core.balance.pumping import DROP_BARS, SUSTAINED, Ducked, measure_ducked
from ersatz.core.bands import NOMINAL_HZ
from ersatz.core.loudness import mean_lufs
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song, SongSection
from ersatz.core.song.strips import MASTER
from ersatz.core.survey.document import StereoBand
from ersatz.core.survey.spectrum import bands_of_samples

HZ = np.array(NOMINAL_HZ, float)
#: So many bars stand for a section that isn't a drop, which may grow all along.
OTHER_BARS = 16
#: Where half of a long section is enough, so many bars of every twice as many are measured.
SAMPLED_BARS = 4


@dataclass(frozen=True)
class SectionMix:
    """A section (by its place in the plan) of `song`, whose counterpart is the reference's `theirs`."""

    song: Song
    place: int
    theirs: int
    lanes: Lanes
    lufs: float
    limited_db: float
    ducked: Ducked | None
    #: The finished mix.
    bands: tuple[StereoBand, ...]

    @property
    def section(self) -> SongSection:
        """The section that is mixed."""
        return self.song.sections[self.place]


def _bars_of(song: Song, place: int) -> tuple[int, int]:
    return measured_bars(song, place, DROP_BARS if song.sections[place].label == "drop" else OTHER_BARS)


def measure_section(song: Song, mixdown: Mixdown, place: int, theirs: int) -> SectionMix:
    """Rendered and measured."""
    first, last = _bars_of(song, place)
    lanes = measure_lanes(mixdown, first, last)
    ducked = measure_ducked(song, mixdown, first, last)
    mix = mixdown.strip_samples(MASTER, first, last)
    limited = most_limited_db(mixdown, first, last)
    return SectionMix(song, place, theirs, lanes, mean_lufs(mix, RATE_HZ), limited, ducked, bands_of_samples(mix, RATE_HZ))


def measure_mix(song: Song, mixdown: Mixdown, place: int, theirs: int) -> SectionMix | None:
    """The finished mix of a section alone, of a long one from half of its bars; None where it is silent."""
    first, last = _bars_of(song, place)
    # The last of each phrase, so that what stops or begins on the way is in it; a short section may be one rise.
    bars = last - first + 1
    length = SAMPLED_BARS if bars > 2 * SAMPLED_BARS else bars
    stretches = [range(bar, bar + length) for bar in range(last - length + 1, first - 1, -2 * length)]
    x = np.concatenate([mixdown.strip_samples(MASTER, s[0], s[-1]) for s in reversed(stretches)], axis=1)
    lane = measure_lane(MASTER, x)
    if lane.is_silent:
        return None
    limited = max(most_limited_db(mixdown, s[0], s[-1]) for s in stretches)
    lanes = Lanes(first, last, {MASTER: lane})
    return SectionMix(song, place, theirs, lanes, mean_lufs(x, RATE_HZ), limited, None, bands_of_samples(x, RATE_HZ))


def measure_again(mix: SectionMix, after: Song, mixdown: Mixdown) -> SectionMix:
    """The same section of a song that was changed: what is as it was isn't measured anew."""
    first, last = mix.lanes.first, mix.lanes.last
    changed = [p.id for p in after.parts if _is_other(mix.song, after, p.id)]
    changed += [r.id for r in after.returns if _is_fed_other(mix.song, after, r.id, changed)] + [MASTER]
    lanes = dict(mix.lanes.lanes)
    for name in changed:
        lane = lane_of(mixdown, name, first, last)
        if lane.is_silent and name != MASTER:
            lanes.pop(name, None)
        else:
            lanes[name] = lane
    sustained = {p.id for p in after.parts if p.role in SUSTAINED}
    moved = sustained & set(changed) or mix.song.curves != after.curves
    ducked = measure_ducked(after, mixdown, first, last) if moved else mix.ducked
    x = mixdown.strip_samples(MASTER, first, last)
    return replace(
        mix, song=after, lanes=Lanes(first, last, lanes), ducked=ducked, lufs=mean_lufs(x, RATE_HZ),
        limited_db=most_limited_db(mixdown, first, last), bands=bands_of_samples(x, RATE_HZ),
    )  # fmt: skip


def _is_other(before: Song, after: Song, name: str) -> bool:
    """Whether a part, or a bus on its way, sounds differently."""
    if (before.bpm, before.swing_percent) != (after.bpm, after.swing_percent):
        return True
    old, new = before.strip(name), after.strip(name)
    while old is not None and new is not None and new.id != MASTER:
        if old != new:
            return True
        old, new = before.strip(old.out), after.strip(new.out)
    curve = after.strip(name)
    ducks = curve.duck.curve if curve is not None and curve.duck is not None else None
    return old is None or (ducks is not None and before.curve(ducks) != after.curve(ducks))


def _is_fed_other(before: Song, after: Song, name: str, changed: list[str]) -> bool:
    """Whether a return is another, or one of the strips that feed it."""
    feeds = {s.id for song in (before, after) for s in song.strips() if name in s.sends}
    others = {s.id for s in (*after.buses, *after.returns) if s != before.strip(s.id)}
    return _is_other(before, after, name) or bool(feeds & (set(changed) | others))
