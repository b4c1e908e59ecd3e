"""Offset passes in a pocket of 200 x 150 mm with twelve islands, against offsetting its outline alone in
shapely."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from shapely.geometry import MultiPolygon, Point, box

from bench.features import written
from bench.timing import Row, best
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.tooling.library import starting_library

SECONDS = 0.3
STEP = 4.0


def islands() -> list[tuple[float, float, float]]:
    """Places and radii of the islands."""
    return [(35.0 + 50.0 * i, 35.0 + 50.0 * j, 6.0 + (i + j) % 3) for i in range(4) for j in range(3)]


def block() -> Any:
    """A block of 220 x 170 x 30 with the pocket, 15 deep."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    pocket = BRepPrimAPI_MakeBox(gp_Pnt(10, 10, 15), 200.0, 150.0, 20.0).Shape()
    for x, y, r in islands():
        axis = gp_Ax2(gp_Pnt(x, y, 10.0), gp_Dir(0, 0, 1))
        pocket = BRepAlgoAPI_Cut(pocket, BRepPrimAPI_MakeCylinder(axis, r, 30.0).Shape()).Shape()
    return BRepAlgoAPI_Cut(BRepPrimAPI_MakeBox(220.0, 170.0, 30.0).Shape(), pocket).Shape()


def offsets() -> float:
    """Length of all offsets of the pocket's outline by shapely, mm."""
    ground = box(10, 10, 210, 160).difference(MultiPolygon([Point(x, y).buffer(r) for x, y, r in islands()]))
    length, away = 0.0, 6.0
    while not (rest := ground.buffer(-away)).is_empty:
        length, away = length + rest.boundary.length, away + STEP
    return length


def rows() -> Iterator[Row]:
    """The path of one level, everything that the part needs once prepared before."""
    mill = next(t for t in starting_library() if t.kind == "flat" and t.diameter == 12.0)
    with tempfile.TemporaryDirectory(prefix="fenrik-bench-") as name:
        path = written(block(), Path(name) / "pocket.step")
        data = {
            "fenrik": 1,
            "name": "Pocket",
            "part": {"file": path.name},
            "tools": [mill.model_dump(mode="json")],
            "setups": [
                {
                    "name": "Top",
                    "stock": {
                        "kind": "box",
                        "allowance": {f"{a}_{b}": 0.0 for a in "xyz" for b in ("low", "high")},
                    },
                    "operations": [
                        {
                            "name": "Pocket",
                            "strategy": "level_roughing",
                            "tool": mill.number,
                            "heights": {"bottom": {"over": "stock_top", "offset": -15.0}},
                            "parameters": {
                                "step_down": 15.0,
                                "stepover": STEP,
                                "allowance_radial": 0.0,
                                "allowance_axial": 0.0,
                            },
                        }
                    ],
                }
            ],
        }
        job = job_from_data(data)
        first = open_job(job, Path(name), MemoryStore())
        setup, operation = first.job.setups[0], first.job.setups[0].operations[0]
        made = first.path(setup, operation)

        def again() -> float:
            planner = open_job(job, Path(name), MemoryStore())
            for known in ("_parts", "_meshes"):
                setattr(planner.workspace, known, getattr(first.workspace, known))
            for known in ("_topologies", "_outlines"):
                setattr(planner.setups, known, getattr(first.setups, known))
            started = time.perf_counter()
            planner.path(setup, operation)
            return time.perf_counter() - started

        seconds = min(again() for _ in range(5))
        plain = best(offsets)
        yield Row(
            f"pocket 200 x 150 with 12 islands, {made.cutting_length() / 1000:.1f} m of path, s",
            f"{seconds:.2f} s",
            f"offsets {plain:.3f} s, {offsets() / 1000:.1f} m",
            seconds,
            most=SECONDS,
        )
