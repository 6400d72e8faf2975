"""What a command takes as a reference or a remake: audio, a survey, a target or a song."""

from __future__ import annotations

from pathlib import Path

from ersatz.commands.files import progress, read_json
from ersatz.core.balance.match import survey_remake
from ersatz.core.mixdown.cache import RenderCache
from ersatz.core.mixdown.render import Mixdown
from ersatz.core.song.document import Song
from ersatz.core.survey import survey_file
from ersatz.core.survey.document import Survey
from ersatz.core.target import Target


def as_reference(path: Path) -> tuple[Survey, Target | None]:
    """A survey, or a target's typical track with the target."""
    if path.suffix.lower() == ".json":
        data = read_json(path)
        if isinstance(data, dict) and str(data.get("schema", "")).startswith("ersatz.target/"):
            target = Target.from_json(data)
            return target.typical, target
    return as_survey(path), None


def as_survey(path: Path) -> Survey:
    """The survey of a file: one that is written down, of audio, or of a song's own mixdown.

    Raises UnusableAudio, UnusableDocument."""
    if path.suffix.lower() == ".json":
        data = read_json(path)
        if isinstance(data, dict) and str(data.get("schema", "")).startswith("ersatz.song/"):
            song = Song.from_json(data)
            mixdown = Mixdown(song, RenderCache.temporary())
            return survey_remake(mixdown.whole(), mixdown)
        return Survey.from_json(data)
    return survey_file(path, progress=progress(path.name))
