"""What the kernels of the interval dexels hand to one another."""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Singles = NDArray[np.float32]
Ints = NDArray[np.int32]
Longs = NDArray[np.int64]
Floats = NDArray[np.float64]


class TileRays(NamedTuple):
    """The rays of one direction, tile by tile (see `_ray_kernels`): per tile `places` and `widths`, per ray
    `counts`, the outermost ends `first` and `last` and one void, per row of a tile the outermost ends of its
    rays; `ends` with `tags` are the intervals themselves, mm."""

    places: Longs
    widths: Longs
    counts: Ints
    ends: Singles
    tags: Ints
    first: Singles
    last: Singles
    void_low: Singles
    void_high: Singles
    row_first: Singles
    row_last: Singles


class Lattice(NamedTuple):
    """Where rays along an axis `direction` lie: `nu_tiles` tiles in a row, `cell` mm apart, from `origin`
    (3,)."""

    direction: int
    nu_tiles: int
    origin: Floats
    cell: float


class Gap(NamedTuple):
    """What is taken out of a ray, low..high mm, and the tag of who takes it."""

    low: float
    high: float
    tag: int


class Scratch(NamedTuple):
    """Room to work on one tile: the intervals `lo`, `hi` (TILE,) that its rays lose, `mask` and `marked` rays
    of a row, `at` (SIDE,) mm where the rays of a row stand, `across` (4,) and `out` (9,) as in `carve`."""

    lo: Singles
    hi: Singles
    mask: NDArray[np.uint8]
    marked: NDArray[np.uint64]
    at: Singles
    across: Floats
    out: Floats


class Row(NamedTuple):
    """The rays g0..g1 of a row whose intervals begin at `o` of `lo` and `hi`; they stand at u0 + at[i] mm."""

    lo: Singles
    hi: Singles
    o: np.uint64
    g0: np.uint64
    g1: np.uint64
    u0: float
    at: Singles


class Sweep(NamedTuple):
    """What moves: `pieces` (m, 6 or 12) mm, the tool's `bodies` (b, columns), the tag of the first piece."""

    pieces: Floats
    bodies: Floats
    tag0: int


class Binned(NamedTuple):
    """Which entries (piece * bodies + body) may change which tile: `offsets` (tiles + 1,) into `entries`
    (n,), where each tile goes on (`start`), and what each entry `found` (n, 6)."""

    offsets: Longs
    entries: Ints
    start: Longs
    found: Singles


class Taken(NamedTuple):
    """What pieces took, in one direction: removed length `volume` and the longest removal (m, roles), the
    number of rays that lost something to the cutter (m,) and their offsets and height (m, 3)."""

    volume: Floats
    deepest: Floats
    rays: Floats
    sides: Floats


class Poses(NamedTuple):
    """Room for a part of a move whose axis leans: its `poses` (POSES + 1, 6: tip and axis; the last row is
    for one in between), `spare` (4, 12) and `box` (2, 3) for results on the way, and `sight` (8,) along the
    move (see `_tilt_kernels`)."""

    poses: Floats
    spare: Floats
    box: Floats
    sight: Floats


class Line(NamedTuple):
    """A ray along `axis` at (pu, pv) mm in the two other coordinates u and v."""

    axis: int
    pu: float
    pv: float
    u: int
    v: int


class Seen(NamedTuple):
    """A ray seen from a pose: the axis' share `na` along it, and at its zero the height `s0` over the tip,
    the way `wa` from the tip along it and the square `w2` of the distance from the tip."""

    na: float
    s0: float
    wa: float
    w2: float
