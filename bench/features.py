"""What a part is recognised to be, against reading its file; a pocket cleared by offsets, against the same at a bounded load."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bench.clearing import pocket
from bench.timing import Row, best
from fenrik.core.features.holes import find_holes
from fenrik.core.features.shapes import find_features
from fenrik.core.job.artefacts import MemoryStore
from fenrik.core.job.planning import Planner
from fenrik.core.job.reading import job_from_data
from fenrik.core.model.reading import read_model
from fenrik.core.progress import SILENT
from fenrik.core.strategies.registry import strategy
from fenrik.core.tooling.library import starting_library

SECONDS, POCKET_SECONDS = 1.0, 0.3


def written(shape: Any, path: Path) -> Path:
    """A shape as a STEP file."""
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    writer = STEPControl_Writer()
    writer.Transfer(shape, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(str(path))
    return path


def many_faces() -> Any:
    """A plate with 96 blind holes, 24 through holes and 16 slots: over 300 faces."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    shape = BRepPrimAPI_MakeBox(260.0, 200.0, 20.0).Shape()
    for i in range(12):
        for j in range(10):
            low = 0.0 if j % 5 == 4 else 8.0
            at = gp_Ax2(gp_Pnt(12.0 + 18 * i, 12.0 + 14 * j, low), gp_Dir(0, 0, 1))
            shape = BRepAlgoAPI_Cut(shape, BRepPrimAPI_MakeCylinder(at, 3.0, 20.0).Shape()).Shape()
    for i in range(16):
        box = BRepPrimAPI_MakeBox(gp_Pnt(8.0 + 15 * i, 160.0, 12.0), 8.0, 30.0, 8.0).Shape()
        shape = BRepAlgoAPI_Cut(shape, box).Shape()
    return shape


def block_with_pocket() -> Any:
    """The pocket of the clearing benchmark, 10 mm deep in a block, its islands as high as the block."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakePolygon
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakePrism
    from OCP.gp import gp_Pnt, gp_Vec
    from OCP.TopoDS import TopoDS

    def wire(ring: Any) -> Any:
        maker = BRepBuilderAPI_MakePolygon()
        for x, y in list(ring.simplify(0.02).coords)[:-1]:
            maker.Add(gp_Pnt(x, y, 10.0))
        maker.Close()
        return maker.Wire()

    ground = pocket()
    face = BRepBuilderAPI_MakeFace(wire(ground.exterior))  # type: ignore[attr-defined]
    for hole in ground.interiors:  # type: ignore[attr-defined]
        face.Add(TopoDS.Wire(wire(hole).Reversed()))
    block = BRepPrimAPI_MakeBox(gp_Pnt(-10, -10, 0), 220.0, 170.0, 20.0).Shape()
    return BRepAlgoAPI_Cut(block, BRepPrimAPI_MakePrism(face.Face(), gp_Vec(0, 0, 20)).Shape()).Shape()


def pocket_seconds(folder: Path, name: str, **parameters: Any) -> float:
    """The best time to plan the pocket with a strategy and an 8 mm tool, what the part gives prepared before."""
    tool = next(t for t in starting_library() if t.name == "End mill 8")
    operation = {"name": "Pocket", "strategy": name, "tool": tool.number, "parameters": parameters}
    data = {
        "fenrik": 1, "name": "pocket", "part": {"file": "pocket.step"}, "tools": [tool.model_dump(mode="json")],
        "setups": [{"name": "Top", "stock": {"kind": "box", "allowance": {k: 0 for k in ("x_low", "x_high", "y_low", "y_high", "z_low", "z_high")}}, "operations": [operation]}],
    }  # fmt: skip
    planner = Planner(job_from_data(data), folder, MemoryStore())
    setup = planner.job.setups[0]
    inputs = planner._inputs(setup, setup.operations[0])
    compute = strategy(name).compute
    compute(inputs, SILENT)
    return best(lambda: compute(inputs, SILENT))


def rows() -> Iterator[Row]:
    """Recognition, and the pocket."""
    with tempfile.TemporaryDirectory(prefix="fenrik-bench-") as name:
        folder = Path(name)
        path = written(many_faces(), folder / "faces.step")
        started = time.perf_counter()
        part = read_model(path, "faces", None, 1.0, False)
        reading = time.perf_counter() - started
        seconds = best(lambda: find_features(part, find_holes(part)))
        yield Row(
            f"recognition of {len(part.faces)} faces, s",
            f"{seconds:.2f} s",
            f"reading {reading:.1f} s",
            seconds,
            most=SECONDS,
        )
        written(block_with_pocket(), folder / "pocket.step")
        offsets = pocket_seconds(folder, "level_roughing", step_down=10.0, stepover=3.2)
        bounded = pocket_seconds(folder, "bounded_clearing", step_down=10.0, step_up=10.0, stepover=3.2)
        yield Row(
            "pocket 200 x 150 with 12 islands by offsets, s", f"{offsets:.2f} s", f"bounded load {bounded:.2f} s", offsets, most=POCKET_SECONDS
        )  # fmt: skip
