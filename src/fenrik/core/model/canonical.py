"""Planes, cylinders, cones and spheres that a file holds as free-form surfaces."""

from __future__ import annotations

from typing import Any

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.gp import gp_Cone, gp_Cylinder, gp_Pln, gp_Pnt, gp_Sphere, gp_Vec
from OCP.ShapeAnalysis import ShapeAnalysis_CanonicalRecognition
from OCP.TopAbs import TopAbs_Orientation

WITHIN_MM = 1e-4
"""A face this near to a simple surface is one: finer than files are written and parts are made."""


def simple_facts(face: Any) -> tuple[str, dict[str, Any]] | None:
    """Kind and defining numbers of the simple surface that a free-form face lies on, as `brep.face_facts`
    gives them, or None. Method: OpenCASCADE's canonical recognition."""
    found = ShapeAnalysis_CanonicalRecognition(face)
    plane, cylinder, cone, sphere = gp_Pln(), gp_Cylinder(), gp_Cone(), gp_Sphere()
    point, normal = _middle(face)
    if found.IsPlane(WITHIN_MM, plane):
        axis = _xyz(plane.Axis().Direction())
        sign = 1.0 if axis @ normal > 0 else -1.0
        return "plane", {"normal": (sign * axis + 0.0).tolist(), "origin": _xyz(plane.Location()).tolist()}
    for kind, test, body in (
        ("cylinder", found.IsCylinder, cylinder),
        ("cone", found.IsCone, cone),
        ("sphere", found.IsSphere, sphere),
    ):
        if test(WITHIN_MM, body):
            origin, axis = _xyz(body.Location()), _xyz(body.Position().Direction())
            away = point - origin
            if kind != "sphere":
                away = away - (away @ axis) * axis
            radius = body.RefRadius() if kind == "cone" else body.Radius()
            return kind, {
                "origin": origin.tolist(),
                "axis": axis.tolist(),
                "radius": float(radius),
                "hollow": bool(away @ normal < 0),
            }
    return None


def _middle(face: Any) -> tuple[np.ndarray, np.ndarray]:
    """A point (3,) of the face's surface and the outward normal (3,) there."""
    surface = BRepAdaptor_Surface(face)
    u = 0.5 * (surface.FirstUParameter() + surface.LastUParameter())
    v = 0.5 * (surface.FirstVParameter() + surface.LastVParameter())
    point, du, dv = gp_Pnt(), gp_Vec(), gp_Vec()
    surface.D1(u, v, point, du, dv)
    normal = np.cross(_xyz(du), _xyz(dv))
    if face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED:
        normal = -normal
    return _xyz(point), normal


def _xyz(thing: Any) -> np.ndarray:
    return np.array([thing.X(), thing.Y(), thing.Z()])
