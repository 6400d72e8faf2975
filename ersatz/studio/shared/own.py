"""The notes of a reference's recording, heard once and kept beside it: what a remake takes over is read from them every time."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import numpy as np

from ersatz.core.audio import read_audio
from ersatz.core.errors import ErsatzError
from ersatz.core.own import Heard, Own, hear
from ersatz.core.serial import from_json
from ersatz.core.song.document import digest
from ersatz.core.survey.document import Survey
from ersatz.studio.models import Job, Reference, Remake

#: Raised when `hear` hears otherwise.
HEARING = 1


def compared_with(remake: Remake) -> tuple[Reference, Survey] | None:
    """The track that a remake is judged against and its survey: the reference, or the one that stands for a target; None where
    there is no recording."""
    track = remake.reference.listened
    survey = track.survey if track is not None else None
    return (track, survey) if track is not None and survey is not None and track.has_audio else None


def own_key(track: Reference, survey: Survey, sha: str) -> str:
    """Changes with the song, the recording and everything of its survey that the meter reads."""
    read = [survey.drums.patterns, survey.sections]
    return digest([sha, _heard_name(track, survey), repr(read)])


def own_job(remake: Remake, sha: str) -> Job | None:
    """The job that measured, or now measures, what a song of a remake takes over; None where there is none."""
    found = compared_with(remake)
    if found is None:
        return None
    same = Job.objects.filter(remake=remake, kind=Job.Kind.OWN)
    done = same.filter(state=Job.State.DONE, options__key=own_key(*found, sha)).first()
    return done or same.filter(state__in=Job.UNFINISHED).first()


def own_of(job: Job | None) -> Own | None:
    """What a job has measured; None where it hasn't."""
    return from_json(Own, job.options["own"]) if job is not None and "own" in job.options else None


def heard_of(track: Reference, survey: Survey) -> Heard:
    """What is heard of a track, read from its file or worked out. Raises ErsatzError for audio that can't be read."""
    path = track.folder / _heard_name(track, survey)
    if path.is_file():
        with np.load(path) as kept:
            return Heard(kept["begins"].astype(np.float32), kept["sounds"].astype(np.float32))
    try:
        audio = read_audio(track.audio_path)
    except OSError as error:
        raise ErsatzError("The reference’s audio could not be read.") from error
    heard = hear(audio, track.listening_grid(survey), survey.tempo.swing_percent)
    _keep(heard, path)
    return heard


def _heard_name(track: Reference, survey: Survey) -> str:
    return f"notes-{digest([track.listening_key(survey), survey.tempo.swing_percent, HEARING])[:16]}.npz"


def _keep(heard: Heard, path: Path) -> None:
    """Whole or not at all."""
    handle, unfinished = tempfile.mkstemp(dir=path.parent, prefix="tmp", suffix=".npz")
    with os.fdopen(handle, "wb") as file:
        np.savez_compressed(file, begins=heard.begins.astype(np.float16), sounds=heard.sounds.astype(np.float16))
    os.replace(unfinished, path)
