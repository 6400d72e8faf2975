"""Stems: each part and each return as a file of its own, in one archive.

They sum to the mix before the master where buses do nothing. All are HEADROOM_DB down, as a part in front of the master may stand
above full scale and 24 bits end there.
"""

from __future__ import annotations

import zipfile
from collections.abc import Callable
from io import BytesIO
from pathlib import Path

import numpy as np
import soundfile

from ersatz.core.mixdown.render import HEADROOM_DB, RATE_HZ, Mixdown, stems
from ersatz.core.song.strips import Strip

READ_ME = "README.txt"


def stem_name(strip: Strip) -> str:
    """A file name without a suffix."""
    return strip.id.replace(":", "-")


def write_stems(mixdown: Mixdown, path: Path, progress: Callable[[float], None] = lambda fraction: None) -> None:
    """A zip archive of 24-bit FLAC files, all of the song's length."""
    song = mixdown.song
    count = len(song.parts) + len(song.returns)
    gain = np.float32(10 ** (-HEADROOM_DB / 20))
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as archive:
        for k, (strip, samples) in enumerate(stems(mixdown, 0, mixdown.frames)):
            data = BytesIO()
            soundfile.write(data, (samples * gain).T, RATE_HZ, "PCM_24", format="FLAC")
            archive.writestr(f"{k + 1:02d} {stem_name(strip)}.flac", data.getbuffer())
            progress((k + 1) / count)
        archive.writestr(
            READ_ME,
            f"{song.title}\n{song.bpm:g} BPM, {song.key}, bar 1 at the start of every file.\n"
            f"All stems are {HEADROOM_DB:g} dB down. Raised by that, they sum to the mix before its master.\n",
        )
