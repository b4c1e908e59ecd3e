"""The worker: takes runs from the queue and has children of its nursery compute them.

It computes nothing itself, so that it always listens: a run that is called off is ended within a fraction of
a second, whatever native code it is in, and so is one that takes more memory or time than it may. When the
database goes away the children go on, and what they have finished is written as soon as it is back.
"""

from __future__ import annotations

import json
import logging
import os
import secrets
import signal
import time
from dataclasses import dataclass, field
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import Any

import psycopg
from sqlalchemy.exc import DBAPIError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from fenrik.app.database import plain_address
from fenrik.app.housekeeping import Housekeeping
from fenrik.app.jobs import Jobs
from fenrik.app.runs import CHANNEL, LOCK_CLASS, Claimed
from fenrik.core.errors import FenrikError
from fenrik.jobs.child import Limits, work_of
from fenrik.jobs.computing import READING
from fenrik.jobs.nursery import Child, Nursery

log = logging.getLogger(__name__)

LOOK_SECONDS = 0.1
TELL_SECONDS = 0.2
RECLAIM_SECONDS = 0.5
HOUSE_SECONDS = 60.0
READING_SECONDS = 240.0
YOUNG_SECONDS = 10.0
"""A run that has gone on for longer makes room: others may begin beside it, and it gives way to them."""
SLOWED_BY = 3
"""Its niceness then: about half the share of a young one, where both cores are wanted; more would starve it
beside a browser that draws by software."""
EXTRA = 2
DATABASE_ERRORS = (DBAPIError, PoolTimeout, psycopg.Error, OSError)


def run_limits() -> Limits:
    """What one run may take: a third of the machine's memory, an hour, unless set."""
    whole = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    gigabytes = float(os.environ.get("FENRIK_RUN_MEMORY_GB", "0")) or max(2.0, 0.35 * whole / 1e9)
    minutes = float(os.environ.get("FENRIK_RUN_MINUTES", "60"))
    return Limits(int(gigabytes * 1e9), 60.0 * minutes)


@dataclass
class _Running:
    run: Claimed
    child: Child
    began: float = field(default_factory=time.monotonic)
    told: float = 0.0
    at: list[Any] | None = None
    """Progress that is not written yet."""
    words: str = ""
    peak: int = 0
    slowed: bool = False


class Worker:
    """One worker. `nursery` has been forked before anything was opened."""

    def __init__(self, jobs: Jobs, nursery: Nursery, folder: Path, limits: Limits) -> None:
        self.jobs, self.nursery, self.folder, self.limits = jobs, nursery, folder, limits
        self.number = secrets.randbelow(2**31 - 1) + 1
        self.cores = os.cpu_count() or 1
        self.running: dict[Connection, _Running] = {}
        self.idle: list[Child] = []
        self.ended: list[tuple[int, dict[str, Any]]] = []
        self._line: psycopg.Connection[Any] | None = None
        self._reclaimed = self._kept_house = -1e9
        self._house = Housekeeping(jobs)
        self._stop = False

    def run(self) -> None:
        """Works until SIGINT or SIGTERM."""
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, self._ask_to_stop)
        down = False
        while not self._stop:
            try:
                self._with_database()
                down = False
            except DATABASE_ERRORS as error:
                if not down:
                    log.warning("the database does not answer, waiting for it: %s", str(error).split("\n")[0])
                down = True
                self._hang_up()
            self._listen()
        for running in list(self.running.values()):
            running.child.kill()
        try:
            self.jobs.runs.give_back(self.number)
        except DATABASE_ERRORS:
            log.info("the runs of this worker are taken again by the next")
        self.nursery.close()

    def _ask_to_stop(self, *_: object) -> None:
        self._stop = True

    # the database ----------------------------------------------------------------------------

    def _with_database(self) -> None:
        """All that needs the database, in one go."""
        now = time.monotonic()
        self._hold_line()
        while self.ended:
            run_id, values = self.ended[0]
            self.jobs.runs.finish(run_id, self.number, **values)
            self.ended.pop(0)
        for running in self.running.values():
            if running.at is not None and now - running.told > TELL_SECONDS:
                self.jobs.runs.progress(running.run.id, self.number, *running.at)
                running.at, running.told = None, now
        if self.running:
            cancelled = set(self.jobs.runs.cancelled(self.number))
            for running in [r for r in self.running.values() if r.run.id in cancelled]:
                self._end(running, {"state": "cancelled", "words": "cancelled"})
        if now - self._reclaimed > RECLAIM_SECONDS:
            for run_id in self.jobs.runs.reclaim():
                log.warning("run %s was left by a worker that is gone; it is taken up again", run_id)
            self.jobs.runs.give_back(self.number, [r.run.id for r in self.running.values()])
            self._reclaimed = now
        while self._has_room() and (run := self.jobs.runs.claim(self.number)) is not None:
            self._begin(run)
        if now - self._kept_house > HOUSE_SECONDS:
            self._kept_house = now
            self._house.keep()

    def _hold_line(self) -> None:
        """Keeps the connection by which this worker is known to live, and on which it hears of new runs."""
        if self._line is None or self._line.closed:
            self._line = psycopg.connect(plain_address(self.jobs.engine), autocommit=True, connect_timeout=2)
            self._line.execute("SELECT pg_advisory_lock(%s, %s)", (LOCK_CLASS, self.number))
            self._line.execute(f"LISTEN {CHANNEL}")

    def _hang_up(self) -> None:
        if self._line is not None:
            self._line.close()
        self._line = None

    def _has_room(self) -> bool:
        """As many young runs as cores, and a few more beside those that take long: small ones are not kept
        waiting."""
        now = time.monotonic()
        young = sum(now - r.began < YOUNG_SECONDS for r in self.running.values())
        return young < self.cores and len(self.running) < self.cores + EXTRA

    # children --------------------------------------------------------------------------------

    def _begin(self, run: Claimed) -> None:
        try:
            document = self.jobs.document_at(run.job_id, run.revision)
            files = self.jobs.files.laid_out(run.job_id)
        except FenrikError as error:
            self.ended.append((run.id, _failed(error.as_dict())))
            return
        child = self._idle_child() or self.nursery.child()
        running = _Running(run, child)
        self.running[child.connection] = running
        try:
            child.send(
                {
                    "do": "run",
                    "target": run.target,
                    "document": document,
                    "files": dict(files.digests),
                    "folder": str(files.folder),
                }
            )
        except OSError:
            self._crashed(running)

    def _idle_child(self) -> Child | None:
        while self.idle:
            child = self.idle.pop()
            if child.waits():
                return child
            self.nursery.ended(child)
        return None

    def _listen(self) -> None:
        """Waits a moment for what children and database have to say."""
        line = [] if self._line is None or self._line.closed else [self._line]
        for ready in wait([*self.running, *line], LOOK_SECONDS):  # type: ignore[list-item]
            if ready is self._line:
                self._hear()
            else:
                self._read(self.running[ready])  # type: ignore[index]
        now = time.monotonic()
        for running in list(self.running.values()):
            self._look_after(running, now)
        if not self.running and not self.idle and self._line is not None:
            self.idle.append(self.nursery.child())  # the next run finds one that is warm

    def _hear(self) -> None:
        assert self._line is not None
        try:
            for _ in self._line.notifies(timeout=0, stop_after=1000):
                pass
        except psycopg.Error:
            self._hang_up()

    def _read(self, running: _Running) -> None:
        try:
            message = json.loads(running.child.connection.recv_bytes())
        except (EOFError, OSError):
            self._crashed(running)
            return
        if "at" in message:
            fraction, words = message["at"]
            running.words = words or running.words
            running.at = [fraction, words or (running.at or ["", ""])[1]]
        elif message.get("fault", {}).get("code") == "memory":
            self._end(running, _failed(self._too_large()))
        else:
            fault = message.get("fault")
            values = {"state": "done", "fraction": 1.0, "words": ""} if fault is None else _failed(fault)
            self._end(running, values, kept=not message["last"] and not running.slowed)

    def _look_after(self, running: _Running, now: float) -> None:
        age = now - running.began
        memory = running.child.memory()
        running.peak = max(running.peak, memory)
        if memory > 1.1 * self.limits.memory:
            self._end(running, _failed(self._too_large()))
        elif age > READING_SECONDS and running.words in ("", READING):
            what = f"Reading the model took more than {READING_SECONDS:.0f} s and was ended."
            self._end(running, _failed(_fault(what, "Export the part alone, or simpler.", "file")))
        elif age > self.limits.seconds:
            fault = _fault(
                f"The computation took more than {_span(self.limits.seconds)} and was ended"
                + (f" ({running.words})." if running.words else "."),
                "Make it smaller: a coarser tolerance, fewer faces, a coarser proof. Or set "
                "FENRIK_RUN_MINUTES higher.",
            )
            self._end(running, _failed(fault))
        elif age > YOUNG_SECONDS and not running.slowed:
            running.slowed = True
            try:
                os.setpriority(os.PRIO_PGRP, running.child.process, SLOWED_BY)
            except OSError:
                log.debug("run %s ended just now", running.run.id)

    def _end(self, running: _Running, values: dict[str, Any], kept: bool = False) -> None:
        """Notes how a run ended; the child is kept for the next, or ended at once."""
        del self.running[running.child.connection]
        self.ended.append((running.run.id, values))
        if kept and len(self.idle) < self.cores:
            self.idle.append(running.child)
        else:
            running.child.kill()
            self.nursery.ended(running.child)

    def _crashed(self, running: _Running) -> None:
        del self.running[running.child.connection]
        status = self.nursery.ended(running.child)
        if running.peak > 0.8 * self.limits.memory:
            fault = self._too_large()
        elif running.words in ("", READING):
            fault = _fault(
                f"Reading the model crashed the geometry library ({_how(status)}).",
                "Export the model again, in another version of STEP if you can.",
                "file",
            )
        else:
            fault = _fault(
                f"The computation crashed ({_how(status)}) while {running.words}.",
                "Change something about that, for instance its tolerance; what was finished before it is "
                "kept.",
            )
        self.ended.append((running.run.id, _failed(fault)))

    def _too_large(self) -> dict[str, Any]:
        return _fault(
            f"The computation needs more than {self.limits.memory / 1e9:.1f} GB of memory and was ended.",
            "Make it smaller: a coarser tolerance, a coarser proof. Or set FENRIK_RUN_MEMORY_GB higher.",
        )


def _span(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 180 else f"{seconds / 60:.0f} minutes"


def _how(status: int) -> str:
    if status >= 0:
        return f"exit code {status}"
    try:
        return f"signal {signal.Signals(-status).name}"
    except ValueError:
        return f"signal {-status}"


def _fault(what: str, remedy: str, code: str = "compute") -> dict[str, Any]:
    return {"code": code, "what": what, "remedy": remedy, "where": ""}


def _failed(fault: dict[str, Any]) -> dict[str, Any]:
    where = f"{fault['where']}: " if fault.get("where") else ""
    words = f"{where}{fault['what']} {fault['remedy']}".strip()
    return {"state": "failed", "error": fault, "words": words}


def run_worker(jobs: Jobs, nursery: Nursery, folder: Path) -> None:
    """Works until it is told to stop."""
    Worker(jobs, nursery, folder, run_limits()).run()


def make_nursery(folder: Path) -> Nursery:
    """The nursery of a worker; to be called before anything is opened."""
    return Nursery(work_of(folder, run_limits().memory))
