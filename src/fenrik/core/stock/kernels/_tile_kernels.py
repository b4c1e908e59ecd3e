"""Removal from the interval dexels by a tool that stands upright: moves binned to tiles, cut tile by tile.

How rays lie in their tiles stands in `_ray_kernels`; lattice axes of direction d: u, v are the other two in
ascending order.
"""

import math

import numpy as np

from fenrik.core.stock.kernels import _row_kernels as rows
from fenrik.core.stock.kernels._jit import njit
from fenrik.core.stock.kernels._ray_kernels import FAR, NIL, ONE, SIDE, SLIVER, TILE, remove
from fenrik.core.stock.kernels._sweep_kernels import BALL, FRUSTUM
from fenrik.core.stock.kernels._sweep_kernels import level as exact_level
from fenrik.core.stock.kernels._sweep_kernels import upright as exact_upright
from fenrik.core.stock.kernels._tuples import Gap, Row, Scratch

TRACE = np.float32(0.01)
"""Rays that lose less (mm) do not count for the width of a cut."""
MANY = 5
"""From so many rays of a row on, it is quicker to look whether all are shortened alike."""
KIND, Z0, Z1, R0, R1, ROLE, TOP, SKIP = range(8)
"""Columns of a body: those of a body row, the height (mm over the tip) up to which a ray along Z is cut by
this body and the one stacked on it, and whether rays along Z leave it to the body under it."""


@njit(cache=True, nogil=True, fastmath=rows.FAST, error_model="numpy", _nrt=False)
def _shorten(scratch, rays, row, o, total, tag):
    """Shortens the marked rays of a `row` (tile, j), all at once, where each is one interval that loses one
    of its ends: what most cuts are. The row's intervals begin at o, `total` rays are marked. False, and
    nothing done, where some ray is not like that."""
    lo, hi, mask, across, out = scratch.lo, scratch.hi, scratch.mask, scratch.across, scratch.out
    counts, ends, tags, first, last = rays.counts, rays.ends, rays.tags, rays.first, rays.last
    void_low, void_high = rays.void_low, rays.void_high
    tile, j = row
    room = np.uint64(rays.widths[tile])
    base = np.uint64(tile * TILE + j * SIDE)
    ends_at = np.uint64(rays.places[tile] + j * SIDE * rays.widths[tile])
    alike = np.int32(0)
    for i in range(np.uint64(SIDE)):
        r = base + i
        above = (hi[o + i] >= last[r]) & (lo[o + i] - first[r] > SLIVER)
        below = (lo[o + i] <= first[r]) & (last[r] - hi[o + i] > SLIVER)
        alike += np.int32((counts[r] == 1) & (above | below) & (mask[i] != 0))
    if alike != total:
        return False
    measuring, counting = out[8] > 0.0, out[8] == 1.0 or out[8] == 2.0
    removed, longest, met, lost = np.float32(0.0), np.float32(0.0), np.float32(0.0), np.float32(0.0)
    least, most, top, low, high = FAR, -FAR, -FAR, FAR, -FAR
    slope, start = np.float32(across[0]), np.float32(across[1] * j + across[2])
    for i in range(np.uint64(SIDE)):
        r = base + i
        cut = mask[i] != 0
        a, b, begin, end = lo[o + i], hi[o + i], first[r], last[r]
        above = b >= end
        if measuring:
            lost = (end - a if above else b - begin) if cut else np.float32(0.0)
            removed += lost
            longest = max(longest, lost)
        if counting:
            counted = lost > TRACE
            aside = slope * np.float32(i) + start
            met += np.float32(1.0) if counted else np.float32(0.0)
            least = min(least, aside if counted else FAR)
            most = max(most, aside if counted else -FAR)
            top = max(top, end if counted else -FAR)
        begin = b if cut & (not above) else begin
        end = a if cut & above else end
        first[r], last[r] = begin, end
        low, high = min(low, begin), max(high, end)
        void_low[r] = (a if above else -FAR) if cut else void_low[r]
        void_high[r] = (FAR if above else b) if cut else void_high[r]
    for i in range(np.uint64(SIDE)):
        if mask[i]:
            above = last[base + i] == lo[o + i]
            e = ends_at + i * room + (ONE if above else NIL)
            ends[e], tags[e] = (lo[o + i] if above else hi[o + i]), tag
    rays.row_first[tile * SIDE + j], rays.row_last[tile * SIDE + j] = low, high
    out[0] += removed
    out[1] = max(out[1], longest)
    if met > 0.0:
        out[2] += met
    if met > 0.0 and out[8] == 1.0:
        out[3], out[4] = min(out[3], least), max(out[4], most)
        out[5] = max(out[5], top - across[3])
    return True


@njit(cache=True, nogil=True, fastmath=rows.FAST, error_model="numpy", _nrt=False)
def carve(scratch, rays, tile, band, tag):
    """Takes the intervals of a `band` (j0, j1, stride) out of a tile: rows j0..j1, row j at j * stride of lo
    and hi.

    out: removed length +=, longest removal, and of the rays that lost more than TRACE their number += and the
    range of their offset from the line of the move, across[0] * column + across[1] * row + across[2], and how
    high over across[3] their material reached; out[6] and out[7] are the bounds of all intervals, out[8]
    whether to measure at all (2: but for offsets and height, which the caller looks after; 3: lengths only).
    False: no room.
    """
    lo, hi, mask, marked, _, across, out = scratch
    first, last, void_low, void_high = rays.first, rays.last, rays.void_low, rays.void_high
    row_first, row_last = rays.row_first, rays.row_last
    width, place = rays.widths[tile], rays.places[tile]
    j0, j1, stride = band
    room = np.uint64(width)
    for j in range(j0, j1 + 1):
        if row_last[tile * SIDE + j] <= out[6] or row_first[tile * SIDE + j] >= out[7]:
            continue
        o = np.uint64(j * stride)
        base, ends_at = np.uint64(tile * TILE + j * SIDE), np.uint64(place + j * SIDE * width)
        total = np.int32(0)
        for i in range(np.uint64(SIDE)):
            r = base + i
            low, high = lo[o + i], hi[o + i]
            hit = (
                (low < last[r])
                & (high > first[r])
                & ((low < void_low[r]) | (high > void_high[r]))
                & (low < high)
            )
            mask[i] = hit
            total += np.int32(hit)
        if total == 0:
            continue
        if total >= MANY and _shorten(scratch, rays, (tile, j), o, np.int32(total), tag):
            continue
        n = np.uint64(0)
        for i in range(np.uint64(SIDE)):  # the numbers of the marked rays, without a branch
            marked[n] = i
            n += np.uint64(mask[i])
        for q in range(n):
            i = marked[q]
            gap = Gap(lo[o + i], hi[o + i], tag)
            removed = remove(rays, base + i, ends_at + i * room, width, gap)
            if removed < 0.0:
                return False
            if out[8] == 0.0:
                continue
            out[0] += removed
            out[1] = max(out[1], removed)
            if removed > TRACE and out[8] < 3.0:
                out[2] += 1.0
                if out[8] > 1.0:
                    continue
                aside = across[0] * i + across[1] * j + across[2]
                out[3], out[4] = min(out[3], aside), max(out[4], aside)
                out[5] = max(out[5], lo[o + i] + removed - across[3])
        low, high = FAR, -FAR
        for i in range(np.uint64(SIDE)):
            low, high = min(low, first[base + i]), max(high, last[base + i])
        row_first[tile * SIDE + j], row_last[tile * SIDE + j] = low, high
    return True


@njit(cache=True, nogil=True, fastmath=rows.FAST, error_model="numpy", _nrt=False)
def _may_change(scratch, rays, o, base):
    """Marks the rays of one row that the intervals may change; whether there is one."""
    lo, hi, mask = scratch.lo, scratch.hi, scratch.mask
    first, last, void_low, void_high = rays.first, rays.last, rays.void_low, rays.void_high
    total = np.int32(0)
    for i in range(np.uint64(SIDE)):
        r = base + i
        low, high = lo[o + i], hi[o + i]
        hit = (low < last[r]) & (high > first[r]) & ((low < void_low[r]) | (high > void_high[r]))
        mask[i] = hit
        total += np.int32(hit)
    return total > 0


@njit(cache=True, nogil=True, _nrt=False, inline="always")
def _shape(body):
    """A body's row as the exact sweeps take it: kind, z0, z1, r0, r1."""
    return int(body[KIND]), body[Z0], body[Z1], body[R0], body[R1]


@njit(cache=True, nogil=True, _nrt=False)
def _exact_level(scratch, o, u0, body, move):
    """The marked rays of a horizontal row once more, exactly, for cones and corner radii on ramps. Its
    intervals begin at o, the `move` is (pa, da, pu, du, wz, dz)."""
    lo, hi, mask, at = scratch.lo, scratch.hi, scratch.mask, scratch.at
    pa, da, pu, du, wz, dz = move
    for i in range(SIDE):
        if mask[i]:
            low, high = exact_level(_shape(body), (pa, da, u0 + at[i] - pu, du, wz, dz))
            lo[o + i], hi[o + i] = low, high


@njit(cache=True, nogil=True, _nrt=False)
def _exact_upright(scratch, o, u0, body, move):
    """The marked rays along Z once more, exactly; the top stays that of the stack. The `move` is (px, dx, wy,
    dy, pz, dz)."""
    lo, hi, mask, at = scratch.lo, scratch.hi, scratch.mask, scratch.at
    px, dx, wy, dy, pz, dz = move
    for i in range(SIDE):
        if mask[i]:
            low, high = exact_upright(_shape(body), (u0 + at[i] - px, wy, pz), (dx, dy, dz))
            if high <= low:
                lo[o + i], hi[o + i] = FAR, -FAR
                continue
            lo[o + i] = low
            if body[TOP] <= body[Z1]:
                hi[o + i] = high


@njit(cache=True, nogil=True, _nrt=False)
def _radius_at(body, z):
    """Radius of a frustum or rounded disc at height z over the tip, ends held."""
    z = min(max(z, body[Z0]), body[Z1])
    if body[KIND] == FRUSTUM:
        return body[R0] + (body[R1] - body[R0]) * (z - body[Z0]) / (body[Z1] - body[Z0])
    up = body[R1] - z
    return body[R0] + math.sqrt(max(0.0, body[R1] * body[R1] - up * up))


@njit(cache=True, nogil=True, _nrt=False)
def _cut_level(lattice, tile, rays, move, scratch):
    """One body along one piece on a tile of horizontal rays; the `move` is (piece, body, tag). False: no
    room."""
    direction, nu_tiles, origin, cell = lattice
    lo, hi, _, _, at, _, out = scratch
    piece, body, tag = move
    row_first, row_last = rays.row_first, rays.row_last
    a, u = (0, 1) if direction == 0 else (1, 0)
    u0 = origin[u] + ((tile % nu_tiles) * SIDE + 0.5) * cell
    v0 = origin[2] + ((tile // nu_tiles) * SIDE + 0.5) * cell
    pa, da = piece[a], piece[3 + a] - piece[a]
    pu, du = piece[u], piece[3 + u] - piece[u]
    pz, dz = piece[2], piece[5] - piece[2]
    is_ball, is_cylinder = body[KIND] == BALL, body[KIND] == FRUSTUM and body[R0] == body[R1]
    wide = (
        body[R1] if is_ball else (max(body[R0], body[R1]) if body[KIND] == FRUSTUM else body[R0] + body[R1])
    )
    top = max(pz, pz + dz) + (body[R1] if is_ball and body[TOP] > 2 * body[R1] else body[Z1])
    j0 = max(0, int(math.ceil((min(pz, pz + dz) + body[Z0] - v0) / cell)))
    j1 = min(SIDE - 1, int(math.floor((top - v0) / cell)))
    i0 = max(0, int(math.ceil((min(pu, pu + du) - wide - u0) / cell)))
    i1 = min(SIDE - 1, int(math.floor((max(pu, pu + du) + wide - u0) / cell)))
    if j0 > j1 or i0 > i1:
        return True
    reach_low, reach_high = np.float32(min(pa, pa + da) - wide), np.float32(max(pa, pa + da) + wide)
    out[6], out[7] = reach_low, reach_high
    whole0, whole1 = SIDE, -1  # rows that see the whole move
    g0, g1 = np.uint64(i0 & ~7), np.uint64((i1 | 7) + 1)
    if is_cylinder:
        rows.nothing(lo, hi, np.int64(0), np.int64(SIDE))
    else:
        rows.nothing(lo, hi, j0 * SIDE, (j1 + 1) * SIDE)
    for j in range(j0, j1 + 1):
        if row_last[tile * SIDE + j] <= reach_low or row_first[tile * SIDE + j] >= reach_high:
            continue
        wz = v0 + j * cell - pz
        o = np.uint64(j * SIDE)
        if is_ball:
            rows.ball(Row(lo, hi, o, g0, g1, u0, at), (pa, da, pu, du, wz - body[R1], dz), body[R1])
            continue
        ta, tb = 0.0, 1.0
        if dz != 0.0:
            ta, tb = (wz - body[Z1]) / dz, (wz - body[Z0]) / dz
            if ta > tb:
                ta, tb = tb, ta
            ta, tb = max(0.0, ta), min(1.0, tb)
            if ta >= tb:
                continue
        elif wz < body[Z0] or wz >= body[Z1] or (wz == body[Z0] and body[Z0] == 0.0):
            continue  # a row in the joint of two bodies belongs to the upper one, one at the tip stays
        if is_cylinder:
            if ta > 0.0 or tb < 1.0:  # a row that sees only a stretch of the move
                rows.stadium(Row(lo, hi, np.uint64(0), g0, g1, u0, at), (pa, da, pu, du), wide, ta, tb)
                if not carve(scratch, rays, tile, (j, j, np.int64(0)), tag):
                    return False
            else:
                whole0, whole1 = min(whole0, j), max(whole1, j)
            continue
        rho = max(_radius_at(body, wz - ta * dz), _radius_at(body, wz - tb * dz))
        rows.stadium(Row(lo, hi, o, g0, g1, u0, at), (pa, da, pu, du), rho, ta, tb)
        if dz != 0.0:
            base = np.uint64(tile * TILE + j * SIDE)
            if _may_change(scratch, rays, o, base):
                _exact_level(scratch, j * SIDE, u0, body, (pa, da, pu, du, wz, dz))
    if is_cylinder:
        if whole0 > whole1:
            return True
        rows.stadium(Row(lo, hi, np.uint64(0), g0, g1, u0, at), (pa, da, pu, du), wide, 0.0, 1.0)
        j0, j1 = whole0, whole1
    return carve(scratch, rays, tile, (j0, j1, np.int64(0 if is_cylinder else SIDE)), tag)


@njit(cache=True, nogil=True, _nrt=False)
def _cut_upright(lattice, tile, rays, move, scratch):
    """As `_cut_level` on a tile of rays along Z."""
    _, nu_tiles, origin, cell = lattice
    lo, hi, _, _, at, across, out = scratch
    piece, body, tag = move
    u0 = origin[0] + ((tile % nu_tiles) * SIDE + 0.5) * cell
    v0 = origin[1] + ((tile // nu_tiles) * SIDE + 0.5) * cell
    px, py, pz = piece[0], piece[1], piece[2]
    dx, dy, dz = piece[3] - px, piece[4] - py, piece[5] - pz
    kind = int(body[KIND])
    flat, corner, wide = 0.0, body[R1], body[R1]
    if kind == FRUSTUM:
        flat, corner, wide = max(body[R0], body[R1]), 0.0, max(body[R0], body[R1])
    elif kind != BALL:
        flat, wide = body[R0], body[R0] + body[R1]
    is_flat = kind == FRUSTUM and body[R0] == body[R1] and dx * dx + dy * dy > 1e-20
    exact = (kind == FRUSTUM and body[R0] == body[R1]) or kind == BALL or (kind != FRUSTUM and dz == 0.0)
    j0 = max(0, int(math.ceil((min(py, py + dy) - wide - v0) / cell)))
    j1 = min(SIDE - 1, int(math.floor((max(py, py + dy) + wide - v0) / cell)))
    i0 = max(0, int(math.ceil((min(px, px + dx) - wide - u0) / cell)))
    i1 = min(SIDE - 1, int(math.floor((max(px, px + dx) + wide - u0) / cell)))
    if j0 > j1 or i0 > i1:
        return True
    m = math.sqrt(dx * dx + dy * dy)
    if m > 1e-9:  # to the left of the move
        across[0], across[1] = -dy / m * cell, dx / m * cell
        across[2] = -dy / m * (u0 - px) + dx / m * (v0 - py)
    across[3] = min(pz, pz + dz)
    g0, g1 = np.uint64(i0 & ~7), np.uint64((i1 | 7) + 1)
    rows.nothing(lo, hi, j0 * SIDE, (j1 + 1) * SIDE)
    lowest = np.float32(min(pz, pz + dz) + body[Z0])
    out[6], out[7] = lowest, np.float32(max(pz, pz + dz) + body[TOP])
    for j in range(j0, j1 + 1):
        base, o = np.uint64(tile * TILE + j * SIDE), np.uint64(j * SIDE)
        if rays.row_last[tile * SIDE + j] <= lowest:
            continue
        wy = v0 + j * cell - py
        row, way = Row(lo, hi, o, g0, g1, u0, at), (px, dx, wy, dy, pz, dz)
        if kind == BALL and body[R0] > 0.0:  # a ball that stands free
            rows.ball(row, (pz + body[R1], dz, px, dx, wy, dy), body[R1])
            continue
        if is_flat:
            rows.flat_upright(row, way, wide, body[Z0], body[TOP])
            continue
        if exact:
            rows.upright(row, way, (wide, flat, corner), body[Z0], body[TOP])
            continue
        # a lower side that is flat as far as the body reaches is never above the true one
        rows.upright(row, way, (wide, wide, 0.0), body[Z0], body[TOP])
        if _may_change(scratch, rays, o, base):
            _exact_upright(scratch, j * SIDE, u0, body, way)
    return carve(scratch, rays, tile, (j0, j1, np.int64(SIDE)), tag)


@njit(cache=True, nogil=True)
def piece_boxes(pieces, bodies):
    """The box (n, 7: low, high, and how high it counts for rays along Z) that each body sweeps along each
    piece, row piece * bodies + body; a body that the one under it cuts along Z counts for nothing there."""
    out = np.empty((len(pieces) * len(bodies), 7))
    for p in range(len(pieces)):
        for b in range(len(bodies)):
            body, box = bodies[b], out[p * len(bodies) + b]
            wide = max(body[R0], body[R1])
            if body[KIND] != FRUSTUM:
                wide = body[R1] if body[KIND] == BALL else body[R0] + body[R1]
            for k in range(2):
                box[k] = min(pieces[p, k], pieces[p, 3 + k]) - wide
                box[3 + k] = max(pieces[p, k], pieces[p, 3 + k]) + wide
            low, high = min(pieces[p, 2], pieces[p, 5]), max(pieces[p, 2], pieces[p, 5])
            box[2], box[5] = low + body[Z0], high + body[Z1]
            box[6] = -FAR if body[SKIP] > 0.0 else high + body[TOP]
    return out


@njit(cache=True, nogil=True)
def bin_boxes(lattice, spans, boxes):
    """Which entries, by their boxes (n, 7), may change which tile, in order.

    Returns offsets (tiles + 1,) and entries (n,) int32.
    """
    direction, nu_tiles, origin, cell = lattice
    nv_tiles = len(spans) // nu_tiles
    u, v = (1, 2) if direction == 0 else ((0, 2) if direction == 1 else (0, 1))
    top = 6 if direction == 2 else 3 + direction
    tiles = nu_tiles * nv_tiles
    offsets = np.zeros(tiles + 1, dtype=np.int64)
    entries = np.zeros(0, dtype=np.int32)
    place = offsets[:-1].copy()
    for turn in range(2):
        if turn == 1:
            for t in range(tiles):
                offsets[t + 1] += offsets[t]
            entries = np.empty(offsets[tiles], dtype=np.int32)
            place = offsets[:-1].copy()
        for e in range(len(boxes)):
            box = boxes[e]
            i0 = max(0, int(math.ceil((box[u] - origin[u]) / cell - 0.5))) // SIDE
            i1 = min(nu_tiles - 1, int(math.floor((box[3 + u] - origin[u]) / cell - 0.5)) // SIDE)
            j0 = max(0, int(math.ceil((box[v] - origin[v]) / cell - 0.5))) // SIDE
            j1 = min(nv_tiles - 1, int(math.floor((box[3 + v] - origin[v]) / cell - 0.5)) // SIDE)
            for j in range(j0, j1 + 1):
                for i in range(i0, i1 + 1):
                    t = j * nu_tiles + i
                    if box[direction] >= spans[t, 1] or box[top] <= spans[t, 0]:
                        continue
                    if turn == 0:
                        offsets[t + 1] += 1
                    else:
                        entries[place[t]] = e
                        place[t] += 1
    return offsets, entries


@njit(cache=True, nogil=True)
def keep(out, found, e):
    """Adds what an entry did; one that ran out of room comes twice."""
    found[e, 0] += out[0]
    found[e, 1] = max(found[e, 1], out[1])
    if out[2] > 0.0:
        fresh = found[e, 2] == 0.0
        found[e, 2] += out[2]
        found[e, 3] = out[3] if fresh else min(found[e, 3], out[3])
        found[e, 4] = out[4] if fresh else max(found[e, 4], out[4])
        found[e, 5] = max(found[e, 5], out[5])


@njit(cache=True, nogil=True)
def scratch_of(cell, measured):
    """Room to work on one tile; `measured` is out[8] of `carve`."""
    lo, hi = np.empty(TILE, dtype=np.float32), np.empty(TILE, dtype=np.float32)
    mask, marked = np.zeros(SIDE, dtype=np.uint8), np.zeros(SIDE + 1, dtype=np.uint64)
    at = (np.arange(SIDE) * cell).astype(np.float32)
    out = np.zeros(9)
    out[8] = measured
    return Scratch(lo, hi, mask, marked, at, np.zeros(4), out)


@njit(cache=True, nogil=True)
def cut_tile(lattice, tile, rays, sweep, binned, measured):
    """One tile. Its entries come in order, so the result does not depend on which worker does which tile. A
    tile that ran out of room stops before its end, and goes on from there at the next call."""
    pieces, bodies, tag0 = sweep
    # how wide and how high a cut is, rays along Z tell
    full = 1.0 if lattice.direction == 2 else 3.0
    scratch = scratch_of(lattice.cell, full if measured else 0.0)
    across, out = scratch.across, scratch.out
    for e in range(binned.start[tile], binned.offsets[tile + 1]):
        p, b = binned.entries[e] // len(bodies), binned.entries[e] % len(bodies)
        out[:8], across[:] = 0.0, 0.0
        out[3], out[4] = FAR, -FAR
        move = (pieces[p], bodies[b], tag0 + p)
        if lattice.direction == 2:
            fits = _cut_upright(lattice, tile, rays, move, scratch)
        else:
            fits = _cut_level(lattice, tile, rays, move, scratch)
        if measured or not fits:
            keep(out, binned.found, e)
        if not fits:
            binned.start[tile] = e
            return
    binned.start[tile] = binned.offsets[tile + 1]


@njit(cache=True, nogil=True)
def gather(binned, roles, taken):
    """Adds what entries removed to what pieces have taken, in the order of tiles and pieces; `roles` (b,) are
    those of the bodies."""
    entries, found, bodies = binned.entries, binned.found, len(roles)
    out_volume, out_deepest, out_rays, out_sides = taken
    for e in range(len(entries)):
        if found[e, 0] > 0.0:
            p, role = entries[e] // bodies, roles[entries[e] % bodies]
            out_volume[p, role] += found[e, 0]
            out_deepest[p, role] = max(out_deepest[p, role], found[e, 1])
            if role == 0 and found[e, 2] > 0.0:
                out_rays[p] += found[e, 2]
                out_sides[p, 0] = min(out_sides[p, 0], found[e, 3])
                out_sides[p, 1] = max(out_sides[p, 1], found[e, 4])
                out_sides[p, 2] = max(out_sides[p, 2], found[e, 5])
