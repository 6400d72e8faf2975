"""Exported files: where they lie and how they are made."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from django.conf import settings

from ersatz.core.audio import write_audio
from ersatz.core.exchange.midi import write_midi
from ersatz.core.exchange.stems import write_stems
from ersatz.core.mixdown.render import Mixdown

#: kind: (suffix, content type, what it says on the page)
FORMATS = {
    "wav": (".wav", "audio/wav", "24-bit WAV, 44.1 kHz"),
    "flac": (".flac", "audio/flac", "24-bit FLAC, 44.1 kHz"),
    "mp3": (".mp3", "audio/mpeg", "MP3"),
    "ogg": (".ogg", "audio/ogg", "OGG Vorbis"),
    "stems": (".zip", "application/zip", "Stems: a FLAC for each part and return, zipped"),
    "midi": (".mid", "audio/midi", "MIDI, one track per part"),
}


def export_path(remake, sha: str, kind: str) -> Path:
    """Where an export of a song in a format of FORMATS lies, whether it is there or not."""
    return Path(settings.MEDIA_ROOT) / "exports" / str(remake.pk) / f"{sha}{FORMATS[kind][0]}"


def write_export(mixdown: Mixdown, path: Path, report: Callable[[float], None]) -> None:
    """Written beside its place and moved there when it is whole."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f"part-{os.getpid()}{path.suffix}")
    try:
        if path.suffix == ".mid":
            write_midi(mixdown.song, part)
        elif path.suffix == ".zip":
            write_stems(mixdown, part, report)
        else:
            write_audio(part, mixdown.whole(report))
        os.replace(part, path)
    finally:
        part.unlink(missing_ok=True)
