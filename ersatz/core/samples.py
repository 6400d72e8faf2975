"""The producer's own samples: short audio, named by a hash of what is in it.

A song holds the hash alone; who renders it brings a function that finds the audio, or doesn't: a sample that is gone is silence.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import tempfile
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from threading import Lock

import numpy as np

from ersatz.core.audio import FORMATS, Audio, Limits, read_audio, write_audio

ACCEPTED = f"A sample is {FORMATS}, up to 2 minutes long."
SAMPLE = Limits(0.002, 120.0, ACCEPTED, "a sample lasts up to 2 minutes", "play it")
#: Samples that were read are kept in memory up to this many bytes, the last ones used.
KEPT_BYTES = 128 * 1024 * 1024


@dataclass(frozen=True, eq=False)
class Sample:
    """Audio with the hash that a song knows it by. Compared by identity, so that what is made of it can be remembered."""

    sha: str
    audio: Audio


#: Hash -> the sample, or None where it is gone.
Samples = Callable[[str], Sample | None]


def no_samples(sha: str) -> Sample | None:
    """Where no audio can be found."""
    return None


def sha_of(audio: Audio) -> str:
    """Of rate and samples, whatever file they came in."""
    content = hashlib.sha256(f"{audio.rate_hz} {audio.channels} ".encode())
    content.update(np.ascontiguousarray(audio.samples, np.float32).tobytes())
    return content.hexdigest()


def read_sample(path: str | Path, name: str | None = None) -> Audio:
    """Raises UnusableAudio, with one sentence for the producer."""
    return read_audio(path, name, SAMPLE)


class SampleFolder:
    """Samples as files of 32-bit float WAV, at the rates that they came with; found by calling it with a hash."""

    def __init__(self, folder: Path):
        self._folder = folder
        self._read: OrderedDict[str, Sample] = OrderedDict()
        self._lock = Lock()

    def path(self, sha: str) -> Path:
        """Where the sample with this digest lies, whether it exists or not."""
        return self._folder / sha[:2] / f"{sha}.wav"

    def keep(self, audio: Audio) -> str:
        """Writes it, whole or not at all, and gives its hash. Raises OSError where the disk refuses."""
        sha = sha_of(audio)
        path = self.path(sha)
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            handle, unfinished = tempfile.mkstemp(dir=path.parent, suffix=".wav")
            os.close(handle)
            try:
                write_audio(unfinished, audio, "FLOAT")
                os.replace(unfinished, path)
            except BaseException:
                with contextlib.suppress(OSError):
                    os.unlink(unfinished)
                raise
        return sha

    def __call__(self, sha: str) -> Sample | None:
        with self._lock:
            if sha in self._read:
                self._read.move_to_end(sha)
                return self._read[sha]
        # A hash comes out of a document that somebody may have written by hand.
        if not sha.isalnum() or not self.path(sha).is_file():
            return None
        found = Sample(sha, read_sample(self.path(sha)))
        with self._lock:
            self._read[sha] = found
            while len(self._read) > 1 and sum(s.audio.samples.nbytes for s in self._read.values()) > KEPT_BYTES:
                self._read.popitem(last=False)
        return found
