"""Failures of operations, kept as paths are: the same inputs fail again, so nothing is tried twice to find
that out."""

from __future__ import annotations

import json

from fenrik.core.errors import ComputeError, DocumentError, FenrikError
from fenrik.core.job.workspace.artefacts import Store

KEPT: dict[str, type[FenrikError]] = {"compute": ComputeError, "document": DocumentError}
"""What follows from the inputs alone, by its code."""


def keep_failure(store: Store, key: str, error: FenrikError, where: str) -> None:
    """Keeps why the path with a key failed, if it follows from the operation at `where` and from nothing
    else."""
    if error.code in KEPT and (error.where == where or error.where.startswith(f"{where}.")):
        plain = error.as_dict() | {"where": error.where.removeprefix(where)}
        store.put(f"{key}-failure", "failure", json.dumps(plain).encode())


def kept_failure(store: Store, key: str, where: str) -> FenrikError | None:
    """Why the path with a key failed for the operation that is at `where` now; None where it did not or was
    not tried."""
    blob = store.get(f"{key}-failure")
    if blob is None:
        return None
    plain = json.loads(blob)
    made = KEPT[plain["code"]]
    return made(plain["what"], remedy=plain["remedy"], where=where + plain["where"], offer=plain.get("offer"))
