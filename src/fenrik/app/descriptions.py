"""Questions about machines as URDF: read from it and written as it."""

from __future__ import annotations

import base64
import io
import zipfile
from typing import Any

from fenrik.app.desk import Desk
from fenrik.core.errors import InputError
from fenrik.core.machines.library import machine
from fenrik.core.machines.urdf.taken_in import meshes_named, taken_in
from fenrik.core.machines.urdf.writing import to_urdf
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.reading import kind_of
from fenrik.core.model.stl_file import read_stl


def urdf_in(desk: Desk, order: dict[str, Any]) -> Any:
    """A machine from a description's `text`, called `name`; `meshes` are the names in the job of the files
    that were given with it, by theirs. The files that its bodies name come with it, in base64."""
    text = order["text"]
    made = taken_in(text, order["name"], _meshes(desk, order, meshes_named(text)))
    files = {name: base64.b64encode(content).decode("ascii") for name, content in made.files.items()}
    return {"machine": made.machine.model_dump(mode="json"), "files": files, "open": made.open}


def _meshes(desk: Desk, order: dict[str, Any], wanted: list[str]) -> dict[str, TriangleMesh]:
    out, listed = {}, desk.files(order)
    for name in (n for n in wanted if n in order["meshes"]):
        path = listed.path(order["meshes"][name])
        with path.open("rb") as file:
            kind = kind_of(file.read(2048), path.stat().st_size, name)
        if kind != "stl":
            raise InputError(
                f"The mesh '{name}' of the description is no STL file.", remedy="Export its meshes as STL."
            )
        out[name] = read_stl(path, name, None, 1.0, False).mesh
    return out


def urdf_out(desk: Desk, order: dict[str, Any]) -> bytes:
    """A machine of the job or of the library as an archive: its description and its meshes."""
    setups = desk.paths(order).setups
    own = {m.id: m for m in setups.job.machines}
    found = own.get(order["machine"]) or machine(order["machine"], own=list(own))
    text, meshes = to_urdf(found, setups.machine_files(found))
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(f"{found.id}.urdf", text)
        for name, content in meshes.items():
            archive.writestr(f"meshes/{name}", content)
    return out.getvalue()
