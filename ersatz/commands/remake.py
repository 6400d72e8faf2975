"""`ersatz remake`: survey, draft, mixdown and gap in one go."""

from __future__ import annotations

import argparse
from pathlib import Path

from ersatz.commands.files import progress, write_json
from ersatz.commands.survey import corrections
from ersatz.core.audio import write_audio
from ersatz.core.exchange.midi import write_midi
from ersatz.core.remake import remake_file


def run(arguments: argparse.Namespace) -> None:
    """Raises UnusableAudio for a track that can't be read, NoTempo for one without a steady tempo."""
    made = remake_file(arguments.track, arguments.seed, arguments.style, corrections(arguments.corrections), progress("remake"))
    out: Path = arguments.out
    out.mkdir(parents=True, exist_ok=True)
    write_json(made.reference.to_json(), out / "reference.survey.json")
    write_json(made.song.to_json(), out / "song.json")
    write_json(made.remake.to_json(), out / "remake.survey.json")
    write_json(made.gap.to_json(), out / "gap.json")
    write_audio(out / "mix.wav", made.mix)
    write_midi(made.song, out / "song.mid")
    report = {
        "seconds": made.seconds,
        "figures": {f.name: [f.reference, f.remake, f.difference, f.verdict] for f in made.gap.figures},
    }
    write_json(report, None)
