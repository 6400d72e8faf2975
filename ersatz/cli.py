"""The command `ersatz`: files in, files out, on the same core as the application.

JSON goes to standard output or to the file named, progress to standard error. Input that can't be used ends with exit
code 2 and one clear line.
"""

from __future__ import annotations

import argparse
import sys
from importlib import import_module
from pathlib import Path

from ersatz.core.errors import ErsatzError
from ersatz.core.garbage import spare_what_stays
from ersatz.core.styles import BY_NAME, ENERGIES


def main(argv: list[str] | None = None) -> int:
    """Runs one command of `argv` (the process's own if left out); gives its exit code: 2 for input that can't be used, said in a
    line."""
    arguments = _parser().parse_args(argv)
    try:
        command = import_module(f"ersatz.commands.{arguments.command}")
        spare_what_stays()
        command.run(arguments)
    except ErsatzError as error:
        print(f"ersatz: {error}", file=sys.stderr)
        return 2
    except OSError as error:
        print(f"ersatz: {error.strerror or error}: {error.filename or ''}".rstrip(": "), file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        return 130
    return 0


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="ersatz", description=__doc__.split("\n\n")[0])
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")

    survey = commands.add_parser("survey", help="measure a track")
    survey.add_argument("track", type=Path)
    survey.add_argument("--json", type=Path, metavar="OUT")
    survey.add_argument("--corrections", type=Path, metavar="FILE")

    target = commands.add_parser("target", help="find what several surveys, or a style, have in common")
    target.add_argument("surveys", type=Path, nargs="*", metavar="SURVEY.json")
    target.add_argument("--style", choices=sorted(BY_NAME), help="instead of surveys")
    target.add_argument("--title", default="Target")
    target.add_argument("--json", type=Path, metavar="OUT")

    draft = commands.add_parser("draft", help="write a matched first remake from a survey or a target")
    draft.add_argument("survey", type=Path, metavar="SURVEY.json|TARGET.json")
    draft.add_argument("--seed", type=int, default=1)
    draft.add_argument("--style", choices=sorted(BY_NAME))
    draft.add_argument("--energy", choices=[name for name, by in ENERGIES.items() if by], help="than the style usually is")
    draft.add_argument("--out", type=Path, required=True, metavar="SONG.json")

    mixdown = commands.add_parser("mixdown", help="render a song")
    mixdown.add_argument("song", type=Path)
    mixdown.add_argument("--out", type=Path, required=True, metavar="MIX.wav")
    mixdown.add_argument("--stems", type=Path, metavar="DIR", help="parts and returns, which sum to the mix before the master")
    mixdown.add_argument("--bars", metavar="A-B")
    mixdown.add_argument("--target-lufs", type=float, metavar="X")

    balance = commands.add_parser("balance", help="solve levels, EQ, ducking, width and master of a song against a reference")
    balance.add_argument("reference", type=Path)
    balance.add_argument("song", type=Path, metavar="SONG.json")
    balance.add_argument("--out", type=Path, required=True, metavar="SONG2.json")
    balance.add_argument("--section", type=int, metavar="N", help="this section alone, counted from 1")
    balance.add_argument("--lock", metavar="STRIP,...", help="strips that stay as they are")

    moves = commands.add_parser("moves", help="rank the next moves of a song towards a reference")
    moves.add_argument("reference", type=Path)
    moves.add_argument("song", type=Path, metavar="SONG.json")
    moves.add_argument("--section", type=int, metavar="N", help="of this section alone, counted from 1")
    moves.add_argument("--most", type=int, default=5, metavar="N")
    moves.add_argument("--json", type=Path, metavar="MOVES.json")

    apply = commands.add_parser("apply", help="take moves, or plain edits, on a song")
    apply.add_argument("song", type=Path, metavar="SONG.json")
    apply.add_argument("moves", type=Path, metavar="MOVES.json")
    apply.add_argument("--take", metavar="1[,3,...]", help="these moves; all where none are named")
    apply.add_argument("--out", type=Path, required=True, metavar="SONG2.json")

    own = commands.add_parser("own", help="tell how much of a reference's tune, chords and rhythm a song takes over")
    own.add_argument("track", type=Path, help="the reference's audio")
    own.add_argument("song", type=Path, metavar="SONG.json")
    own.add_argument("--survey", type=Path, metavar="SURVEY.json", help="of the track, where there is one")
    own.add_argument("--samples", type=Path, metavar="DIR", help="where the song's own samples lie")
    own.add_argument("--json", type=Path, metavar="OUT")

    gap = commands.add_parser("gap", help="compare a remake with its reference")
    gap.add_argument("reference", type=Path)
    gap.add_argument("remake", type=Path)
    gap.add_argument("--json", type=Path, metavar="OUT")

    remake = commands.add_parser("remake", help="survey, draft, mixdown and gap in one go")
    remake.add_argument("track", type=Path)
    remake.add_argument("--out", type=Path, required=True, metavar="DIR")
    remake.add_argument("--seed", type=int, default=1)
    remake.add_argument("--style", choices=sorted(BY_NAME))
    remake.add_argument("--corrections", type=Path, metavar="FILE")
    return parser


if __name__ == "__main__":
    sys.exit(main())
