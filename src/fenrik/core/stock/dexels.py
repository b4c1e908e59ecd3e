"""In-process stock as interval dexels in three directions on one lattice.

Nodes lie at cell centres; every ray of the three directions carries its sorted material intervals,
each end with the piece of motion that cut it. Swept tools are subtracted in closed form where there
is one (cylinders, balls, level moves), by bisection on ramps of corner radii and cones.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.stock import _dexel_kernels as k
from fenrik.core.stock._sweep_kernels import BALL, FRUSTUM, ROUND
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
CUTTING, SHANK, HOLDER = 0, 1, 2
CHUNK = 20_000


@dataclass
class Rays:
    """Rays of one direction: ends (nv, nu, 2K) float32, tags alike int32, counts (nv, nu)."""

    ends: NDArray[np.float32]
    tags: NDArray[np.int32]
    counts: NDArray[np.int32]

    def copy(self) -> Rays:
        """An independent copy."""
        return Rays(self.ends.copy(), self.tags.copy(), self.counts.copy())

    def grow(self) -> None:
        """Twice the room per ray."""
        self.ends = np.concatenate([self.ends, np.zeros_like(self.ends)], axis=2)
        self.tags = np.concatenate([self.tags, np.zeros_like(self.tags)], axis=2)

    def length(self) -> float:
        """Total length of material on all rays, mm."""
        width = self.ends.shape[2]
        inside = np.arange(width // 2)[None, None, :] < self.counts[:, :, None]
        spans = self.ends[:, :, 1::2].astype(np.float64) - self.ends[:, :, 0::2]
        return float(spans[inside].sum())


@dataclass(frozen=True)
class Removal:
    """What a cut did, per piece of motion: removed `volume` (m, 3 roles) mm³ and the `overlap` (m, 3)
    mm of shank, holder and (on rapids) cutter with the stock, seen in every direction that saw any."""

    volume: Floats
    overlap: Floats


def tool_bodies(assembly: Assembly) -> Floats:
    """Convex bodies (b, 6: kind, z0, z1, r0, r1, role) of a tool over its tip, mm."""
    r, c = assembly.radius, assembly.corner_radius
    rows: list[list[float]] = []
    if assembly.kind == "ball" and assembly.flute_length >= 2 * r:
        rows.append([BALL, 0.0, r, 0.0, r, CUTTING])
    elif c > 0:
        rows.append([ROUND, 0.0, c, r - c, c, CUTTING])
    if assembly.flute_length > c:
        rows.append([FRUSTUM, c, assembly.flute_length, r, r, CUTTING])
    if assembly.stick_out > assembly.flute_length:
        half = assembly.shank_diameter / 2
        rows.append([FRUSTUM, assembly.flute_length, assembly.stick_out, half, half, SHANK])
    at = assembly.stick_out
    for part in assembly.holder:
        rows.append([FRUSTUM, at, at + part.length, part.diameter_low / 2, part.diameter_high / 2, HOLDER])
        at += part.length
    return np.array(rows, dtype=np.float64)


class Stock:
    """Material on a lattice: `origin` (3,) lower corner, `cell` mm, `shape` (nx, ny, nz) nodes."""

    def __init__(self, origin: Floats, cell: float, shape: tuple[int, int, int], rays: list[Rays]) -> None:
        self.origin, self.cell, self.shape, self.rays = origin, cell, shape, rays

    @staticmethod
    def lattice(low: Floats, high: Floats, cell: float) -> tuple[int, int, int]:
        """Numbers of nodes that cover a box."""
        nx, ny, nz = (max(1, int(np.ceil((h - a) / cell - 1e-9))) for a, h in zip(low, high, strict=True))
        return nx, ny, nz

    @staticmethod
    def of_box(low: Floats, high: Floats, cell: float) -> Stock:
        """A full box."""
        shape = Stock.lattice(low, high, cell)
        rays = []
        for d, (u, v) in enumerate(((1, 2), (0, 2), (0, 1))):
            nu, nv = shape[u], shape[v]
            ends = np.zeros((nv, nu, 4), dtype=np.float32)
            ends[:, :, 0], ends[:, :, 1] = low[d], high[d]
            inside_u = low[u] + (np.arange(nu) + 0.5) * cell < high[u]
            inside_v = low[v] + (np.arange(nv) + 0.5) * cell < high[v]
            counts = (inside_v[:, None] & inside_u[None, :]).astype(np.int32)
            rays.append(Rays(ends, np.full_like(ends, -1, dtype=np.int32), counts))
        return Stock(np.array(low, dtype=np.float64), cell, shape, rays)

    @staticmethod
    def of_mesh(
        mesh: TriangleMesh, cell: float, low: Floats | None = None, high: Floats | None = None
    ) -> Stock:
        """The material inside a closed mesh, on a lattice over its box or a given one."""
        if low is None or high is None:
            low, high = mesh.bounds
        shape = Stock.lattice(low, high, cell)
        rays = []
        for d, (u, v) in enumerate(((1, 2), (0, 2), (0, 1))):
            capacity, fits = 4, False
            while not fits:
                ends, tags, counts, fits = k.mesh_rays(
                    d, mesh.vertices, mesh.triangles, low, cell, shape[u], shape[v], capacity
                )
                capacity *= 2
            rays.append(Rays(ends, tags, counts))
        return Stock(np.array(low, dtype=np.float64), cell, shape, rays)

    def copy(self) -> Stock:
        """An independent copy."""
        return Stock(self.origin, self.cell, self.shape, [r.copy() for r in self.rays])

    def volume(self) -> float:
        """Volume mm³, the mean of the three directions."""
        return sum(r.length() for r in self.rays) / 3.0 * self.cell**2

    def volumes(self) -> tuple[float, float, float]:
        """Volume mm³ seen by each direction."""
        a, b, c = (r.length() * self.cell**2 for r in self.rays)
        return a, b, c

    def cut(self, pieces: Floats, bodies: Floats, rapid: NDArray[np.bool_], tag0: int = 0) -> Removal:
        """Takes away what `bodies` sweep along straight `pieces` (m, 6); ends get tags tag0 + piece."""
        volumes, overlaps = [], []
        for a in range(0, len(pieces), CHUNK):
            part = np.ascontiguousarray(pieces[a : a + CHUNK])
            volume, overlap = self._cut_chunk(part, bodies, rapid[a : a + CHUNK], tag0 + a)
            volumes.append(volume)
            overlaps.append(overlap)
        if not volumes:
            return Removal(np.zeros((0, 3)), np.zeros((0, 3)))
        return Removal(np.concatenate(volumes), np.concatenate(overlaps))

    def _cut_chunk(
        self, pieces: Floats, bodies: Floats, rapid: NDArray[np.bool_], tag0: int
    ) -> tuple[Floats, Floats]:
        total = np.zeros((3, len(pieces), 3))
        longest = np.zeros((3, len(pieces), 3))
        x, y, z = self.rays
        while True:
            volume, deepest, full = k.cut(
                x.ends, x.tags, x.counts, y.ends, y.tags, y.counts, z.ends, z.tags, z.counts,
                self.origin, self.cell, pieces, bodies, rapid, tag0, numba.get_num_threads(), 16,
            )  # fmt: skip
            total += volume.sum(axis=0)  # what a run without room had removed is not removed again
            longest = np.maximum(longest, deepest.max(axis=0))
            out_of_room = full.any(axis=0)
            if not out_of_room.any():
                break
            for d in np.flatnonzero(out_of_room):
                self.rays[d].grow()
        seen = np.where(longest > 0, longest, np.inf).min(axis=0)
        overlap = np.where(np.isfinite(seen), seen, 0.0)
        return total.mean(axis=0) * self.cell**2, overlap

    def top(self) -> Floats:
        """Highest material over every column (ny, nx), NaN where there is none."""
        rays = self.rays[2]
        last = np.maximum(2 * rays.counts - 1, 0)
        top = np.take_along_axis(rays.ends, last[:, :, None], axis=2)[:, :, 0].astype(np.float64)
        top[rays.counts == 0] = np.nan
        return top
