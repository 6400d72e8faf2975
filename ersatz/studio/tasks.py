"""The queue's tasks: run a job, and take up what a dead worker left behind. The worker finds this module by its name."""

from django.db import close_old_connections
from huey import crontab
from huey.contrib.djhuey import HUEY, periodic_task, task

from ersatz.studio.jobs import work


@task()
def run_job(job_id: int) -> None:
    close_old_connections()
    work.run(job_id)


@HUEY.on_startup()
def take_up_at_start() -> None:
    for job_id in work.take_up_orphans(all_running=work.SINGLE_WORKER):
        run_job(job_id)


@periodic_task(crontab(minute="*"))
def take_up_stale() -> None:
    if not work.SINGLE_WORKER:
        for job_id in work.take_up_orphans(all_running=False):
            run_job(job_id)
