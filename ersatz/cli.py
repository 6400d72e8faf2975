"""The command `ersatz`: files in, files out, on the same core as the application.

JSON goes to standard output or to the file named, progress to standard error. Input that can't be used ends with exit
code 2 and one clear line.
"""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ersatz.core.audio import Audio, check_writable, write_audio
from ersatz.core.draft.match import set_loudness, survey_remake
from ersatz.core.errors import ErsatzError, UnusableDocument
from ersatz.core.exchange.midi import write_midi
from ersatz.core.gap import compare
from ersatz.core.mixdown.render import RATE_HZ, Mixdown, stems
from ersatz.core.remake import draft_and_match, remake_file
from ersatz.core.serial import from_json, read_json
from ersatz.core.song.document import Song
from ersatz.core.styles import BY_NAME
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Corrections, Survey
from ersatz.core.target import Target, target_of_style, target_of_surveys


def main(argv: list[str] | None = None) -> int:
    arguments = _parser().parse_args(argv)
    try:
        arguments.run(arguments)
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
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    survey = commands.add_parser("survey", help="measure a track")
    survey.add_argument("track", type=Path)
    survey.add_argument("--json", type=Path, metavar="OUT")
    survey.add_argument("--corrections", type=Path, metavar="FILE")
    survey.set_defaults(run=_survey)

    target = commands.add_parser("target", help="find what several surveys, or a style, have in common")
    target.add_argument("surveys", type=Path, nargs="*", metavar="SURVEY.json")
    target.add_argument("--style", choices=sorted(BY_NAME), help="instead of surveys")
    target.add_argument("--title", default="Target")
    target.add_argument("--json", type=Path, metavar="OUT")
    target.set_defaults(run=_target)

    draft = commands.add_parser("draft", help="write a matched first remake from a survey or a target")
    draft.add_argument("survey", type=Path, metavar="SURVEY.json|TARGET.json")
    draft.add_argument("--seed", type=int, default=1)
    draft.add_argument("--style", choices=sorted(BY_NAME))
    draft.add_argument("--out", type=Path, required=True, metavar="SONG.json")
    draft.set_defaults(run=_draft)

    mixdown = commands.add_parser("mixdown", help="render a song")
    mixdown.add_argument("song", type=Path)
    mixdown.add_argument("--out", type=Path, required=True, metavar="MIX.wav")
    mixdown.add_argument("--stems", type=Path, metavar="DIR", help="parts and returns, which sum to the mix before the master")
    mixdown.add_argument("--bars", metavar="A-B")
    mixdown.add_argument("--target-lufs", type=float, metavar="X")
    mixdown.set_defaults(run=_mixdown)

    gap = commands.add_parser("gap", help="compare a remake with its reference")
    gap.add_argument("reference", type=Path)
    gap.add_argument("remake", type=Path)
    gap.add_argument("--json", type=Path, metavar="OUT")
    gap.set_defaults(run=_gap)

    remake = commands.add_parser("remake", help="survey, draft, mixdown and gap in one go")
    remake.add_argument("track", type=Path)
    remake.add_argument("--out", type=Path, required=True, metavar="DIR")
    remake.add_argument("--seed", type=int, default=1)
    remake.add_argument("--style", choices=sorted(BY_NAME))
    remake.add_argument("--corrections", type=Path, metavar="FILE")
    remake.set_defaults(run=_remake)
    return parser


def _survey(arguments: argparse.Namespace) -> None:
    survey = survey_file(arguments.track, _corrections(arguments.corrections), _progress("survey"))
    _write_json(survey.to_json(), arguments.json)


def _target(arguments: argparse.Namespace) -> None:
    if arguments.style and arguments.surveys:
        raise UnusableDocument("A target is made from surveys or from a style, not from both.")
    if arguments.style:
        made = target_of_style(arguments.style)
    else:
        surveys = [Survey.from_json(_read_json(path)) for path in arguments.surveys]
        made = target_of_surveys(surveys, [s.source.file for s in surveys], arguments.title)
    _write_json(made.to_json(), arguments.json)


def _draft(arguments: argparse.Namespace) -> None:
    survey, target = _as_reference(arguments.survey)
    style = arguments.style or (target and target.style)
    song = draft_and_match(survey, arguments.seed, style, progress=_progress("draft"))
    _write_json(song.to_json(), arguments.out)


def _mixdown(arguments: argparse.Namespace) -> None:
    check_writable(arguments.out)
    song = Song.from_json(_read_json(arguments.song))
    if arguments.target_lufs is not None:
        song = set_loudness(song, arguments.target_lufs)
    mixdown = Mixdown(song)
    report = _progress("mixdown")
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
        for name, samples in stems(mixdown, start, stop).items():
            # Float: a part before the master may stand above full scale.
            write_audio(arguments.stems / f"{name}.wav", Audio(samples, RATE_HZ), "FLOAT")
    report("done", 1.0)


def _gap(arguments: argparse.Namespace) -> None:
    reference, target = _as_reference(arguments.reference)
    remake = _as_survey(arguments.remake)
    _write_json(compare(reference, remake, spread=target and target.spread).to_json(), arguments.json)


def _remake(arguments: argparse.Namespace) -> None:
    made = remake_file(arguments.track, arguments.seed, arguments.style, _corrections(arguments.corrections), _progress("remake"))
    out: Path = arguments.out
    out.mkdir(parents=True, exist_ok=True)
    _write_json(made.reference.to_json(), out / "reference.survey.json")
    _write_json(made.song.to_json(), out / "song.json")
    _write_json(made.remake.to_json(), out / "remake.survey.json")
    _write_json(made.gap.to_json(), out / "gap.json")
    write_audio(out / "mix.wav", made.mix)
    write_midi(made.song, out / "song.mid")
    report = {
        "seconds": made.seconds,
        "figures": {f.name: [f.reference, f.remake, f.difference, f.verdict] for f in made.gap.figures},
    }
    _write_json(report, None)


def _as_reference(path: Path) -> tuple[Survey, Target | None]:
    """A survey, or a target's typical track with the target."""
    if path.suffix.lower() == ".json":
        data = _read_json(path)
        if isinstance(data, dict) and str(data.get("schema", "")).startswith("ersatz.target/"):
            target = Target.from_json(data)
            return target.typical, target
    return _as_survey(path), None


def _as_survey(path: Path) -> Survey:
    if path.suffix.lower() == ".json":
        data = _read_json(path)
        if isinstance(data, dict) and str(data.get("schema", "")).startswith("ersatz.song/"):
            song = Song.from_json(data)
            return survey_remake(Mixdown(song).whole(), song)
        return Survey.from_json(data)
    return survey_file(path, progress=_progress(path.name))


def _corrections(path: Path | None) -> Corrections:
    return Corrections() if path is None else from_json(Corrections, _read_json(path))


def _bars(text: str, count: int) -> tuple[int, int]:
    first, _, last = text.partition("-")
    try:
        pair = int(first), int(last or first)
    except ValueError:
        raise UnusableDocument(f"“{text}” is not a range of bars like 41-72.") from None
    if not 1 <= pair[0] <= pair[1] <= count:
        raise UnusableDocument(f"Bars {text} don't lie in this song: it has {count}.")
    return pair


def _read_json(path: Path) -> Any:
    if not path.is_file():
        raise UnusableDocument(f"“{path}” is not a file." if path.exists() else f"There is no file “{path}”.")
    try:
        return read_json(path.read_bytes())
    except UnusableDocument as error:
        raise UnusableDocument(f"“{path.name}”: {error}") from error


def _write_json(data: Any, path: Path | None) -> None:
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":")) if path else json.dumps(data, ensure_ascii=False)
    if path is not None and path.exists() and not path.is_file():
        raise UnusableDocument(f"“{path}” is not a file.")
    if path is None:
        print(text)
    else:
        path.write_text(text, encoding="utf-8")


def _progress(what: str) -> Callable[[str, float], None]:
    """A line on standard error that grows; quiet when nobody watches."""
    if not sys.stderr.isatty():
        return lambda phase, fraction: None

    def show(phase: str, fraction: float) -> None:
        end = "\n" if fraction >= 1 else ""
        print(f"\r{what}: {fraction:4.0%} {phase:<40}", end=end, file=sys.stderr, flush=True)

    return show


if __name__ == "__main__":
    sys.exit(main())
