"""Kills parts of a running Fenrik at random moments and looks whether anything that was acknowledged is lost.

``python -m tests.chaos 100`` does it a hundred times; the tests do it a few times.
"""

from __future__ import annotations

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
from collections.abc import Callable
from dataclasses import dataclass, field
from http.client import HTTPException
from pathlib import Path
from typing import Any

from tests.processes import processes_with, spawned

BACK_SECONDS = 5.0
TARGETS = ("server", "worker", "postmaster", "backend", "child")


@dataclass
class Outcome:
    """What a row of kills showed."""

    kills: dict[str, int] = field(default_factory=dict)
    back_after: list[float] = field(default_factory=list)
    refused: int = 0
    lost: list[str] = field(default_factory=list)
    standing: list[Any] = field(default_factory=list)


class Demo:
    """A demonstration of its own, as ``make demo`` starts it."""

    def __init__(self, folder: Path) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.folder, self.mark = folder, f"FENRIK_DATA={folder}"
        environment = {**os.environ, "FENRIK_DATA": str(folder), "FENRIK_PORT": str(self.port)}
        command = [sys.executable, "-m", "fenrik.bootstrap", "demo"]
        self.process = spawned(
            command,
            env=environment,
            stdout=subprocess.PIPE,
            stderr=(folder / "stderr.log").open("w"),
            text=True,
        )
        assert "ready" in self.process.stdout.readline()

    def ask(self, method: str, path: str, body: Any = None, timeout: float = 3.0) -> Any:
        request = urllib.request.Request(f"http://127.0.0.1:{self.port}/api{path}", method=method)
        data = None
        if body is not None:
            data = json.dumps(body).encode()
            request.add_header("Content-Type", "application/json")
        with urllib.request.urlopen(request, data, timeout=timeout) as answer:
            return json.loads(answer.read() or b"null")

    def close(self) -> None:
        self.process.send_signal(signal.SIGINT)
        self.process.wait(30)

    # processes -------------------------------------------------------------------------------

    def _children(self, number: int) -> list[int]:
        try:
            return [int(n) for n in Path(f"/proc/{number}/task/{number}/children").read_text().split()]
        except OSError:
            return []

    def victim(self, kind: str, rng: random.Random) -> int | None:
        """A process of a kind, None where there is none now."""
        direct = self._children(self.process.pid)
        names = {p: self._name(p) for p in direct}
        postmasters = [p for p, name in names.items() if "postgres" in name]
        own = [p for p in direct if p not in postmasters]
        if kind == "postmaster":
            found = postmasters
        elif kind == "backend":
            found = [c for p in postmasters for c in self._children(p) if "fenrik" in self._name(c)]
        elif kind == "child":
            found = [c for p in own for nursery in self._children(p) for c in self._children(nursery)]
        else:
            listening = [p for p in own if self._listens(p)]
            found = listening if kind == "server" else [p for p in own if p not in listening]
        return rng.choice(found) if found else None

    @staticmethod
    def _name(process: int) -> str:
        try:
            return Path(f"/proc/{process}/cmdline").read_bytes().replace(b"\0", b" ").decode()
        except OSError:
            return ""

    def _listens(self, process: int) -> bool:
        sockets = set()
        for line in (
            Path(f"/proc/{process}/net/tcp").read_text().splitlines()[1:]
            if Path(f"/proc/{process}").exists()
            else []
        ):
            fields = line.split()
            if fields[3] == "0A" and int(fields[1].split(":")[1], 16) == self.port:
                sockets.add(f"socket:[{fields[9]}]")
        try:
            return any(os.readlink(f) in sockets for f in Path(f"/proc/{process}/fd").iterdir())
        except OSError:
            return False


class User(threading.Thread):
    """Edits and starts computations without a pause, and notes what was acknowledged."""

    def __init__(self, demo: Demo, job: int, seed: int) -> None:
        super().__init__(daemon=True)
        self.demo, self.job, self.rng = demo, job, random.Random(seed)
        self.acknowledged: dict[int, str] = {}
        self.refused, self.stop, self.count = 0, threading.Event(), 0

    def run(self) -> None:
        """Until it is told to stop."""
        while not self.stop.wait(0.02):
            try:
                self._edit()
                if self.rng.random() < 0.1:
                    target = self.rng.choice(("plan", "prove", "part"))
                    self.demo.ask("POST", f"/jobs/{self.job}/runs", {"target": target})
            except (OSError, ValueError, HTTPException):
                self.refused += 1

    def _edit(self) -> None:
        present = self.demo.ask("GET", f"/jobs/{self.job}")
        self.count += 1
        document = {**present["document"], "notes": f"note {self.count}"}
        answer = self.demo.ask(
            "PUT", f"/jobs/{self.job}/document", {"revision": present["revision"], "document": document}
        )
        self.acknowledged[answer["revision"]] = answer["document"]["notes"]


def torment(folder: Path, kills: int, seed: int = 1, say: Callable[[str], None] = lambda _: None) -> Outcome:
    """Starts a demonstration, has it edited and computing without end, and kills something at random
    moments."""
    rng, out = random.Random(seed), Outcome()
    demo = Demo(folder)
    try:
        job = next(row["id"] for row in demo.ask("GET", "/jobs") if "vane" in row["name"].lower())
        user = User(demo, job, seed)
        user.start()
        for number in range(kills):
            kind = rng.choice(TARGETS)
            time.sleep(rng.uniform(0.05, 1.5))
            victim = demo.victim(kind, rng)
            if victim is None:
                continue
            before = len(user.acknowledged)
            os.kill(victim, signal.SIGKILL)
            out.kills[kind] = out.kills.get(kind, 0) + 1
            out.back_after.append(_back(user, before))
            say(f"{number + 1}: {kind} killed, back after {out.back_after[-1]:.2f} s")
        user.stop.set()
        user.join(10)
        out.refused = user.refused
        present = demo.ask("GET", f"/jobs/{job}")
        newest = max(user.acknowledged)
        if present["revision"] < newest:
            out.lost.append(f"revision {newest} was acknowledged, the job is at {present['revision']}")
        if newest == present["revision"] and present["document"]["notes"] != user.acknowledged[newest]:
            out.lost.append(f"revision {newest} holds other notes than were acknowledged")
        _settle(demo, job, out)
    finally:
        demo.close()
    if left := processes_with(demo.mark):
        out.standing.append(left)
    return out


def _back(user: User, before: int) -> float:
    """Seconds until a change is acknowledged again that was made after the kill (the next may have been on
    its way)."""
    began = time.monotonic()
    while len(user.acknowledged) < before + 2:
        if time.monotonic() - began > 60:
            raise RuntimeError("nothing is acknowledged any more")
        time.sleep(0.01)
    return time.monotonic() - began


def _settle(demo: Demo, job: int, out: Outcome) -> None:
    """Waits until no run is open any more: none may stand for ever. The last one asked for must end well."""
    last = demo.ask("POST", f"/jobs/{job}/runs", {"target": "part"})
    until, listed = time.monotonic() + 180, [last]
    while time.monotonic() < until:
        try:
            listed = demo.ask("GET", f"/jobs/{job}/runs")
        except TimeoutError:
            continue  # on a machine that others keep busy
        if not any(run["state"] in ("queued", "running") for run in listed):
            break
        time.sleep(0.2)
    else:
        out.standing.append(listed)
    mine = next(run for run in listed if run["id"] == last["id"])
    if mine["state"] != "done":
        out.standing.append(mine)


def main() -> int:
    """A long row of kills from the command line."""
    kills = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    with tempfile.TemporaryDirectory(prefix="fenrik-chaos-") as name:
        Path(name).chmod(0o755)
        out = torment(Path(name), kills, seed=int(sys.argv[2]) if len(sys.argv) > 2 else 1, say=print)
    back = sorted(out.back_after)
    print(
        f"kills {out.kills}, back after {back[len(back) // 2]:.2f} s in the middle, {back[-1]:.2f} s at most"
    )
    print(
        f"refused meanwhile: {out.refused}; lost: {out.lost or 'nothing'}; standing: "
        f"{out.standing or 'nothing'}"
    )
    return 1 if out.lost or out.standing or back[-1] > BACK_SECONDS else 0


if __name__ == "__main__":
    raise SystemExit(main())
