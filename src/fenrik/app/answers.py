"""Answers about jobs: asked once, kept as results, given as they lie while they hold."""

from __future__ import annotations

import hashlib
import json
import threading
from collections import OrderedDict
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from fenrik.app.files import Files
from fenrik.app.ports import Asker
from fenrik.app.store import ResultStore
from fenrik.core.errors import NotFound
from fenrik.core.job.cutting.proofs import Proof, kept_proof

MAX_STATE_BYTES = 30_000_000
"""What all remembered states together may take."""


@dataclass(frozen=True)
class State:
    """What is computed of a job at a revision: as JSON, as data, its fingerprint, and what it stands on."""

    text: bytes
    data: dict[str, Any]
    fingerprint: str
    present: tuple[str, ...]
    absent: tuple[str, ...]


@dataclass(frozen=True)
class Asked:
    """A job as questions take it."""

    job_id: int
    revision: int
    document: dict[str, Any]

    @property
    def name(self) -> str:
        """A name for the document."""
        return f"{self.job_id}/{self.revision}"


class Answers:
    """Asks questions about jobs and remembers what may be remembered. Safe for threads."""

    def __init__(self, store: ResultStore, files: Files, asker: Asker) -> None:
        self.store, self._files, self._asker = store, files, asker
        self._states: OrderedDict[str, State] = OrderedDict()
        self._lock = threading.Lock()

    def ask(self, question: str, about: Asked | None = None, **arguments: Any) -> bytes:
        """The answer to a question about a job, or about what the arguments say alone."""
        order = dict(arguments)
        if about is not None:
            files = self._files.laid_out(about.job_id)
            listed = hashlib.sha256(json.dumps(files.digests, sort_keys=True).encode()).hexdigest()
            order |= {
                "job": f"{about.name}/{listed}",
                "document": about.document,
                "files": dict(files.digests),
            }
        return self._asker.ask(question, order)

    def state(self, about: Asked) -> State:
        """What is computed of a job; asked again only when something that it stands on came or went."""
        with self._lock:
            known = self._states.get(about.name)
        if known is not None and self._holds(known):
            return known
        answer = json.loads(self.ask("state", about))
        text = json.dumps(answer["state"], separators=(",", ":")).encode()
        fingerprint = hashlib.sha256(text).hexdigest()[:24]
        state = State(text, answer["state"], fingerprint, tuple(answer["present"]), tuple(answer["absent"]))
        with self._lock:
            self._states[about.name] = state
            self._states.move_to_end(about.name)
            while len(self._states) > 1 and sum(len(s.text) for s in self._states.values()) > MAX_STATE_BYTES:
                self._states.popitem(last=False)
        return state

    def _holds(self, state: State) -> bool:
        return all(map(self.store.has, state.present)) and not any(map(self.store.has, state.absent))

    def of_part(self, question: str, about: Asked) -> Path:
        """The file of what a question says of a job's part. Raises NotFound while the part is not read."""
        part = self.state(about).data["part"]
        if part["state"] != "ready":
            raise NotFound("The part has not been read yet.", remedy="Wait until it is, or read it again.")
        return self._kept(f"{part['key']}-{question}", question, about)

    def seen_path(self, key: str) -> Path:
        """The file of a toolpath as a page draws it. Raises NotFound."""
        if not key.startswith("path-") or self.store.path(key) is None:
            raise NotFound("The path has not been computed yet.", remedy="Compute the plan.")
        return self._kept(f"{key}-seen", "path", None, key=key)

    def _kept(self, result: str, question: str, about: Asked | None, **arguments: Any) -> Path:
        path = self.store.path(result)
        if path is None:
            self.store.put(result, question, self.ask(question, about, **arguments))
            path = self.store.path(result)
            assert path is not None
        return path

    def result(self, key: str, otherwise: str = "The release has not been proved yet.") -> Path:
        """The file of a result. Raises NotFound in these words."""
        path = self.store.path(key)
        if path is None:
            raise NotFound(otherwise, remedy="Prove it.")
        return path

    def proof(self, key: str) -> Proof:
        """The facts of a proved release. Raises NotFound."""
        proof = kept_proof(self.store, key)
        if proof is None:
            raise NotFound("The release has not been proved yet.", remedy="Prove it.")
        return proof
