"""What a part is recognised to be, against reading its file."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bench.timing import Row, best
from fenrik.core.features.holes import find_holes
from fenrik.core.features.shapes import find_features
from fenrik.core.model.reading import read_model

SECONDS = 1.0


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


def rows() -> Iterator[Row]:
    """Recognition of holes and all other features."""
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
