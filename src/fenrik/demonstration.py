"""The jobs that a first start shows: loaded, proved, and their releases kept."""

from __future__ import annotations

import json
import logging
import time
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from fenrik.app.jobs import Jobs

# The application is imported inside functions: see bootstrap.

DEMONSTRATION = (
    "bearing_bracket_two_setups",
    "nozzle_mould",
    "valve_manifold",
    "gauge_block",
    "guide_vane",
    "foam_dome",
    "six_flat_flange",
)
"""The examples that a first start loads."""


def load_demonstration(jobs: Jobs, examples: Path, data: Path) -> None:
    """Loads the demonstration jobs from the folder of the examples and has them proved, unless there are jobs
    already; notes in `data` that their releases are to be kept."""
    from fenrik.core.job.document.reading import job_data, load_job
    from fenrik.core.job.workspace.files import files_of

    if jobs.listing():
        return
    made_ids: list[int] = []
    for name in reversed(DEMONSTRATION):  # the newest is listed first
        job = load_job(examples / f"{name}.yaml")
        made = jobs.create(job_data(job))
        for file, _ in files_of(job):
            jobs.add_file(made["id"], file, (examples / file).read_bytes())
        made_ids.insert(0, made["id"])
    for job_id in made_ids:
        jobs.runs.start(job_id, "prove")
    _to_keep(data).write_text(json.dumps(made_ids), "utf-8")


def _to_keep(data: Path) -> Path:
    """Names the demonstration jobs whose releases are to be kept once they are proved."""
    return data / "demonstration.json"


def keep_demonstration(jobs: Jobs, data: Path) -> None:
    """Keeps the releases of demonstration jobs as soon as they are proved without a stop, so that they show
    finished work; returns when there is none left to wait for."""
    while _to_keep(data).exists():
        waiting = json.loads(_to_keep(data).read_text("utf-8"))
        left = [job_id for job_id in waiting if not _kept(jobs, job_id)]
        if not left:
            _to_keep(data).unlink()
            return
        _to_keep(data).write_text(json.dumps(left), "utf-8")
        time.sleep(2.0)


def _kept(jobs: Jobs, job_id: int) -> bool:
    """Keeps a job's releases if they are proved; whether there is nothing more to wait for."""
    from sqlalchemy.exc import DBAPIError

    from fenrik.app.kept import keep_release
    from fenrik.core.errors import FenrikError

    try:
        runs = {r["target"]: r["state"] for r in jobs.runs.newest(job_id)}
        if runs.get("prove") in ("queued", "running"):
            return False
        if runs.get("prove") == "done":
            releases = jobs.answers.state(jobs.asked(job_id)).data["releases"]
            for name in dict.fromkeys(r["name"] for r in releases if not r.get("stops")):
                keep_release(jobs, job_id, name, "first release")
    except DBAPIError:  # the database is away for a moment
        return False
    except FenrikError as error:
        logging.getLogger(__name__).warning("job %s: %s", job_id, error.message)
    return True
