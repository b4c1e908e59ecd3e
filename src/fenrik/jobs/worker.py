"""The worker process: takes runs from the queue, and takes up again what a killed worker left."""

from __future__ import annotations

import asyncio
import logging
import os

from procrastinate import App

from fenrik.app.jobs import Jobs
from fenrik.jobs.compute import compute
from fenrik.jobs.queue import TASK, worker_app

log = logging.getLogger(__name__)
STALLED_SECONDS = float(os.environ.get("FENRIK_STALLED_SECONDS", "30"))
CHECK_SECONDS = 4.0


def run_worker(url: str, jobs: Jobs) -> None:
    """Works until it is told to stop (SIGINT, SIGTERM)."""
    app = worker_app(url)

    @app.task(name=TASK)
    def _compute(run_id: int) -> None:
        compute(jobs, run_id)

    asyncio.run(_serve(app))


async def _serve(app: App) -> None:
    async with app.open_async():
        rescue = asyncio.create_task(_rescue(app))
        try:
            await app.run_worker_async(
                concurrency=1,
                fetch_job_polling_interval=0.5,
                listen_notify=True,
                update_heartbeat_interval=3.0,
                stalled_worker_timeout=STALLED_SECONDS,
                shutdown_graceful_timeout=0.5,
                install_signal_handlers=True,
            )
        finally:
            rescue.cancel()


async def _rescue(app: App) -> None:
    """Hands stalled jobs, those whose worker's heart has stopped, back to the queue."""
    while True:
        try:
            for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_SECONDS):
                log.warning("job %s was left by a worker that died; it is run again", job.id)
                await app.job_manager.retry_job(job)
        except Exception:
            log.exception("looking for stalled jobs failed")
        await asyncio.sleep(CHECK_SECONDS)
