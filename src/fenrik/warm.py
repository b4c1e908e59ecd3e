"""Compiles the numba kernels ahead by running a small job of every kind once."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np

from fenrik.core.job.artefacts import MemoryStore
from fenrik.core.job.planning import Planner
from fenrik.core.job.reading import job_from_data
from fenrik.core.job.report import run_job

HOLDER = [{"length": 20, "diameter_low": 20, "diameter_high": 24}]


def _tool(number: int, kind: str, corner: float) -> dict[str, object]:
    return {
        "number": number, "name": f"warm {kind}", "kind": kind, "diameter": 6, "corner_radius": corner,
        "flute_length": 20, "shank_diameter": 5.8, "stick_out": 30, "holder": HOLDER,
    }  # fmt: skip


def _wedge(path: Path) -> None:
    """A small pocketed block as STL: enough geometry for every kernel."""
    import trimesh

    profile = np.array([[0, 0], [20, 0], [20, 9], [14, 9], [12, 4], [8, 4], [6, 9], [0, 6]], dtype=float)
    from shapely.geometry import Polygon

    body = trimesh.creation.extrude_polygon(Polygon(profile), 16.0, engine="earcut")
    body.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    body.export(path)


def main() -> None:
    """Runs the warm-up and says how long it took."""
    started = time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        _wedge(Path(folder) / "wedge.stl")
        tools = [_tool(1, "flat", 0), _tool(2, "ball", 3), _tool(3, "corner", 1)]
        operations = [
            {"name": f"o{i}", "strategy": s, "tool": t, "parameters": {}}
            for i, (s, t) in enumerate(
                [
                    ("level_roughing", 1),
                    ("level_roughing", 3),
                    ("parallel_finishing", 2),
                    ("parallel_finishing", 3),
                ]
            )
        ]
        setup = {"name": "Top", "operations": operations}
        data = {
            "fenrik": 1, "name": "warm-up", "part": {"file": "wedge.stl"}, "tools": tools, "setups": [setup],
            "proof": {"cell_mm": 0.5},
        }  # fmt: skip
        solid = {**data, "setups": [{**setup, "stock": {"kind": "solid", "file": "wedge.stl"}}]}
        for document in (data, solid):
            run_job(Planner(job_from_data(document), Path(folder), MemoryStore()), Path(folder) / "out")
    print(f"kernels are compiled ({time.perf_counter() - started:.0f} s)")


if __name__ == "__main__":
    main()
