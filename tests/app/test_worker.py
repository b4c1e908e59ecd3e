"""The worker as a process: runs end when they are called off, keep to their limits, and go on when a worker is killed."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from fenrik.app.jobs import Jobs
from fenrik.app.store import ResultStore
from tests.app.conftest import WORKER, DirectAsker
from tests.app.test_jobs import small_document
from tests.conftest import MODELS
from tests.processes import processes_with, spawned


@pytest.fixture
def shared(cluster_url: str, tmp_path: Path) -> Iterator[Jobs]:
    """The application with its results where the workers of these tests have theirs."""
    from fenrik.app.database import make_engine

    engine = make_engine(cluster_url)
    store = ResultStore(tmp_path / "store")
    yield Jobs(engine, store, DirectAsker(store))
    engine.dispose()


@contextmanager
def worker(cluster_url: str, folder: Path, **settings: str) -> Iterator[subprocess.Popen[bytes]]:
    environment = {**os.environ, "FENRIK_DATA": str(folder), **settings}
    command = [sys.executable, "-m", "fenrik.bootstrap", "worker", "--url", cluster_url]
    process = spawned(command, env=environment)
    try:
        yield process
    finally:
        process.kill()
        process.wait()


def wait_for(
    jobs: Jobs, run: dict[str, Any], condition: Callable[[dict[str, Any]], bool], seconds: float = 90.0
) -> Any:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        now = next((r for r in jobs.runs.newest(run["job"]) if r["id"] == run["id"]), None)
        if now is not None and condition(now):
            return now
        time.sleep(0.02)
    raise AssertionError(f"still {now}")


def ended(run: dict[str, Any]) -> bool:
    return run["state"] not in ("queued", "running")


def start(jobs: Jobs, job_id: int, target: str) -> dict[str, Any]:
    return {**jobs.runs.start(job_id, target), "job": job_id}


def plate(jobs: Jobs, cell: float = 1.0, **more: Any) -> int:
    document = {**small_document(), "proof": {"cell_mm": cell}, **more}
    job_id = jobs.create(document)["id"]
    jobs.add_file(job_id, "plate_a.step", (MODELS / "plate_a.step").read_bytes())
    return job_id


def long_job(jobs: Jobs) -> int:
    """A job whose proof takes minutes: two hundred levels."""
    operation = {"name": "Rough", "strategy": "level_roughing", "tool": 3, "parameters": {"step_down": 0.1}}
    return plate(jobs, 0.1, setups=[{"name": "Top", "operations": [operation]}])


def computing(run: dict[str, Any]) -> bool:
    """Whether a run is past reading its part."""
    return run["state"] == "running" and run["words"] not in ("", "reading the part")


def children_of(process: subprocess.Popen[bytes]) -> list[int]:
    """The children of a worker's nursery that compute now."""

    def below(number: int) -> list[int]:
        file = Path(f"/proc/{number}/task/{number}/children")
        return [int(n) for n in file.read_text().split()] if file.exists() else []

    return [child for nursery in below(process.pid) for child in below(nursery)]


def test_runs_are_called_off_at_once_crash_alone_and_small_ones_pass_long_ones(shared, cluster_url, tmp_path):
    with worker(cluster_url, tmp_path) as process:
        # two that take long, on all cores of this machine
        long = [start(shared, long_job(shared), "prove") for _ in range(2)]
        for run in long:
            wait_for(shared, run, computing)
        small = start(shared, plate(shared), "part")
        assert wait_for(shared, small, ended, 40)["state"] == "done"
        assert not any(ended(wait_for(shared, run, lambda r: True)) for run in long)

        busy = children_of(process)
        began = time.monotonic()
        shared.runs.cancel(long[0]["id"])
        assert wait_for(shared, long[0], ended)["state"] == "cancelled"
        assert (
            time.monotonic() - began < 3.0
        )  # a second is promised; other tests keep the machine busy meanwhile
        assert len(set(busy) & set(children_of(process))) < len(busy)

        for child in set(busy) & set(children_of(process)):
            os.kill(child, signal.SIGSEGV)
        crashed = wait_for(shared, long[1], ended, 20)
        assert crashed["state"] == "failed" and "crashed (signal SIGSEGV) while " in crashed["words"]
        again = start(shared, plate(shared), "prove")
        assert wait_for(shared, again, ended)["state"] == "done"

        # a worker that is asked to end gives its runs back, and leaves nothing running
        left = start(shared, long_job(shared), "prove")
        wait_for(shared, left, lambda r: r["state"] == "running")
        process.terminate()
        process.wait(10)
        assert wait_for(shared, left, lambda r: True)["state"] == "queued"
        shared.runs.cancel(left["id"])
    assert processes_with(f"FENRIK_DATA={tmp_path}") == []


def test_the_run_of_a_killed_worker_goes_on_within_seconds(shared, cluster_url, tmp_path):
    with worker(cluster_url, tmp_path) as first:
        run = start(shared, long_job(shared), "plan")
        wait_for(shared, run, computing)
        with worker(cluster_url, tmp_path) as second:
            wait_for(shared, {**start(shared, plate(shared), "part")}, ended)  # both are there
            first.kill()
            first.wait()
            killed = time.monotonic()
            while not any(busy(c) for c in children_of(second)):
                assert time.monotonic() - killed < 15.0
                time.sleep(0.02)
            assert wait_for(shared, run, ended)["state"] == "done"


def busy(process: int) -> bool:
    """Whether a process uses a processor now."""

    def ticks() -> int:
        try:
            return int(Path(f"/proc/{process}/stat").read_text().rsplit(")", 1)[1].split()[11])
        except OSError:
            return 0

    before = ticks()
    time.sleep(0.1)
    return ticks() - before > 3


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"FENRIK_RUN_MEMORY_GB": "0.7"}, "needs more than 0.7 GB of memory"),
        ({"FENRIK_RUN_MINUTES": "0.1"}, "took more than 6 s and was ended"),
    ],
)
def test_runs_keep_to_their_limits_and_say_so(shared, cluster_url, tmp_path, settings, words):
    with worker(cluster_url, tmp_path, **settings):
        run = start(shared, long_job(shared), "prove")
        failed = wait_for(shared, run, ended)
        assert failed["state"] == "failed" and words in failed["words"]
        assert next(iter(settings)) in failed["error"]["remedy"]


def test_a_run_that_was_taken_while_the_connection_was_lost_is_free_again(shared):
    job_id = plate(shared)
    run = start(shared, job_id, "part")
    while (taken := shared.runs.claim(WORKER)) is not None and taken.id != run["id"]:
        shared.runs.finish(taken.id, WORKER, state="cancelled")
    assert wait_for(shared, run, lambda r: True)["state"] == "running"
    shared.runs.give_back(WORKER, [run["id"]])
    assert wait_for(shared, run, lambda r: True)["state"] == "running"  # it knows of this one
    shared.runs.give_back(WORKER)
    assert wait_for(shared, run, lambda r: True)["state"] == "queued"
    assert run["id"] not in shared.runs.reclaim()
    shared.runs.claim(WORKER)
    assert run["id"] in shared.runs.reclaim()  # nobody holds the lock of that worker
    shared.runs.cancel(run["id"])
