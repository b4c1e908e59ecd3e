"""Compiles the numba kernels ahead by running a small job of every kind once."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from multiprocessing import Process
from pathlib import Path

import numpy as np
from shapely.geometry import box

from fenrik.core.cutting.drop import DropCutter, Profile
from fenrik.core.cutting.levels import LevelAreas
from fenrik.core.cutting.topology import prepare
from fenrik.core.features.columns import Columns
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.report import run_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.arm import JOINTS, nearest_along
from fenrik.core.machines.cell import Cell
from fenrik.core.machines.holding import Held, held_along
from fenrik.core.machines.library import machines
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.machines.time import trapezoid_times
from fenrik.core.model.distance import DistanceField
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.reading import read_model, working_mesh
from fenrik.core.motion.arcs import fit_arcs
from fenrik.core.pictures.drawing import of_part
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.heightmap import HeightMap, projected_map
from fenrik.core.stock.surface import all_places, names, surface
from fenrik.core.strategies.levels.clearing import Clearing, field_of
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


def _stock(mesh: TriangleMesh) -> None:
    """Cuts by cutters of every form, upright, leaning and turning, and maps."""
    upright = np.array([[0, 0, 3, 6, 1, 3], [6, 1, 3, 2, 5, 2], [2, 5, 2, 2, 5, 1]], dtype=np.float64)
    leaning = np.array(
        [[0, 0, 3, 0, 0, 1, 1, 0, 3, 0.02, 0, 1], [1, 0, 3, 0.6, 0, 0.8, 2, 0, 3, 0.6, 0, 0.8]],
        dtype=np.float64,
    )
    stock = Stock.of_box(np.zeros(3), np.array([8.0, 8.0, 6.0]), 0.5)
    for kind, radius in (("flat", 0.0), ("ball", 3.0), ("corner", 1.0)):
        bodies = tool_bodies(Assembly.model_validate(_tool(1, kind, radius)))
        for pieces in (upright, leaning):
            stock.cut(pieces, bodies, np.zeros(len(pieces), dtype=np.bool_))
    _maps(mesh)


def _maps(mesh: TriangleMesh) -> None:
    """The stock of a mesh, and planning maps."""
    stock, corner = Stock.of_mesh(mesh, 1.0), np.array([8.0, 8.0, 6.0])
    field, profile = HeightMap.of_mesh(mesh, 1.0), Profile(3.0, 1.0)
    pieces = np.array([[0, 0, 3, 6, 1, 3]], dtype=np.float64)
    field.cut_pieces(pieces, profile)
    field.lacks(pieces, np.zeros(1, dtype=np.bool_), profile, np.array([[2.0, 3.0]]))
    field.top((0.0, 0.0), (1.0, 1.0), 1.0)
    field.top_at(pieces[:, :2], 1.0)
    projected_map(stock, np.zeros(3), corner, np.eye(4), 1.0)


def _planning(mesh: TriangleMesh) -> None:
    """The dropped cutter, level areas, clearing, distances, arcs, joints, and a stock's surface."""
    topology = prepare(mesh)
    for profile in (Profile(3.0, 0.0), Profile(3.0, 3.0)):
        cutter = DropCutter(topology, profile)
        places = np.full((2500, 2), 5.0)
        cutter.blocked(places, np.zeros(len(places)))
        cutter.tip(places)
        cutter.tip(places[:10])
        cutter.along(np.array([0.0, 1.0]), np.array([20.0, 9.0]), 0.5, 0.01, -1.0)
        LevelAreas(cutter, *mesh.bounds, step=1.0, tolerance=0.02).blocked(7.0)
    ground = field_of(box(0, 0, 30, 20), 3.0, lambda x, y: np.ones(x.shape, dtype=np.bool_))
    Clearing(ground, 3.0, 1.0, 1.1, 1, 0.75).run(lambda _: None)
    DistanceField(mesh).signed(np.zeros((3, 3)))
    angle = np.linspace(0.0, 1.0, 20)
    fit_arcs(10.0 * np.column_stack([np.cos(angle), np.sin(angle)]), 0.01)
    _look()
    machine, leaning = machines()["tilting_table_320"], np.array([[0.6, 0.0, 0.8]])
    angles, _ = machine.rotary_positions(leaning)
    machine.joint_values(np.zeros((1, 3)), angles, 100.0)
    trapezoid_times(np.ones(2), np.eye(2, 3), np.ones(2), np.ones(2), 0.01)
    _arm()
    # last: what filling a stock needs has been compiled beside this by then
    stock = Stock.of_box(np.zeros(3), np.full(3, 6.0), 0.5)
    surface(stock)
    names(stock, all_places(stock.shape))


def _arm() -> None:
    """An arm's ways to hold a tool, and the way from one to the next."""
    cell = Cell(OnMachine(machines()["pedestal_arm_1800"], np.eye(4)), 100.0)
    tips, axes = np.array([[0.0, 0.0, 50.0], [20.0, 0.0, 50.0]]), np.array([[0.0, 0.0, 1.0]] * 2)
    found = held_along(cell, tips, axes, np.zeros(2, dtype=np.bool_), Held())
    ways = cell.postures(tips, cell.frames(axes, found.table, found.spin), found.table)
    nearest_along(ways.angles, ways.exists, np.array([True, False]), found.joints[:, -JOINTS:].copy())


def _look() -> None:
    """Lines through a mesh, as for recognising holes."""
    corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], dtype=np.float64)
    mesh = TriangleMesh(corners, np.array([[0, 1, 2]], dtype=np.int32), np.ones(1, dtype=np.int32))
    Columns(mesh, np.array([0.0, 0.0, 1.0])).crossings(np.array([0.3, 0.3]), [0.1])


def _side_by_side(*works: Callable[[], None]) -> None:
    """Does works in processes of their own. What they compile must not overlap: a kernel's cache has one
    index."""
    processes = [Process(target=work) for work in works]
    for process in processes:
        process.start()
    for process in processes:
        process.join()
        if process.exitcode != 0:
            raise SystemExit(f"The kernels could not be compiled ({process.exitcode}).")


def main() -> None:
    """Runs the warm-up and says how long it took."""
    started = time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        part = Path(folder) / "wedge.stl"
        _wedge(part)
        mesh = working_mesh(read_model(part), 0.01)
        _side_by_side(lambda: _stock(mesh), lambda: _planning(mesh))
        _jobs(Path(folder))
    print(f"kernels are compiled ({time.perf_counter() - started:.0f} s)")


def _jobs(folder: Path) -> None:
    """Small jobs, planned and proved: what the kernels' own calls have left."""
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
        {"name": f"f{i}", "strategy": "facing", "tool": 1, "side": s} for i, s in enumerate((None, "Front"))
    ]
    turned = {
        "name": "Top",
        "machine": "tilting_table_320",
        "operations": faces,
        "sides": [{"name": "Front", "up": {"axis": "-y"}}],
        "placement": {"z": 150.0},
    }
    of_part(read_model(folder / "wedge.stl"), 32, 20)
    for document in (data, solid, {**data, "setups": [turned]}):
        run_job(open_job(job_from_data(document), folder, MemoryStore()), folder / "out")


if __name__ == "__main__":
    main()
