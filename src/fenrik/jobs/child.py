"""What a child of a nursery does: it carries out one order after the other, within limits of memory, and
tells how it goes.

An order is one message of JSON. The child answers with messages of JSON: ``{"at": [fraction, words]}`` while
a run goes on, then ``{"done": ...}`` or ``{"fault": ...}``, with ``"last": true`` where the child is not to
be used again. The answer to a question follows as a message of its own.
"""

from __future__ import annotations

import json
import resource
import time
import traceback
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from fenrik.app.desk import Desk
from fenrik.app.questions import QUESTIONS
from fenrik.app.store import ResultStore
from fenrik.core.errors import FenrikError
from fenrik.core.job.workspace.files import ListedFiles
from fenrik.core.progress import Progress
from fenrik.jobs.computing import compute

TELL_SECONDS = 0.1
WORN_BYTES = 1_500_000_000
"""A child that has grown beyond this is not used again."""


@dataclass(frozen=True)
class Limits:
    """What one computation may take: bytes of memory, and seconds."""

    memory: int
    seconds: float


def work_of(folder: Path, memory: int) -> Any:
    """The work of a child with results in a folder and at most so many bytes of memory."""

    def work(connection: Connection) -> None:
        resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        desk = Desk(ResultStore(folder), folder)
        while True:
            _carry_out(json.loads(connection.recv_bytes()), desk, connection)

    return work


def _carry_out(order: dict[str, Any], desk: Desk, connection: Connection) -> None:
    answer = b""
    try:
        if order["do"] == "run":
            files = ListedFiles(order["files"], Path(order["folder"]))
            compute(order["document"], files, desk.store, order["target"], _telling(connection))
        else:
            found = QUESTIONS[order["question"]](desk, order["order"])
            answer = found if isinstance(found, bytes) else json.dumps(found).encode()
    except FenrikError as error:
        _tell(connection, {"fault": error.as_dict(), "last": _worn()})
        return
    except MemoryError:
        _tell(connection, {"fault": {"code": "memory"}, "last": True})
        return
    except Exception as error:
        traceback.print_exc()
        words = f"A defect in Fenrik: {type(error).__name__}: {str(error)[:500]}"
        _tell(
            connection, {"fault": {"code": "defect", "what": words, "remedy": "", "where": ""}, "last": True}
        )
        return
    _tell(connection, {"done": len(answer), "last": _worn()})
    if order["do"] == "ask":
        connection.send_bytes(answer)


def _tell(connection: Connection, message: dict[str, Any]) -> None:
    connection.send_bytes(json.dumps(message).encode())


def _telling(connection: Connection) -> Progress:
    """Progress that is told at most ten times a second, a new word at once."""
    last: dict[str, Any] = {"at": 0.0, "words": ""}

    def report(fraction: float, words: str) -> None:
        new = bool(words) and words != last["words"]
        if new or time.monotonic() - last["at"] > TELL_SECONDS:
            last["at"], last["words"] = time.monotonic(), words or last["words"]
            _tell(connection, {"at": [fraction, words]})

    return Progress(report)


def _worn() -> bool:
    with open("/proc/self/statm") as file:
        return int(file.read().split()[1]) * resource.getpagesize() > WORN_BYTES
