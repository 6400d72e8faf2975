"""Audio as a value: reading, checking, writing, resampling.

Conventions: `samples` is float32, shape (channels, samples), full scale 1.0. Files are read through libsndfile
(WAV 8-32 bit and float, AIFF, FLAC, OGG, Opus, MP3). Every limit stands here once, with the sentence that the
producer reads when a file breaks it.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr

from ersatz.core.errors import UnusableAudio

#: What the producer reads when a file isn't one of these.
FORMATS = "WAV, AIFF, FLAC, OGG, Opus and MP3"
ACCEPTED = f"Ersatz takes {FORMATS}, 10 seconds to 20 minutes long."
ACCEPTED_SUFFIXES = (".wav", ".aif", ".aiff", ".aifc", ".flac", ".ogg", ".oga", ".opus", ".mp3", ".w64", ".rf64")
ACCEPTED_FORMATS = ("WAV", "WAVEX", "AIFF", "FLAC", "OGG", "MP3", "MPEG", "W64", "RF64")
MIN_RATE_HZ, MAX_RATE_HZ = 8_000, 192_000
MAX_CHANNELS = 32
#: Below this peak there is nothing to measure: 16-bit dither sits near -93 dBFS.
SILENT_PEAK = 10 ** (-80 / 20)
#: Float files may stand over full scale, but not as numbers of another kind do.
LOUDEST_PEAK = 10 ** (60 / 20)
#: Read this many frames at a time, so that an absurd header can't ask for memory that the file doesn't fill.
READ_FRAMES = 1 << 20


@dataclass(frozen=True)
class Limits:
    """How long a file may be, and the sentences that say so: `accepted` in general, `most` and `too_short` of a length."""

    min_s: float
    max_s: float
    accepted: str
    most: str
    purpose: str


TRACK = Limits(10.0, 20 * 60.0, ACCEPTED, "up to 20 minutes are accepted", "survey it")


@dataclass(frozen=True)
class Audio:
    """Samples with their rate: float32, shape (channels, samples)."""

    samples: np.ndarray
    rate_hz: int

    @property
    def channels(self) -> int:
        """Number of channels."""
        return int(self.samples.shape[0])

    @property
    def frames(self) -> int:
        """Samples per channel."""
        return int(self.samples.shape[1])

    @property
    def duration_s(self) -> float:
        """Seconds."""
        return self.frames / self.rate_hz

    def stereo(self) -> np.ndarray:
        """Left and right, shape (2, samples): mono doubled, of more channels the first two."""
        if self.channels == 1:
            return np.broadcast_to(self.samples, (2, self.frames))
        return self.samples[:2]


#: Suffix -> format and subtype.
WRITTEN = {
    ".wav": ("WAV", "PCM_24"), ".flac": ("FLAC", "PCM_24"), ".aiff": ("AIFF", "PCM_24"), ".aif": ("AIFF", "PCM_24"),
    ".ogg": ("OGG", "VORBIS"), ".opus": ("OGG", "OPUS"), ".mp3": ("MP3", "MPEG_LAYER_III"),
}  # fmt: skip


def read_audio(path: str | Path, name: str | None = None, limits: Limits = TRACK) -> Audio:
    """The whole file. Raises UnusableAudio, with one sentence for the producer, for what can't be surveyed or played.

    `name` is what the producer calls the file, where it is stored under another name.
    """
    path = Path(path)
    name = name or path.name
    if not path.is_file():
        raise UnusableAudio(f"“{name}” is not a file." if path.exists() else f"There is no file “{name}”.")
    if path.stat().st_size == 0:
        raise UnusableAudio(f"“{name}” is empty. {limits.accepted}")
    _refuse_video(path, name, limits)
    try:
        with soundfile.SoundFile(str(path)) as file:
            _check_header(name, file, limits)
            samples = _read_frames(name, file, limits)
            rate_hz = int(file.samplerate)
    except (soundfile.LibsndfileError, RuntimeError, OSError) as error:
        raise UnusableAudio(f"“{name}” can't be read as audio. {limits.accepted}") from error
    duration_s = samples.shape[1] / rate_hz
    if duration_s < limits.min_s:
        raise UnusableAudio(
            f"“{name}” holds {duration_s:.3g} s of audio; at least {limits.min_s:g} s are needed to {limits.purpose}."
        )
    # Not a number if one of them isn't.
    peak = float(max(samples.max(), -samples.min()))
    if not np.isfinite(peak):
        raise UnusableAudio(f"“{name}” holds samples that are not numbers; export it again. {limits.accepted}")
    if peak > LOUDEST_PEAK:
        raise UnusableAudio(f"“{name}” holds samples far over full scale, which no audio has; export it again. {limits.accepted}")
    if peak < SILENT_PEAK:
        raise UnusableAudio(f"“{name}” is silent from start to end, so there is nothing to {limits.purpose.removesuffix(' it')}.")
    return Audio(samples, rate_hz)


def _refuse_video(path: Path, name: str, limits: Limits) -> None:
    head = path.open("rb").read(12)
    is_mp4 = head[4:8] == b"ftyp"
    is_matroska = head[:4] == b"\x1aE\xdf\xa3"
    is_avi = head[:4] == b"RIFF" and head[8:12] == b"AVI "
    if is_mp4 or is_matroska or is_avi:
        raise UnusableAudio(f"“{name}” is a video or MP4 container; export its sound first. {limits.accepted}")


def _check_header(name: str, file: soundfile.SoundFile, limits: Limits) -> None:
    if file.format not in ACCEPTED_FORMATS:
        raise UnusableAudio(f"“{name}” is {file.format_info}, which is not accepted. {limits.accepted}")
    if not MIN_RATE_HZ <= file.samplerate <= MAX_RATE_HZ:
        raise UnusableAudio(f"“{name}” says it has {file.samplerate} Hz; sample rates from 8 to 192 kHz are accepted.")
    if file.channels > MAX_CHANNELS:
        raise UnusableAudio(f"“{name}” has {file.channels} channels; mono, stereo and up to {MAX_CHANNELS} channels are accepted.")
    # A compressed stream may not know its length (-1 or huge): the reading loop enforces the limit for those.
    if file.format in ("WAV", "AIFF", "FLAC") and limits.max_s * file.samplerate < file.frames < 1 << 40:
        minutes = file.frames / file.samplerate / 60
        raise UnusableAudio(f"“{name}” is {minutes:.0f} minutes long; {limits.most}.")


def _read_frames(name: str, file: soundfile.SoundFile, limits: Limits) -> np.ndarray:
    limit = int(limits.max_s * file.samplerate)
    blocks: list[np.ndarray] = []
    total = 0
    while True:
        try:
            block = file.read(READ_FRAMES, dtype="float32", always_2d=True)
        except soundfile.LibsndfileError:
            # A truncated stream: what was decoded up to the break still counts.
            break
        if len(block) == 0:
            break
        # Folded block by block: many channels at a high rate would not fit into memory.
        blocks.append(_fold_surround(np.ascontiguousarray(block.T)))
        total += len(block)
        if total > limit:
            raise UnusableAudio(f"“{name}” is too long; {limits.most}.")
        if len(block) < READ_FRAMES:
            break
    if not blocks:
        raise UnusableAudio(f"“{name}” holds no audio. {limits.accepted}")
    return np.concatenate(blocks, axis=1)


def _fold_surround(samples: np.ndarray) -> np.ndarray:
    """More than two channels become two: odd ones to the left, even ones to the right, at equal weight."""
    if samples.shape[0] <= 2:
        return samples
    left, right = samples[0::2], samples[1::2]
    return np.stack([left.mean(axis=0), right.mean(axis=0)]).astype(np.float32)


def resample(samples: np.ndarray, from_hz: int, to_hz: int) -> np.ndarray:
    """Samples at another rate, shape (channels, n * to/from); soxr's high quality."""
    if from_hz == to_hz:
        return samples
    # Channel by channel: interleaving costs more than it saves.
    return np.stack([soxr.resample(np.ascontiguousarray(c, np.float32), from_hz, to_hz, quality="HQ") for c in samples])


def write_audio(path: str | Path, audio: Audio, subtype: str | None = None) -> None:
    """Written in the format of its suffix, one of WRITTEN, 24 bit unless `subtype` says otherwise. Raises UnusableAudio for a place
    that can't be written to."""
    path = Path(path)
    format_name, usual = check_writable(path)
    with soundfile.SoundFile(str(path), "w", audio.rate_hz, audio.channels, subtype or usual, format=format_name) as file:
        # In blocks: the library's OGG encoder doesn't survive minutes at once.
        for start in range(0, audio.frames, READ_FRAMES):
            file.write(audio.samples[:, start : start + READ_FRAMES].T)


def check_writable(path: Path) -> tuple[str, str]:
    """Format and usual subtype of an audio file to be written. Raises UnusableAudio, with one sentence, for another suffix,
    a folder that isn't there, and what is no file."""
    if path.suffix.lower() not in WRITTEN:
        raise UnusableAudio(f"“{path.name}” should end in {', '.join(WRITTEN)}.")
    if not path.parent.is_dir():
        raise UnusableAudio(f"There is no folder “{path.parent}”.")
    if path.exists() and not path.is_file():
        raise UnusableAudio(f"“{path}” is not a file.")
    return WRITTEN[path.suffix.lower()]


def file_sha256(path: str | Path) -> str:
    """Hex digest of a file's bytes."""
    digest = hashlib.sha256()
    for block in _file_blocks(Path(path)):
        digest.update(block)
    return digest.hexdigest()


def _file_blocks(path: Path, size: int = 1 << 20) -> Iterator[bytes]:
    with path.open("rb") as file:
        while block := file.read(size):
            yield block
