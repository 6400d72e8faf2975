"""How gunicorn serves the application; read by it."""

import os
from importlib import import_module

from ersatz.core.garbage import spare_what_stays
from ersatz.site.together import end_with_starter

wsgi_app = "ersatz.site.wsgi:application"
#: Renders run in compiled code that lets go of the interpreter; two processes serve two cores.
workers = int(os.environ.get("ERSATZ_WEB_PROCESSES", "2"))
threads = 8
timeout = 300
graceful_timeout = 3
loglevel = "warning"


def when_ready(server: object) -> None:
    """The server ends with the process that has started it."""
    end_with_starter()


def post_worker_init(worker: object) -> None:
    """Pages are imported now instead of with the first request, and what they bring is no garbage."""
    import_module("ersatz.site.urls")
    spare_what_stays()
