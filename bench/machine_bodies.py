"""The proof of the machine's bodies along the manifold's program from six sides, against the proof of its
cutting; and a change of a clearance in one late operation against the whole."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import yaml

from bench.timing import Row
from fenrik.core.job.cutting.cutting import cut_stock
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.machine_bodies import look_at_bodies
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.progress import SILENT

EXAMPLES = Path(__file__).resolve().parents[1] / "examples"
KINDS = ("bodies-", "apart-", "cut-")


def rows() -> Iterator[Row]:
    """Both bars."""
    store = MemoryStore()
    data: dict[str, Any] = yaml.safe_load((EXAMPLES / "valve_manifold.yaml").read_text("utf-8"))
    release = data["releases"][0]["name"]
    _timed(data, release, store)  # kernels and paths before the clock
    _forget(store)
    cutting, bodies, *steps = _timed(data, release, store)
    yield Row(
        "bodies of the machine along the manifold's program",
        f"{bodies:.2f} s",
        f"{cutting:.2f} s cutting",
        bodies / cutting,
        most=0.5,
    )
    operations = data["setups"][0]["operations"]
    names, of = np.array(steps[1]), steps[0]
    second_half = [o for o in operations if o["name"] in names[len(names) // 2 :]]
    late = max(second_half, key=lambda o: int((names[of] == o["name"]).sum()))
    heights = late.setdefault("heights", {})
    clearance = heights.setdefault("clearance", {"over": "stock_top", "offset": 10.0})
    clearance["offset"] += 12.0
    share = float((names[of] == late["name"]).mean())
    _, again, *_ = _timed(data, release, store)
    yield Row(
        f"the same after a change of a clearance, {100 * share:.1f} % of the moves",
        f"{again:.2f} s",
        f"{share * bodies:.2f} s share",
        again / (share * bodies),
        most=1.5,
    )


def _timed(data: dict[str, Any], release: str, store: MemoryStore) -> tuple[float, float, Any, list[str]]:
    """Seconds of cutting the stock and of looking at the bodies, the operation of every move, and the names
    of all operations."""
    prover = Prover(open_job(job_from_data(data), EXAMPLES, store))
    wanted = next(r for r in prover.job.releases if r.name == release)
    posted = prover.post(wanted).part(wanted.setup)
    started = time.perf_counter()
    cutting = cut_stock(prover.paths, posted)
    between = time.perf_counter()
    look_at_bodies(prover.paths, posted, cutting, SILENT)
    return between - started, time.perf_counter() - between, cutting.run.step_of, cutting.run.names


def _forget(store: MemoryStore) -> None:
    """Drops what was cut and looked at."""
    for key in [k for k in store.blobs if k.startswith(KINDS)]:
        del store.blobs[key]
