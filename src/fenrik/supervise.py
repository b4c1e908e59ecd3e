"""Keeps the server and the worker of one Fenrik running as forks of one process.

The application takes seconds to import; a fork shares what its parent has imported, so that server, worker
and preparation are there after one import instead of three. The parent never opens a connection and starts
no thread that outlives its call, which is what makes forking it safe.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import sys
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass, field

PDEATHSIG = 1  # prctl: the signal a process gets when its parent dies
GRACE_SECONDS = 3.0


@dataclass
class Children:
    """Forked processes by name, each the head of a process group of its own."""

    running: dict[str, int] = field(default_factory=dict)

    def start(self, name: str, work: Callable[[], int]) -> int:
        """Forks; the child does `work` and ends with what it returns."""
        sys.stdout.flush()
        sys.stderr.flush()
        process = os.fork()
        if process == 0:
            os._exit(_child(work))
        self.running[name] = process
        return process

    def ended(self, name: str) -> int | None:
        """The exit code of a child that has ended (negative: the signal), or None while it runs."""
        process, status = os.waitpid(self.running[name], os.WNOHANG)
        if process == 0:
            return None
        _kill_group(process)
        del self.running[name]
        return os.waitstatus_to_exitcode(status)

    def wait(self, name: str) -> int:
        """Waits for a child's end and gives its exit code."""
        while (code := self.ended(name)) is None:
            time.sleep(0.02)
        return code

    def end(self) -> None:
        """Ends all of them: asks, waits a few seconds together, then ends their groups by force."""
        for process in self.running.values():
            _signal(process, signal.SIGTERM)
        until = time.monotonic() + GRACE_SECONDS
        while self.running and time.monotonic() < until:
            for name in list(self.running):
                self.ended(name)
            time.sleep(0.02)
        for name, process in list(self.running.items()):
            _kill_group(process)
            os.waitpid(process, 0)
            del self.running[name]


def _child(work: Callable[[], int]) -> int:
    os.setsid()  # Ctrl-C reaches the parent alone, which ends its children in order
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.default_int_handler if number == signal.SIGINT else signal.SIG_DFL)
    ctypes.CDLL(None).prctl(PDEATHSIG, signal.SIGTERM)
    try:
        return work()
    except BaseException:
        traceback.print_exc()
        return 1
    finally:
        sys.stdout.flush()
        sys.stderr.flush()


def _signal(process: int, number: int) -> None:
    with contextlib.suppress(ProcessLookupError):
        os.kill(process, number)


def _kill_group(process: int) -> None:
    """Ends what a child has started and left behind, a model reader for one."""
    with contextlib.suppress(ProcessLookupError):
        os.killpg(process, signal.SIGKILL)
