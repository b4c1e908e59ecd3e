"""Keeps the processes of one Fenrik running as forks of one process.

The application takes seconds to import; a fork shares what its parent has imported, so that server, worker
and preparation are there after one import instead of three. The parent never opens a connection and starts no
thread that outlives its call, which is what makes forking it safe.
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass, field

from fenrik.processes import end_with_parent, kill_group

GRACE_SECONDS = 3.0
LOOK_SECONDS = 0.1
QUICK_SECONDS = 5.0
"""A process that ends sooner than this after its start is not started again at once."""
LONGEST_PAUSE = 2.0

Work = Callable[[], int]


@dataclass
class Children:
    """Forked processes by name, each the head of a process group of its own."""

    running: dict[str, int] = field(default_factory=dict)

    def start(self, name: str, work: Work) -> int:
        """Forks; the child does `work` and ends with what it returns."""
        sys.stdout.flush()
        sys.stderr.flush()
        parent = os.getpid()
        process = os.fork()
        if process == 0:
            os._exit(_child(work, parent))
        self.running[name] = process
        return process

    def ended(self, name: str) -> int | None:
        """The exit code of a child that has ended (negative: the signal), or None while it runs."""
        process, status = os.waitpid(self.running[name], os.WNOHANG)
        if process == 0:
            return None
        kill_group(process)
        del self.running[name]
        return os.waitstatus_to_exitcode(status)

    def wait(self, name: str) -> int:
        """Waits for a child's end and gives its exit code."""
        while (code := self.ended(name)) is None:
            time.sleep(0.02)
        return code

    def end(self, names: list[str] | None = None, ask: int = signal.SIGTERM) -> None:
        """Ends some (open: all) of them: asks, waits a few seconds together, then ends their groups by
        force."""
        chosen = [n for n in (names or list(self.running)) if n in self.running]
        for name in chosen:
            _signal(self.running[name], ask)
        until = time.monotonic() + GRACE_SECONDS
        while any(n in self.running for n in chosen) and time.monotonic() < until:
            for name in chosen:
                if name in self.running:
                    self.ended(name)
            time.sleep(0.02)
        for name in chosen:
            if name in self.running:
                kill_group(self.running[name])
                os.waitpid(self.running.pop(name), 0)


@dataclass
class Supervisor:
    """Starts again what ends, with a pause that grows while it ends again at once."""

    children: Children
    works: dict[str, Work]
    say: Callable[[str], None]
    _began: dict[str, float] = field(default_factory=dict)
    _pause: dict[str, float] = field(default_factory=dict)
    _due: dict[str, float] = field(default_factory=dict)

    def start(self, name: str) -> None:
        """Starts one of the works."""
        self._began[name] = time.monotonic()
        self.children.start(name, self.works[name])

    def look(self) -> None:
        """One look at all that were started."""
        now = time.monotonic()
        for name in list(self._began):
            if name in self._due:
                if now >= self._due[name]:
                    del self._due[name]
                    self.start(name)
                continue
            code = self.children.ended(name)
            if code is None:
                continue
            quick = now - self._began[name] < QUICK_SECONDS
            pause = min(LONGEST_PAUSE, 2 * self._pause.get(name, 0.05)) if quick else 0.0
            self._pause[name] = pause or 0.05
            self._due[name] = now + pause
            self.say(f"the {name} ended ({code}) and is started again")


def _child(work: Work, parent: int) -> int:
    os.setsid()  # Ctrl-C reaches the parent alone, which ends its children in order
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.default_int_handler if number == signal.SIGINT else signal.SIG_DFL)
    end_with_parent(parent, signal.SIGTERM)
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
