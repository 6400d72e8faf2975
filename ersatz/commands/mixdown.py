"""`ersatz mixdown`: render a song, whole or some bars of it, with stems."""

from __future__ import annotations

import argparse

from ersatz.commands.files import progress, read_json
from ersatz.core.audio import Audio, check_writable, write_audio
from ersatz.core.errors import UnusableDocument
from ersatz.core.exchange.stems import stem_name
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import RATE_HZ, Mixdown, stems
from ersatz.core.song.document import Song


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableDocument for a song that can't be read and for bars that it hasn't."""
    check_writable(arguments.out)
    song = Song.from_json(read_json(arguments.song))
    cache = RenderCache.temporary()
    if arguments.target_lufs is not None:
        # Brings the solver and the survey along, which take half a second to import.
        from ersatz.core.balance.match import set_loudness

        song = set_loudness(song, arguments.target_lufs, cache)
    mixdown = Mixdown(song, cache)
    report = progress("mixdown")
    if arguments.bars:
        first, last = _bars(arguments.bars, song.bars)
        start, stop = mixdown.bar_range(first, last)
        audio = Audio(mixdown.samples(start, stop, lambda f: report("", f)), RATE_HZ)
    else:
        audio = mixdown.whole(lambda f: report("", f))
        start, stop = 0, audio.frames
    write_audio(arguments.out, audio)
    if arguments.stems:
        arguments.stems.mkdir(parents=True, exist_ok=True)
        for strip, samples in stems(mixdown, start, stop):
            # Float: a part before the master may stand above full scale.
            write_audio(arguments.stems / f"{stem_name(strip)}.wav", Audio(samples, RATE_HZ), "FLOAT")
    report("done", 1.0)


def _bars(text: str, count: int) -> tuple[int, int]:
    first, _, last = text.partition("-")
    try:
        pair = int(first), int(last or first)
    except ValueError:
        raise UnusableDocument(f"“{text}” is not a range of bars like 41-72.") from None
    if not 1 <= pair[0] <= pair[1] <= count:
        raise UnusableDocument(f"Bars {text} don't lie in this song: it has {count}.")
    return pair
