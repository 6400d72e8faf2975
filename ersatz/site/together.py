"""Web server and worker run together: started, restarted when one dies, ended together, whatever happens to the starter.

No Django here: the starter only starts.
"""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

#: Set for the worker: when the starter began (seconds since 1970), and whether the worker before it crashed by itself.
STARTED, CRASHED = "ERSATZ_STARTED", "ERSATZ_CRASHED"
#: File descriptor of a pipe that ends with the starter.
LIFELINE = "ERSATZ_LIFELINE"
#: Ends that a program brings on itself.
OWN_SIGNALS = (signal.SIGSEGV, signal.SIGABRT, signal.SIGBUS, signal.SIGFPE, signal.SIGILL)
#: A process that ended this often within this many seconds isn't started again.
MOST_RESTARTS, WITHIN_S = 5, 60.0
STOPPING_S = 5.0


def out_of_memory_kills() -> int:
    """How many processes the system has killed for want of memory since it was started; 0 where that isn't told."""
    try:
        rows = dict(line.split() for line in Path("/proc/vmstat").read_text().splitlines())
    except (OSError, ValueError):
        return 0
    return int(rows.get("oom_kill", 0))


def crashed(returncode: int, out_of_memory_before: int) -> bool:
    """Whether a process ended by its own fault: a crash or an exception, or killed for want of memory, rather than from outside."""
    if returncode >= 0:
        return returncode != 0
    ended_by = -returncode
    return ended_by in OWN_SIGNALS or (ended_by == signal.SIGKILL and out_of_memory_kills() > out_of_memory_before)


class Member:
    """One of the processes, in a group of its own, so that Ctrl-C reaches it through us, in order."""

    def __init__(self, command: list[str], lifeline: int):
        self._command, self._lifeline = command, lifeline
        self._ends: list[float] = []
        self._last_crashed = False
        self._start()

    def _start(self) -> None:
        environment = {**os.environ, LIFELINE: str(self._lifeline), CRASHED: "1" if self._last_crashed else "0"}
        self._out_of_memory = out_of_memory_kills()
        self.process = subprocess.Popen(self._command, start_new_session=True, pass_fds=(self._lifeline,), env=environment)

    def keep_up(self) -> bool:
        """Starts it again if it has ended; False where that happens too often."""
        code = self.process.poll()
        if code is None:
            return True
        self._last_crashed = crashed(code, self._out_of_memory)
        self._ends = [t for t in self._ends if t > time.monotonic() - WITHIN_S] + [time.monotonic()]
        self._kill_group()
        if len(self._ends) > MOST_RESTARTS:
            return False
        self._start()
        return True

    def _kill_group(self) -> None:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.process.pid, signal.SIGKILL)

    def end(self, by: float) -> None:
        """Waits until `by`, in seconds of the monotonic clock, and kills what is still there."""
        try:
            self.process.wait(max(0.1, by - time.monotonic()))
        except subprocess.TimeoutExpired:
            # An unfinished job is taken up again at the next start.
            self._kill_group()


def run_together(commands: list[list[str]], when_up: Callable[[Callable[[], bool]], None]) -> bool:
    """Runs the commands until Ctrl-C or SIGTERM (True), or until one of them can't be kept up (False). `when_up` is called once,
    with a function that says whether all run."""

    def stop(*_: object) -> None:
        raise KeyboardInterrupt

    # Set for both: a shell that starts us in the background has SIGINT ignored.
    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, stop)
    os.environ[STARTED] = str(time.time())
    ours, theirs = os.pipe()
    # The end that is written to stays with us alone: it closes with us, however we end.
    os.set_inheritable(theirs, False)
    members: list[Member] = []
    try:
        members += [Member(command, ours) for command in commands]
        when_up(lambda: all(m.process.poll() is None for m in members))
        while all(m.keep_up() for m in members):
            time.sleep(0.3)
        return False
    except KeyboardInterrupt:
        return True
    finally:
        for member in members:
            with contextlib.suppress(ProcessLookupError):
                member.process.terminate()
        by = time.monotonic() + STOPPING_S
        for member in members:
            member.end(by)


def end_with_starter() -> None:
    """In a started process: ends it when the starter is gone, also when that was killed."""
    lifeline = os.environ.get(LIFELINE)
    if not lifeline:
        return

    def watch() -> None:
        with contextlib.suppress(OSError):
            while os.read(int(lifeline), 1):
                pass
        os.kill(os.getpid(), signal.SIGTERM)
        time.sleep(STOPPING_S)
        print("ersatz: the starter is gone", file=sys.stderr)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()
