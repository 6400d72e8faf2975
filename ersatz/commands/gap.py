"""`ersatz gap`: a remake against its reference."""

from __future__ import annotations

import argparse

from ersatz.commands.files import write_json
from ersatz.commands.references import as_reference, as_survey
from ersatz.core.gap import compare


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableAudio or UnusableDocument for files that can't be read."""
    reference, target = as_reference(arguments.reference)
    remake = as_survey(arguments.remake)
    write_json(compare(reference, remake, spread=target.spread if target else None).to_json(), arguments.json)
