"""Compiles the numba kernels ahead by running a small job of every kind once."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np

from fenrik.core.features.columns import Columns
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.report import run_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.tooling.assembly import Assembly

HOLDER = [{"length": 20, "diameter_low": 20, "diameter_high": 24}]


def _tool(number: int, kind: str, corner: float) -> dict[str, object]:
    return {
        "number": number,
        "name": f"warm {kind}",
        "kind": kind,
        "diameter": 6,
        "corner_radius": corner,
        "flute_length": 20,
        "shank_diameter": 5.8,
        "stick_out": 30,
        "holder": HOLDER,
    }


def _wedge(path: Path) -> None:
    """A small block with a hollow, a step and a slope as STL: enough geometry for every kernel."""
    import trimesh

    xs, ys = np.linspace(0, 20, 21), np.linspace(0, 16, 17)
    x, y = np.meshgrid(xs, ys)
    z = 6 + 0.15 * x - 3.0 * ((x - 10) ** 2 + (y - 8) ** 2 < 16) + 2.0 * (x > 17)
    n = x.size
    top = np.column_stack([x.ravel(), y.ravel(), z.ravel()])
    floor = np.column_stack([x.ravel(), y.ravel(), np.zeros(n)])
    index = np.arange(n).reshape(x.shape)
    a, b, c, d = (index[s].ravel() for s in (np.s_[:-1, :-1], np.s_[:-1, 1:], np.s_[1:, 1:], np.s_[1:, :-1]))
    up = np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])])
    rim = np.concatenate([index[0, :-1], index[:-1, -1], index[-1, :0:-1], index[:0:-1, 0]])
    following = np.roll(rim, -1)
    wall = np.concatenate(
        [np.column_stack([rim, rim + n, following]), np.column_stack([following, rim + n, following + n])]
    )
    faces = np.concatenate([up, up[:, ::-1] + n, wall])
    trimesh.Trimesh(np.concatenate([top, floor]), faces, process=False).export(path)


def _turn() -> None:
    """A move that leans and one that turns, by cutters of every form."""
    moves = np.array(
        [[0, 0, 3, 0, 0, 1, 1, 0, 3, 0.02, 0, 1], [1, 0, 3, 0.6, 0, 0.8, 2, 0, 3, 0.6, 0, 0.8]],
        dtype=np.float64,
    )
    for kind, corner in (("flat", 0.0), ("ball", 3.0), ("corner", 1.0)):
        stock = Stock.of_box(np.zeros(3), np.array([8.0, 8.0, 6.0]), 0.5)
        bodies = tool_bodies(Assembly.model_validate(_tool(1, kind, corner)))
        stock.cut(moves, bodies, np.zeros(2, dtype=np.bool_))


def _look() -> None:
    """Lines through a mesh, as for recognising holes."""
    corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], dtype=np.float64)
    mesh = TriangleMesh(corners, np.array([[0, 1, 2]], dtype=np.int32), np.ones(1, dtype=np.int32))
    Columns(mesh, np.array([0.0, 0.0, 1.0])).crossings(np.array([0.3, 0.3]), [0.1])


def main() -> None:
    """Runs the warm-up and says how long it took."""
    started = time.perf_counter()
    _look()
    with tempfile.TemporaryDirectory() as folder:
        _wedge(Path(folder) / "wedge.stl")
        tools = [_tool(1, "flat", 0), _tool(2, "ball", 3), _tool(3, "corner", 1)]
        operations = [
            {"name": f"o{i}", "strategy": s, "tool": t, "parameters": {}}
            for i, (s, t) in enumerate(
                [
                    ("level_roughing", 1),
                    ("level_roughing", 3),
                    ("bounded_clearing", 1),
                    ("parallel_finishing", 2),
                    ("parallel_finishing", 3),
                ]
            )
        ]
        setup = {"name": "Top", "operations": operations}
        data = {
            "fenrik": 2,
            "name": "warm-up",
            "part": {"file": "wedge.stl"},
            "tools": tools,
            "setups": [setup],
            "proof": {"cell_mm": 0.5},
        }
        solid = {**data, "setups": [{**setup, "stock": {"kind": "solid", "file": "wedge.stl"}}]}
        faces = [
            {"name": f"f{i}", "strategy": "facing", "tool": 1, "side": s}
            for i, s in enumerate((None, "Front"))
        ]
        turned = {
            "name": "Top",
            "machine": "tilting_table_320",
            "operations": faces,
            "sides": [{"name": "Front", "up": {"axis": "-y"}}],
            "placement": {"z": 150.0},
        }
        for document in (data, solid, {**data, "setups": [turned]}):
            run_job(open_job(job_from_data(document), Path(folder), MemoryStore()), Path(folder) / "out")
    _turn()
    print(f"kernels are compiled ({time.perf_counter() - started:.0f} s)")


if __name__ == "__main__":
    main()
