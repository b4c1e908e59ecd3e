"""What is kept of a plan of ten operations: a change of a late one against computing all, and the memory of
all stocks."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from bench.removal import CELL, HIGH, LOW, tool
from bench.timing import Row
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.keeping import Snapshot
from fenrik.core.tooling.library import starting_library

MODELS = Path(__file__).resolve().parents[1] / "examples" / "models"
ARGS = {"strategy": "parallel_finishing", "tool": 17}


def plan(last_cusp: float) -> dict[str, Any]:
    """Roughing and nine finishing operations over parts of the bracket's top; the last one's cusp is
    given."""
    tools = {t.number: t for t in starting_library()}
    rough = {"name": "Rough", "strategy": "level_roughing", "tool": 3, "parameters": {"step_down": 6.0}}
    strips = [
        {
            "name": f"Finish {i}",
            **ARGS,
            "parameters": {"cusp": last_cusp if i == 8 else 0.01},
            "keep_in": [
                {
                    "polygon": [
                        [-54 + 12 * i, -34],
                        [-42 + 12 * i, -34],
                        [-42 + 12 * i, 34],
                        [-54 + 12 * i, 34],
                    ]
                }
            ],
        }
        for i in range(9)
    ]
    tool3 = tools[3].model_dump() | {"flute_length": 36.0, "stick_out": 46.0}
    return {
        "fenrik": 1,
        "name": "ten",
        "part": {"file": "bearing_bracket.step"},
        "tools": [tool3, tools[17].model_dump() | {"stick_out": 46.0}],
        "setups": [{"name": "Top", "operations": [rough, *strips]}],
    }


def run(store: MemoryStore, cusp: float) -> float:
    """Seconds for planning and proving the whole plan with what the store has."""
    planner = open_job(job_from_data(plan(cusp)), MODELS, store)
    started = time.perf_counter()
    Prover(planner).prove(planner.job.effective_releases()[0])
    return time.perf_counter() - started


def alone(store: MemoryStore, cusp: float) -> float:
    """Seconds for planning and proving a release of the last operation only, with what the store has of the
    others."""
    data = plan(cusp)
    data["releases"] = [{"name": "last", "setup": "Top", "operations": ["Finish 8"]}]
    planner = open_job(job_from_data(data), MODELS, store)
    started = time.perf_counter()
    Prover(planner).prove(planner.job.effective_releases()[0])
    return time.perf_counter() - started


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    run(MemoryStore(), 0.01)
    store = MemoryStore()
    whole = run(store, 0.01)
    own = late = float("inf")
    for turn in range(3):  # in turns, each time another change
        own = min(own, alone(store, 0.009 - 1e-4 * turn))
        before = dict(store.computed)
        late = min(late, run(store, 0.008 - 1e-4 * turn))
    cut = store.computed["cut"] - before["cut"]
    paths = store.computed["path"] - before["path"]
    what = "changing the last of ten operations, planned and proved again"
    yield Row(what, f"{late:.2f} s", f"{own:.2f} s that one alone", late / own, most=1.3)
    yield Row("the same against all ten", f"{late:.2f} s", f"{whole:.2f} s all ten", late / whole)
    yield Row(
        "the same: operations cut again", f"{cut} cut, {paths} planned", "10", float(cut + paths), most=2.0
    )

    stock = Stock.of_box(LOW, HIGH, CELL)
    snapshots = [Snapshot.of(stock)]
    cutter = tool_bodies(tool("ball", 6))
    for i in range(10):
        y = np.arange(10.0 * i, 10.0 * i + 10.0, 0.5)
        pieces = np.column_stack(
            [np.full_like(y, -4), y, 40 + np.sin(y), np.full_like(y, 104), y, 40 + np.sin(y)]
        )
        stock.cut(pieces, cutter, np.zeros(len(pieces), dtype=np.bool_))
        snapshots.append(Snapshot.of(stock, snapshots[-1]))
    shared: set[int] = set()
    together = sum(s.size(shared) for s in snapshots[1:])
    copies = sum(s.size() for s in snapshots[1:])
    yield Row(
        "memory of ten stocks",
        f"{together / 1e6:.1f} MB",
        f"{copies / 1e6:.1f} MB ten copies",
        together / copies,
        most=0.35,
    )
