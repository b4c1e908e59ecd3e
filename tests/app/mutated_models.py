"""Reads mutated models in children of a nursery and prints how each reading ended, a line of JSON for each.

    python -m tests.app.mutated_models FOLDER MODEL COUNT

A process of its own, as servers and workers are: a nursery is forked before its owner has threads or much
memory.
"""

from __future__ import annotations

import json
import random
import sys
from pathlib import Path
from typing import Any

from fenrik.app.store import ResultStore
from fenrik.jobs.child import work_of
from fenrik.jobs.nursery import Child, Nursery
from tests.app.test_jobs import small_document

MEMORY = 3_000_000_000
MUTATED_SECONDS, WHOLE_SECONDS = 5.0, 120.0


def mutated(content: bytes, rng: random.Random) -> bytes:
    """A model with a few places overwritten, cut out, doubled or cut off."""
    raw = bytearray(content)
    for _ in range(rng.randint(1, 6)):
        at, length = rng.randrange(len(raw)), rng.choice([1, 2, 8, 60, 400])
        kind = rng.randrange(4)
        if kind == 0:
            raw[at : at + length] = rng.randbytes(length)
        elif kind == 1:
            del raw[at : at + length]
        elif kind == 2:
            raw[at:at] = raw[at : at + length]
        else:
            numbers = b"0123456789.-E"
            raw[at : at + length] = bytes(rng.choice(numbers) for _ in range(length))
    return bytes(raw[: rng.randrange(len(raw) // 2, len(raw) + 1)] if rng.random() < 0.2 else raw)


def read(child: Child, folder: Path, content: bytes, digest: str, seconds: float) -> dict[str, Any]:
    """The last message about a reading, or how it ended without one."""
    (folder / "files" / digest).write_bytes(content)
    document = {**small_document(), "part": {"file": "m.step", "heal": True}}
    order = {"do": "run", "target": "part", "document": document, "files": {"m.step": digest}}
    child.send({**order, "folder": str(folder / "files")})
    try:
        while child.connection.poll(seconds):
            message: dict[str, Any] = json.loads(child.connection.recv_bytes())
            if "at" not in message:
                return message
    except EOFError:
        return {"crashed": True}
    return {"slow": True}


def main(folder: Path, model: Path, count: int) -> None:
    store = ResultStore(folder)
    nursery = Nursery(work_of(folder, MEMORY))
    rng, content = random.Random(12), model.read_bytes()
    child = nursery.child()
    try:
        for number in range(count + 1):
            whole = number == count  # the last is whole, and read after all the others
            model_content = content if whole else mutated(content, rng)
            limit = WHOLE_SECONDS if whole else MUTATED_SECONDS
            found = read(child, store.folder, model_content, f"{number:064d}", limit)
            print(json.dumps(found), flush=True)
            if "slow" in found or "crashed" in found or found.get("last"):
                child.kill()  # as a worker does with one that takes too long
                nursery.ended(child)
                child = nursery.child()
    finally:
        nursery.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]), int(sys.argv[3]))
