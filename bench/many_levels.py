"""How finishing walls grows with the number of levels: a flight of steps of one size with more and more of
them, and a tall plate beside it, whose wall has its foot at every one of the heights. The work is to grow
with the levels in proportion. And the walls of the bracket in many levels, whose lines are fitted once,
against fitting them at every level."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from unittest.mock import patch

import shapely
import trimesh

from bench.timing import Row
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.strategies.kit import contours
from fenrik.core.tooling.assembly import Assembly, HolderSegment

MODELS = Path(__file__).resolve().parents[1] / "examples" / "models"
FEW, MANY = 25, 100
LONG, HIGH, WIDE = 120.0, 40.0, 30.0
TIMES = 1.5 * MANY / FEW


def steps(levels: int, folder: Path) -> None:
    """The part as an STL file: `levels` steps along X, and a plate behind them that is higher than all."""
    run, rise = LONG / levels, HIGH / levels
    corners = [(0.0, -5.0), (LONG, -5.0)]
    for i in range(levels):
        corners += [(LONG - i * run, i * rise), (LONG - (i + 1) * run, i * rise)]
    flight = trimesh.creation.extrude_polygon(shapely.Polygon(corners).buffer(0), WIDE)
    flight.apply_transform(trimesh.transformations.rotation_matrix(1.5707963267948966, (1, 0, 0)))
    plate = trimesh.creation.box(bounds=[[0.0, -0.01, -5.0], [LONG, 4.0, HIGH + 5.0]])
    trimesh.boolean.union([flight, plate], engine="manifold").export(folder / "steps.stl")


def end_mill(diameter: float) -> Assembly:
    """A long mill with a plain holder."""
    return Assembly(
        number=1,
        name="mill",
        kind="flat",
        diameter=diameter,
        corner_radius=0.0,
        flute_length=60.0,
        shank_diameter=diameter,
        stick_out=70.0,
        holder=[HolderSegment(length=30, diameter_low=30, diameter_high=40)],
    )


def finish_walls(levels: int) -> float:
    """Seconds to plan the profile along all upright walls, what the planner reads of the part apart."""
    mill = end_mill(6.0)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        steps(levels, folder)
        document = {
            "fenrik": 1,
            "name": "steps",
            "part": {"file": "steps.stl"},
            "tools": [mill.model_dump(mode="json")],
            "setups": [{"name": "Top", "operations": []}],
        }
        reader = open_job(job_from_data(document), folder, MemoryStore())
        upright = [
            f.id
            for f in reader.workspace.part().faces
            if f.kind == "plane" and f.normal is not None and abs(f.normal[2]) < 0.1
        ]
        document["setups"][0]["operations"] = [  # type: ignore[index]
            {
                "name": "Walls",
                "strategy": "profile",
                "tool": 1,
                "walls": [{"face": f} for f in upright],
                "parameters": {"step_down": 20.0},
                "heights": {"bottom": {"over": "part_bottom"}},
            }
        ]
        planner = open_job(job_from_data(document), folder, MemoryStore())
        setup = planner.job.setups[0]
        planner.stock_before(setup, setup.operations[0])
        planner.setups.mesh(setup, setup.operations[0].tolerance_mm)
        began = time.perf_counter()
        planner.path(setup, setup.operations[0])
        return time.perf_counter() - began


def bracket_walls() -> float:
    """Seconds to plan the profile along all outer walls of the bracket, in full stock, 0.5 mm a level."""
    tool = end_mill(8.0)
    document = {
        "fenrik": 1,
        "name": "bracket",
        "part": {"file": "bearing_bracket.step"},
        "tools": [tool.model_dump(mode="json")],
        "setups": [{"name": "Top", "operations": []}],
    }
    reader = open_job(job_from_data(document), MODELS, MemoryStore())
    upright = [f.id for f in reader.workspace.part().faces if f.kind == "plane" and abs(f.normal[2]) < 0.1]
    document["setups"][0]["operations"] = [  # type: ignore[index]
        {
            "name": "Walls",
            "strategy": "profile",
            "tool": 1,
            "when_short": "leave",
            "walls": [{"face": f} for f in upright],
            "parameters": {"step_down": 0.5},
        }
    ]
    planner = open_job(job_from_data(document), MODELS, MemoryStore())
    setup = planner.job.setups[0]
    planner.stock_before(setup, setup.operations[0])
    planner.setups.mesh(setup, setup.operations[0].tolerance_mm)
    began = time.perf_counter()
    planner.path(setup, setup.operations[0])
    return time.perf_counter() - began


def rows() -> Iterator[Row]:
    """Many levels beside few, and lines fitted once beside every time."""
    finish_walls(5)
    few, many = finish_walls(FEW), finish_walls(MANY)
    yield Row(
        f"walls with feet at {MANY} heights finished",
        f"{many:.2f} s",
        f"{FEW} heights {few:.2f} s",
        many / few,
        most=TIMES,
    )
    once = bracket_walls()
    with patch.object(contours, "_fitted", contours._fitted.__wrapped__):
        every = bracket_walls()
    yield Row(
        "walls of the bracket, 0.5 mm a level, lines fitted once",
        f"{once:.2f} s",
        f"at every level {every:.2f} s",
        every / once,
        least=1.5,
    )
