"""Reading a model file of any supported kind, told by its content and not by its name."""

from __future__ import annotations

import hashlib
from pathlib import Path

from fenrik.core.errors import FileError
from fenrik.core.model.part_model import PartModel, TriangleMesh

MAX_BYTES = 200 * 1024 * 1024
"""Largest model file that is taken."""

_OTHERS = [
    (b"%PDF", "a PDF"),
    (b"v ", "an OBJ file"),
    (b"\xff\xfe", "text in UTF-16"),
    (b"\xfe\xff", "text in UTF-16"),
    (b"DBRep_DrawableShape", "a BREP file"),
    (b"ply", "a PLY file"),
    (b"OFF", "an OFF file"),
    (b"glTF", "a binary glTF file"),
    (b"<?xml", "an XML file"),
    (b"{", "a JSON file"),
    (b"\x89PNG", "a PNG picture"),
    (b"\xff\xd8\xff", "a JPEG picture"),
    (b"\x1f\x8b", "a gzip archive"),
    (b"7z\xbc\xaf", "a 7z archive"),
    (b"\xd0\xcf\x11\xe0", "a compound file of another program"),
]
_IN_ZIP = [(b"3D/3dmodel.model", "a 3MF file"), (b"word/", "a text document"), (b"xl/", "a spreadsheet")]


def _looks_like(head: bytes) -> str | None:
    """What the first bytes of a file that is refused look like."""
    start = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    if start.startswith(b"PK\x03\x04"):
        inside = next((words for mark, words in _IN_ZIP if mark in head), None)
        named = b"[Content_Types].xml" in head[:100]
        return inside or ("a 3MF file or another package" if named else "a ZIP archive")
    if len(head) > 73 and head[72:73] == b"S" and head[73:80].strip().isdigit():
        return "an IGES file"  # its first line ends in column 73 with S and a number (IGES 5.3)
    if start.startswith(b"0") and b"SECTION" in head[:60]:
        return "a DXF drawing"
    if b"<svg" in head:
        return "an SVG drawing"
    if start.startswith(b"#") or start.startswith(b"mtllib"):
        lines = head.replace(b"\r", b"\n").split(b"\n")
        mesh = any(line.startswith((b"v ", b"o ", b"g ", b"mtllib ")) for line in lines)
        return "an OBJ file" if mesh else "a text file"
    return next((words for mark, words in _OTHERS if start.startswith(mark)), None)


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
    looks = _looks_like(head)
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
    path: Path,
    name: str = "",
    solid: int | None = None,
    scale: float = 1.0,
    heal: bool = False,
    round_facets: bool = True,
) -> PartModel:
    """The part in a STEP or STL file, in mm, checked.

    `name` is what messages call the file (its own name when empty), `solid` (from 1) chooses among
    several, `scale` multiplies all lengths, `heal` allows sewing and repair, `round_facets` takes facets
    of an STL file that lie on a cylinder, cone or sphere for it. Raises FileError.
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

    return read_stl(path, name, solid, scale, round_facets)


def file_hash(path: Path) -> str:
    """SHA-256 of a file's bytes, in hex."""
    return hashlib.sha256(path.read_bytes()).hexdigest()


def working_mesh(part: PartModel, deflection: float) -> TriangleMesh:
    """The part's triangles within `deflection` mm of the exact surface; for STL that of its round faces."""
    if part.brep is None:
        from fenrik.core.model.round_meshes import rounded

        return rounded(part.mesh, part.faces, deflection)
    from fenrik.core.model import brep

    return brep.tessellate(brep.from_bytes(part.brep), deflection)
