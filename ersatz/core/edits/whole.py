"""Edits of the whole song: key, swing, the master's EQ, cut, ceiling and target."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated, Any, ClassVar, Literal

from ersatz.core.edits.sound import PITCHED_ROLES, check_range, figure
from ersatz.core.errors import InvalidEdit
from ersatz.core.params import Param
from ersatz.core.pitch import Key
from ersatz.core.serial import Most
from ersatz.core.song.document import EqBand, Song
from ersatz.core.song.parts import Part
from ersatz.core.song.transform import in_key

#: What only the master has.
MASTER_VALUES = {
    p.name: p for p in (
        Param("low_cut_hz", "Hz", 10, 200, 25, "Low cut"), Param("ceiling_dbtp", "dBTP", -12, 0, -1, "Ceiling"),
        Param("target_lufs", "LUFS", -30, -3, -8, "Target"),
    )
}  # fmt: skip
MOST_BANDS = 24
BAND_HZ, BAND_DB, BAND_Q = (16.0, 20_000.0), 18.0, (0.1, 20.0)
MIN_SWING, MAX_SWING = 50.0, 75.0


@dataclass(frozen=True)
class SetMaster:
    """A figure that only the master has. `target_lufs` is what matching brings the song to; it moves nothing by itself."""

    kind: ClassVar[str] = "set_master"
    name: Literal["low_cut_hz", "ceiling_dbtp", "target_lufs"]
    value: float

    def apply(self, song: Song) -> Song:
        check_range(MASTER_VALUES[self.name], self.value)
        values: dict[str, Any] = {self.name: round(self.value, 2)}
        return replace(song, master=replace(song.master, **values))

    def sentence(self, song: Song) -> str:
        return f"Master: {MASTER_VALUES[self.name].title} {figure(self.value, MASTER_VALUES[self.name].unit)}"


@dataclass(frozen=True)
class SetMasterEq:
    """The master's bells, all of them."""

    kind: ClassVar[str] = "set_master_eq"
    bands: Annotated[tuple[EqBand, ...], Most(MOST_BANDS)]

    def apply(self, song: Song) -> Song:
        for band in self.bands:
            if not BAND_HZ[0] <= band.hz <= BAND_HZ[1] or abs(band.gain_db) > BAND_DB or not BAND_Q[0] <= band.q <= BAND_Q[1]:
                raise InvalidEdit(f"A band lies between 16 Hz and 20 kHz, within {BAND_DB:.0f} dB, with a Q of 0.1 to 20.")
        return replace(song, master=replace(song.master, eq=self.bands))

    def sentence(self, song: Song) -> str:
        old = song.master.eq
        changed = [b for b in self.bands if b not in old]
        if len(changed) == 1 and len(self.bands) >= len(old):
            return f"Master EQ: {figure(changed[0].gain_db, 'dB')} at {figure(changed[0].hz, 'Hz')}"
        return "Master EQ changed" if self.bands else "Master EQ deleted"


@dataclass(frozen=True)
class SetKey:
    """Another key. `transpose`: what is there goes with it, by the nearest way, and into the other scale; else it stays as it is
    and only what is written from now on is in the new key."""

    kind: ClassVar[str] = "set_key"
    tonic: str
    mode: str
    transpose: bool = True

    def _key(self) -> Key:
        try:
            return Key(self.tonic, self.mode)
        except ValueError as error:
            raise InvalidEdit(f"There is no key “{self.tonic} {self.mode}”.") from error

    def apply(self, song: Song) -> Song:
        key = self._key()
        if self.transpose:
            song = replace(song, parts=tuple(_moved(p, song.key, key) for p in song.parts))
        return replace(song, tonic=self.tonic, mode=self.mode)

    def sentence(self, song: Song) -> str:
        return f"Key {self.tonic} {self.mode}{', everything transposed' if self.transpose else ''}"


def _moved(part: Part, old: Key, new: Key) -> Part:
    """A part in another key, where its pitch counts."""
    if part.role not in PITCHED_ROLES:
        return part
    return replace(part, patterns={name: replace(p, notes=in_key(p.notes, old, new)) for name, p in part.patterns.items()})


@dataclass(frozen=True)
class SetSwing:
    """How late every second 16th of the song is: 50 straight, 66.7 a triplet. Parts with a groove of their own keep it."""

    kind: ClassVar[str] = "set_swing"
    swing_percent: float

    def apply(self, song: Song) -> Song:
        if not MIN_SWING <= self.swing_percent <= MAX_SWING:
            raise InvalidEdit(f"Swing lies between {MIN_SWING:.0f} and {MAX_SWING:.0f} %.")
        return replace(song, swing_percent=round(self.swing_percent, 2))

    def sentence(self, song: Song) -> str:
        return f"Swing {self.swing_percent:.1f} %"
