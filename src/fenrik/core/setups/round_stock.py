"""Round stock: a cylinder or a tube about an axis of the part."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from fenrik.core.errors import DocumentError
from fenrik.core.model.distance import DistanceField
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.strict import Strict

Floats = NDArray[np.float64]
FACETS = 720
"""Of the mesh that stands for it, which lies outside of the cylinder by 1e-5 of its radius at most."""
OUTSIDE_MM = 1e-3
"""How far a part may stand out of it: the round-off of meshes and files."""


class RoundStock(Strict):
    """A cylinder of a diameter, with a bore: a tube, upright in the setup, mm. It is longer than the part by
    `z_low` below and `z_high` above. Its axis goes through `centre` (part coordinates), open: the middle of
    the part's box."""

    kind: Literal["round"]
    diameter: Annotated[float, Field(gt=0, le=5000)]
    bore: Annotated[float, Field(ge=0, le=5000)] = 0.0
    z_low: Annotated[float, Field(ge=0, le=5000)] = 0.0
    z_high: Annotated[float, Field(ge=0, le=5000)] = 1.0
    centre: tuple[float, float, float] | None = None

    @model_validator(mode="after")
    def _walled(self) -> RoundStock:
        if self.bore >= self.diameter:
            raise ValueError(
                f"the bore of {self.bore:g} mm is as wide as the stock of {self.diameter:g} mm; give less, "
                "or 0"
            )
        return self


def round_mesh(stock: RoundStock, middle: Floats, low: float, high: float) -> TriangleMesh:
    """The stock as a mesh about an upright axis through `middle` (2,), from `low` to `high`."""
    turn = 2.0 * np.pi * (np.arange(FACETS) + 0.5) / FACETS
    outside = 0.5 * stock.diameter / np.cos(np.pi / FACETS)
    flat = np.column_stack([np.cos(turn), np.sin(turn)])
    i, j = np.arange(FACETS), np.roll(np.arange(FACETS), -1)
    n = FACETS

    def ring(radius: float, z: float) -> Floats:
        return np.column_stack([middle + radius * flat, np.full(n, z)])

    def band(a: int, b: int) -> NDArray[np.int64]:
        """From ring a to ring b, to be seen where b stands to the left of a counter-clockwise."""
        return np.vstack([np.column_stack([a + i, a + j, b + j]), np.column_stack([a + i, b + j, b + i])])

    wall = band(0, n)
    if stock.bore > 0.0:  # its corners lie on the bore, so that it is no wider than it is
        inner = [ring(0.5 * stock.bore, low), ring(0.5 * stock.bore, high)]
        vertices = np.vstack([ring(outside, low), ring(outside, high), *inner])
        triangles = np.vstack([wall, band(n, 3 * n), band(3 * n, 2 * n), band(2 * n, 0)])
    else:
        ends = np.array([[*middle, low], [*middle, high]])
        vertices = np.vstack([ring(outside, low), ring(outside, high), ends])
        bottom = np.column_stack([j, i, np.full(n, 2 * n)])
        top = np.column_stack([n + i, n + j, np.full(n, 2 * n + 1)])
        triangles = np.vstack([wall, bottom, top])
    ids = np.ones(len(triangles), dtype=np.int32)
    return TriangleMesh(vertices, triangles.astype(np.int32), ids)


def check_round(
    stock: RoundStock, part: PartModel, mesh: TriangleMesh, middle: Floats, shifts: Floats, where: str
) -> None:
    """That the stock holds the part, whose `mesh` stands as in the setup. Raises DocumentError with what
    lacks."""
    if len(shifts) > 1:
        raise DocumentError(
            "Round stock holds one part, and the setup has several in one blank.",
            remedy="Take a box, or make one part.",
            where=where,
        )
    far = np.linalg.norm(mesh.vertices[:, :2] - middle, axis=1)
    wide = 2.0 * float(far.max())
    if wide > stock.diameter + 2.0 * (OUTSIDE_MM + part.mesh.deviation):
        raise DocumentError(
            f"The part is {wide:.3f} mm wide about the axis of its stock, which has a diameter of "
            f"{stock.diameter:g} mm.",
            remedy=f"Take stock of {np.ceil(wide):g} mm or more, or move its axis.",
            where=f"{where}.diameter",
        )
    if stock.bore <= 0.0:
        return
    # places in the bore, from its middle to its wall: none may lie in the part
    low, high = mesh.bounds
    share = np.linspace(0.0, 1.0, 7)
    turn = 2.0 * np.pi * np.arange(48) / 48
    heights = low[2] + (high[2] - low[2]) * np.linspace(0.002, 0.998, 25)
    radius = share * (0.5 * stock.bore - OUTSIDE_MM - part.mesh.deviation)
    r, t, z = (a.ravel() for a in np.meshgrid(radius, turn, heights, indexing="ij"))
    places = np.column_stack([middle[0] + r * np.cos(t), middle[1] + r * np.sin(t), z])
    depth = -DistanceField(mesh).signed(places)[0]
    deepest = int(np.argmax(depth))
    if depth[deepest] > OUTSIDE_MM + part.mesh.deviation:
        raise DocumentError(
            f"The part has material in the stock's bore of {stock.bore:g} mm, {depth[deepest]:.3f} mm deep "
            f"at {2.0 * r[deepest]:.1f} mm of diameter.",
            remedy="Give a smaller bore, or 0.",
            where=f"{where}.bore",
        )
