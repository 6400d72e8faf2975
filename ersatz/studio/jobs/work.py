"""What each kind of job does, and how a job is run: claimed once, heard from while it works, taken up again if its worker died."""

from __future__ import annotations

import logging
import shutil
import time
from collections.abc import Callable
from datetime import timedelta

import numpy as np
from django.conf import settings
from django.db.models import F, Q
from django.utils import timezone

from ersatz.core.audio import Audio, read_audio, resample, write_audio
from ersatz.core.draft.match import survey_remake
from ersatz.core.errors import Cancelled, ErsatzError
from ersatz.core.mixdown.render import RATE_HZ
from ersatz.core.remake import draft_and_match
from ersatz.core.survey import survey_track
from ersatz.core.survey.track import Track
from ersatz.studio.handover.files import export_path, write_export
from ersatz.studio.jobs.start import start_job
from ersatz.studio.jobs.tracks import kept_track
from ersatz.studio.models import Job, Measurement
from ersatz.studio.renders import mixdown_of, render_cache
from ersatz.studio.target.make import follow_corrections

log = logging.getLogger(__name__)
#: A worker that hasn't been heard from for this long is taken to be gone.
STALE = timedelta(seconds=60)
#: A job that killed its worker this often is given up.
MAX_ATTEMPTS = 3
WRITE_EVERY_S = 0.25

Progress = Callable[[str, float], None]


def run(job_id: int) -> None:
    """Run a queued job to its end. A job that is no longer queued is left alone: running twice does no harm."""
    claimed = Job.objects.filter(pk=job_id, state=Job.State.QUEUED).update(
        state=Job.State.RUNNING, heartbeat=timezone.now(), attempts=F("attempts") + 1
    )
    if not claimed:
        return
    job = Job.objects.select_related("reference", "remake").get(pk=job_id)
    try:
        WORK[job.kind](job, _reporter(job))
    except Cancelled:
        _finish(job, Job.State.CANCELLED, "Cancelled.")
    except ErsatzError as error:
        _refuse(job, str(error))
    except OSError as error:
        log.exception("job %s", job_id)
        full = error.errno == 28
        _refuse(job, "The disk is full; free some space and try again." if full else "A file could not be read or written.")
    except Exception:
        log.exception("job %s", job_id)
        _refuse(job, "Something went wrong here that should not have; the details are in the log.")
    else:
        _finish(job, Job.State.DONE, "")


def take_up_orphans(all_running: bool) -> list[int]:
    """Jobs to enqueue again: those whose worker has gone quiet, or (at the start of the only worker) all that ran."""
    orphaned = Q(state=Job.State.RUNNING)
    if not all_running:
        orphaned &= Q(heartbeat__lt=timezone.now() - STALE)
    Job.objects.filter(orphaned, attempts__gte=MAX_ATTEMPTS).update(
        state=Job.State.FAILED, message="This job stopped its worker three times and was given up."
    )
    Job.objects.filter(orphaned).update(state=Job.State.QUEUED)
    return list(Job.objects.filter(state=Job.State.QUEUED).order_by("created_at").values_list("pk", flat=True))


def _reporter(job: Job) -> Progress:
    last = 0.0

    def report(phase: str, fraction: float) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last < WRITE_EVERY_S and fraction < 1:
            return
        last = now
        Job.objects.filter(pk=job.pk).update(phase=phase[:80], fraction=fraction, heartbeat=timezone.now())
        if Job.objects.filter(pk=job.pk, cancel=True).exists():
            raise Cancelled

    return report


def _finish(job: Job, state: str, message: str) -> None:
    Job.objects.filter(pk=job.pk).update(state=state, message=message[:400], fraction=1.0, heartbeat=timezone.now())


def _refuse(job: Job, sentence: str) -> None:
    """A survey that fails takes its file with it: the shelf keeps the sentence only."""
    if job.kind == Job.Kind.SURVEY and job.reference and job.reference.survey_json is None:
        job.reference.problem = sentence[:400]
        job.reference.save(update_fields=["problem"])
        shutil.rmtree(job.reference.folder, ignore_errors=True)
    _finish(job, Job.State.FAILED, sentence)


def _survey(job: Job, report: Progress) -> None:
    reference = job.reference
    assert reference is not None
    corrections = reference.corrections

    def track() -> Track:
        return kept_track(reference.audio_path, lambda p, f: report(p, 0.3 * f), reference.file_name)

    # As measured first, so that what was corrected can always be told apart and taken back.
    if reference.measured_json is None:
        measured = survey_track(track(), progress=lambda p, f: report(p, 0.3 + (0.3 if corrections else 0.6) * f))
        reference.measured_json = measured.to_json()
        reference.save(update_fields=["measured_json"])
    if corrections:
        survey = survey_track(track(), corrections, lambda p, f: report(p, 0.6 + 0.3 * f)).to_json()
    else:
        survey = reference.measured_json
    if not reference.listening_path.exists():
        report("listening copy", 0.92)
        audio = read_audio(reference.audio_path)
        stereo = resample(np.ascontiguousarray(audio.stereo()), audio.rate_hz, RATE_HZ)
        write_audio(reference.listening_path, Audio(np.clip(stereo, -1, 1), RATE_HZ))
    reference.survey_json = survey
    reference.kick_path.unlink(missing_ok=True)
    reference.problem = ""
    reference.save(update_fields=["survey_json", "problem"])
    follow_corrections(reference)


def _draft(job: Job, report: Progress) -> None:
    remake = job.remake
    assert remake is not None
    survey = remake.reference.survey
    assert survey is not None
    song = draft_and_match(survey, remake.seed, remake.style or None, remake.title, render_cache(), report)
    remake.start(song, "Drafted from the target" if remake.reference.is_target else "Drafted from the reference")
    # The draft can be heard and changed while it is measured.
    start_job(job.owner, Job.Kind.MEASURE, remake=remake)


def _measure(job: Job, report: Progress) -> None:
    remake = job.remake
    assert remake is not None
    revision = remake.revision
    if revision is None or remake.measurements.filter(sha=revision.sha).exists():
        return
    mix = mixdown_of(remake, revision.song).whole(lambda f: report("mixdown", 0.7 * f))
    report("measuring the remake", 0.72)
    survey = survey_remake(mix, revision.song)
    Measurement.objects.update_or_create(remake=remake, sha=revision.sha, defaults={"survey_json": survey.to_json()})


def _export(job: Job, report: Progress) -> None:
    remake = job.remake
    assert remake is not None
    revision = remake.revision
    assert revision is not None
    path = export_path(remake, revision.sha, job.options["format"])
    if not path.exists():
        write_export(mixdown_of(remake, revision.song), path, lambda f: report("mixdown", f))
    job.options = {**job.options, "sha": revision.sha}
    job.save(update_fields=["options"])


WORK: dict[str, Callable[[Job, Progress], None]] = {
    Job.Kind.SURVEY: _survey,
    Job.Kind.DRAFT: _draft,
    Job.Kind.MEASURE: _measure,
    Job.Kind.EXPORT: _export,
}
assert set(WORK) == set(Job.Kind.values)
SINGLE_WORKER = settings.HUEY["huey_class"] == "huey.SqliteHuey"
