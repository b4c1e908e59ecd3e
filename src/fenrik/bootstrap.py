"""Wires the floors together: database cluster, server, worker, demonstration data.

``python -m fenrik.bootstrap demo|server|worker|openapi`` is what the Makefile calls.
"""

from __future__ import annotations

import argparse
import importlib
import json
import os
import signal
import socket
import sys
import time
import urllib.request
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING

from fenrik.postgres import Cluster
from fenrik.supervise import Children

if TYPE_CHECKING:
    from fenrik.app.jobs import Jobs

# The application is imported inside functions: it takes seconds, in which the database starts.

ROOT = Path(__file__).resolve().parents[2]
DATA = Path(os.environ.get("FENRIK_DATA", ROOT / ".data"))
FRONT_END = ROOT / "ui" / "dist"


def main() -> int:
    """Entry of the commands."""
    parser = argparse.ArgumentParser(prog="fenrik.bootstrap")
    parser.add_argument("command", choices=["demo", "server", "worker", "openapi"])
    parser.add_argument("--url", default=os.environ.get("FENRIK_DATABASE", ""))
    parser.add_argument(
        "--check", action="store_true", help="with openapi: fail when the file is out of date"
    )
    parser.add_argument("--port", type=int, default=int(os.environ.get("FENRIK_PORT", "8750")))
    chosen = parser.parse_args()
    if chosen.command == "demo":
        return demo(chosen.port)
    if chosen.command == "openapi":
        return openapi(chosen.check)
    return serve(chosen.url, chosen.port) if chosen.command == "server" else work(chosen.url)


def openapi(check: bool) -> int:
    """Writes docs/openapi.json, or with `check` compares it with what the routes say."""
    from fenrik.web.server import make_app

    text = json.dumps(make_app(None).openapi(), indent=1) + "\n"  # type: ignore[arg-type]
    path = ROOT / "docs" / "openapi.json"
    if not check:
        path.write_text(text, "utf-8")
    elif path.read_text("utf-8") != text:
        print("docs/openapi.json is out of date: run 'make api'.", file=sys.stderr)
        return 1
    return 0


def service(url: str) -> Jobs:
    """The application's service on a database."""
    from fenrik.app.database import make_engine
    from fenrik.app.jobs import Jobs
    from fenrik.jobs.queue import ProcrastinateQueue

    return Jobs(make_engine(url), ProcrastinateQueue(url))


def serve(url: str, port: int) -> int:
    """The web server, on this machine's loopback only."""
    import uvicorn

    from fenrik.web.server import make_app

    app = make_app(service(url), FRONT_END)
    uvicorn.run(app, host="127.0.0.1", port=port, log_level="warning", timeout_graceful_shutdown=1)
    return 0


def work(url: str) -> int:
    """A worker."""
    from fenrik.jobs.worker import run_worker

    run_worker(url, service(url))
    return 0


def load_demonstration(jobs: Jobs) -> None:
    """The demonstration job, unless there are jobs already."""
    from fenrik.core.job.reading import job_data, load_job

    if jobs.listing():
        return
    folder = ROOT / "examples"
    for name in ("bearing_bracket", "nozzle_mould"):
        job = load_job(folder / f"{name}.yaml")
        job_id = jobs.create(job_data(job))
        if job.part is not None:
            jobs.add_file(job_id, job.part.file, (folder / job.part.file).read_bytes())
        jobs.start(job_id, "prove")


def read_again(jobs: Jobs) -> None:
    """Hands in the reading of parts whose artefacts a newer Fenrik no longer knows."""
    from fenrik.core.errors import DocumentError

    for row in jobs.listing():
        with jobs.planner(row["id"]) as planner:
            if planner.job.part is None:
                continue
            try:
                planner.part()
            except DocumentError:
                jobs.start(row["id"], "part")


def prepare(url: str) -> int:
    """Migrates the database, loads the demonstration job, and has parts read again after an upgrade."""
    from fenrik.app.database import migrate

    migrate(url)
    jobs = service(url)
    load_demonstration(jobs)
    read_again(jobs)
    return 0


class Stop:
    """Whether Ctrl-C or SIGTERM asked for the end. A plain flag: a lock taken in a signal's handler can be
    held by the very call that the signal interrupted."""

    def __init__(self) -> None:
        self.asked = False
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, self._ask)

    def _ask(self, *_: object) -> None:
        self.asked = True


def demo(port: int) -> int:
    """Database, server and worker until Ctrl-C; one that dies is started again."""
    if not _port_free(port):
        print(
            f"Port {port} is taken: is Fenrik running already? Or choose another with FENRIK_PORT.",
            file=sys.stderr,
        )
        return 1
    stop = Stop()
    cluster = Cluster(DATA / "postgres")
    children = Children()
    try:
        url = _cluster_beside_imports(cluster)
        if children.start("preparation", lambda: prepare(url)) and children.wait("preparation") != 0:
            return 1
        works = {"server": lambda: serve(url, port), "worker": lambda: work(url)}
        for name, run in works.items():
            children.start(name, run)
        if not _ready(port, children, stop):
            return 0 if stop.asked else 1
        print(f"Fenrik is ready: http://127.0.0.1:{port}  (Ctrl-C stops it)", flush=True)
        while not stop.asked:
            time.sleep(0.3)
            for name, run in works.items():
                code = children.ended(name)
                if code is not None and not stop.asked:
                    print(f"the {name} ended ({code}) and is started again", file=sys.stderr)
                    children.start(name, run)
    finally:
        children.end()
        cluster.stop()
    return 0


def _cluster_beside_imports(cluster: Cluster) -> str:
    """Starts the cluster while the application is imported; gives the database's address."""
    with ThreadPoolExecutor(1) as pool:
        started = pool.submit(cluster.start)
        for name in ("fenrik.web.server", "fenrik.jobs.worker", "fenrik.app.database", "uvicorn", "alembic"):
            importlib.import_module(name)
        started.result()
    return cluster.database("fenrik")


def _port_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def _ready(port: int, children: Children, stop: Stop) -> bool:
    for _ in range(300):
        if stop.asked:
            return False
        if children.ended("server") is not None:
            print(
                f"The server did not start; is port {port} taken? Choose another with FENRIK_PORT.",
                file=sys.stderr,
            )
            return False
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/api/jobs", timeout=2):
                return True
        except OSError:
            time.sleep(0.1)
    return False


if __name__ == "__main__":
    raise SystemExit(main())
