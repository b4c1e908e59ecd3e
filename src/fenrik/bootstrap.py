"""Wires the layers together: database cluster, server, worker, demonstration data, backup.

``python -m fenrik.bootstrap demo|server|worker|openapi|backup|restore`` is what the Makefile calls.
"""

from __future__ import annotations

import argparse
import importlib
import json
import logging
import os
import signal
import socket
import sys
import threading
import time
import urllib.request
from pathlib import Path
from typing import TYPE_CHECKING

from fenrik.demonstration import keep_demonstration, load_demonstration
from fenrik.postgres import Cluster
from fenrik.supervise import LOOK_SECONDS, Children, Supervisor

if TYPE_CHECKING:
    from fenrik.app.jobs import Jobs
    from fenrik.app.ports import Asker

# The application is imported inside functions: it takes seconds, in which the database starts.

ROOT = Path(__file__).resolve().parents[2]
DATA = Path(os.environ.get("FENRIK_DATA", ROOT / ".data"))
FRONT_END = ROOT / "ui" / "dist"
READY_SECONDS = 90.0


def main() -> int:
    """Entry of the commands."""
    parser = argparse.ArgumentParser(prog="fenrik.bootstrap")
    commands = ["demo", "server", "worker", "openapi", "backup", "restore"]
    parser.add_argument("command", choices=commands)
    parser.add_argument("file", nargs="?", type=Path, help="with backup and restore: the file")
    parser.add_argument("--url", default=os.environ.get("FENRIK_DATABASE", ""))
    parser.add_argument(
        "--check", action="store_true", help="with openapi: fail when the file is out of date"
    )
    parser.add_argument("--port", type=int, default=int(os.environ.get("FENRIK_PORT", "8750")))
    chosen = parser.parse_args()
    logging.basicConfig(level=logging.WARNING, format="%(levelname)s %(name)s: %(message)s")
    if chosen.command == "demo":
        return demo(chosen.port)
    if chosen.command == "openapi":
        return openapi(chosen.check)
    if chosen.command in ("backup", "restore"):
        return _copy(chosen.command, chosen.file)
    return serve(chosen.url, chosen.port) if chosen.command == "server" else work(chosen.url)


def openapi(check: bool) -> int:
    """Writes docs/openapi.json, or with `check` compares it with what the routes say."""
    from fenrik.web.server import make_app

    text = json.dumps(make_app(None).openapi(), indent=1) + "\n"
    path = ROOT / "docs" / "openapi.json"
    if not check:
        path.write_text(text, "utf-8")
    elif path.read_text("utf-8") != text:
        print("docs/openapi.json is out of date: run 'make api'.", file=sys.stderr)
        return 1
    return 0


def _copy(command: str, file: Path | None) -> int:
    from fenrik.backup import backup, backup_name, restore
    from fenrik.core.errors import FenrikError

    cluster = Cluster(DATA / "postgres")
    try:
        if command == "backup":
            print(f"Written: {backup(cluster, file or Path(backup_name()))}")
        elif file is None:
            print("Say which: make restore FILE=...", file=sys.stderr)
            return 2
        else:
            restore(cluster, file)
            print(f"Restored from {file}. The jobs of before are put aside until the next restore.")
    except FenrikError as error:
        print(error.message, file=sys.stderr)
        return 1
    return 0


def results_folder() -> Path:
    """Where results are kept."""
    return DATA / "store"


def results_limit() -> int:
    """Bytes that all results may take: 10 GB unless set."""
    from fenrik.app.store import DEFAULT_LIMIT

    return int(float(os.environ.get("FENRIK_RESULTS_GB", "0")) * 1e9) or DEFAULT_LIMIT


def service(url: str, asker: Asker) -> Jobs:
    """The application's service on a database."""
    from fenrik.app.database import make_engine
    from fenrik.app.jobs import Jobs
    from fenrik.app.store import ResultStore

    return Jobs(make_engine(url), ResultStore(results_folder(), results_limit()), asker)


def hosts() -> tuple[str, list[str]]:
    """The address to listen on, and the names under which Fenrik is reached besides the loopback's."""
    bind = os.environ.get("FENRIK_BIND", "127.0.0.1")
    names = [h.strip() for h in os.environ.get("FENRIK_HOSTS", "").split(",") if h.strip()]
    return bind, [*names, *([bind] if bind not in ("0.0.0.0", "::") else [])]


def serve(url: str, port: int) -> int:
    """The web server, on this machine's loopback unless told otherwise."""
    import uvicorn

    from fenrik.jobs.asking import ChildrenAsker
    from fenrik.web.server import make_app

    asker = ChildrenAsker(results_folder())  # forks its nursery: before any connection or thread
    bind, names = hosts()
    jobs = service(url, asker)
    app = make_app(jobs, FRONT_END, names)
    threading.Thread(target=keep_demonstration, args=(jobs, DATA), daemon=True).start()
    uvicorn.run(
        app,
        host=bind,
        port=port,
        log_level="warning",
        timeout_graceful_shutdown=1,
        server_header=False,
        access_log=False,
    )
    return 0


def work(url: str) -> int:
    """A worker."""
    from fenrik.jobs.asking import NoAsker
    from fenrik.jobs.worker import make_nursery, run_worker

    folder = results_folder()
    nursery = make_nursery(folder)
    run_worker(service(url, NoAsker()), nursery, folder)
    return 0


def read_again(jobs: Jobs) -> None:
    """Hands in the reading of parts that this version of Fenrik does not know yet."""
    from fenrik.app.runs import OPEN_STATES
    from fenrik.core.errors import FenrikError

    for row in jobs.listing():
        try:
            paths = jobs.paths(row["id"])
            if paths.job.part is None:
                continue
            busy = any(r["state"] in OPEN_STATES for r in jobs.runs.newest(row["id"]))
            if not busy and not jobs.store.has(paths.workspace.part_key()):
                jobs.runs.start(row["id"], "part")
        except FenrikError as error:  # it is shown in the list as one that cannot be opened
            logging.getLogger(__name__).warning("job %s: %s", row["id"], error.message)


def prepare(url: str) -> int:
    """Migrates the database, looks at all jobs, loads the demonstration, has parts read again after an
    upgrade."""
    from fenrik.app.database import drop_spare, migrate, put_on_disk, wait_for
    from fenrik.jobs.asking import NoAsker

    wait_for(url)
    migrate(url)
    jobs = service(url, NoAsker())
    jobs.check_all()
    load_demonstration(jobs, ROOT / "examples", DATA)
    read_again(jobs)
    drop_spare(url)
    put_on_disk(url)
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
    """Database, server and worker until Ctrl-C; whichever dies is started again."""
    if not _port_free(port):
        print(
            f"Port {port} is taken: is Fenrik running already? Or choose another with FENRIK_PORT.",
            file=sys.stderr,
        )
        return 1
    stop = Stop()
    cluster = Cluster(DATA / "postgres")
    url = cluster.address()
    children = Children()
    works = {"database": cluster.serve, "server": lambda: serve(url, port), "worker": lambda: work(url)}
    supervisor = Supervisor(children, works, lambda words: print(words, file=sys.stderr, flush=True))
    try:
        cluster.prepare()
        supervisor.start("database")
        _import_application()
        children.start("preparation", lambda: prepare(url))
        while (code := children.ended("preparation")) is None:
            supervisor.look()
            time.sleep(LOOK_SECONDS)
            if stop.asked:
                return 0
        if code != 0:
            print("The jobs could not be prepared; the reason stands above.", file=sys.stderr)
            return 1
        supervisor.start("server")
        supervisor.start("worker")
        if not _ready(port, supervisor, stop):
            return 0 if stop.asked else 1
        print(f"Fenrik is ready: http://127.0.0.1:{port}  (Ctrl-C stops it)", flush=True)
        limit = f"{results_limit() / 1e9:g} GB"
        print(
            f"Results of computations are kept up to {limit} in {results_folder()} (FENRIK_RESULTS_GB).",
            flush=True,
        )
        while not stop.asked:
            time.sleep(LOOK_SECONDS)
            supervisor.look()
    finally:
        children.end([n for n in children.running if n != "database"])
        children.end(["database"], ask=signal.SIGINT)
    return 0


def _import_application() -> None:
    """What server and worker need, so that they are forks of a process that has it."""
    names = (
        "web.server",
        "jobs.worker",
        "jobs.asking",
        "app.database",
        "core.job.opening",
        "core.job.report",
        "core.model.step_file",
    )
    for name in (*(f"fenrik.{n}" for n in names), "uvicorn", "alembic"):
        importlib.import_module(name)
    from fenrik.core.strategies.registry import strategies
    from fenrik.core.tooling.library import starting_library

    # Every fork would do it at its first document, for a second: load the strategies, and numba's own tables,
    # which the first kernel needs (a tool's checks call one).
    strategies()
    starting_library()


def _port_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((hosts()[0], port))
        except OSError:
            return False
    return True


def _ready(port: int, supervisor: Supervisor, stop: Stop) -> bool:
    until = time.monotonic() + READY_SECONDS
    while time.monotonic() < until and not stop.asked:
        supervisor.look()
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}/api/jobs", timeout=2):
                return True
        except OSError:
            time.sleep(LOOK_SECONDS)
    if not stop.asked:
        print(
            f"The server does not answer; is port {port} taken? Choose another with FENRIK_PORT.",
            file=sys.stderr,
        )
    return False


if __name__ == "__main__":
    raise SystemExit(main())
