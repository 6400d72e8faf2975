"""`ersatz target`: what several surveys, or a style, have in common."""

from __future__ import annotations

import argparse

from ersatz.commands.files import read_json, write_json
from ersatz.core.errors import UnusableDocument
from ersatz.core.survey.document import Survey
from ersatz.core.target import target_of_style, target_of_surveys


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableDocument where both surveys and a style are named, and for surveys that can't be read."""
    if arguments.style and arguments.surveys:
        raise UnusableDocument("A target is made from surveys or from a style, not from both.")
    if arguments.style:
        made = target_of_style(arguments.style)
    else:
        surveys = [Survey.from_json(read_json(path)) for path in arguments.surveys]
        made = target_of_surveys(surveys, [s.source.file for s in surveys], arguments.title)
    write_json(made.to_json(), arguments.json)
