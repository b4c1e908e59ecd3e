"""A setup as the document holds it, and the frame and stock that follow from it."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from fenrik.core.errors import DocumentError
from fenrik.core.frames import AXES, apply, rotation_up, transform
from fenrik.core.model.distance import DistanceField
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.setups.round_stock import RoundStock, check_round, round_mesh
from fenrik.core.strict import Strict

Floats = NDArray[np.float64]
Side = Literal["low", "middle", "high"]
NotNegative = Annotated[float, Field(ge=0, le=5000)]


class Up(Strict):
    """Which way is up: a principal axis of the part, a planar face (its outward normal) or a
    cylinder (its axis); `reverse` turns it over."""

    axis: Literal["+x", "-x", "+y", "-y", "+z", "-z"] | None = None
    face: Annotated[int, Field(ge=1, description="Id of a planar, cylindrical or conical face.")] | None = (
        None
    )
    reverse: bool = False

    @model_validator(mode="after")
    def _one(self) -> Self:
        ways = self.ways()
        if sum(value is not None for value in ways.values()) != 1:
            *others, last = ways
            raise ValueError(f"give one of {', '.join(others)} or {last}")
        return self

    def ways(self) -> dict[str, Any]:
        """What it may be given by, in words, each with its value or None."""
        return {"an axis (such as '+z')": self.axis, "a face": self.face}


class Allowances(Strict):
    """What the box stock has more than the part on each side, mm; never negative."""

    x_low: NotNegative = 2.0
    x_high: NotNegative = 2.0
    y_low: NotNegative = 2.0
    y_high: NotNegative = 2.0
    z_low: NotNegative = 0.0
    z_high: NotNegative = 1.0


class BoxStock(Strict):
    """A box around the part with an allowance per side, in the setup's directions."""

    kind: Literal["box"] = "box"
    allowance: Allowances = Allowances()


class SolidStock(Strict):
    """A solid of its own from a file, in the part's coordinates."""

    kind: Literal["solid"]
    file: Annotated[str, Field(min_length=1)]
    solid: int | None = None
    scale: float = 1.0


class CarriedStock(Strict):
    """What an earlier setup of the job leaves."""

    kind: Literal["carried"]
    setup: Annotated[str, Field(min_length=1, max_length=80, description="Name of the earlier setup.")]


class PartArray(Strict):
    """Several parts in one blank, in columns along X and rows along Y, with gaps between their boxes, mm."""

    columns: Annotated[int, Field(ge=1, le=50)] = 1
    rows: Annotated[int, Field(ge=1, le=50)] = 1
    gap_x: NotNegative = 10.0
    gap_y: NotNegative = 10.0

    @model_validator(mode="after")
    def _few(self) -> PartArray:
        if self.columns * self.rows > 100:
            raise ValueError(f"{self.columns} x {self.rows} parts are too many; give at most 100")
        return self


class Zero(Strict):
    """Program zero: one of the 27 points of the box of the stock or of the (first) part, or a point of the
    part."""

    of: Literal["stock", "part", "point"] = "stock"
    x: Side = "middle"
    y: Side = "middle"
    z: Side = "high"
    point: tuple[float, float, float] | None = None

    @model_validator(mode="after")
    def _point(self) -> Zero:
        if (self.of == "point") != (self.point is not None):
            raise ValueError("'point' (part coordinates) belongs to of: point, and only there")
        return self

    def words(self) -> str:
        """Program zero in a few words."""
        if self.of == "point":
            return "point " + ", ".join(f"{v:g}" for v in self.point or ())
        return f"{self.of} X {self.x} Y {self.y} Z {self.z}"


class Placement(Strict):
    """Where the middle of the stock's underside sits over the middle of the table, mm."""

    x: float = 0.0
    y: float = 0.0
    z: Annotated[float, Field(ge=0, description="Height over the table, e.g. of a vice's ledge.")] = 60.0


@dataclass(frozen=True)
class Clamped:
    """A part set up in stock. Setup frame: program zero, Z up, mm.

    `setup_from_part` (4, 4) of the first part; `copies` (n, 3) where every part of an array lies from the
    first, itself included; `fixture` what holds it, and `keep_clear` what paths keep clear of, the fixture
    with some room beside it, or None, `fixture_key` its hash, `fixture_pieces` the names of its pieces, which
    the ids of its faces count from 1 on; `stock_low`, `stock_high` (3,) corners of the
    stock's box; `stock_mesh` is None for a box; `part_low`, `part_high` (3,) bound all parts;
    `table_from_setup` (3,) is the work offset: program zero in table coordinates.
    """

    setup_from_part: Floats
    stock_low: Floats
    stock_high: Floats
    stock_mesh: TriangleMesh | None
    part_low: Floats
    part_high: Floats
    table_from_setup: Floats
    copies: Floats
    fixture: TriangleMesh | None = None
    keep_clear: TriangleMesh | None = None
    fixture_key: str | None = None
    fixture_pieces: tuple[str, ...] = ()
    setup_from_side: Floats = field(default_factory=lambda: np.eye(4))
    """Where the frame lies in the setup's when it is that of a side (4, 4): then all else here is in the
    side's frame."""

    def parts(self, mesh: TriangleMesh) -> TriangleMesh:
        """The part's mesh (part frame) as it stands in the setup frame, once for every part of an array."""
        return copied(mesh.moved(self.setup_from_part), self.copies)

    @property
    def tops(self) -> list[float]:
        """Heights of the level faces of what paths keep clear of, the highest last."""
        if self.keep_clear is None:
            return []
        corners = self.keep_clear.vertices[self.keep_clear.triangles]
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        level = normal[:, 2] > (1.0 - 1e-9) * np.linalg.norm(normal, axis=1)
        return sorted({round(float(z), 6) for z in corners[level, 0, 2]})

    @property
    def places(self) -> list[Floats]:
        """Matrices (4, 4) from the part frame to the setup frame, for every part of an array."""
        out = []
        for shift in self.copies:
            place = self.setup_from_part.copy()
            place[:3, 3] += shift
            out.append(place)
        return out


def copied(mesh: TriangleMesh, shifts: Floats) -> TriangleMesh:
    """One mesh of a mesh at every shift (n, 3); the face ids stay those of the one."""
    if len(shifts) == 1:
        return mesh
    count = len(mesh.vertices)
    return TriangleMesh(
        np.concatenate([mesh.vertices + shift for shift in shifts]),
        np.concatenate([mesh.triangles + np.int32(i * count) for i in range(len(shifts))]),
        np.tile(mesh.face_ids, len(shifts)),
        mesh.deviation,
    )


def up_direction(up: Up, part: PartModel, where: str = "up") -> Floats:
    """The part direction (3,) that becomes +Z. Raises DocumentError when the face has none."""
    if up.axis is not None:
        direction = np.array(AXES[up.axis])
    else:
        assert up.face is not None
        if not 1 <= up.face <= len(part.faces):
            raise DocumentError(
                f"Face {up.face} does not exist in '{part.name}'.",
                remedy=f"Use a face from 1 to {len(part.faces)}.",
                where=f"{where}.face",
            )
        facts = part.face(up.face)
        vector = facts.normal if facts.kind == "plane" else facts.axis
        if vector is None or facts.kind in ("sphere", "torus"):
            raise DocumentError(
                f"Face {up.face} is {facts.kind} and has no direction of its own.",
                remedy="Pick a planar face, a cylinder or a cone.",
                where=f"{where}.face",
            )
        direction = np.array(vector)
    return -direction if up.reverse else direction


def clamp(
    part: PartModel,
    up: Up,
    turn_deg: float,
    stock: BoxStock | RoundStock | SolidStock | CarriedStock,
    delivered: PartModel | TriangleMesh | None,
    zero: Zero,
    placement: Placement,
    where: str = "setup",
    array: PartArray | None = None,
) -> Clamped:
    """Frame and stock of a setup. `delivered` is the read solid of a solid stock, or the mesh (part frame) of
    a carried one.

    Raises DocumentError when the part sticks out of the solid, saying on which side and how far.
    """
    turned = transform(
        rotation_up(up_direction(up, part, f"{where}.up"), math.radians(turn_deg)), (0.0, 0.0, 0.0)
    )
    points = apply(turned, part.mesh.vertices)
    one_low, one_high = tight_box(part, turned, points)
    copies = _places(array, one_high - one_low)
    part_low, part_high = one_low, one_high + copies[-1]
    stock_mesh = None
    if isinstance(stock, BoxStock):
        a = stock.allowance
        low = part_low - np.array([a.x_low, a.y_low, a.z_low])
        high = part_high + np.array([a.x_high, a.y_high, a.z_high])
    elif isinstance(stock, RoundStock):
        given = np.array([stock.centre if stock.centre is not None else (0.0, 0.0, 0.0)])
        middle = 0.5 * (one_low + one_high) if stock.centre is None else apply(turned, given)[0]
        check_round(stock, part, part.mesh.moved(turned), middle[:2], copies, f"{where}.stock")
        stock_mesh = round_mesh(stock, middle[:2], part_low[2] - stock.z_low, part_high[2] + stock.z_high)
        half = np.array([0.5 * stock.diameter, 0.5 * stock.diameter])
        low = np.array([*(middle[:2] - half), part_low[2] - stock.z_low])
        high = np.array([*(middle[:2] + half), part_high[2] + stock.z_high])
    else:
        assert delivered is not None
        stock_mesh = (delivered if isinstance(delivered, TriangleMesh) else delivered.mesh).moved(turned)
        if isinstance(delivered, PartModel):
            low, high = tight_box(delivered, turned, stock_mesh.vertices)
            _check_inside(part_low, part_high, low, high, f"{where}.stock")
            for shift in copies:
                _check_contained(points + shift, stock_mesh, delivered.mesh.deviation, f"{where}.stock")
        else:
            low, high = stock_mesh.bounds
    if zero.of == "point":
        origin = apply(turned, np.array([zero.point]))[0]
    else:
        box = (low, high) if zero.of == "stock" else (one_low, one_high)
        origin = box_point(box, zero)
    matrix = transform(turned[:3, :3], -origin)
    if stock_mesh is not None:
        stock_mesh = TriangleMesh(stock_mesh.vertices - origin, stock_mesh.triangles, stock_mesh.face_ids)
    middle = 0.5 * (low + high) - origin
    table = np.array([placement.x - middle[0], placement.y - middle[1], placement.z - (low[2] - origin[2])])
    return Clamped(
        matrix, low - origin, high - origin, stock_mesh, part_low - origin, part_high - origin, table, copies
    )


def _places(array: PartArray | None, size: Floats) -> Floats:
    """Shifts (n, 3) of the parts of an array, row by row, the farthest last."""
    if array is None:
        return np.zeros((1, 3))
    pitch = (float(size[0]) + array.gap_x, float(size[1]) + array.gap_y)
    return np.array(
        [[i * pitch[0], j * pitch[1], 0.0] for j in range(array.rows) for i in range(array.columns)]
    )


def tight_box(part: PartModel, turned: Floats, points: Floats) -> tuple[Floats, Floats]:
    """The part's box in a turned frame (4, 4): exact where it is turned by right angles (from the exact boxes
    of its faces), else that of the mesh, for a B-rep widened by the mesh's deviation."""
    rotation = turned[:3, :3]
    if np.abs(np.abs(rotation).max(axis=0) - 1.0).max() < 1e-12:
        corners = apply(turned, np.array(part.box))
        return corners.min(axis=0), corners.max(axis=0)
    if part.brep is None:
        return points.min(axis=0), points.max(axis=0)
    slack = part.mesh.deviation
    return points.min(axis=0) - slack, points.max(axis=0) + slack


def box_point(box: tuple[Floats, Floats], zero: Zero) -> Floats:
    """One of the 27 points (3,) of a box given by its corners (3,)."""
    share = {"low": 0.0, "middle": 0.5, "high": 1.0}
    shares = np.array([share[zero.x], share[zero.y], share[zero.z]])
    return (1.0 - shares) * box[0] + shares * box[1]


def _check_inside(part_low: Floats, part_high: Floats, low: Floats, high: Floats, where: str) -> None:
    for j, name in enumerate("XYZ"):
        for over, side in ((low[j] - part_low[j], f"-{name}"), (part_high[j] - high[j], f"+{name}")):
            if over > 1e-4:
                raise DocumentError(
                    f"The part sticks out of the stock by {over:.3f} mm on the {side} side.",
                    remedy="Use a larger stock, or move the stock's solid.",
                    where=where,
                )


def _check_contained(points: Floats, mesh: TriangleMesh, deviation: float, where: str) -> None:
    step = max(1, len(points) // 20000)
    sample = points[::step]
    distance = -DistanceField(mesh).signed(sample)[0]  # positive inside
    slack = deviation + 1e-3
    worst = int(np.argmin(distance))
    if distance[worst] < -slack:
        x, y, z = sample[worst]
        raise DocumentError(
            f"The part sticks out of the stock's solid by {-distance[worst]:.3f} mm near ({x:.2f}, "
            f"{y:.2f}, {z:.2f}).",
            remedy="Use a stock that holds the whole part.",
            where=where,
        )
