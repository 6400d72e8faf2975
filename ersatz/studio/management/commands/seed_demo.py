"""The demo scenario: two references made here, surveyed, a target of both, and a remake of the first, drafted and measured."""

from __future__ import annotations

import shutil
import sys
import threading
from pathlib import Path

import numpy as np
from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand, CommandError

from demo import lighthouse_shift
from demo.references import write_references
from demo.samples import SAMPLES
from demo.synth import RATE_HZ
from ersatz.core.audio import Audio
from ersatz.core.errors import InvalidEdit
from ersatz.core.song.document import Song
from ersatz.studio.jobs import work
from ersatz.studio.middleware import LOCAL_USER
from ersatz.studio.models import Job, OwnSample, Reference, Remake
from ersatz.studio.shared.targets import make_target
from ersatz.studio.shared.variants import edit_in

REMAKE_TITLE = "Lighthouse Shift"
REMADE = "Ferry at Four"
TARGET_TITLE = "Pier Nine nights"


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args, **options):
        user, _ = get_user_model().objects.get_or_create(username=LOCAL_USER)
        if Job.objects.filter(owner=user, kind=Job.Kind.MEASURE, state=Job.State.DONE).exists():
            return
        self._say("Making the demo references")
        paths = write_references(Path(settings.HOME) / "demo")
        for path in paths:
            self._reference(user, path)
        self._target(user)
        for name, make in SAMPLES.items():
            OwnSample.keep(user, name, Audio(make().astype(np.float32), RATE_HZ))
        reference = Reference.objects.get(owner=user, title=REMADE)
        remake, _ = Remake.objects.get_or_create(owner=user, reference=reference, defaults={"title": REMAKE_TITLE})
        self._run(Job.Kind.DRAFT, f"Drafting “{REMAKE_TITLE}”", user, reference=reference, remake=remake)
        remake.refresh_from_db()
        self._arrange(remake)
        self._run(Job.Kind.MEASURE, f"Measuring “{REMAKE_TITLE}”", user, reference=reference, remake=remake)

    def _reference(self, user, path: Path) -> None:
        reference, _ = Reference.objects.get_or_create(
            owner=user, title=path.stem, defaults={"file_name": path.name, "stored_name": "original.wav"}
        )
        if reference.survey_json:
            return
        reference.folder.mkdir(parents=True, exist_ok=True)
        if not reference.audio_path.exists():
            shutil.copyfile(path, reference.audio_path)
        self._run(Job.Kind.SURVEY, f"Surveying “{path.stem}”", user, reference=reference)

    def _target(self, user) -> None:
        if not Reference.objects.targets().filter(owner=user, title=TARGET_TITLE).exists():
            make_target(user, TARGET_TITLE, list(Reference.objects.of(user).tracks().order_by("title")))

    def _arrange(self, remake: Remake) -> None:
        """The draft made into an arrangement, edit by edit, as on the pages."""
        survey = remake.reference.survey
        for step in lighthouse_shift.steps(_song_of(remake), survey.main_section()):
            if "keep" in step:
                remake.keep(step["keep"])
                continue
            try:
                remake.apply(edit_in(step, _song_of(remake), survey), remake.head)
            except InvalidEdit:
                if "if_offered" not in step:
                    raise

    def _run(self, kind: str, sentence: str, user, reference: Reference, remake: Remake | None = None) -> None:
        self._say(sentence)
        job = Job.objects.create(owner=user, kind=kind, reference=reference if remake is None else None, remake=remake)
        worker = threading.Thread(target=work.run, args=[job.pk])
        worker.start()
        while worker.is_alive():
            worker.join(0.5)
            job.refresh_from_db()
            self._show(job)
        if job.state != Job.State.DONE:
            raise CommandError(job.message)

    @staticmethod
    def _show(job: Job) -> None:
        """How far the job is, on one line that is written over; nothing where nobody watches."""
        if sys.stderr.isatty():
            end = "\n" if job.is_finished else ""
            print(f"\r  {job.fraction:4.0%} {job.phase:<40}", end=end, file=sys.stderr, flush=True)

    def _say(self, sentence: str) -> None:
        print(sentence, file=sys.stderr, flush=True)


def _song_of(remake: Remake) -> Song:
    revision = remake.revision
    assert revision is not None
    return revision.song
