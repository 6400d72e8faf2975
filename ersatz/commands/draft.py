"""`ersatz draft`: a matched first remake."""

from __future__ import annotations

import argparse

from ersatz.commands.files import progress, write_json
from ersatz.commands.references import as_reference
from ersatz.core.remake import draft_and_match
from ersatz.core.styles import ENERGIES


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableDocument for a survey that can't be read, NoTempo for one without a steady tempo."""
    survey, target = as_reference(arguments.survey)
    style = arguments.style or (target.style if target else None)
    song = draft_and_match(survey, arguments.seed, style, progress=progress("draft"), energy=ENERGIES.get(arguments.energy, 0))
    write_json(song.to_json(), arguments.out)
