"""Thin wrappers over OpenCASCADE: topology, facts of faces and edges, tessellation.

The only module besides `step_file` that imports OCP; loading it takes over a second, so callers
import it inside functions.
"""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from numpy.typing import NDArray
from OCP.BinTools import BinTools
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Surface
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepGProp import BRepGProp
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.BRepTools import BRepTools
from OCP.collections import (
    IndexedDataMap_TopoDS_Shape_List_TopoDS_Shape_TopTools_ShapeMapHasher as AncestorMap,
)
from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as ShapeMap
from OCP.GCPnts import GCPnts_QuasiUniformDeflection
from OCP.GeomAbs import GeomAbs_CurveType, GeomAbs_SurfaceType
from OCP.gp import gp_Pnt
from OCP.GProp import GProp_GProps
from OCP.TopAbs import TopAbs_Orientation, TopAbs_ShapeEnum
from OCP.TopExp import TopExp
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS, TopoDS_Shape

from fenrik.core.errors import FileError
from fenrik.core.model.canonical import simple_facts
from fenrik.core.model.distinct import distinct_edges, distinct_rows
from fenrik.core.model.part_model import EdgeFacts, FaceFacts, TriangleMesh

_SURFACES = {
    GeomAbs_SurfaceType.GeomAbs_Plane: "plane",
    GeomAbs_SurfaceType.GeomAbs_Cylinder: "cylinder",
    GeomAbs_SurfaceType.GeomAbs_Cone: "cone",
    GeomAbs_SurfaceType.GeomAbs_Sphere: "sphere",
    GeomAbs_SurfaceType.GeomAbs_Torus: "torus",
}


def sub_shapes(shape: Any, kind: Any) -> list[Any]:
    """The distinct sub-shapes of one kind in the order of the file."""
    found = ShapeMap()
    TopExp.MapShapes_s(shape, kind, found)
    return [found.FindKey(i + 1) for i in range(found.Extent())]


def faces_of(shape: Any) -> list[Any]:
    """The faces, in the order that gives them their ids (1, 2, ...)."""
    return [TopoDS.Face(s) for s in sub_shapes(shape, TopAbs_ShapeEnum.TopAbs_FACE)]


def solids_of(shape: Any) -> list[Any]:
    """The solids in the order of the file."""
    return [TopoDS.Solid(s) for s in sub_shapes(shape, TopAbs_ShapeEnum.TopAbs_SOLID)]


def volume_and_area(shape: Any) -> tuple[float, float]:
    """Volume mm³ (negative when inside out) and area mm², exact to the integration of the kernel."""
    volume, area = GProp_GProps(), GProp_GProps()
    BRepGProp.VolumeProperties_s(shape, volume)
    BRepGProp.SurfaceProperties_s(shape, area)
    return float(volume.Mass()), float(area.Mass())


def bounds_of(shape: Any) -> tuple[list[float], list[float]]:
    """Tight bounding box corners, mm."""
    box = Bnd_Box()
    BRepBndLib.AddOptimal_s(shape, box, False, False)
    box.SetGap(0.0)
    if box.IsVoid():
        return [0.0] * 3, [0.0] * 3
    low, high = box.CornerMin(), box.CornerMax()
    return [round(v, 6) + 0.0 for v in _xyz(low)], [round(v, 6) + 0.0 for v in _xyz(high)]


def to_bytes(shape: Any) -> bytes:
    """The shape in the kernel's binary form, without triangles."""
    BRepTools.Clean_s(shape)
    out = io.BytesIO()
    BinTools.Write_s(shape, out)
    return out.getvalue()


def from_bytes(blob: bytes) -> Any:
    """The shape written by `to_bytes`."""
    shape = TopoDS_Shape()
    BinTools.Read_s(shape, io.BytesIO(blob))
    if shape.IsNull():
        raise FileError("The stored solid cannot be read back.", remedy="Read the model file again.")
    return shape


def _xyz(thing: Any) -> list[float]:
    return [float(thing.X()), float(thing.Y()), float(thing.Z())]


def face_facts(face_id: int, face: Any) -> FaceFacts:
    """Kind, area, box and the defining numbers of one face."""
    surface = BRepAdaptor_Surface(face)
    kind = _SURFACES.get(surface.GetType(), "free-form")
    area = GProp_GProps()
    BRepGProp.SurfaceProperties_s(face, area)
    low, high = bounds_of(face)
    reversed_ = face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED
    facts: dict[str, Any] = {}
    simple = simple_facts(face) if kind == "free-form" else None
    if simple is not None:
        kind, facts = simple
    elif kind == "plane":
        plane = surface.Plane()
        direct = plane.Position().Direct()
        sign = (-1.0 if reversed_ else 1.0) * (1.0 if direct else -1.0)
        facts["normal"] = [sign * c + 0.0 for c in _xyz(plane.Axis().Direction())]
        facts["origin"] = _xyz(plane.Location())
    elif kind in ("cylinder", "cone", "torus", "sphere"):
        body = getattr(surface, kind.capitalize())()
        direct = body.Position().Direct()
        facts["origin"] = _xyz(body.Location())
        facts["axis"] = _xyz(body.Position().Direction())
        facts["radius"] = float(
            body.MinorRadius() if kind == "torus" else body.RefRadius() if kind == "cone" else body.Radius()
        )
        facts["hollow"] = reversed_ == direct
    return FaceFacts(face_id, kind, float(area.Mass()), low, high, **facts)


def edge_facts(
    shape: Any, faces: list[Any], deflection: float
) -> tuple[list[EdgeFacts], list[NDArray[np.float64]]]:
    """Facts of every edge and its polyline (n, 3) mm held to `deflection`."""
    numbers = ShapeMap()
    for face in faces:
        numbers.Add(face)
    around = AncestorMap()
    TopExp.MapShapesAndAncestors_s(shape, TopAbs_ShapeEnum.TopAbs_EDGE, TopAbs_ShapeEnum.TopAbs_FACE, around)
    facts: list[EdgeFacts] = []
    lines: list[NDArray[np.float64]] = []
    for index in range(1, around.Extent() + 1):
        edge = TopoDS.Edge(around.FindKey(index))
        if BRep_Tool.Degenerated_s(edge):
            continue
        curve = BRepAdaptor_Curve(edge)
        sampled = GCPnts_QuasiUniformDeflection(curve, deflection)
        if not sampled.IsDone() or sampled.NbPoints() < 2:
            continue
        line = np.array([_xyz(sampled.Value(i + 1)) for i in range(sampled.NbPoints())])
        meeting = sorted({numbers.FindIndex(f) for f in around.FindFromIndex(index)})
        more: dict[str, Any] = {}
        kind = {GeomAbs_CurveType.GeomAbs_Line: "line", GeomAbs_CurveType.GeomAbs_Circle: "circle"}.get(
            curve.GetType(), "curve"
        )
        if kind == "circle":
            circle = curve.Circle()
            more = {
                "centre": _xyz(circle.Location()),
                "axis": _xyz(circle.Axis().Direction()),
                "radius": float(circle.Radius()),
            }
        length = GProp_GProps()
        BRepGProp.LinearProperties_s(edge, length)
        facts.append(
            EdgeFacts(
                len(facts) + 1,
                kind,
                float(length.Mass()),
                meeting,
                line[0].tolist(),
                line[-1].tolist(),
                **more,
            )
        )
        lines.append(line)
    return facts, lines


def tessellate(shape: Any, deflection: float, angle: float = 0.35) -> TriangleMesh:
    """Triangles of all faces within `deflection` mm of the exact surfaces, measured.

    The mesher treats its deflection as a wish on curved faces, so every inner edge of a face's
    mesh is compared with the surface at its middle and split there until it holds. What remains
    (gaps between a face and its own border curves in the file) is returned as the mesh's
    `deviation`. Vertices shared by faces are merged. `angle` rad bounds the turn from facet to facet.
    """
    BRepTools.Clean_s(shape)
    BRepMesh_IncrementalMesh(shape, deflection, False, angle, True)
    points: list[NDArray[np.float64]] = []
    triangles: list[NDArray[np.int64]] = []
    ids: list[NDArray[np.int32]] = []
    offset, worst = 0, 0.0
    for number, face in enumerate(faces_of(shape), 1):
        part = _face_mesh(face)
        if part is None:
            continue
        nodes, params, index = part
        if params is not None:
            nodes, index, off = _refined(face, nodes, params, index, deflection)
            worst = max(worst, off)
        if face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED:
            index = index[:, ::-1]
        points.append(nodes)
        triangles.append(index + offset)
        ids.append(np.full(len(index), number, dtype=np.int32))
        offset += len(nodes)
    BRepTools.Clean_s(shape)
    if not points:
        raise FileError(
            "The solid has no face that can be meshed.", remedy="Check the model where it was made."
        )
    return merged(np.concatenate(points), np.concatenate(triangles), np.concatenate(ids), worst)


def _face_mesh(face: Any) -> tuple[NDArray[np.float64], NDArray[np.float64] | None, NDArray[np.int64]] | None:
    """Nodes, surface parameters (None for planes) and triangles of one meshed face."""
    location = TopLoc_Location()
    mesh = BRep_Tool.Triangulation_s(face, location)
    if mesh is None:
        return None
    count = mesh.NbNodes()
    nodes = np.array([_xyz(mesh.Node(i + 1)) for i in range(count)])
    if not location.IsIdentity():
        matrix = location.Transformation()
        nodes = np.array([_xyz(gp_Pnt(*p).Transformed(matrix)) for p in nodes])
    index = np.array([mesh.Triangle(i + 1).Get() for i in range(mesh.NbTriangles())], dtype=np.int64) - 1
    flat = BRepAdaptor_Surface(face).GetType() == GeomAbs_SurfaceType.GeomAbs_Plane
    if flat or not mesh.HasUVNodes():
        return nodes, None, index
    params = np.array([[p.X(), p.Y()] for p in (mesh.UVNode(i + 1) for i in range(count))])
    return nodes, params, index


def _refined(
    face: Any,
    nodes: NDArray[np.float64],
    params: NDArray[np.float64],
    index: NDArray[np.int64],
    deflection: float,
) -> tuple[NDArray[np.float64], NDArray[np.int64], float]:
    """Splits inner edges whose middle lies further than `deflection` from the surface.

    Conforming: a triangle with one, two or three split edges becomes two, three or four. Border
    edges stay, so that neighbouring faces keep meeting. Returns nodes, triangles and what is left.
    """
    surface = BRepAdaptor_Surface(face)
    point = gp_Pnt()
    worst = 0.0
    for _ in range(8):
        edges, of_side, uses = distinct_edges(index[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), len(nodes))
        inverse = of_side.reshape(-1, 3)
        middle_uv = 0.5 * (params[edges[:, 0]] + params[edges[:, 1]])
        middle = np.empty((len(edges), 3))
        for i, (u, v) in enumerate(middle_uv.tolist()):
            surface.D0(u, v, point)
            middle[i] = point.X(), point.Y(), point.Z()
        off = _edge_offsets(nodes, index, edges, inverse, middle)
        split = (off > deflection) & (uses == 2)
        worst = float(off.max(initial=0.0))
        if not split.any() or len(index) > 400_000:
            break
        new_id = np.full(len(edges), -1, dtype=np.int64)
        new_id[split] = len(nodes) + np.arange(int(split.sum()))
        nodes = np.concatenate([nodes, middle[split]])
        params = np.concatenate([params, middle_uv[split]])
        index = _split_triangles(index, new_id[inverse])
    return nodes, index, worst


def _edge_offsets(
    nodes: NDArray[np.float64],
    index: NDArray[np.int64],
    edges: NDArray[np.int64],
    inverse: NDArray[np.int64],
    middle: NDArray[np.float64],
) -> NDArray[np.float64]:
    """Distance of each edge's surface point from the planes of the triangles at the edge (largest)."""
    a, b, c = nodes[index[:, 0]], nodes[index[:, 1]], nodes[index[:, 2]]
    normal = np.cross(b - a, c - a)
    length = np.linalg.norm(normal, axis=1, keepdims=True)
    normal = np.divide(normal, length, out=np.zeros_like(normal), where=length > 1e-14)
    off = np.zeros(len(edges))
    for side in range(3):
        distance = np.abs(np.einsum("ij,ij->i", normal, middle[inverse[:, side]] - a))
        np.maximum.at(off, inverse[:, side], distance)
    return off


def _split_triangles(index: NDArray[np.int64], mids: NDArray[np.int64]) -> NDArray[np.int64]:
    """Triangles divided at the new nodes `mids` (m, 3) of their sides ab, bc, ca; -1 where not split."""
    count = (mids >= 0).sum(axis=1)
    out = [index[count == 0]]
    for turn in range(3):  # rotate so that the split pattern starts at side ab
        tri, mid = np.roll(index, -turn, axis=1), np.roll(mids, -turn, axis=1)
        a, b, c = tri.T
        ab, bc, ca = mid.T
        one = (count == 1) & (ab >= 0)
        out += [np.stack([a, ab, c], 1)[one], np.stack([ab, b, c], 1)[one]]
        two = (count == 2) & (ab >= 0) & (bc >= 0)
        out += [np.stack([ab, b, bc], 1)[two], np.stack([a, ab, bc], 1)[two], np.stack([a, bc, c], 1)[two]]
        if turn == 0:
            three = count == 3
            out += [np.stack(t, 1)[three] for t in ([a, ab, ca], [ab, b, bc], [ca, bc, c], [ab, bc, ca])]
    return np.concatenate(out)


def merged(
    vertices: NDArray[np.float64], triangles: NDArray[np.int64], ids: NDArray[np.int32], deviation: float
) -> TriangleMesh:
    """Vertices within 1e-7 mm made one, degenerate triangles dropped."""
    keys = np.round(vertices / 1e-7).astype(np.int64)
    first, number = distinct_rows(keys)
    index = number[triangles]
    keep = (index[:, 0] != index[:, 1]) & (index[:, 1] != index[:, 2]) & (index[:, 0] != index[:, 2])
    return TriangleMesh(
        np.ascontiguousarray(vertices[first]),
        np.ascontiguousarray(index[keep].astype(np.int32)),
        ids[keep],
        deviation,
    )
