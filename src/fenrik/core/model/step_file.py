"""Reading STEP (ISO 10303-21; AP203, AP214, AP242) into a checked part."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from OCP.BRepBuilderAPI import BRepBuilderAPI_Sewing, BRepBuilderAPI_Transform
from OCP.BRepCheck import BRepCheck_Analyzer
from OCP.BRepLib import BRepLib
from OCP.collections import Sequence_TCollection_AsciiString
from OCP.gp import gp_Pnt, gp_Trsf
from OCP.IFSelect import IFSelect_ReturnStatus
from OCP.ShapeFix import ShapeFix_Shape, ShapeFix_Solid
from OCP.STEPControl import STEPControl_Reader
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopoDS import TopoDS

from fenrik.core.errors import FileError
from fenrik.core.model import brep
from fenrik.core.model.bodies import body, chosen
from fenrik.core.model.part_model import PartModel, Problem
from fenrik.core.model.scale import display_deflection, scale_problems

SEWING_MM = 0.05
"""Gap that sewing of loose faces may close."""


def read_step(path: Path, name: str, solid: int | None, scale: float, heal: bool) -> PartModel:
    """The chosen solid of a STEP file as a part, lengths in mm whatever the file's unit.

    `solid` counts from 1 and may stay open when there is only one. `heal` sews loose faces
    and repairs an invalid solid. Raises FileError that names the file, what is wrong and the remedy.
    """
    shape, unit = _transfer(path, name)
    problems: list[Problem] = []
    solids = brep.solids_of(shape)
    if not solids:
        solids = [_sewn(shape, name, heal, problems)]
    bodies = [body(i, *brep.bounds_of(s), scale) for i, s in enumerate(solids, 1)]
    number = chosen(name, bodies, solid, "solids")
    mine = _repaired(solids[number - 1], name, heal, problems)
    if scale != 1.0:
        mine = _scaled(mine, scale)
    part = part_from_shape(mine, name, len(solids), number, unit, problems)
    return replace(part, bodies=bodies)


def part_from_shape(
    body: Any, name: str, solids: int, number: int, unit: str, problems: list[Problem] | None = None
) -> PartModel:
    """A part from a solid of the geometry kernel: facts, display mesh and edge lines."""
    low, high = brep.bounds_of(body)
    volume, area = brep.volume_and_area(body)
    noticed = list(problems or [])
    noticed += scale_problems(max(b - a for a, b in zip(low, high, strict=True)))
    deflection = display_deflection(low, high)
    faces = brep.faces_of(body)
    edges, lines = brep.edge_facts(body, faces, deflection)
    facts = [brep.face_facts(i, f) for i, f in enumerate(faces, 1)]
    mesh = brep.tessellate(body, deflection)
    blob = brep.to_bytes(body)
    return PartModel(
        name, "brep", solids, number, volume, area, mesh, facts, edges, lines, unit, noticed, blob
    )


def _transfer(path: Path, name: str) -> tuple[Any, str]:
    reader = STEPControl_Reader()
    broken = FileError(
        f"The STEP file '{name}' is damaged or cut off.",
        remedy="Export it again and check that the file ends with 'END-ISO-10303-21;'.",
    )
    try:
        if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
            raise broken
        lengths, angles, solid_angles = (Sequence_TCollection_AsciiString() for _ in range(3))
        reader.FileUnits(lengths, angles, solid_angles)
        unit = lengths.Value(1).ToCString().lower() if lengths.Length() else "millimetre"
        reader.TransferRoots()
        shape = reader.OneShape()
    except FileError:
        raise
    except Exception as error:
        raise broken from error
    if shape is None or shape.IsNull():
        raise FileError(
            f"The STEP file '{name}' holds no shape.",
            remedy="If it is an assembly that refers to other files, export the part itself as one file.",
        )
    return shape, unit


def _sewn(shape: Any, name: str, heal: bool, problems: list[Problem]) -> Any:
    faces = brep.faces_of(shape)
    if not faces:
        raise FileError(
            f"The STEP file '{name}' holds no solid and no face, only curves or points.",
            remedy="Export the solid body, not the sketch.",
        )
    if not heal:
        raise FileError(
            f"The STEP file '{name}' holds no solid: its {len(faces)} faces form an open shell or lie loose.",
            remedy=f"Set part.heal to true to sew gaps up to {SEWING_MM} mm, or close the solid where it "
            "was made.",
        )
    sewing = BRepBuilderAPI_Sewing(SEWING_MM)
    sewing.Add(shape)
    sewing.Perform()
    result = sewing.SewedShape()
    shells = brep.sub_shapes(result, TopAbs_ShapeEnum.TopAbs_SHELL)
    free = sewing.NbFreeEdges()
    if len(shells) != 1 or free:
        raise FileError(
            f"The faces of '{name}' do not close: {free} edges stay open after sewing at {SEWING_MM} mm.",
            remedy="Close the solid where it was made and export it again.",
        )
    solid = ShapeFix_Solid().SolidFromShell(TopoDS.Shell(shells[0]))
    BRepLib.OrientClosedSolid_s(solid)
    problems.append(
        Problem(
            "note", f"{len(faces)} loose faces were sewn to a solid.", "Compare the size with the drawing."
        )
    )
    return solid


def _repaired(body: Any, name: str, heal: bool, problems: list[Problem]) -> Any:
    volume, _ = brep.volume_and_area(body)
    if volume < 0:
        body = TopoDS.Solid(body.Reversed())
        problems.append(Problem("note", "The solid was inside out and has been turned.", "Nothing to do."))
    if BRepCheck_Analyzer(body).IsValid():
        return body
    fix = ShapeFix_Shape(body)
    fix.Perform()
    fixed = fix.Shape()
    inside = brep.solids_of(fixed)
    if len(inside) == 1 and BRepCheck_Analyzer(fixed).IsValid():
        problems.append(
            Problem("note", "The solid was invalid and has been repaired.", "Compare it with the drawing.")
        )
        return inside[0]
    before, after = abs(volume), abs(brep.volume_and_area(fixed)[0])
    problems.append(
        Problem(
            "caution",
            f"The solid of '{name}' is invalid and repair did not help (volume {before:.6g}, repaired "
            f"{after:.6g} mm³).",
            "Look at it closely before you trust paths on it, or export it again.",
        )
    )
    return inside[0] if heal and len(inside) == 1 else body


def _scaled(body: Any, factor: float) -> Any:
    scaling = gp_Trsf()
    scaling.SetScale(gp_Pnt(0, 0, 0), factor)
    return TopoDS.Solid(BRepBuilderAPI_Transform(body, scaling, True).Shape())
