"""Broken edges of a part: narrow chamfers and fillets between two of its faces."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fenrik.core.features.feature import Feature
from fenrik.core.features.part_mesh import SAME_MM, PartMesh, axis_of
from fenrik.core.model.part_model import FaceFacts

Floats = NDArray[np.float64]
BROKEN_MM = 3.0
"""Wider chamfers and fillets than this are faces of their own, not broken edges (common practice, no
source)."""


def edge_breaks(mesh: PartMesh, facts: dict[int, FaceFacts], drilled: set[int]) -> list[Feature]:
    """Narrow leaning faces between two others (chamfers) and narrow convex roundings (fillets)."""
    out = []
    for face in facts.values():
        if face.id in drilled:
            continue
        points = mesh.spans.get(face.id)
        if points is None:
            continue
        for other in sorted(mesh.neighbours(face.id)):
            top = facts[other]
            if top.kind != "plane" or top.normal is None:
                continue
            normal = np.array(top.normal)
            drop = float(normal @ np.array(top.origin)) - points @ normal
            if drop.min() < -SAME_MM or drop.max() > BROKEN_MM + SAME_MM or drop.max() < 0.05:
                continue
            lean = _leaning(points, normal)
            if face.kind in ("plane", "cone") and 0.3 < lean < 0.95:
                wide = float(drop.max()) / max(math.tan(math.acos(min(1.0, lean))), 1e-6)
                if wide <= BROKEN_MM:
                    out.append(
                        Feature("chamfer", axis_of(top), 0, [face.id], [], float(drop.max()), 0.0, wide, 0.0)
                    )
                    break
            small = face.kind in ("cylinder", "torus") and not face.hollow and face.radius
            if small and face.kind == "cylinder" and face.radius and face.radius <= BROKEN_MM:
                along = abs(float(np.dot(face.axis or [0, 0, 0], normal)))
                if along < 1e-6 and abs(drop.max() - face.radius) < 0.02 * face.radius + SAME_MM:
                    out.append(
                        Feature(
                            "fillet", axis_of(top), 0, [face.id], [], float(drop.max()), 0.0, 0.0, face.radius
                        )
                    )
                    break
    return out


def _leaning(points: Floats, normal: Floats) -> float:
    """The mean share of a face's normal along a direction, by area."""
    corners = points.reshape(-1, 3, 3)
    square = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return float((square @ normal).sum() / max(np.linalg.norm(square, axis=1).sum(), 1e-12))
