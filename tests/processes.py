"""Starting and looking at processes."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from fenrik.processes import end_with_parent


def processes_with(mark: str) -> list[str]:
    """Command lines of living processes that were started with `mark` in their environment."""
    found = []
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit() and int(folder.name) != os.getpid():
            try:
                if mark.encode() in (folder / "environ").read_bytes():
                    found.append((folder / "cmdline").read_bytes().replace(b"\0", b" ").decode())
            except OSError:
                continue  # it ended meanwhile, or belongs to somebody else
    return [line for line in found if line]


def spawned(command: list[str], **more: Any) -> subprocess.Popen[Any]:
    """A process, head of a group of its own, that ends when the process which runs the tests does, however
    that ends."""
    parent = os.getpid()
    return subprocess.Popen(
        command, start_new_session=True, preexec_fn=lambda: end_with_parent(parent), **more
    )


@contextmanager
def application(url: str, folder: Path, **settings: str) -> Iterator[str]:
    """Address of a server and a worker on a database, with their results in a folder."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    base = [sys.executable, "-m", "fenrik.bootstrap"]
    environment = {**os.environ, "FENRIK_DATA": str(folder), **settings}
    children = [
        spawned([*base, name, "--url", url, "--port", str(port)], env=environment)
        for name in ("server", "worker")
    ]
    try:
        for _ in range(600):
            try:
                urllib.request.urlopen(f"http://127.0.0.1:{port}/api/jobs", timeout=1)
                break
            except OSError:
                time.sleep(0.1)
        yield f"http://127.0.0.1:{port}"
    finally:
        for child in children:
            os.killpg(child.pid, signal.SIGKILL)
            child.wait()
