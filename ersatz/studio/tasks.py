"""The queue's tasks: run a job, take up what a dead worker left behind, tidy up. The worker finds this module by its name."""

import os

from huey import crontab
from huey.contrib.djhuey import HUEY, db_periodic_task, on_commit_task

from ersatz.core.garbage import spare_what_stays
from ersatz.site.together import CRASHED, STARTED
from ersatz.studio import sweep
from ersatz.studio.jobs import work


@on_commit_task()
def run_job(job_id: int) -> None:
    """Enqueued once its row is there. There is one task for every job that waits; whichever comes up runs the most urgent job."""
    work.run_waiting()


@HUEY.on_startup()
def take_up_at_start() -> None:
    """What was under way when the starter began is nobody's any more; without a starter it may be another machine's."""
    for job_id in work.take_up_orphans(all_running=work.SINGLE_WORKER, crashed=os.environ.get(CRASHED) == "1"):
        run_job(job_id)
    started = os.environ.get(STARTED)
    sweep.sweep(float(started) if started else None)
    spare_what_stays()


@db_periodic_task(crontab(minute="*"))
def take_up_stale() -> None:
    """Also where there is one worker: while this runs, it runs no job, so what hasn't been heard from ended unwritten."""
    for job_id in work.take_up_orphans(all_running=False):
        run_job(job_id)


@db_periodic_task(crontab(hour="4", minute="11"))
def tidy() -> None:
    """Every night: files that nothing refers to, and what was deleted long ago."""
    sweep.sweep()
    sweep.purge()
