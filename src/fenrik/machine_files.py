"""Machines as files: written as URDF and read from it, for the command line."""

from __future__ import annotations

import sys
from pathlib import Path

from fenrik.core.errors import FenrikError
from fenrik.core.job.document.reading import load_job
from fenrik.core.job.opening import open_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.library import machine
from fenrik.core.machines.urdf.taken_in import meshes_named, taken_in
from fenrik.core.machines.urdf.writing import to_urdf
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.reading import read_model


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
        made = taken_in(text, path.stem, _meshes(path, text))
        out.mkdir(parents=True, exist_ok=True)
        (out / "machine.json").write_text(made.machine.model_dump_json(indent=1) + "\n", "utf-8")
        for file, content in made.files.items():
            (out / file).write_bytes(content)
    except (FenrikError, OSError, UnicodeDecodeError) as error:
        return _refused(error)
    joints, bodies = len(made.machine.joints), len(made.machine.bodies)
    print(f"{out / 'machine.json'}: {joints} joints, {bodies} bodies")
    if made.open:
        print(f"not said there, set to usual values: {', '.join(made.open)}")
    return 0


def _meshes(path: Path, text: str) -> dict[str, TriangleMesh]:
    """The meshes that a description names, from its folder and its folder of meshes."""
    out = {}
    for name in meshes_named(text):
        for folder in (path.parent, path.parent / "meshes"):
            if (folder / name).is_file():
                out[name] = read_model(folder / name, name, None, 1.0, False, False).mesh
    return out


def _refused(error: Exception) -> int:
    print(error.message if isinstance(error, FenrikError) else str(error), file=sys.stderr)
    return 2
