"""Proved releases as they are kept: facts, motion, stocks and moves apart, each as whoever asks for it reads
it.

Under the proof's key stand its facts as JSON; beside it the motion and the stock after every step as the
blobs that a page reads, and the moves in full precision for the replay. The facts are written last: where
they are, the rest is too.
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
        stocks = [stock_key(self.key, i) for i in range(len(self.facts["operations"]))]
        raw = [] if replay["is_box"] else [replay["raw"]]
        return [self.key, motion_key(self.key), moves_key(self.key), *stocks, *raw, *cuts]


def motion_key(key: str) -> str:
    """Key of a proof's motion: straight pieces with the time at which each ends, as `pack` writes them."""
    return f"{key}-motion"


def moves_key(key: str) -> str:
    """Key of a proof's moves in full precision."""
    return f"{key}-moves"


def stock_key(key: str, step: int) -> str:
    """Key of the stock's surface after a step of a proof (from 0), the last one with its deviation."""
    return f"{key}-stock{step}"


def keep_proof(
    store: Store, key: str, facts: dict[str, Any], motion: Arrays, moves: Arrays, stocks: list[Arrays]
) -> Proof:
    """Keeps a proof in the store; its facts last."""
    for step, arrays in enumerate(stocks):
        store.put(stock_key(key, step), "stock", pack({"cell_mm": facts["cell_mm"]}, arrays))
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
