"""`ersatz survey`: measure a track."""

from __future__ import annotations

import argparse
from pathlib import Path

from ersatz.commands.files import progress, read_json, write_json
from ersatz.core.serial import from_json
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Corrections


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableAudio for a track that can't be read."""
    survey = survey_file(arguments.track, corrections(arguments.corrections), progress("survey"))
    write_json(survey.to_json(), arguments.json)


def corrections(path: Path | None) -> Corrections:
    """What a producer said over the measurement; nothing without a file."""
    return Corrections() if path is None else from_json(Corrections, read_json(path))
