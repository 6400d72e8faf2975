"""What each kind of job does, and how a job is run: claimed once, heard from while it works, taken up again if its worker died."""

from __future__ import annotations

import logging
import shutil
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import timedelta

import numpy as np
from django.conf import settings
from django.db import OperationalError
from django.db.models import F, Q, QuerySet
from django.utils import timezone

from ersatz.core.audio import Audio, read_audio, resample, write_audio
from ersatz.core.balance.changes import changes
from ersatz.core.balance.match import balance_song, match_song, survey_remake
from ersatz.core.balance.merge import TakeMatch
from ersatz.core.balance.reasons import reasons
from ersatz.core.balance.remeasure import has_plan_of, with_section
from ersatz.core.errors import Cancelled, ErsatzError, UnusableAudio
from ersatz.core.mixdown.render import RATE_HZ, Mixdown
from ersatz.core.moves import find_moves
from ersatz.core.own import measure_own, varied
from ersatz.core.serial import to_json
from ersatz.core.survey import survey_track
from ersatz.core.survey.document import Survey
from ersatz.core.survey.track import Track
from ersatz.studio.errors import DISK_FULL, is_disk_full
from ersatz.studio.jobs.start import queue_again, start_job
from ersatz.studio.jobs.tracks import kept_track
from ersatz.studio.models import Job, Measurement, OwnSample, Reference, Remake, Revision, StaleRevision
from ersatz.studio.shared.courses import remember_figures
from ersatz.studio.shared.drafts import begin_draft
from ersatz.studio.shared.exports import export_path, write_export
from ersatz.studio.shared.frame import latest_measurement
from ersatz.studio.shared.own import compared_with, heard_of, own_key
from ersatz.studio.shared.renders import mixdown_of, render_cache
from ersatz.studio.shared.targets import follow_corrections
from ersatz.studio.sweep import give_up_reserve

log = logging.getLogger(__name__)
#: A worker that hasn't been heard from for this long is taken to be gone.
STALE = timedelta(seconds=60)
#: A job that killed its worker this often is given up.
MAX_ATTEMPTS = 3
GIVEN_UP = "This job stopped its worker three times and was given up."
WRITE_EVERY_S = 0.5
#: Kinds that pages start by themselves: who asks for an export doesn't wait for moves that were being tried on a page that is left.
BY_THE_WAY = (Job.Kind.MEASURE, Job.Kind.MOVES, Job.Kind.SECTION, Job.Kind.OWN)

Progress = Callable[[str, float], None]


class GivesWay(Exception):
    """Somebody waits for something that was asked for."""


def run_waiting() -> None:
    """Run the most urgent job that waits: what was asked for, oldest first, then what pages start by themselves."""
    while (job := _asked_for().first() or _waiting().first()) is not None:
        # Another worker may have been quicker.
        if run(job.pk):
            return


def _waiting() -> QuerySet[Job]:
    return Job.objects.filter(state=Job.State.QUEUED).order_by("created_at")


def _asked_for() -> QuerySet[Job]:
    return _waiting().exclude(kind__in=BY_THE_WAY)


def run(job_id: int) -> bool:
    """Run a queued job to its end, or until it gives way. A job that is no longer queued is left alone, which False tells: running
    twice does no harm."""
    claimed = Job.objects.filter(pk=job_id, state=Job.State.QUEUED).update(state=Job.State.RUNNING, heartbeat=timezone.now())
    if not claimed:
        return False
    job = Job.objects.select_related("reference", "remake").get(pk=job_id)
    end = _worked(job)
    if end[0] == Job.State.QUEUED:
        # What it has rendered is kept.
        queue_again(job)
        return True
    if end[2] and _is_ending():
        # It did not fail, it was cut off: the next worker takes it up.
        return True
    try:
        _end(job, *end)
    except OperationalError as error:
        # The end is written into the room that is kept for it, or the job would run for ever.
        if not is_disk_full(error) or not give_up_reserve():
            raise
        _end(job, Job.State.FAILED, DISK_FULL, None)
    return True


def _is_ending() -> bool:
    """Whether the interpreter is shutting down under its threads: nothing new can be started from then on."""
    return not threading.main_thread().is_alive()


def _worked(job: Job) -> tuple[str, str, Exception | None]:
    """How a job ended: state, sentence, and what ended it; QUEUED for one that has given way."""
    try:
        WORK[job.kind](job, _reporter(job))
    except GivesWay as error:
        return Job.State.QUEUED, "", error
    except Cancelled as error:
        return Job.State.CANCELLED, "Cancelled.", error
    except ErsatzError as error:
        return Job.State.FAILED, str(error), error
    except Exception as error:
        log.exception("job %s", job.pk)
        sentence = "Something went wrong here that should not have; the details are in the log."
        if is_disk_full(error):
            sentence = DISK_FULL
        elif isinstance(error, OSError):
            sentence = "A file could not be read or written."
        return Job.State.FAILED, sentence, error
    return Job.State.DONE, "", None


def _end(job: Job, state: str, sentence: str, error: Exception | None) -> None:
    if state != Job.State.DONE and job.kind == Job.Kind.SURVEY and job.reference and job.reference.survey_json is None:
        problem = "The survey was cancelled." if state == Job.State.CANCELLED else sentence
        Reference.objects.filter(pk=job.reference.pk).update(problem=problem[:400])
        if isinstance(error, UnusableAudio):
            # Of a file that can't be surveyed the shelf keeps the sentence only.
            shutil.rmtree(job.reference.folder, ignore_errors=True)
    Job.objects.filter(pk=job.pk).update(state=state, message=sentence[:400], fraction=1.0, heartbeat=timezone.now())


def take_up_orphans(all_running: bool, crashed: bool = False) -> list[int]:
    """Jobs to enqueue again: those whose worker has gone quiet, or (at the start of the only worker) all that ran. Only where the
    worker `crashed` does it count against the job; killed from outside it does not."""
    orphaned = Q(state=Job.State.RUNNING)
    if not all_running:
        orphaned &= Q(heartbeat__lt=timezone.now() - STALE)
    if crashed:
        Job.objects.filter(orphaned).update(attempts=F("attempts") + 1)
    for job in Job.objects.filter(orphaned, attempts__gte=MAX_ATTEMPTS, kind=Job.Kind.SURVEY).select_related("reference"):
        _end(job, Job.State.FAILED, GIVEN_UP, None)
    Job.objects.filter(orphaned, attempts__gte=MAX_ATTEMPTS).update(state=Job.State.FAILED, message=GIVEN_UP)
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
        if Job.objects.filter(pk=job.pk, cancel=True).exists():
            raise Cancelled
        if SINGLE_WORKER and job.kind in BY_THE_WAY and _asked_for().exists():
            raise GivesWay
        Job.objects.filter(pk=job.pk).update(phase=phase[:80], fraction=fraction, heartbeat=timezone.now())

    return report


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
    survey = _surveyed(remake)
    taken = job.options.get("revision")
    begun = remake.revisions.filter(number=taken).first() if taken else begin_draft(remake)
    if begun is None:
        return
    draft = begun.song
    # It is heard and changed while it is matched.
    matched = match_song(draft, survey, render_cache(), report)
    if not _stands(remake, begun):
        return
    _take(remake, TakeMatch(draft, matched))
    start_job(job.owner, Job.Kind.MEASURE, remake=remake)


def _stands(remake: Remake, begun: Revision) -> bool:
    """Whether the song still is what became of a draft: it may have been undone, or given way to one from another seed."""
    remake.refresh_from_db()
    same = remake.revisions.filter(number=begun.number, sha=begun.sha).exists()
    current = remake.revision
    return same and current is not None and current.number >= begun.number and current.song.seed == begun.song.seed


def _measure(job: Job, report: Progress) -> None:
    """The song as it stands, or the kept version that the job names; then the course of the figures is brought up to date."""
    remake = job.remake
    assert remake is not None
    kept = job.options.get("milestone")
    song = remake.milestones.filter(pk=kept).first() if kept else remake.revision
    if song is None:
        return
    if not remake.measurements.filter(sha=song.sha, section=None).exists():
        mixdown = mixdown_of(remake, song.song)
        mix = mixdown.whole(lambda f: report("mixdown", 0.7 * f))
        survey = survey_remake(mix, mixdown, lambda phase, f: report("measuring the remake", 0.7 + 0.28 * f))
        whole = {"survey_json": survey.to_json(), "section": None, "against": ""}
        Measurement.objects.update_or_create(remake=remake, sha=song.sha, defaults=whole)
    remember_figures(remake)


def _section(job: Job, report: Progress) -> None:
    """One section of the song as it stands, on what was measured of an earlier state with the same plan."""
    remake, revision = _at_hand(job)
    place, song = job.options["section"], revision.song
    earlier = latest_measurement(remake)
    if earlier is None or earlier.sha == revision.sha or not has_plan_of(song, earlier.survey) or place >= len(song.sections):
        return
    report("measuring the section", 0.1)
    survey = with_section(earlier.survey, mixdown_of(remake, song), place)
    # The whole may have been measured meanwhile.
    Measurement.objects.get_or_create(remake=remake, sha=revision.sha, defaults={"survey_json": survey.to_json(), "section": place})


def _at_hand(job: Job) -> tuple[Remake, Revision]:
    """The remake that a job is about and the revision it stands at."""
    remake = job.remake
    assert remake is not None
    revision = remake.revision
    assert revision is not None
    return remake, revision


def _surveyed(remake: Remake) -> Survey:
    survey = remake.reference.survey
    if survey is None:
        raise ErsatzError("The reference isn’t surveyed.")
    return survey


def _export(job: Job, report: Progress) -> None:
    remake, revision = _at_hand(job)
    path = export_path(remake, revision.sha, job.options["format"])
    if not path.exists():
        write_export(mixdown_of(remake, revision.song), path, lambda f: report("mixdown", f))
    job.options = {**job.options, "sha": revision.sha}
    job.save(update_fields=["options"])


def _balance(job: Job, report: Progress) -> None:
    """Of the song as it stands, for all sections or for those that the job names; what is changed meanwhile stays."""
    remake, revision = _at_hand(job)
    survey = _surveyed(remake)
    song, sections = revision.song, job.options.get("sections")
    samples = OwnSample.objects.finder(remake.owner)
    locked = frozenset(job.options.get("locked", ()))
    balanced = balance_song(song, survey, sections, locked, render_cache(), samples, report)
    _take(remake, TakeMatch(song, balanced, "Balanced to the reference"))
    why = reasons(song, balanced, survey, Mixdown(song, render_cache(), samples), sections)
    job.options = {**job.options, "changes": to_json(changes(song, balanced, why))}
    job.save(update_fields=["options"])
    start_job(job.owner, Job.Kind.MEASURE, remake=remake)


def _moves(job: Job, report: Progress) -> None:
    """For one section of the song as it stands."""
    remake, revision = _at_hand(job)
    survey = _surveyed(remake)
    song, place = revision.song, min(job.options["section"], len(revision.song.sections) - 1)
    found = find_moves(song, mixdown_of(remake, song), place, survey, progress=lambda f: report("trying moves", f))
    job.options = {**job.options, "sha": revision.sha, "moves": to_json(found)}
    job.save(update_fields=["options"])


def _own(job: Job, report: Progress) -> None:
    """How much of the reference's recording the song as it stands takes over."""
    remake, revision = _at_hand(job)
    found = compared_with(remake)
    if found is None:
        raise ErsatzError("There is no recording to compare with.")
    track, survey = found
    report("hearing the reference’s notes", 0.1)
    heard = heard_of(track, survey)
    report("comparing", 0.6)
    samples = OwnSample.objects.finder(remake.owner)
    own = measure_own(revision.song, survey, heard, lambda: read_audio(track.audio_path), samples)
    report("varying", 0.8)
    told = {"own": to_json(own), "varied": to_json(varied(revision.song, own, heard))}
    job.options = {**job.options, "key": own_key(track, survey, revision.sha), **told}
    job.save(update_fields=["options"])


def _take(remake: Remake, edit: TakeMatch) -> None:
    """Applies what was worked out on a song to the song as it stands by now."""
    while True:
        current = remake.revision
        assert current is not None
        if edit.apply(current.song) == current.song:
            break
        with suppress(StaleRevision):
            remake.apply(edit, current.number)
            break
        remake.refresh_from_db()


def _demo(job: Job, report: Progress) -> None:
    # What makes the demo's references is needed nowhere else.
    from ersatz.studio.jobs.demo import run_step

    run_step(job, report)


WORK: dict[str, Callable[[Job, Progress], None]] = {
    Job.Kind.SURVEY: _survey,
    Job.Kind.DRAFT: _draft,
    Job.Kind.MEASURE: _measure,
    Job.Kind.EXPORT: _export,
    Job.Kind.DEMO: _demo,
    Job.Kind.BALANCE: _balance,
    Job.Kind.MOVES: _moves,
    Job.Kind.SECTION: _section,
    Job.Kind.OWN: _own,
}
assert set(WORK) == set(Job.Kind.values)
SINGLE_WORKER = settings.HUEY["huey_class"] == "huey.SqliteHuey"
