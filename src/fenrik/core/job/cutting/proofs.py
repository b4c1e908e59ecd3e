"""Proved releases as they are kept: facts, motion, stocks and moves apart, each as whoever asks for it reads
it.

Under the proof's key stand its facts as JSON; beside it the motion and the last stock as the blobs that a
page reads, and the moves in full precision for the replay, which has the stocks before that. The facts are
written last: where they are, the rest is too.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from numpy.typing import NDArray

from fenrik.core.binary import pack, unpack
from fenrik.core.job.workspace.artefacts import Store

Arrays = dict[str, NDArray[Any]]


@dataclass(frozen=True)
class Proof:
    """A proved release: its key and its plain `facts` (operations, times, deviation, findings)."""

    key: str
    facts: dict[str, Any]

    def stops(self) -> list[dict[str, Any]]:
        """The findings that forbid running the program."""
        return [f for f in self.facts["findings"] if f["severity"] == "stop"]

    def results(self) -> list[str]:
        """Keys of all that the proof and its replay stand on."""
        replay = self.facts["replay"]
        cuts = [key for cut in replay["cuts"] for key in (cut, f"{cut}-stock")]
        raw = [] if replay["is_box"] else [replay["raw"]]
        own = [motion_key(self.key), moves_key(self.key), stock_key(self.key)]
        return [self.key, *own, *raw, *cuts]


def motion_key(key: str) -> str:
    """Key of a proof's motion: straight pieces with the time at which each ends, as `pack` writes them."""
    return f"{key}-motion"


def moves_key(key: str) -> str:
    """Key of a proof's moves in full precision."""
    return f"{key}-moves"


def stock_key(key: str) -> str:
    """Key of the surface of a proof's last stock with its deviation."""
    return f"{key}-last"


def keep_proof(
    store: Store, key: str, facts: dict[str, Any], motion: Arrays, moves: Arrays, last: Arrays
) -> Proof:
    """Keeps a proof in the store; its facts last."""
    store.put(stock_key(key), "stock", pack({"cell_mm": facts["cell_mm"]}, last))
    store.put(motion_key(key), "motion", pack({"time_s": facts["time_s"]}, motion))
    store.put(moves_key(key), "moves", pack({}, moves))
    store.put(key, "proof", json.dumps(facts).encode())
    return Proof(key, facts)


def kept_proof(store: Store, key: str) -> Proof | None:
    """A proof out of the store, None where it is not there."""
    blob = store.get(key)
    return None if blob is None else Proof(key, json.loads(blob))


def kept_moves(store: Store, key: str) -> Arrays | None:
    """The moves of a proof, None where they are not there."""
    blob = store.get(moves_key(key))
    return None if blob is None else unpack(blob)[1]
