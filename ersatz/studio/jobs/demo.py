"""The demo scenario, prepared in front of the user's eyes: two references made here and surveyed, a target of both, and a remake of
the first, drafted, arranged and measured.

Each step is a job that starts what it needs and then the next step: the queue runs them in order, and between them what others
ask for.
"""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings

from demo import lighthouse_shift
from demo.references import REFERENCES, write_reference
from demo.samples import SAMPLES
from demo.synth import RATE_HZ
from ersatz.core.audio import Audio
from ersatz.core.errors import ErsatzError, InvalidEdit
from ersatz.core.song.document import Song
from ersatz.studio.jobs.start import start_job
from ersatz.studio.models import Job, OwnSample, Reference, Remake
from ersatz.studio.shared.targets import make_target
from ersatz.studio.shared.variants import edit_in

REMAKE_TITLE = "Lighthouse Shift"
REMADE, OTHER = REFERENCES
TARGET_TITLE = "Pier Nine nights"
#: How long to wait before asking again whether what a step needs is there.
LOOK_AGAIN_S = 1.0

Progress = Callable[[str, float], None]


class NotReady(Exception):
    """What the step needs is still being made."""


def start_demo(owner: Any) -> None:
    """From the first step on, unless the demo is there or under way."""
    if not Job.objects.filter(owner=owner, kind=Job.Kind.DEMO).exists():
        start_job(owner, Job.Kind.DEMO, step=next(iter(STEPS)))


def run_step(job: Job, report: Progress) -> None:
    """Raises ErsatzError where an earlier step failed."""
    names = list(STEPS)
    step = job.options["step"]
    try:
        STEPS[step](job.owner, report)
    except NotReady:
        time.sleep(LOOK_AGAIN_S)
        start_job(job.owner, Job.Kind.DEMO, step=step)
        return
    following = names[names.index(step) + 1 :]
    if following:
        start_job(job.owner, Job.Kind.DEMO, step=following[0])


def _reference(owner: Any, title: str, report: Progress) -> None:
    report(f"demo: making “{title}”", 0.1)
    path = write_reference(Path(settings.HOME) / "demo", title)
    reference, _ = Reference.objects.get_or_create(
        owner=owner, title=title, defaults={"file_name": path.name, "stored_name": "original.wav"}
    )
    if reference.survey_json:
        return
    reference.folder.mkdir(parents=True, exist_ok=True)
    if not reference.audio_path.exists():
        shutil.copyfile(path, reference.audio_path)
    start_job(owner, Job.Kind.SURVEY, reference=reference)


def _samples(owner: Any, report: Progress) -> None:
    report("demo: making samples", 0.1)
    for name, make in SAMPLES.items():
        OwnSample.keep(owner, name, Audio(make().astype(np.float32), RATE_HZ))


def _remake(owner: Any, report: Progress) -> None:
    report(f"demo: drafting “{REMAKE_TITLE}”", 0.5)
    remake, _ = Remake.objects.get_or_create(owner=owner, reference=_surveyed(owner, REMADE), defaults={"title": REMAKE_TITLE})
    if not remake.head:
        start_job(owner, Job.Kind.DRAFT, remake=remake)


def _arrange(owner: Any, report: Progress) -> None:
    """The draft made into an arrangement, edit by edit, as on the pages."""
    report(f"demo: arranging “{REMAKE_TITLE}”", 0.2)
    remake = Remake.objects.get(owner=owner, reference=_surveyed(owner, REMADE), title=REMAKE_TITLE)
    if Job.objects.filter(remake=remake, kind=Job.Kind.DRAFT, state__in=Job.UNFINISHED).exists():
        raise NotReady
    if not remake.head:
        raise ErsatzError("The demo's remake could not be drafted.")
    if remake.milestones.exists():
        return
    survey = remake.reference.survey
    assert survey is not None
    for step in lighthouse_shift.steps(_song_of(remake), survey.main_section()):
        if "keep" in step:
            remake.keep(step["keep"])
            continue
        try:
            remake.apply(edit_in(step, _song_of(remake), survey), remake.head)
        except InvalidEdit:
            if "if_offered" not in step:
                raise


def _target(owner: Any, report: Progress) -> None:
    report("demo: a target of both", 0.2)
    both = [_surveyed(owner, title) for title in sorted(REFERENCES)]
    if not Reference.objects.targets().filter(owner=owner, title=TARGET_TITLE).exists():
        make_target(owner, TARGET_TITLE, both)
    remake = Remake.objects.filter(owner=owner, title=REMAKE_TITLE).first()
    if remake is not None and remake.head:
        start_job(owner, Job.Kind.MEASURE, remake=remake)


def _surveyed(owner: Any, title: str) -> Reference:
    reference = Reference.objects.get(owner=owner, title=title)
    if reference.survey_json is None:
        if Job.objects.filter(reference=reference, kind=Job.Kind.SURVEY, state__in=Job.UNFINISHED).exists():
            raise NotReady
        raise ErsatzError(f"The demo's reference “{title}” could not be surveyed.")
    return reference


def _song_of(remake: Remake) -> Song:
    revision = remake.revision
    assert revision is not None
    return revision.song


STEPS: dict[str, Callable[[Any, Progress], None]] = {
    "first reference": lambda owner, report: _reference(owner, REMADE, report),
    "second reference": lambda owner, report: _reference(owner, OTHER, report),
    "samples": _samples,
    "remake": _remake,
    "arrangement": _arrange,
    "target": _target,
}
