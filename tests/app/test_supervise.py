"""Starting and ending: what runs, what is started again, and that Ctrl-C leaves nothing behind."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

from fenrik.demonstration import DEMONSTRATION
from fenrik.supervise import Children
from tests.processes import processes_with, spawned


def test_a_child_that_ignores_the_request_is_ended_with_what_it_started(tmp_path):
    children = Children()
    mark = tmp_path / "grandchild"

    def stubborn() -> int:
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        child = subprocess.Popen(["sleep", "600"])
        mark.write_text(str(child.pid))
        time.sleep(600)
        return 0

    children.start("stubborn", stubborn)
    children.start("failing", lambda: 7)
    assert children.wait("failing") == 7
    while not (mark.is_file() and mark.read_text()):
        time.sleep(0.02)
    grandchild = int(mark.read_text())
    assert children.ended("stubborn") is None
    children.end()
    assert children.running == {}
    state = Path(f"/proc/{grandchild}/stat")
    for _ in range(100):
        if not state.exists() or state.read_text().split()[2] == "Z":
            break
        time.sleep(0.02)
    else:
        raise AssertionError("what the child had started still runs")


def test_ctrl_c_ends_everything_while_the_worker_computes_and_the_next_start_keeps_the_job(tmp_path):
    tmp_path.parent.chmod(0o755)
    tmp_path.parent.parent.chmod(0o755)
    tmp_path.chmod(0o755)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    mark = f"FENRIK_DATA={tmp_path}"
    environment = {**os.environ, "FENRIK_DATA": str(tmp_path), "FENRIK_PORT": str(port)}
    command = [sys.executable, "-m", "fenrik.bootstrap", "demo"]
    for turn in range(2):
        process = spawned(command, env=environment, stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        assert "ready" in process.stdout.readline()
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/api/jobs", timeout=5) as answer:
            assert answer.read().decode().count('"id"') == len(DEMONSTRATION)
        if turn == 0:
            time.sleep(1.5)  # the worker is busy proving the demonstration job
        assert len(processes_with(mark)) >= 4
        for _ in range(2):  # two signals on each other's heels, as make and the terminal send them
            os.killpg(process.pid, signal.SIGINT)
        assert process.wait(30) == 0
        end = time.monotonic() + 5
        while processes_with(mark) and time.monotonic() < end:
            time.sleep(0.1)
        assert processes_with(mark) == []
