"""The application on a real PostgreSQL, with questions and runs answered in the tests' own process."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from fenrik.app.database import make_engine
from fenrik.app.desk import Desk
from fenrik.app.jobs import Jobs
from fenrik.app.questions import QUESTIONS
from fenrik.app.store import ResultStore
from fenrik.core.errors import Cancelled, FenrikError
from fenrik.core.progress import SILENT
from fenrik.jobs.computing import compute
from fenrik.web.server import make_app

WORKER = 7


class DirectAsker:
    """Answers questions where they are asked."""

    def __init__(self, store: ResultStore) -> None:
        self.desk = Desk(store, store.folder)
        self.asked: list[str] = []

    def ask(self, question: str, order: dict[str, Any]) -> bytes:
        self.asked.append(question)
        found = QUESTIONS[question](self.desk, json.loads(json.dumps(order)))
        return found if isinstance(found, bytes) else json.dumps(found).encode()


@pytest.fixture
def jobs(cluster_url: str, tmp_path: Path) -> Iterator[Jobs]:
    engine = make_engine(cluster_url)
    store = ResultStore(tmp_path / "store")
    yield Jobs(engine, store, DirectAsker(store))
    engine.dispose()


@pytest.fixture
def client(jobs: Jobs) -> TestClient:
    return TestClient(make_app(jobs), base_url="http://127.0.0.1")


def finish(jobs: Jobs) -> None:
    """Computes all that is in the queue, as a worker does."""
    while (run := jobs.runs.claim(WORKER)) is not None:
        try:
            document = jobs.document_at(run.job_id, run.revision)
            compute(document, jobs.files.laid_out(run.job_id), jobs.store, run.target, SILENT)
            jobs.runs.finish(run.id, WORKER, state="done", fraction=1.0, words="")
        except Cancelled:
            jobs.runs.finish(run.id, WORKER, state="cancelled")
        except FenrikError as error:
            jobs.runs.finish(run.id, WORKER, state="failed", error=error.as_dict(), words=error.message)


def state_of(jobs: Jobs, job_id: int) -> dict[str, Any]:
    """What is computed of a job."""
    return jobs.answers.state(jobs.asked(job_id)).data
