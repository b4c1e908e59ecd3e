"""Reading while two proofs compute: fifty readers and ten event streams, beside the bare framework that
serves a byte string of the same size under the same load.

Readers ask for what a page asks for (document, state, runs, facts, motion, stocks, the part's scene), with a
second's pause between; each kind is compared with the bare answer of its size. The first set of rows is p95
of a read; the last is the server's memory: its own and that of its children, shared pages once (PSS).
"""

from __future__ import annotations

import asyncio
import json
import os
import random
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bench.timing import Row

READERS, STREAMS, SECONDS, PAUSE = 50, 10, 25.0, 1.0
PROOFS = 2
"""Runs that a worker computes side by side on two cores."""
BAR_MS, BAR_TIMES, SERVER_BYTES = 200.0, 5.0, 600_000_000

BARE = """
import sys
import uvicorn
from fastapi import FastAPI, Response
app = FastAPI()
made = {}
@app.get("/bare/{size}")
def bare(size: int) -> Response:
    return Response(made.setdefault(size, b"x" * size), media_type="application/octet-stream")
uvicorn.run(app, host="127.0.0.1", port=int(sys.argv[1]), log_level="warning", access_log=False)
"""


def free_port() -> int:
    """A port that nobody listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def ask(port: int, path: str, body: Any = None) -> Any:
    """A JSON answer of the application; with a body by POST."""
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(
        f"http://127.0.0.1:{port}/api{path}", data, {"Content-Type": "application/json"}
    )
    with urllib.request.urlopen(request, timeout=60) as answer:
        return json.loads(answer.read())


async def get(port: int, path: str) -> int:
    """Reads an address on a connection of its own; gives the size of the body."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port, limit=4_000_000)
    try:
        writer.write(f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nConnection: close\r\n\r\n".encode())
        await writer.drain()
        head = await reader.readuntil(b"\r\n\r\n")
        assert b" 200 " in head.split(b"\r\n")[0], head
        size = 0
        while piece := await reader.read(1_000_000):
            size += len(piece)
        return size
    finally:
        writer.close()


async def listen(port: int, path: str, until: float) -> None:
    """Follows an event stream."""
    reader, writer = await asyncio.open_connection("127.0.0.1", port)
    writer.write(f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\n\r\n".encode())
    while time.monotonic() < until:
        try:
            await asyncio.wait_for(reader.read(65536), 1.0)
        except TimeoutError:
            continue
    writer.close()


async def load(
    port: int, bare: int, addresses: dict[str, str], streams: list[str]
) -> dict[str, dict[str, list[float]]]:
    """Times s of reads by kind, of the application and of the bare framework; readers alternate between
    both."""
    times: dict[str, dict[str, list[float]]] = {"ours": defaultdict(list), "bare": defaultdict(list)}
    until, sizes = time.monotonic() + SECONDS, dict[str, int]()
    for kind, path in addresses.items():
        sizes[kind] = await get(port, path)

    async def read(number: int) -> None:
        rng = random.Random(number)
        await asyncio.sleep(rng.random() * PAUSE)
        while time.monotonic() < until:
            kind = rng.choice(list(addresses))
            for who in rng.sample(["ours", "bare"], 2):
                began = time.monotonic()
                await (get(port, addresses[kind]) if who == "ours" else get(bare, f"/bare/{sizes[kind]}"))
                times[who][kind].append(time.monotonic() - began)
                await asyncio.sleep(rng.uniform(0.5, 1.5) * PAUSE)

    await asyncio.gather(*(read(n) for n in range(READERS)), *(listen(port, p, until) for p in streams))
    return times


def p95(times: list[float]) -> float:
    """The time s that nineteen of twenty do not exceed."""
    return sorted(times)[min(len(times) - 1, int(0.95 * len(times)))]


def memory_of(process: int) -> int:
    """Bytes of a process and all below it, shared pages counted once."""
    total = 0
    for line in Path(f"/proc/{process}/smaps_rollup").read_text().splitlines():
        if line.startswith("Pss:"):
            total += 1024 * int(line.split()[1])
    children = Path(f"/proc/{process}/task/{process}/children").read_text().split()
    return total + sum(memory_of(int(c)) for c in children)


class Busy(threading.Thread):
    """Has the demonstration jobs proved again and again, each time with another cell, and notes how many
    compute."""

    def __init__(self, port: int, jobs: list[int]) -> None:
        super().__init__(daemon=True)
        self.port, self.jobs, self.seen, self.stop = port, jobs, list[int](), threading.Event()

    def run(self) -> None:
        """Until it is told to stop."""
        turn = 0
        while not self.stop.wait(0.5):
            running = 0
            for job in self.jobs:
                states = {r["state"] for r in ask(self.port, f"/jobs/{job}/runs")}
                running += "running" in states
                if not states & {"queued", "running"}:
                    turn += 1
                    _prove_anew(self.port, job, turn)
            self.seen.append(running)


def _prove_anew(port: int, job: int, turn: int) -> None:
    """A demonstration job changed so that its proof is computed anew."""
    present = ask(port, f"/jobs/{job}")
    document = present["document"]
    document["proof"]["cell_mm"] = 0.3 + 0.001 * turn
    request = urllib.request.Request(
        f"http://127.0.0.1:{port}/api/jobs/{job}/document",
        json.dumps({"revision": present["revision"], "document": document}).encode(),
        {"Content-Type": "application/json"},
        method="PUT",
    )
    urllib.request.urlopen(request, timeout=60).read()
    ask(port, f"/jobs/{job}/runs", {"target": "prove"})


def _proved(port: int, job: int) -> None:
    for _ in range(3000):
        if all(run["state"] not in ("queued", "running") for run in ask(port, f"/jobs/{job}/runs")):
            return
        time.sleep(0.1)
    raise RuntimeError("the demonstration is not proved")


def rows() -> Iterator[Row]:
    """Both loads in one run."""
    with tempfile.TemporaryDirectory(prefix="fenrik-bench-") as name:
        Path(name).chmod(0o755)
        port, bare = free_port(), free_port()
        environment = {**os.environ, "FENRIK_DATA": name, "FENRIK_PORT": str(port)}
        demo = subprocess.Popen(
            [sys.executable, "-m", "fenrik.bootstrap", "demo"],
            env=environment,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        plain = subprocess.Popen([sys.executable, "-c", BARE, str(bare)], start_new_session=True)
        try:
            assert demo.stdout is not None and "ready" in demo.stdout.readline()
            yield from _measured(port, bare, demo.pid)
        finally:
            plain.kill()
            demo.send_signal(signal.SIGINT)
            demo.wait(30)


def _measured(port: int, bare: int, process: int) -> Iterator[Row]:
    jobs = [row["id"] for row in ask(port, "/jobs")]
    for job in jobs:
        _proved(port, job)
    job = next(j for j in jobs if "bracket" in ask(port, f"/jobs/{j}")["document"]["name"].lower())
    state = ask(port, f"/jobs/{job}/state")
    part, key = state["part"]["key"], state["releases"][0]["key"]
    addresses = {
        "document": f"/api/jobs/{job}",
        "state": f"/api/jobs/{job}/state",
        "runs": f"/api/jobs/{job}/runs",
        "facts": f"/api/proofs/{key}/facts",
        "motion": f"/api/proofs/{key}/motion",
        "stock": f"/api/proofs/{key}/stock/0",
        "scene": f"/api/jobs/{job}/part/scene/{part}",
    }
    busy = Busy(port, jobs)
    busy.start()
    time.sleep(3.0)
    times = asyncio.run(load(port, bare, addresses, [f"/api/jobs/{job}/events"] * STREAMS))
    busy.stop.set()
    share = sum(n >= PROOFS for n in busy.seen) / len(busy.seen)
    assert share > 0.7, f"two proofs were to compute nearly all the while, they did in {share:.0%} of it"
    for kind in addresses:
        ours, plain = (1000 * p95(times[who][kind]) for who in ("ours", "bare"))
        most = max(BAR_MS / plain, BAR_TIMES)
        yield Row(
            f"p95 of a read beside two proofs: {kind}",
            f"{ours:.0f} ms",
            f"bare {plain:.0f} ms",
            ours / plain,
            most=most,
        )
    every = {who: 1000 * p95([t for kind in addresses for t in times[who][kind]]) for who in times}
    most = max(BAR_MS / every["bare"], BAR_TIMES)
    yield Row(
        f"p95 of all {sum(map(len, times['ours'].values()))} reads beside two proofs",
        f"{every['ours']:.0f} ms",
        f"bare {every['bare']:.0f} ms",
        every["ours"] / every["bare"],
        most=most,
    )
    server = max(
        (
            int(c)
            for c in Path(f"/proc/{process}/task/{process}/children").read_text().split()
            if _serves(int(c), port)
        ),
        default=0,
    )
    used = memory_of(server)
    yield Row(
        "memory of the server with its children",
        f"{used / 1e6:.0f} MB",
        f"bar {SERVER_BYTES / 1e6:.0f} MB",
        used / SERVER_BYTES,
        most=1.0,
    )


def _serves(process: int, port: int) -> bool:
    """Whether a process listens on a port."""
    wanted = {
        f"socket:[{fields[9]}]"
        for line in Path("/proc/net/tcp").read_text().splitlines()[1:]
        if (fields := line.split())[3] == "0A" and int(fields[1].split(":")[1], 16) == port
    }
    try:
        return any(os.readlink(f) in wanted for f in Path(f"/proc/{process}/fd").iterdir())
    except OSError:
        return False
