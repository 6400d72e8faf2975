"""By how much does an effect, or a whole chain, change the loudness of its strip? It is bypassed at that level, so that only its
sound is judged."""

from __future__ import annotations

from dataclasses import replace

from ersatz.core.loudness import mean_lufs
from ersatz.core.mixdown.audition import SILENT_LUFS
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.song.document import Song, with_strip
from ersatz.core.song.strips import Effect, Strip

#: Bars that are compared: the loudest stretch of this length.
BARS = 8


def bypass_db(mixdown: Mixdown, song: Song, strip: Strip, place: int | None = None) -> float:
    """Of the effect at a place of a strip's chain, or of the whole chain, dB, where the strip is loudest; 0 where it is silent."""
    first = _loudest(mixdown, song, strip.id)
    last = min(first + BARS - 1, song.bars)
    levels = []
    for chain in _with_and_without(strip, place):
        varied = mixdown.varied(with_strip(song, replace(strip, chain=chain)))
        levels.append(mean_lufs(varied.behind_chain(strip.id, first, last), RATE_HZ))
    return round(levels[0] - levels[1], 2) if min(levels) > SILENT_LUFS else 0.0


def _with_and_without(strip: Strip, place: int | None) -> tuple[tuple[Effect, ...], tuple[Effect, ...]]:
    if place is None:
        return strip.chain, ()
    before, effect, behind = strip.chain[:place], replace(strip.chain[place], bypass_db=0.0), strip.chain[place + 1 :]
    return (*before, replace(effect, on=True), *behind), (*before, replace(effect, on=False), *behind)


def _loudest(mixdown: Mixdown, song: Song, strip: str) -> int:
    """The first of the BARS bars in which a strip is loudest, among the starts of sections and every BARS bars in them."""
    starts = [bar + k for bar, section in song.placed() for k in range(0, section.bars, BARS)]
    return max(starts, key=lambda bar: sum(mixdown.peaks(strip, bar, bar)))
