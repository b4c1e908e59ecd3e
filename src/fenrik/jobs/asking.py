"""Answers questions in children of a nursery: at most a few at a time, each within a time and a memory."""

from __future__ import annotations

import json
import os
import threading
from pathlib import Path
from typing import Any

from fenrik.core.errors import (
    ApplicationError,
    ComputeError,
    Conflict,
    DocumentError,
    FenrikError,
    FileError,
    InputError,
    NotFound,
    NotYet,
    PostError,
)
from fenrik.jobs.child import Limits, work_of
from fenrik.jobs.nursery import Child, Nursery, NurseryGone

QUESTION = Limits(
    memory=int(float(os.environ.get("FENRIK_QUESTION_MEMORY_GB", "4")) * 1e9),
    seconds=float(os.environ.get("FENRIK_QUESTION_SECONDS", "120")),
)
WAIT_SECONDS = 60.0
KINDS: dict[str, type[FenrikError]] = {
    kind.code: kind
    for kind in (
        InputError,
        FileError,
        DocumentError,
        ComputeError,
        NotYet,
        PostError,
        ApplicationError,
        NotFound,
        Conflict,
    )
}


def error_of(fault: dict[str, Any]) -> FenrikError:
    """The error that a child has told."""
    kind = KINDS.get(fault["code"], ComputeError)
    return kind(fault["what"], remedy=fault["remedy"], where=fault["where"], offer=fault.get("offer"))


class ChildrenAsker:
    """Asks children of a nursery of its own. Safe for threads; a question about the job that a child was
    asked about last goes to that child, which still has it at hand."""

    def __init__(self, folder: Path, most: int = 2, limits: Limits = QUESTION) -> None:
        self._nursery = Nursery(work_of(folder, limits.memory))
        self._limits, self._most = limits, most
        self._free: list[tuple[str, Child]] = []
        self._busy = 0
        self._changed = threading.Condition()

    def ask(self, question: str, order: dict[str, Any]) -> bytes:
        """The answer to a question. Raises what the question raises; ComputeError when it takes too long or
        too much."""
        topic = str(order.get("job") or order.get("key") or "")
        child = self._take(topic)
        kept = False
        try:
            child.send({"do": "ask", "question": question, "order": order})
            if not child.connection.poll(self._limits.seconds):
                raise ComputeError(
                    f"The answer took more than {self._limits.seconds:.0f} s and was given up.",
                    remedy="Make the job smaller, or ask for less at a time.",
                )
            message = json.loads(child.connection.recv_bytes())
            if message.get("fault", {}).get("code") == "memory":
                raise self._too_large()
            if "fault" in message:
                kept = not message["last"]
                raise error_of(message["fault"])
            answer = child.connection.recv_bytes()
            kept = not message["last"]
            return answer
        except (EOFError, OSError) as error:
            raise ComputeError(
                "The computation of the answer broke off.", remedy="Try again; if it happens again, tell us."
            ) from error
        finally:
            self._give(topic, child if kept else None, child)

    def _too_large(self) -> ComputeError:
        return ComputeError(
            f"The answer needs more than {self._limits.memory / 1e9:.1f} GB of memory.",
            remedy="Make the job smaller.",
        )

    def _take(self, topic: str) -> Child:
        with self._changed:
            if not self._changed.wait_for(lambda: self._busy < self._most, WAIT_SECONDS):
                raise ApplicationError("Many questions are being answered.", remedy="Try again in a moment.")
            self._busy += 1
            for gone in [entry for entry in self._free if not entry[1].waits()]:
                self._free.remove(gone)
                self._end(gone[1])
            own = next((entry for entry in self._free if entry[0] == topic), None)
            if own is None and len(self._free) + self._busy <= self._most:
                return self._new()
            chosen = own or self._free[0]
            self._free.remove(chosen)
            return chosen[1]

    def _end(self, child: Child) -> None:
        child.kill()
        try:
            self._nursery.ended(child)
        except NurseryGone:
            os._exit(70)

    def _new(self) -> Child:
        try:
            return self._nursery.child()
        except NurseryGone:
            os._exit(70)  # whoever supervises this process starts it again, with a nursery

    def _give(self, topic: str, kept: Child | None, child: Child) -> None:
        with self._changed:
            if kept is not None:
                self._free.append((topic, kept))
            else:
                self._end(child)
            self._busy -= 1
            self._changed.notify()

    def close(self) -> None:
        """Ends the children."""
        self._nursery.close()


class NoAsker:
    """For who asks nothing: a worker, the preparation."""

    def ask(self, question: str, order: dict[str, Any]) -> bytes:
        """Raises ApplicationError."""
        raise ApplicationError(f"Nobody answers '{question}' here.")
