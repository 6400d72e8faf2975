"""Tracker modules rendered instrument by instrument through libopenmpt: stems of music that people made, on an exact grid.

The library comes with Debian's openmpt123; the modules with `freedroid-data` and the real set's `tecnoballz-data`, both extracted
and never installed.
"""

from __future__ import annotations

import ctypes
import subprocess
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

RATE = 44_100
BLOCK = 4096
#: What Amiga trackers pan hard is brought to a width that club music has, percent.
SEPARATION_PERCENT = 40
#: Rows per beat: the first that gives a tempo of clubs.
ROWS_PER_BEAT, SLOWEST_BPM, FASTEST_BPM = (4, 8), 78, 182
#: Modules whose rows last differently are left out: their grid isn't one tempo.
STEADY_S, STEADY_SHARE = 0.002, 0.8
_SEPARATION = 2
#: What is above it in a pattern ends a note.
HIGHEST_NOTE = 120
_PATTERN = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_void_p, ctypes.c_int32, ctypes.c_int)


@dataclass(frozen=True)
class Module:
    """A rendered module: `stems` by role ("drums", "bass", "chords"), float32 (2, samples) each, and its grid."""

    name: str
    bpm: float
    bars: int
    stems: dict[str, np.ndarray]
    #: Every instrument on its own, loudest first.
    instruments: list[np.ndarray]

    @property
    def bar_s(self) -> float:
        return 240 / self.bpm


class _Interactive(ctypes.Structure):
    """libopenmpt_ext's interface "interactive"; only the mute of instruments is used."""

    _fields_ = [
        *((name, ctypes.c_void_p) for name in (
            "set_current_speed", "set_current_tempo", "set_tempo_factor", "get_tempo_factor", "set_pitch_factor",
            "get_pitch_factor", "set_global_volume", "get_global_volume", "set_channel_volume", "get_channel_volume",
            "set_channel_mute_status", "get_channel_mute_status",
        )),
        ("set_instrument_mute_status", _PATTERN),
        *((name, ctypes.c_void_p) for name in ("get_instrument_mute_status", "play_note", "stop_note")),
    ]  # fmt: skip


def fetch_modules(folder: Path) -> list[Path]:
    """The modules under `folder`, downloaded by package name where they are missing."""
    unpacked = folder / ".x"
    if not (unpacked / "freedroid-data").is_dir():
        (folder / ".deb").mkdir(parents=True, exist_ok=True)
        subprocess.run(["apt-get", "download", "-qq", "freedroid-data"], cwd=folder / ".deb", check=True)
        deb = next((folder / ".deb").glob("freedroid-data_*.deb"))
        subprocess.run(["dpkg-deb", "-x", str(deb), str(unpacked / "freedroid-data")], check=True)
    return sorted(p for p in unpacked.rglob("*.mod") if p.parent.name == "sound" or p.name in ("area1-game.mod", "area2-game.mod"))


def render_module(path: Path, seconds: float) -> Module | None:
    """The first `seconds` of a module by instrument; None where its rows are of different lengths or nothing sounds."""
    lib = _library()
    data = path.read_bytes()
    probe = _open(lib, data)
    count = max(lib.openmpt_module_get_num_instruments(_plain(lib, probe)), lib.openmpt_module_get_num_samples(_plain(lib, probe)))
    row_s = _row_s(lib, _plain(lib, probe))
    lib.openmpt_module_ext_destroy(probe)
    if row_s is None:
        return None
    sounds, pitched = [], []
    for k in range(count):
        x = _render(lib, data, seconds, only=k, of=count)
        if np.abs(x).max() > 1e-3:
            sounds.append(x)
            pitched.append(_role(x))
    if not sounds:
        return None
    stems = {
        role: np.sum([x for x, r in zip(sounds, pitched) if r == role], axis=0).astype(np.float32)
        for role in ("drums", "bass", "chords") if role in pitched
    }  # fmt: skip
    bpm = next((b for b in (60 / (row_s * rows) for rows in ROWS_PER_BEAT) if SLOWEST_BPM <= b <= FASTEST_BPM), None)
    if bpm is None:
        return None
    length = min(x.shape[1] for x in sounds)
    order = np.argsort([-float(np.square(x).mean()) for x in sounds])
    return Module(path.stem, bpm, int(length / RATE / (240 / bpm)), stems, [sounds[i] for i in order])


def row_seconds(path: Path) -> float | None:
    """Seconds per row, None where rows last differently."""
    lib = _library()
    module = _open(lib, path.read_bytes())
    found = _row_s(lib, _plain(lib, module))
    lib.openmpt_module_ext_destroy(module)
    return found


def written_notes(path: Path, seconds: float) -> dict[int, list[tuple[float, int]]] | None:
    """What is written for each instrument, as (seconds, MIDI note), where `render_module` gives audio; bends aside."""
    lib = _library()
    module = _open(lib, path.read_bytes())
    plain = _plain(lib, module)
    row_s = _row_s(lib, plain)
    if row_s is None:
        return None
    out: dict[int, list[tuple[float, int]]] = {}
    for order in range(lib.openmpt_module_get_num_orders(plain)):
        pattern = lib.openmpt_module_get_order_pattern(plain, order)
        start = lib.openmpt_module_set_position_order_row(plain, order, 0)
        for channel in range(lib.openmpt_module_get_num_channels(plain)):
            instrument = 0
            for row in range(lib.openmpt_module_get_pattern_num_rows(plain, pattern)):
                note, named = (lib.openmpt_module_get_pattern_row_channel_command(plain, pattern, row, channel, k) for k in (0, 1))
                instrument = named or instrument
                if 1 <= note <= HIGHEST_NOTE and instrument and start + row * row_s < seconds:
                    out.setdefault(instrument - 1, []).append((start + row * row_s, note - 1))
    lib.openmpt_module_ext_destroy(module)
    return out


def _library() -> ctypes.CDLL:
    lib = ctypes.CDLL("libopenmpt.so.0")
    for name in ("openmpt_module_ext_create_from_memory", "openmpt_module_ext_get_module"):
        getattr(lib, name).restype = ctypes.c_void_p
    lib.openmpt_module_set_position_order_row.restype = ctypes.c_double
    lib.openmpt_module_read_float_stereo.restype = ctypes.c_size_t
    return lib


def _open(lib: ctypes.CDLL, data: bytes) -> ctypes.c_void_p:
    module = lib.openmpt_module_ext_create_from_memory(data, ctypes.c_size_t(len(data)), None, None, None, None, None, None, None)
    if not module:
        raise ValueError("libopenmpt can't read this module")
    return ctypes.c_void_p(module)


def _plain(lib: ctypes.CDLL, module: ctypes.c_void_p) -> ctypes.c_void_p:
    return ctypes.c_void_p(lib.openmpt_module_ext_get_module(module))


def _row_s(lib: ctypes.CDLL, module: ctypes.c_void_p) -> float | None:
    """Seconds per row where most quarters of the first orders last equally long, else None: jumps may differ."""
    orders = range(min(8, lib.openmpt_module_get_num_orders(module)))
    times = [lib.openmpt_module_set_position_order_row(module, order, row) for order in orders for row in (0, 16, 32, 48)]
    steps = np.diff(times)
    typical = float(np.median(steps))
    if typical <= 0 or (np.abs(steps - typical) <= STEADY_S).mean() < STEADY_SHARE:
        return None
    return typical / 16


def _render(lib: ctypes.CDLL, data: bytes, seconds: float, only: int, of: int) -> np.ndarray:
    module = _open(lib, data)
    plain = _plain(lib, module)
    lib.openmpt_module_set_render_param(plain, _SEPARATION, SEPARATION_PERCENT)
    inside = _Interactive()
    if not lib.openmpt_module_ext_get_interface(
        module, b"interactive", ctypes.byref(inside), ctypes.c_size_t(ctypes.sizeof(inside))
    ):
        raise ValueError("libopenmpt lacks its interactive interface")
    mute: Callable[..., int] = inside.set_instrument_mute_status
    for k in range(of):
        mute(module, k, int(k != only))
    left, right = (np.zeros(BLOCK, np.float32) for _ in range(2))
    pointer = ctypes.POINTER(ctypes.c_float)
    blocks = []
    for _ in range(int(seconds * RATE / BLOCK) + 1):
        n = lib.openmpt_module_read_float_stereo(
            plain, ctypes.c_int32(RATE), ctypes.c_size_t(BLOCK), left.ctypes.data_as(pointer), right.ctypes.data_as(pointer)
        )
        blocks.append(np.stack([left[:n], right[:n]]))
        if n < BLOCK:
            break
    lib.openmpt_module_ext_destroy(module)
    return np.concatenate(blocks, axis=1)


def _role(x: np.ndarray) -> str:
    """Drums are noisy or short; of what is pitched, what lives under 200 Hz is the bass."""
    mono = x.mean(axis=0)
    n = 4096
    frames = mono[: len(mono) // n * n].reshape(-1, n)
    power = np.square(np.abs(np.fft.rfft(frames * np.hanning(n), axis=1)))
    loud = power.sum(axis=1) > 0.05 * power.sum(axis=1).max()
    power = power[loud]
    hz = np.fft.rfftfreq(n, 1 / RATE)
    part = power[:, (hz > 40) & (hz < 8000)] + 1e-12
    flatness = float(np.median(np.exp(np.log(part).mean(axis=1)) / part.mean(axis=1)))
    envelope = np.abs(mono[: len(mono) // 220 * 220].reshape(-1, 220)).max(axis=1)
    sounding = float((envelope > 0.15 * envelope.max()).mean())
    low = float(power[:, hz < 200].sum() / power.sum())
    if flatness > 0.06 or sounding < 0.08:
        return "drums"
    return "bass" if low > 0.6 else "chords"
