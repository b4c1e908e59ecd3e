"""In-process stock as interval dexels in three directions on one lattice.

Nodes lie at cell centres; every ray of the three directions carries its sorted material intervals,
each end with the piece of motion that cut it. Swept tools are subtracted in closed form where there
is one (cylinders, balls, level moves), by bisection on ramps of corner radii and cones. Pieces of motion
are binned to tiles of rays; within a tile they come in order, tiles are shared out to the threads.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from typing import TypeVar

import numba
import numpy as np
from numpy.typing import NDArray

from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.stock.kernels import _mesh_ray_kernels as m
from fenrik.core.stock.kernels import _tile_kernels as k
from fenrik.core.stock.kernels import _tilt_kernels as tilt
from fenrik.core.stock.kernels._sweep_kernels import BALL, FRUSTUM, ROUND
from fenrik.core.stock.kernels._tuples import Binned, Lattice, Sweep, Taken
from fenrik.core.stock.rays import Rays
from fenrik.core.tooling.assembly import THREADING, TOOTH_TIP, Assembly

Floats = NDArray[np.float64]
Result = TypeVar("Result")
CUTTING, SHANK, HOLDER, NOSE = 0, 1, 2, 3
ROLES = 4
NoseSegments = Sequence[tuple[float, float, float]]
"""What of a spindle stands over its gauge line: length, lower and upper radius of cones one on the other,
mm."""
CHUNK = 50_000
COST = (1.0, 0.8, 2.0)
"""What an entry of each direction costs, about; for sharing out the work."""
SMALL = 500.0
"""Less work than this is not worth sharing."""


@cache
def _workers(count: int) -> ThreadPoolExecutor:
    return ThreadPoolExecutor(count, "stock")


def _each(work: Callable[[int], Result], count: int, workers: int) -> list[Result]:
    """The results of work(0), work(1) ..., on so many threads."""
    if workers == 1:
        return [work(i) for i in range(count)]
    return list(_workers(workers).map(work, range(count)))


@dataclass(frozen=True)
class Removal:
    """What a cut did, per piece of motion: removed `volume` (m, roles) mm³, the `overlap` (m, roles) mm of
    shank, holder, spindle nose and (on rapids) cutter with the stock, seen in every direction that saw any,
    and the greatest `depth` (m,) mm of material that the cutter took from a vertical line. `area` (m,) mm² is
    the ground, in plan view, from which it took any, from piece to piece a spot under a rounded corner counts
    again; `sides` (m, 3) mm how far that lies to the left of the move's line at least and at most (1e30 and
    -1e30 where there is none) and how high over the tip the material reached."""

    volume: Floats
    overlap: Floats
    depth: Floats
    area: Floats
    sides: Floats


def tool_bodies(assembly: Assembly, nose: NoseSegments = ()) -> Floats:
    """Convex bodies (b, 6: kind, z0, z1, r0, r1, role) of a tool over its tip, and of the spindle's `nose`
    over it, mm. A ball with r0 > 0 stands free: what is over its upper half stays."""
    r, c = assembly.radius, assembly.corner_radius
    rows: list[list[float]] = []
    profile = assembly.profile
    if assembly.kind in THREADING:
        rows += _thread_bodies(assembly)
    elif assembly.kind == "lollipop":
        rows.append([BALL, 0.0, r, r, r, CUTTING])
    elif profile.flat < 1e-9 and c > 0 and assembly.flute_length >= 2 * c:
        rows.append([BALL, 0.0, c, 0.0, c, CUTTING])  # under a cone it lies inside the tool
    elif c > 0:
        rows.append([ROUND, 0.0, c, profile.flat, c, CUTTING])
    side = c if assembly.kind not in THREADING else assembly.flute_length
    if profile.tapered:
        start = profile.cone_start
        side = profile.height(r)
        rows.append([FRUSTUM, profile.height(start), side, start, r, CUTTING])
    if assembly.flute_length > side + 1e-9 and assembly.kind != "lollipop":
        rows.append([FRUSTUM, side, assembly.flute_length, r, r, CUTTING])
    if assembly.stick_out > assembly.flute_length:
        half = assembly.shank_diameter / 2
        rows.append([FRUSTUM, assembly.flute_length, assembly.stick_out, half, half, SHANK])
    at = assembly.stick_out
    for part in assembly.holder:
        rows.append([FRUSTUM, at, at + part.length, part.diameter_low / 2, part.diameter_high / 2, HOLDER])
        at += part.length
    for length, low, high in nose:
        rows.append([FRUSTUM, at, at + length, low, high, NOSE])
        at += length
    return np.array(rows, dtype=np.float64)


def _thread_bodies(assembly: Assembly) -> list[list[float]]:
    """The cutting bodies of a tap or thread mill. A tap turns with its feed and clears its thread's groove
    only, which no body that spins in place can stand for: it takes its core."""
    core, r, pitch = assembly.core_radius, assembly.radius, float(assembly.thread_pitch or 0.0)
    rows: list[list[float]] = [[FRUSTUM, 0.0, assembly.flute_length, core, core, CUTTING]]
    if assembly.kind == "thread_mill":
        half = TOOTH_TIP / 2 * pitch
        foot = half + (r - core) * math.tan(math.radians(30.0))
        for i in range(assembly.thread_rows):
            tip = (i + 0.5) * pitch
            rows.append([FRUSTUM, tip - foot, tip - half, core, r, CUTTING])
            rows.append([FRUSTUM, tip - half, tip + half, r, r, CUTTING])
            rows.append([FRUSTUM, tip + half, tip + foot, r, core, CUTTING])
    return rows


class Stock:
    """Material on a lattice: `origin` (3,) lower corner, `cell` mm, `shape` (nx, ny, nz) nodes."""

    def __init__(
        self, origin: Floats, cell: float, shape: tuple[int, int, int], rays: list[Rays], is_box: bool = True
    ) -> None:
        self.origin, self.cell, self.shape, self.rays = origin, cell, shape, rays
        self.is_box = is_box  # delivered with faces square to the axes
        self.touched = [np.zeros(len(r.arrays.places), dtype=np.bool_) for r in rays]
        """Per direction, the tiles that a cut may have changed since this was last cleared."""

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
            ends = np.zeros((nv, nu, 2), dtype=np.float32)
            ends[:, :, 0], ends[:, :, 1] = low[d], high[d]
            inside_u = low[u] + (np.arange(nu) + 0.5) * cell < high[u]
            inside_v = low[v] + (np.arange(nv) + 0.5) * cell < high[v]
            counts = (inside_v[:, None] & inside_u[None, :]).astype(np.int32)
            rays.append(Rays.of_dense(ends, counts))
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
                ends, counts, fits = m.mesh_rays(
                    d, mesh.vertices, mesh.triangles, low, cell, shape[u], shape[v], capacity
                )
                capacity *= 2
            rays.append(Rays.of_dense(ends, counts))
        return Stock(np.array(low, dtype=np.float64), cell, shape, rays, is_box=False)

    @property
    def box(self) -> tuple[Floats, Floats]:
        """Low and high corner (3,) of the lattice, mm: no stock lies outside."""
        return self.origin, self.origin + self.cell * np.array(self.shape, dtype=np.float64)

    def copy(self) -> Stock:
        """An independent copy."""
        return Stock(self.origin, self.cell, self.shape, [r.copy() for r in self.rays], self.is_box)

    def volume(self) -> float:
        """Volume mm³, the mean of the three directions."""
        return sum(r.length() for r in self.rays) / 3.0 * self.cell**2

    def volumes(self) -> tuple[float, float, float]:
        """Volume mm³ seen by each direction."""
        a, b, c = (r.length() * self.cell**2 for r in self.rays)
        return a, b, c

    def cut(
        self, pieces: Floats, bodies: Floats, rapid: NDArray[np.bool_], tag0: int = 0, measured: bool = True
    ) -> Removal:
        """Takes away what `bodies` sweep along straight `pieces` (m, 6), the axis upright, or along `pieces`
        (m, 12: tip and axis at the start, tip and axis at the end) with an axis that is tilted or turns; ends
        get tags tag0 + piece. Without `measured` the result is empty (for comparing what the measuring
        costs)."""
        total = np.zeros((len(pieces), ROLES))
        overlap = np.zeros((len(pieces), ROLES))
        depth, area = np.zeros(len(pieces)), np.zeros(len(pieces))
        sides = np.tile([1e30, -1e30, 0.0], (len(pieces), 1))
        for a in range(0, len(pieces), CHUNK):
            span = slice(a, a + CHUNK)
            part = _plain(pieces[span])
            upright = part.shape[1] == 6
            volume, deepest = self._cut_chunk(
                part,
                stacked(bodies) if upright else _plain(bodies),
                tag0 + a,
                area[span],
                sides[span],
                measured,
            )
            total[span] = volume.mean(axis=0) * self.cell**2
            seen = np.where(deepest > 0, deepest, np.inf).min(axis=0)
            overlap[span] = np.where(np.isfinite(seen), seen, 0.0)
            depth[span] = deepest[2, :, CUTTING]
            if (
                not upright
            ):  # ground square to the axis: of the material's full height, as for a rounded corner
                ground = total[span, CUTTING] / np.maximum(sides[span, 2], 0.5 * self.cell)
                area[span] = ground / self.cell**2
        overlap[~rapid, CUTTING] = 0.0
        return Removal(total, overlap, depth, area * self.cell**2, sides)

    def _cut_chunk(
        self, pieces: Floats, bodies: Floats, tag0: int, rays_met: Floats, sides: Floats, measured: bool
    ) -> tuple[Floats, Floats]:
        """Removed length and longest removal (3 directions, m, roles); adds to `rays_met` and `sides`."""
        volume = np.zeros((3, len(pieces), ROLES))
        longest = np.zeros((3, len(pieces), ROLES))
        roles = bodies[:, 5].astype(np.int64)
        boxing, cutting = (
            (k.piece_boxes, k.cut_tile) if pieces.shape[1] == 6 else (tilt.move_boxes, tilt.cut_tile)
        )
        boxes = boxing(pieces, bodies)
        lattices = [Lattice(d, rays.tiles[0], self.origin, self.cell) for d, rays in enumerate(self.rays)]
        sweep = Sweep(pieces, bodies, tag0)
        workers = numba.get_num_threads()

        def bin_for(d: int) -> Binned:
            offsets, entries = k.bin_boxes(lattices[d], self.rays[d].spans(), boxes)
            found = np.zeros((len(entries), 6), dtype=np.float32)
            return Binned(offsets, entries, offsets[:-1].copy(), found)

        binned = _each(bin_for, 3, workers if len(pieces) > SMALL else 1)
        for touched, (offsets, *_) in zip(self.touched, binned, strict=True):
            touched |= offsets[1:] > offsets[:-1]
        while len(tasks := _open_tasks(binned)):
            costs = np.array([COST[d] * (binned[d].offsets[t + 1] - binned[d].start[t]) for d, t in tasks])
            queue = deque(tasks[np.argsort(-costs, kind="stable")].tolist())  # the dearest first

            def work(_: int, queue: deque[list[int]] = queue) -> None:
                while queue:
                    try:
                        d, t = queue.popleft()
                    except IndexError:
                        return
                    cutting(lattices[d], t, self.rays[d].arrays, sweep, binned[d], measured)

            _each(work, workers, workers if costs.sum() > SMALL else 1)
            for rays, (offsets, _, start, _) in zip(self.rays, binned, strict=True):
                full = np.flatnonzero(start < offsets[1:])
                if len(full):
                    rays.grow(full)

        if not measured:
            return volume, longest

        met, across = np.zeros((3, len(pieces))), np.tile([1e30, -1e30, 0.0], (3, len(pieces), 1))

        def gather_for(d: int) -> None:
            k.gather(binned[d], roles, Taken(volume[d], longest[d], met[d], across[d]))

        _each(gather_for, 3, workers if len(pieces) > SMALL else 1)
        rays_met += met[2]
        seen = across[2:] if pieces.shape[1] == 6 else across  # upright, rays along Z tell all
        sides[:, 0] = np.minimum(sides[:, 0], seen[:, :, 0].min(axis=0))
        sides[:, 1] = np.maximum(sides[:, 1], seen[:, :, 1].max(axis=0))
        sides[:, 2] = np.maximum(sides[:, 2], seen[:, :, 2].max(axis=0))
        return volume, longest

    def top(self) -> Floats:
        """Highest material over every column (ny, nx), NaN where there is none."""
        return self.rays[2].outermost().astype(np.float64)


def _open_tasks(binned: list[Binned]) -> NDArray[np.int64]:
    """Tiles with something left to do (n, 2: direction, tile)."""
    open_tiles = [np.flatnonzero(start < offsets[1:]) for offsets, _, start, _ in binned]
    return np.concatenate([np.column_stack([np.full(len(t), d), t]) for d, t in enumerate(open_tiles)])


def _plain(values: Floats) -> Floats:
    """The array as the compiled kernels know it: in order and writable, else they are compiled anew for its
    kind."""
    out = np.ascontiguousarray(values, dtype=np.float64)
    return out if out.flags.writeable else out.copy()


def stacked(bodies: Floats) -> Floats:
    """Bodies with the columns TOP and SKIP of the kernels: a cylinder that stands on the lower half of a tip
    of its own width and role is cut along Z together with it."""
    out = np.hstack([bodies, np.zeros((len(bodies), 2))])
    for b, (kind, _, z1, r0, r1, role) in enumerate(bodies):
        top = 2 * r1 if kind == BALL else z1
        out[b, 2], out[b, 6] = top, top
        if b + 1 < len(bodies) and kind != FRUSTUM:
            wide = r1 if kind == BALL else r0 + r1
            after = bodies[b + 1]
            same = after[0] == FRUSTUM and after[3] == after[4] == wide and after[5] == role
            if same and after[1] == z1 and after[2] >= top:
                out[b, 6], out[b + 1, 7] = after[2], 1.0
    return out
