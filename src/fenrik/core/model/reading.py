"""Reading a model file of any supported kind, told by its content and not by its name."""

from __future__ import annotations

import hashlib
from pathlib import Path

from fenrik.core.errors import FileError
from fenrik.core.model.part_model import PartModel, TriangleMesh

MAX_BYTES = 200 * 1024 * 1024
"""Largest model file that is taken."""

_OTHERS = [
    (b"PK\x03\x04", "a ZIP container (3MF or similar)"),
    (b"%PDF", "a PDF"),
    (b"# ", "an OBJ or another text file"),
    (b"v ", "an OBJ file"),
    (b"\xff\xfe", "text in UTF-16"),
    (b"\xfe\xff", "text in UTF-16"),
    (b"DBRep_DrawableShape", "a BREP file"),
]


def kind_of(head: bytes, size: int, name: str) -> str:
    """ "step" or "stl" from the first bytes (at least 512 where there are so many) and the size.

    Raises FileError naming the file and what it looks like instead.
    """
    if size == 0:
        raise FileError(f"The file '{name}' is empty.", remedy="Export the model again.")
    if size > MAX_BYTES:
        raise FileError(
            f"The file '{name}' has {size / 1e6:.0f} MB; at most {MAX_BYTES / 1e6:.0f} MB are taken.",
            remedy="Export the part alone, or with a coarser mesh.",
        )
    start = head.lstrip()
    if start.startswith(b"ISO-10303-21"):
        return "step"
    if size >= 84 and size == 84 + 50 * int.from_bytes(head[80:84], "little"):
        return "stl"
    if start[:5].lower() == b"solid" and (b"facet" in head or b"endsolid" in head):
        return "stl"
    looks = next((words for mark, words in _OTHERS if start.startswith(mark)), None)
    if looks is None and name.lower().endswith(".stl") and size > 84:
        raise FileError(
            f"The STL file '{name}' is cut off: it has {size} bytes and announces"
            f" {84 + 50 * int.from_bytes(head[80:84], 'little')}.",
            remedy="Export it again.",
        )
    raise FileError(
        f"The file '{name}' is neither STEP nor STL" + (f"; it looks like {looks}." if looks else "."),
        remedy="Export the model as STEP (AP203, AP214 or AP242) or as STL.",
    )


def read_model(
    path: Path, name: str = "", solid: int | None = None, scale: float = 1.0, heal: bool = False
) -> PartModel:
    """The part in a STEP or STL file, in mm, checked.

    `name` is what messages call the file (its own name when empty), `solid` (from 1) chooses among
    several, `scale` multiplies all lengths, `heal` allows sewing and repair. Raises FileError.
    """
    name = name or path.name
    if not path.is_file():
        raise FileError(
            f"The model file '{name}' does not exist.",
            remedy="Check the path; it is relative to the document.",
        )
    if not scale > 0:
        raise FileError(
            f"The scale {scale} is not positive.", remedy="Use 1 to keep the size, 25.4 for inches."
        )
    with path.open("rb") as file:
        head = file.read(2048)
    if kind_of(head, path.stat().st_size, name) == "step":
        from fenrik.core.model.step_file import read_step

        return read_step(path, name, solid, scale, heal)
    from fenrik.core.model.stl_file import read_stl

    return read_stl(path, name, solid, scale)


def file_hash(path: Path) -> str:
    """SHA-256 of a file's bytes, in hex."""
    return hashlib.sha256(path.read_bytes()).hexdigest()


def working_mesh(part: PartModel, deflection: float) -> TriangleMesh:
    """The part's triangles within `deflection` mm of the exact surface (the mesh itself for STL)."""
    if part.brep is None:
        return part.mesh
    from fenrik.core.model import brep

    return brep.tessellate(brep.from_bytes(part.brep), deflection)
