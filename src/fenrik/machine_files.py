"""Machines as files: written as URDF and read from it, for the command line."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from pydantic import ValidationError

from fenrik.core.errors import FenrikError, InputError
from fenrik.core.job.document.reading import load_job
from fenrik.core.job.opening import open_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.library import machine
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.urdf.reading import from_urdf
from fenrik.core.machines.urdf.writing import to_urdf
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.reading import read_model

DEFAULTS = {
    "table": [500.0, 500.0],
    "feed_max_mm_min": 10000.0,
    "spindle_rpm": [50.0, 12000.0],
    "spindle_power_kw": 10.0,
    "tool_change_s": 5.0,
    "junction_mm": 0.02,
}
"""What a description by others does not say; it is told, to be set by hand."""


def describe(machine_id: str, job: Path | None, out: Path) -> int:
    """Writes a machine as URDF into a folder; the exit code."""
    try:
        files: dict[str, TriangleMesh] = {}
        if job is None:
            found = machine(machine_id)
        else:
            setups = open_job(load_job(job), job.resolve().parent, MemoryStore()).setups
            own = {m.id: m for m in setups.job.machines}
            found = own[machine_id] if machine_id in own else machine(machine_id, own=list(own))
            files = setups.machine_files(found)
        text, meshes = to_urdf(found, files)
        (out / "meshes").mkdir(parents=True, exist_ok=True)
        (out / f"{found.id}.urdf").write_text(text, "utf-8")
        for name, content in meshes.items():
            (out / "meshes" / name).write_bytes(content)
    except (FenrikError, OSError) as error:
        return _refused(error)
    print(f"{out / found.id}.urdf: {len(found.joints)} joints, {len(found.bodies)} bodies")
    return 0


def take_in(path: Path, out: Path) -> int:
    """Reads a machine from URDF and writes it as an entry of a job document; the exit code."""
    try:
        text = path.read_text("utf-8")
        data, files = from_urdf(text, _meshes(path, text))
        name = re.sub(r"[^a-z0-9]+", "_", path.stem.lower()).strip("_") or "machine"
        open_ones = [key for key in DEFAULTS if key not in data]
        data = {"id": name, "name": path.stem, **DEFAULTS, **data}
        data["bodies"] = [
            body | ({"file": f"{name}_{body['file']}"} if body["kind"] == "file" else {})
            for body in data["bodies"]
        ]
        made = Machine.model_validate(data)
        out.mkdir(parents=True, exist_ok=True)
        (out / "machine.json").write_text(made.model_dump_json(indent=1) + "\n", "utf-8")
        for file, content in files.items():
            (out / f"{name}_{file}").write_bytes(content)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        return _refused(InputError(f"The description makes no machine: {where}: {first['msg']}."))
    except (FenrikError, OSError, UnicodeDecodeError) as error:
        return _refused(error)
    print(f"{out / 'machine.json'}: {len(made.joints)} joints, {len(made.bodies)} bodies")
    if open_ones:
        print(f"not said there, set to usual values: {', '.join(open_ones)}")
    return 0


def _meshes(path: Path, text: str) -> dict[str, TriangleMesh]:
    """The meshes that a description names, from its folder and its folder of meshes."""
    out = {}
    for given in dict.fromkeys(re.findall(r'filename="([^"]+)"', text)):
        name = given.replace("\\", "/").rsplit("/", 1)[-1]
        for folder in (path.parent, path.parent / "meshes"):
            if (folder / name).is_file():
                out[name] = read_model(folder / name, name, None, 1.0, False, False).mesh
    return out


def _refused(error: Exception) -> int:
    print(error.message if isinstance(error, FenrikError) else str(error), file=sys.stderr)
    return 2
