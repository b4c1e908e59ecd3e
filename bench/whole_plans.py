"""From a bare model to a proved whole plan, against reading and meshing the model at the same tolerance."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

from bench.timing import Row
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proposing.proved import propose_proved
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.tolerances import MESH_SHARE

MODELS = Path(__file__).resolve().parents[1] / "examples" / "models"
PARTS = ("plate_b", "pillow_block", "motor_bracket", "tapered_cap")
TOLERANCE_MM = 0.01
"""Of an operation that says nothing else."""


def rows() -> Iterator[Row]:
    """The rows of this benchmark; the first part is planned once before, so that all is loaded."""
    _whole(PARTS[1])
    for part in PARTS:
        reading, whole = _reading(part), _whole(part)
        what = f"whole plan and proof of {part}"
        yield Row(what, f"{whole:.1f} s", f"{reading:.2f} s reading", whole / reading, most=10)


def _job(part: str):  # type: ignore[no-untyped-def]
    setup = {"name": "Top", "machine": "column_mill_800"}
    return job_from_data({"fenrik": 1, "name": part, "part": {"file": f"{part}.step"}, "setups": [setup]})


def _reading(part: str) -> float:
    started = time.perf_counter()
    workspace = open_job(_job(part), MODELS, MemoryStore()).workspace
    workspace.part()
    workspace.mesh(round(TOLERANCE_MM * MESH_SHARE, 6))
    return time.perf_counter() - started


def _whole(part: str) -> float:
    job = _job(part)
    started = time.perf_counter()
    propose_proved(job, job.setups[0], MODELS, MemoryStore())
    return time.perf_counter() - started
