"""What a test has started ends with the process that runs the tests, also when that is killed."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

from tests.conftest import ROOT

STARTS = """
import sys, time
from tests.processes import spawned
print(spawned(["sleep", "600"]).pid, flush=True)
time.sleep(600)
"""


def test_a_killed_test_run_leaves_no_server_behind():
    run = subprocess.Popen([sys.executable, "-c", STARTS], cwd=ROOT, stdout=subprocess.PIPE, text=True)
    started = int(run.stdout.readline())
    assert Path(f"/proc/{started}").exists()
    os.kill(run.pid, signal.SIGKILL)
    run.wait()
    until = time.monotonic() + 5
    while Path(f"/proc/{started}").exists() and time.monotonic() < until:
        time.sleep(0.02)
    assert not Path(f"/proc/{started}").exists()
