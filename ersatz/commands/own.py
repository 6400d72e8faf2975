"""`ersatz own`: how much of a reference a song takes over."""

from __future__ import annotations

import argparse
import sys

from ersatz.commands.files import progress, read_json, write_json
from ersatz.core.audio import read_audio
from ersatz.core.own import hear, measure_own
from ersatz.core.samples import SampleFolder, no_samples
from ersatz.core.serial import to_json
from ersatz.core.song.document import Song
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Survey


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableAudio or UnusableDocument for files that can't be read."""
    song = Song.from_json(read_json(arguments.song))
    audio = read_audio(arguments.track)
    if arguments.survey is not None:
        survey = Survey.from_json(read_json(arguments.survey))
    else:
        survey = survey_file(arguments.track, progress=progress(arguments.track.name))
    samples = SampleFolder(arguments.samples) if arguments.samples is not None else no_samples
    own = measure_own(song, survey, hear(audio, survey.tempo.grid, survey.tempo.swing_percent), lambda: audio, samples)
    write_json({"schema": "ersatz.own/1", **to_json(own)}, arguments.json)
    for facet in own.facets:
        figure = "  – " if facet.share is None else f"{facet.share:4.2f}"
        print(f"{facet.name:12} {figure} {facet.said}".rstrip(), file=sys.stderr)
