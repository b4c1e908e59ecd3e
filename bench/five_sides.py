"""A cube worked from five sides in one program, against the same cuts from above in a plate, and a change of
the last of its operations against that operation alone."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

from bench.timing import Row
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.tooling.library import starting_library

SIZE, DEEP = 80.0, 12.0
SIDES = {"Front": "-y", "Right": "+x", "Back": "+y", "Left": "-x"}
HOLES = ((-30.0, 0.0), (30.0, 0.0))


def worked(shape: Any, middle: np.ndarray, out: np.ndarray, along: np.ndarray) -> Any:
    """The shape with a round pocket and two holes in a face, about its middle."""
    into = gp_Dir(*(-out).tolist())
    tools = [(middle, 17.0, DEEP), *((middle + x * along, 4.0, 20.0) for x, _ in HOLES)]
    for place, radius, deep in tools:
        body = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(*place.tolist()), into), radius, deep).Shape()
        shape = BRepAlgoAPI_Cut(shape, body).Shape()
    return shape


def models(folder: Path) -> None:
    """The cube, worked on five faces, and a plate with the same five times on its top."""
    up = np.array([0.0, 0.0, 1.0])
    half = 0.5 * SIZE
    cube = BRepPrimAPI_MakeBox(gp_Pnt(-half, -half, 0), gp_Pnt(half, half, SIZE)).Shape()
    cube = worked(cube, np.array([0, 0, SIZE]), up, np.array([1.0, 0, 0]))
    for axis in SIDES.values():
        out = np.eye(3)["xyz".index(axis[1])] * (1.0 if axis[0] == "+" else -1.0)
        cube = worked(cube, half * out + half * up, out, np.cross(up, out))
    plate = BRepPrimAPI_MakeBox(gp_Pnt(-half, -half, 0), gp_Pnt(9 * half, half, 30.0)).Shape()
    for i in range(5):
        plate = worked(plate, np.array([i * SIZE, 0, 30.0]), up, np.array([1.0, 0, 0]))
    for name, shape in (("cube", cube), ("plate", plate)):
        writer = STEPControl_Writer()
        writer.Transfer(shape, STEPControl_StepModelType.STEPControl_AsIs)
        writer.Write(str(folder / f"{name}.step"))


def job(name: str, folder: Path, store: MemoryStore, step_down: float = 3.0) -> Any:
    """Four operations for every face; the last one's step down is given."""
    tools = {t.number: t.model_dump() for t in starting_library()}
    own = [tools[3] | {"flute_length": 26.0, "stick_out": 40.0}, tools[30], tools[31] | {"diameter": 8.0}]
    setup: dict[str, Any] = {"name": "Top", "machine": "tilting_table_320", "placement": {"z": 100.0}}
    if name == "cube":
        setup["sides"] = [{"name": n, "up": {"axis": a}} for n, a in SIDES.items()]
        setup["machine"] = "fork_head_1500"
    paths = open_job(
        job_from_data({"fenrik": 2, "name": name, "part": {"file": f"{name}.step"}, "setups": [setup]}),
        folder,
        store,
    )
    part, holes = paths.workspace.part(), paths.workspace.holes()
    floors = [f for f in part.faces if f.kind == "plane" and 800 < f.area < 1000]
    operations = []
    for k, floor in enumerate(floors):
        normal = np.array(floor.normal)
        axis = next((n for n, a in SIDES.items() if normal @ _axis(a) > 0.9), None)
        near = np.array(floor.origin) + DEEP * normal
        mine = [
            h.faces[0]
            for h in holes
            if abs(h.diameter - 8) < 0.1
            and abs(normal @ h.axis) > 0.9
            and np.linalg.norm(np.array(h.mouth) - near) < SIZE / 2
        ]
        bounds = {"keep_in": [{"faces": [floor.id]}]}
        side = {"side": axis} if name == "cube" else {}
        picks = {"holes": [{"face": f} for f in mine]}
        operations += [
            {"name": f"Clear {k}", "strategy": "bounded_clearing", "tool": 3, **bounds, **side},
            {"name": f"Spot {k}", "strategy": "drilling", "tool": 30, "parameters": {"cycle": "spot"}}
            | picks
            | side,
            {"name": f"Drill {k}", "strategy": "drilling", "tool": 31, **picks, **side},
            {
                "name": f"Floor {k}",
                "strategy": "level_roughing",
                "tool": 3,
                "parameters": {"step_down": step_down if k == len(floors) - 1 else 3.0},
                **bounds,
                **side,
            },
        ]
    setup["operations"] = operations
    data = {"fenrik": 2, "name": name, "part": {"file": f"{name}.step"}, "tools": own, "setups": [setup]}
    return job_from_data(data | {"proof": {"cell_mm": 0.5}})


def _axis(name: str) -> np.ndarray:
    return np.eye(3)["xyz".index(name[1])] * (1.0 if name[0] == "+" else -1.0)


def proved(name: str, folder: Path) -> float:
    """Seconds of the proof of a program whose paths are known."""
    store = MemoryStore()
    own = job(name, folder, store)
    paths = open_job(own, folder, store)
    setup = own.setups[0]
    for operation in setup.operations:
        paths.path(setup, operation)
    prover = Prover(open_job(own, folder, store))
    begin = time.perf_counter()
    prover.prove(own.effective_releases()[0])
    return time.perf_counter() - begin


def changed(folder: Path) -> tuple[float, float]:
    """Seconds until a plan stands again, opened anew after a change of its last operation, and those of this
    operation where everything before it is at hand."""
    store = MemoryStore()
    for step_down in (3.0, 2.9):  # the second run warms what the first has not met
        own = job("cube", folder, store, step_down)
        paths = open_job(own, folder, store)
        for operation in own.setups[0].operations:
            paths.path(own.setups[0], operation)
    best, alone = np.inf, np.inf
    for i in range(3):
        own = job("cube", folder, store, 2.5 - 0.1 * i)
        begin = time.perf_counter()
        paths = open_job(own, folder, store)
        for operation in own.setups[0].operations:
            paths.path(own.setups[0], operation)
        best = min(best, time.perf_counter() - begin)
        kept = MemoryStore()
        kept.blobs = dict(store.blobs)
        own = job("cube", folder, kept, 2.45 - 0.1 * i)
        paths = open_job(own, folder, kept)
        setup, last = own.setups[0], own.setups[0].operations[-1]
        paths.stock_before(setup, last)
        begin = time.perf_counter()
        paths.path(setup, last)
        alone = min(alone, time.perf_counter() - begin)
    return best, alone


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        models(folder)
        proved("plate", folder)  # compiles
        proved("cube", folder)
        ours, theirs = (min(proved(n, folder) for _ in range(2)) for n in ("cube", "plate"))
        what = "program from five sides proved, 20 operations"
        yield Row(what, f"{ours:.2f} s", f"{theirs:.2f} s the same cuts from above", ours / theirs, most=2.5)
        all_of, alone = changed(folder)
        what = "change of the last of 20 operations over five sides"
        yield Row(what, f"{all_of:.2f} s", f"{alone:.2f} s that operation alone", all_of / alone, most=1.3)
