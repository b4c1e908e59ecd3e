"""Removal by a tool whose axis is tilted or turns along the move.

A move (12 values) goes from tip and axis to tip and axis: the tip straight, the axis (a unit vector towards
the spindle) over the great circle, both evenly. A ray's interval is the union of those of poses along the
move, each exact; the lowest and the highest are looked for between the poses, so what is taken is always
something that some pose takes: nothing is overcut, and what is left is second order in the distance of the
poses. A ball's middle moves straight but for R theta² / 8, which is added by cutting the move in two where it
matters: it is cut as one capsule. Cylinders and rounded discs under one that lean without turning are swept
in closed form.
"""

import math

import numpy as np

from fenrik.core.stock.kernels import _row_kernels as rows
from fenrik.core.stock.kernels._jit import njit
from fenrik.core.stock.kernels._pose_kernels import (
    BOTH,
    HIGH_END,
    LOW_END,
    POSES,
    clear_of,
    frustum,
    has_rim,
    hull_of,
    inside,
    nearer_by,
    pose,
    seen_from,
    swept,
)
from fenrik.core.stock.kernels._ray_kernels import FAR, SIDE, TILE
from fenrik.core.stock.kernels._steady_kernels import is_steady, steady_cylinder, steady_frame, steady_rounded
from fenrik.core.stock.kernels._sweep_kernels import BALL, FRUSTUM, KIND, R0, R1, Z0, Z1
from fenrik.core.stock.kernels._tile_kernels import TRACE, carve, keep, scratch_of
from fenrik.core.stock.kernels._tuples import Line, Poses, Row

MOST_MM, MOST_RAD = 0.8, 0.02
"""A part of a move is no longer and turns no more than this."""


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def bounds(body, move, low, high):
    """The box (3,) low and high that a body sweeps."""
    wide = (
        body[R1]
        if body[KIND] == BALL
        else (body[R0] + body[R1] if body[KIND] != FRUSTUM else max(body[R0], body[R1]))
    )
    z0, z1 = body[Z0], (2.0 * body[R1] if body[KIND] == BALL else body[Z1])
    bulge = (
        0.125
        * math.acos(min(1.0, max(-1.0, move[3] * move[9] + move[4] * move[10] + move[5] * move[11]))) ** 2
        * z1
    )
    for k in range(3):
        low[k], high[k] = 1e30, -1e30
        for end in range(2):
            tip, n = move[6 * end + k], move[6 * end + 3 + k]
            side = wide * (1.0 if body[KIND] == BALL else math.sqrt(max(0.0, 1.0 - n * n)))
            if body[KIND] == BALL:
                a = tip + n * body[R1]
                low[k], high[k] = min(low[k], a - side), max(high[k], a + side)
            else:
                for z in (z0, z1):
                    a = tip + n * z
                    low[k], high[k] = min(low[k], a - side), max(high[k], a + side)
        low[k] -= bulge
        high[k] += bulge


@njit(cache=True, nogil=True, error_model="numpy")
def move_boxes(moves, bodies):
    """As `piece_boxes` for moves (m, 12)."""
    out = np.empty((len(moves) * len(bodies), 7))
    for p in range(len(moves)):
        for b in range(len(bodies)):
            box = out[p * len(bodies) + b]
            bounds(bodies[b], moves[p], box[:3], box[3:6])
            box[6] = box[5]
    return out


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _sight(move, out):
    """out (8,): direction to the left of a move, its tip at the start along it, the axis halfway, and the
    lower tip along that: what tells how far aside and how high a place lies in the tool's own frame."""
    long = 0.0
    for k in range(3):
        out[4 + k] = move[3 + k] + move[9 + k]
        long += out[4 + k] ** 2
    long = math.sqrt(long)
    x, y, z = out[4] / long, out[5] / long, out[6] / long
    dx, dy, dz = move[6] - move[0], move[7] - move[1], move[8] - move[2]
    a, b, c = y * dz - z * dy, z * dx - x * dz, x * dy - y * dx
    size = math.sqrt(a * a + b * b + c * c)
    if size > 1e-12:
        a, b, c = a / size, b / size, c / size
    out[0], out[1], out[2] = a, b, c
    out[3] = a * move[0] + b * move[1] + c * move[2]
    out[4], out[5], out[6] = x, y, z
    out[7] = min(x * move[0] + y * move[1] + z * move[2], x * move[6] + y * move[7] + z * move[8])


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False, inline="always")
def _lost(lost, r, rays, line, sight, out):
    """Adds the ends of what ray r loses, `lost` (low, high), to the range of offsets from the move and to the
    height over the tip. Of a ray's voids the last one made is known; others within it may be taken for
    material."""
    direction, pu, pv, u, v = line
    void_low, void_high = rays.void_low, rays.void_high
    low, high = max(lost[0], rays.first[r]), min(lost[1], rays.last[r])
    if low >= void_low[r]:
        low = max(low, void_high[r])
    if high <= void_high[r]:
        high = min(high, void_low[r])
    if high - low > TRACE:
        aside = sight[u] * pu + sight[v] * pv - sight[3]
        above = sight[4 + u] * pu + sight[4 + v] * pv - sight[7]
        left, right = aside + sight[direction] * low, aside + sight[direction] * high
        out[3], out[4] = min(out[3], min(left, right)), max(out[4], max(left, right))
        out[5] = max(out[5], above + max(sight[4 + direction] * low, sight[4 + direction] * high))


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _slim(body, part, v):
    """How far a frustum may reach, in a plane square to direction v, from where the axes at both ends of a
    part of a move meet that plane; 0 where they lean too far from v for it to be worth asking."""
    steep = min(abs(part[3 + v]), abs(part[9 + v]))
    if steep < 0.8:
        return 0.0
    dot = min(1.0, max(-1.0, part[3] * part[9] + part[4] * part[10] + part[5] * part[11]))
    far = max(abs(body[Z0]), abs(body[Z1])) + max(body[R0], body[R1])
    return (max(body[R0], body[R1]) + 0.5 * far * math.acos(dot) ** 2) / steep + 1e-5


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _part(lattice, tile, rays, scratch, room, part_of):
    """One body along a part of a move on a tile; `part_of` is (move, first share, last share, body, tag,
    whether it is steady). False: no room."""
    direction, nu_tiles, origin, cell = lattice
    lo, hi, _, _, at, _, out = scratch
    poses, spare, box, sight = room
    move, first_t, last_t, body, tag, steady = part_of
    first, last, void_low, void_high = rays.first, rays.last, rays.void_low, rays.void_high
    row_first, row_last = rays.row_first, rays.row_last
    u, v = (1, 2) if direction == 0 else ((0, 2) if direction == 1 else (0, 1))
    u0 = origin[u] + ((tile % nu_tiles) * SIDE + 0.5) * cell
    v0 = origin[v] + ((tile // nu_tiles) * SIDE + 0.5) * cell
    for k in range(POSES):
        pose(move, first_t + (last_t - first_t) * k / (POSES - 1), poses[k])
    part = spare[3]
    for k in range(6):
        part[k], part[6 + k] = poses[0, k], poses[POSES - 1, k]
    bounds(body, part, box[0], box[1])
    j0 = max(0, int(math.ceil((box[0, v] - v0) / cell)))
    j1 = min(SIDE - 1, int(math.floor((box[1, v] - v0) / cell)))
    i0 = max(0, int(math.ceil((box[0, u] - u0) / cell)))
    i1 = min(SIDE - 1, int(math.floor((box[1, u] - u0) / cell)))
    if j0 > j1 or i0 > i1:
        return True
    out[6], out[7] = np.float32(box[0, direction]), np.float32(box[1, direction])
    rows.nothing(lo, hi, j0 * SIDE, (j1 + 1) * SIDE)
    g0, g1 = np.uint64(i0 & ~7), np.uint64((i1 | 7) + 1)
    hull, frame = spare[1, 6:10], spare[3]
    q, e = spare[0, 6:9], spare[0, 9:12]
    if steady:
        steady_frame(move, frame)
        for k in range(3):
            e[k] = frame[3 * k + direction]
    elif body[KIND] != BALL:
        hull_of(body, part, hull)
    margin = nearer_by(body, part) if body[KIND] != FRUSTUM else 0.0
    slim = _slim(body, part, v) if not steady and body[KIND] == FRUSTUM else 0.0
    for j in range(j0, j1 + 1):
        row = tile * SIDE + j
        if row_last[row] <= out[6] or row_first[row] >= out[7]:
            continue
        pv = v0 + j * cell
        if body[KIND] == BALL:
            a, b = poses[0], poses[POSES - 1]
            r = body[R1]
            middle = (
                a[direction] + r * a[3 + direction],
                b[direction] - a[direction] + r * (b[3 + direction] - a[3 + direction]),
                a[u] + r * a[3 + u],
                b[u] - a[u] + r * (b[3 + u] - a[3 + u]),
                pv - a[v] - r * a[3 + v],
                b[v] - a[v] + r * (b[3 + v] - a[3 + v]),
            )
            rows.ball(Row(lo, hi, np.uint64(j * SIDE), g0, g1, u0, at), middle, r)
            if out[8] > 0.0:
                for i in range(i0, i1 + 1):
                    o, n = j * SIDE + i, tile * TILE + j * SIDE + i
                    if lo[o] >= hi[o] or lo[o] >= last[n] or hi[o] <= first[n]:
                        continue
                    line = Line(direction, u0 + i * cell, pv, u, v)
                    _lost((lo[o], hi[o]), n, rays, line, sight, out)
            continue
        i_first, i_last, least, most = i0, i1, out[6], out[7]
        if slim > 0.0:  # of a long body only what is as high as the row
            a, b = poses[0], poses[POSES - 1]
            s, t = (pv - a[v]) / a[3 + v], (pv - b[v]) / b[3 + v]
            at_a, at_b = a[u] + s * a[3 + u], b[u] + t * b[3 + u]
            i_first = max(i0, int(math.ceil((min(at_a, at_b) - slim - u0) / cell)))
            i_last = min(i1, int(math.floor((max(at_a, at_b) + slim - u0) / cell)))
            at_a, at_b = a[direction] + s * a[3 + direction], b[direction] + t * b[3 + direction]
            least, most = max(least, min(at_a, at_b) - slim), min(most, max(at_a, at_b) + slim)
            if row_last[row] <= least or row_first[row] >= most:
                continue
        for i in range(i_first, i_last + 1):
            r = tile * TILE + j * SIDE + i
            if last[r] <= least or first[r] >= most:
                continue
            if void_low[r] <= least and void_high[r] >= most:
                continue
            pu = u0 + i * cell
            line = Line(direction, pu, pv, u, v)
            if steady:
                for k in range(3):
                    q[k] = (
                        (pu - move[u]) * frame[3 * k + u]
                        + (pv - move[v]) * frame[3 * k + v]
                        - move[direction] * frame[3 * k + direction]
                    )
                wide = body[R0] if body[KIND] == FRUSTUM else body[R0] + body[R1]
                top = body[Z1] if body[KIND] == FRUSTUM else 2.0 * body[R1]
                a, b = steady_cylinder((body[Z0], top, wide), q, e, frame[9], frame[10])
            else:
                seen = seen_from(poses, POSES // 2, line)
                a, b = frustum((hull[0], hull[1], hull[2], hull[3]), seen)
            if a >= b or a >= last[r] or b <= first[r] or (a >= void_low[r] and b <= void_high[r]):
                continue
            if not steady:
                # what may be lost of the ray: c..d, but for its last void
                c, d = max(a, np.float64(first[r])), min(b, np.float64(last[r]))
                beyond_c, beyond_d = c - 1.0, d + 1.0
                void = void_low[r] < void_high[r] and void_low[r] < d and void_high[r] > c
                if void and void_low[r] <= c:
                    c, beyond_c, void = np.float64(void_high[r]), np.float64(void_low[r]), False
                elif void and void_high[r] >= d:
                    d, beyond_d, void = np.float64(void_low[r]), np.float64(void_high[r]), False
                if body[KIND] != FRUSTUM:
                    if void:
                        clear = clear_of(body, poses, line, c, np.float64(void_low[r]), margin)
                        if clear and clear_of(body, poses, line, np.float64(void_high[r]), d, margin):
                            continue
                    elif clear_of(body, poses, line, c, d, margin):
                        continue
                # an end that lies in the body in some pose need not be looked for: beyond it there is no
                # material
                low_known = c > a and inside(body, seen, c)
                high_known = d < b and inside(body, seen, d)
                if not (low_known and high_known):
                    asked = HIGH_END if low_known else (LOW_END if high_known else BOTH)
                    a, b = swept(body, poses, line, spare, asked, (a, b))
                if a < b:
                    a, b = beyond_c if low_known else a, beyond_d if high_known else b
            elif body[KIND] != FRUSTUM:
                a, b = steady_rounded((body[R0], body[R1]), q, e, frame[9], frame[10], (a, b))
            if a < b:
                lo[j * SIDE + i], hi[j * SIDE + i] = a, b
                if out[8] > 0.0:
                    _lost((a, b), r, rays, line, sight, out)
    return carve(scratch, rays, tile, (j0, j1, np.int64(SIDE)), tag)


@njit(cache=True, nogil=True, error_model="numpy")
def cut_tile(lattice, tile, rays, sweep, binned, measured):
    """As `_tile_kernels.cut_tile` for moves (m, 12)."""
    moves, bodies, tag0 = sweep
    scratch = scratch_of(lattice.cell, 2.0 if measured else 0.0)
    room = Poses(np.empty((POSES + 1, 6)), np.zeros((4, 12)), np.empty((2, 3)), np.empty(8))
    out = scratch.out
    for e in range(binned.start[tile], binned.offsets[tile + 1]):
        p, b = binned.entries[e] // len(bodies), binned.entries[e] % len(bodies)
        out[:8] = 0.0
        out[3], out[4] = FAR, -FAR
        move = moves[p]
        dot = min(1.0, max(-1.0, move[3] * move[9] + move[4] * move[10] + move[5] * move[11]))
        long = math.sqrt((move[6] - move[0]) ** 2 + (move[7] - move[1]) ** 2 + (move[8] - move[2]) ** 2)
        parts = max(1, int(math.ceil(max(long / MOST_MM, math.acos(dot) / MOST_RAD) - 1e-9)))
        if has_rim(bodies[b]):
            parts *= 2
        if bodies[b, KIND] == BALL:
            parts = max(1, int(math.ceil(math.acos(dot) / 0.04 - 1e-9)))
        _sight(move, room.sight)
        steady = is_steady(bodies, b, move)
        if steady:
            parts = 1
        for q in range(parts):
            part_of = (move, q / parts, (q + 1) / parts, bodies[b], tag0 + p, steady)
            if not _part(lattice, tile, rays, scratch, room, part_of):
                keep(out, binned.found, e)
                binned.start[tile] = e
                return
        if measured:
            keep(out, binned.found, e)
    binned.start[tile] = binned.offsets[tile + 1]
