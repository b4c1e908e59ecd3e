"""Progress as server-sent events."""

from __future__ import annotations

import asyncio
import json
import logging
import threading
from collections.abc import AsyncIterator

import psycopg
from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse
from sqlalchemy.exc import SQLAlchemyError

from fenrik.app.database import plain_address
from fenrik.app.jobs import Jobs
from fenrik.app.runs import CHANNEL
from fenrik.web.deps import Number, Service

log = logging.getLogger(__name__)
router = APIRouter(tags=["events"])
PAUSE = 0.2
"""Shortest time between two events of a stream, s."""
LOOK_AGAIN = 2.0
"""Runs are looked at so often also when the database told of nothing, s."""


class RunWatch:
    """Hears from the database which jobs and runs have changed, on one connection for all streams."""

    def __init__(self, jobs: Jobs) -> None:
        self._address = plain_address(jobs.engine)
        self._waiting: dict[int, set[asyncio.Event]] = {}
        self._lock = threading.Lock()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._stop = threading.Event()

    def _start(self) -> None:
        if self._loop is None:
            self._loop = asyncio.get_running_loop()
            threading.Thread(target=self._listen, name="run watch", daemon=True).start()

    def _listen(self) -> None:
        while not self._stop.is_set():
            try:
                with psycopg.connect(self._address, autocommit=True, connect_timeout=2) as line:
                    line.execute(f"LISTEN {CHANNEL}")
                    while not self._stop.is_set():
                        for told in line.notifies(timeout=1.0):
                            self._tell(int(told.payload))
            except psycopg.Error:
                self._stop.wait(0.5)  # streams look by themselves meanwhile

    def _tell(self, job_id: int) -> None:
        with self._lock:
            events = list(self._waiting.get(job_id, ()))
        assert self._loop is not None
        for event in events:
            self._loop.call_soon_threadsafe(event.set)

    def join(self, job_id: int) -> asyncio.Event:
        """An event that is set when a run of the job changes."""
        self._start()
        event = asyncio.Event()
        with self._lock:
            self._waiting.setdefault(job_id, set()).add(event)
        return event

    def leave(self, job_id: int, event: asyncio.Event) -> None:
        """The event is not needed any more."""
        with self._lock:
            self._waiting[job_id].discard(event)
            if not self._waiting[job_id]:
                del self._waiting[job_id]

    def close(self) -> None:
        """Stops listening."""
        self._stop.set()


@router.get("/jobs/{job_id}/events", response_class=StreamingResponse)
async def events(jobs: Service, job_id: Number, request: Request) -> StreamingResponse:
    """An event ``told`` with the job's revision and the newest run of every target whenever one of them
    changes."""
    watch: RunWatch = request.app.state.watch

    async def stream() -> AsyncIterator[str]:
        last, idle = "", 0.0
        changed = watch.join(job_id)
        try:
            yield "retry: 1000\n\n"
            while not await request.is_disconnected():
                changed.clear()
                try:
                    text = json.dumps(await asyncio.to_thread(jobs.runs.told, job_id))
                except SQLAlchemyError:
                    text = last  # the database is away; the stream is not
                if text != last:
                    last, idle = text, 0.0
                    yield f"event: told\ndata: {text}\n\n"
                elif idle > 15:
                    idle = 0.0
                    yield ": still here\n\n"
                await asyncio.sleep(PAUSE)
                try:
                    await asyncio.wait_for(changed.wait(), LOOK_AGAIN)
                except TimeoutError:
                    idle += LOOK_AGAIN
        finally:
            watch.leave(job_id, changed)

    return StreamingResponse(stream(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})
