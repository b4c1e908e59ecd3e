"""Dual contouring of interval dexels, brick by brick.

A brick is 32 x 32 x 32 cells; cell c lies between the nodes c - 1 and c, nodes at -1 and n are air. A vertex
depends on the crossings of its own cell's edges only, a quad belongs to the brick of the highest of its four
cells, so bricks can be built in any order, alone or together, and fit bit for bit.
"""

import math
from typing import NamedTuple

import numpy as np

from fenrik.core.stock.kernels._jit import njit
from fenrik.core.stock.kernels._normal_kernels import cut_normal, leaning_normal
from fenrik.core.stock.kernels._tuples import Floats, TileRays


class Dexels(NamedTuple):
    """The rays of the three directions, their numbers of tiles along u, and the lattice: `shape` (nx, ny, nz)
    nodes, `cell` mm apart from the corner `origin` (3,); `box`: delivered with faces square to the axes."""

    rays: tuple[TileRays, TileRays, TileRays]
    tiles_u: tuple[int, int, int]
    shape: tuple[int, int, int]
    origin: Floats
    cell: float
    box: bool


SIDE = 32
TILE = SIDE * SIDE
BRICK = 32
NODES = BRICK + 1
UNSEEN, DELIVERED = -2, -1
FLAT = 0.9995
"""Normals whose cosine is above this count as one direction."""
WEAK = 0.08
"""Directions in which normals tell less than this share of the strongest do not move a vertex."""


@njit(cache=True, nogil=True)
def _flags(flags, dexels, base):
    """Material at the brick's nodes (33, 33, 33) from the rays along Z; whether it is mixed."""
    rays, nu_tiles, shape, cell = dexels.rays[2], dexels.tiles_u[2], dexels.shape, dexels.cell
    places, widths, counts, ends, origin_z = (
        rays.places,
        rays.widths,
        rays.counts,
        rays.ends,
        dexels.origin[2],
    )
    flags[:] = 0
    total = 0
    for i in range(NODES):
        x = base[0] - 1 + i
        if x < 0 or x >= shape[0]:
            continue
        for j in range(NODES):
            y = base[1] - 1 + j
            if y < 0 or y >= shape[1]:
                continue
            tile = (y // SIDE) * nu_tiles + x // SIDE
            c = (y % SIDE) * SIDE + x % SIDE
            o = places[tile] + c * widths[tile]
            for q in range(counts[tile * TILE + c]):
                a = int(math.ceil((ends[o + 2 * q] - origin_z) / cell - 0.5)) - (base[2] - 1)
                b = int(math.floor((ends[o + 2 * q + 1] - origin_z) / cell - 0.5))
                b = min(b, shape[2] - 1) - (base[2] - 1)
                a = max(a, 1 if base[2] == 0 else 0)
                for k in range(a, min(NODES - 1, b) + 1):
                    flags[i, j, k] = 1
                    total += 1
    return 0 < total < NODES * NODES * NODES


@njit(cache=True, nogil=True)
def _crossing(rays, nu_tiles, ray, between, from_inside):
    """Where a ray (u, v) leaves (or enters) the material between two nodes (low, high), and its tag; the
    middle if unseen."""
    (u, v), (low, high) = ray, between
    tile = (v // SIDE) * nu_tiles + u // SIDE
    c = (v % SIDE) * SIDE + u % SIDE
    o = rays.places[tile] + c * rays.widths[tile]
    ends, tags = rays.ends, rays.tags
    for q in range(rays.counts[tile * TILE + c]):
        e = o + 2 * q + (1 if from_inside else 0)
        if low - 1e-5 <= ends[e] <= high + 1e-5:
            return float(ends[e]), tags[e]
    return 0.5 * (low + high), UNSEEN


@njit(cache=True, nogil=True)
def _mixed_cells(flags, slot):
    """Numbers the mixed cells of the brick, in order; how many there are."""
    count = 0
    for i in range(BRICK):
        for j in range(BRICK):
            for k in range(BRICK):
                total = (
                    flags[i, j, k]
                    + flags[i + 1, j, k]
                    + flags[i, j + 1, k]
                    + flags[i + 1, j + 1, k]
                    + flags[i, j, k + 1]
                    + flags[i + 1, j, k + 1]
                    + flags[i, j + 1, k + 1]
                    + flags[i + 1, j + 1, k + 1]
                )
                if 0 < total < 8:
                    slot[i, j, k] = count
                    count += 1
                else:
                    slot[i, j, k] = -1
    return count


@njit(cache=True, nogil=True)
def _normal(point, axis, from_inside, tag, table, box):
    """Outward direction of the material at a crossing, and whether it is known."""
    pieces, leans, axes, set_of, sets, sizes = table
    if tag >= 0 and tag < len(pieces):
        s = set_of[tag]
        lean = leans[tag] if len(leans) else -1
        if lean >= 0:
            nx, ny, nz, off = leaning_normal(
                point[0], point[1], point[2], pieces[tag], axes[lean], sets[s], sizes[s]
            )
        else:
            nx, ny, nz, off = cut_normal(point[0], point[1], point[2], pieces[tag], sets[s], sizes[s])
        along = nx if axis == 0 else (ny if axis == 1 else nz)
        return nx, ny, nz, off < 0.01 and along * (1.0 if from_inside else -1.0) > 1e-3
    if tag == DELIVERED and box:
        sign = 1.0 if from_inside else -1.0
        return sign * (axis == 0), sign * (axis == 1), sign * (axis == 2), True
    return 0.0, 0.0, 0.0, False


@njit(cache=True, nogil=True)
def brick(at, dexels, table):
    """One brick `at` (3,), with normals from the table of the pieces that cut it (`Cuts.table`).

    Returns the mixed cells' numbers (n,) and vertices (n, 3), and per crossed edge the four cells' numbers
    (m, 4), facing outward, the exact point (m, 3), its axis (m,) and tag (m,).
    """
    tiles_u, shape, origin, cell = dexels.tiles_u, dexels.shape, dexels.origin, dexels.cell
    base = (at[0] * BRICK, at[1] * BRICK, at[2] * BRICK)
    flags = np.empty((NODES, NODES, NODES), dtype=np.uint8)
    none = np.empty((0, 3))
    mixed = _flags(flags, dexels, base)
    if not mixed:
        nothing = np.empty(0, dtype=np.int32)
        return nothing, none, np.empty((0, 4), dtype=np.int32), none, np.empty(0, dtype=np.int8), nothing
    slot = np.empty((BRICK, BRICK, BRICK), dtype=np.int32)
    count = _mixed_cells(flags, slot)
    spots, normals = np.empty((count, 12, 3)), np.empty((count, 12, 3))
    met, blind = np.zeros(count, dtype=np.int8), np.zeros(count, dtype=np.bool_)
    capacity = 4096
    quads, points = np.empty((capacity, 4), dtype=np.int32), np.empty((capacity, 3))
    axes, owner = np.empty(capacity, dtype=np.int8), np.empty(capacity, dtype=np.int32)
    used = 0
    cy, cz = shape[1] + 1, shape[2] + 1
    point = np.empty(3)
    for a in range(3):
        u, v = (1, 2) if a == 0 else ((0, 2) if a == 1 else (0, 1))
        rays = dexels.rays[a]
        for i in range(BRICK):
            for j in range(NODES):
                for k in range(NODES):
                    if a == 0:
                        f, g = flags[i, j, k], flags[i + 1, j, k]
                    elif a == 1:
                        f, g = flags[j, i, k], flags[j, i + 1, k]
                    else:
                        f, g = flags[j, k, i], flags[j, k, i + 1]
                    if f == g:
                        continue
                    nu, nv = base[u] - 1 + j, base[v] - 1 + k
                    low = origin[a] + (base[a] - 1 + i + 0.5) * cell
                    value, tag = _crossing(rays, tiles_u[a], (nu, nv), (low, low + cell), f == 1)
                    point[a] = value
                    point[u], point[v] = origin[u] + (nu + 0.5) * cell, origin[v] + (nv + 0.5) * cell
                    nx, ny, nz, known = _normal(point, a, f == 1, tag, table, dexels.box)
                    for dj in range(2):
                        for dk in range(2):
                            lj, lk = j - 1 + dj, k - 1 + dk
                            if lj < 0 or lk < 0 or lj >= BRICK or lk >= BRICK:
                                continue
                            s = (
                                slot[i, lj, lk]
                                if a == 0
                                else (slot[lj, i, lk] if a == 1 else slot[lj, lk, i])
                            )
                            q = met[s]
                            spots[s, q] = point
                            normals[s, q, 0], normals[s, q, 1], normals[s, q, 2] = nx, ny, nz
                            blind[s] |= not known
                            met[s] = q + 1
                    if j == BRICK or k == BRICK:
                        continue  # the quad is the neighbour's
                    if used == capacity:
                        capacity *= 2
                        quads, points = _grown_2d(quads, capacity), _grown_points(points, capacity)
                        axes, owner = _grown_axes(axes, capacity), _grown_tags(owner, capacity)
                    ca, cu, cv = base[a] + i, nu, nv  # the lowest of the four cells
                    turned = (f == 1) == (a != 1)
                    for n in range(4):
                        du, dv = (n == 1) | (n == 2), (n == 2) | (n == 3)
                        if not turned:
                            du, dv = dv, du
                        iu, iv = cu + du, cv + dv
                        if a == 0:
                            quads[used, n] = (ca * cy + iu) * cz + iv
                        elif a == 1:
                            quads[used, n] = (iu * cy + ca) * cz + iv
                        else:
                            quads[used, n] = (iu * cy + iv) * cz + ca
                    points[used] = point
                    axes[used], owner[used] = a, tag
                    used += 1
    cells, vertices = np.empty(count, dtype=np.int32), np.empty((count, 3))
    for i in range(BRICK):
        for j in range(BRICK):
            for k in range(BRICK):
                s = slot[i, j, k]
                if s < 0:
                    continue
                x, y, z = base[0] + i, base[1] + j, base[2] + k
                cells[s] = (x * cy + y) * cz + z
                low = (
                    origin[0] + (x - 0.5) * cell,
                    origin[1] + (y - 0.5) * cell,
                    origin[2] + (z - 0.5) * cell,
                )
                _place(spots[s, : met[s]], normals[s, : met[s]], blind[s], low, cell, vertices[s])
    return cells, vertices, quads[:used].copy(), points[:used].copy(), axes[:used].copy(), owner[:used].copy()


@njit(cache=True, nogil=True)
def _grown_2d(rows, capacity):
    out = np.empty((capacity, 4), dtype=np.int32)
    out[: len(rows)] = rows
    return out


@njit(cache=True, nogil=True)
def _grown_points(rows, capacity):
    out = np.empty((capacity, 3))
    out[: len(rows)] = rows
    return out


@njit(cache=True, nogil=True)
def _grown_axes(rows, capacity):
    out = np.empty(capacity, dtype=np.int8)
    out[: len(rows)] = rows
    return out


@njit(cache=True, nogil=True)
def _grown_tags(rows, capacity):
    out = np.empty(capacity, dtype=np.int32)
    out[: len(rows)] = rows
    return out


@njit(cache=True, nogil=True)
def _place(spots, normals, blind, low, cell, out):
    """The vertex of a cell: where the planes at its crossings meet best, from their mean (quadratic error
    function of Ju et al. 2002, weak directions left out), held within the cell."""
    mx, my, mz, met = 0.0, 0.0, 0.0, len(spots)
    for q in range(met):
        mx += spots[q, 0]
        my += spots[q, 1]
        mz += spots[q, 2]
    mx, my, mz = mx / met, my / met, mz / met
    out[0], out[1], out[2] = mx, my, mz
    if blind:
        return
    level = True
    for q in range(1, met):
        cosine = normals[0, 0] * normals[q, 0] + normals[0, 1] * normals[q, 1] + normals[0, 2] * normals[q, 2]
        level &= cosine > FLAT
    if level:
        return
    m, side = np.zeros((3, 3)), np.zeros(3)
    for q in range(met):
        nx, ny, nz = normals[q, 0], normals[q, 1], normals[q, 2]
        off = nx * (spots[q, 0] - mx) + ny * (spots[q, 1] - my) + nz * (spots[q, 2] - mz)
        m[0, 0] += nx * nx
        m[0, 1] += nx * ny
        m[0, 2] += nx * nz
        m[1, 1] += ny * ny
        m[1, 2] += ny * nz
        m[2, 2] += nz * nz
        side[0] += nx * off
        side[1] += ny * off
        side[2] += nz * off
    vectors = np.eye(3)
    _diagonal(m, vectors)
    most = max(m[0, 0], m[1, 1], m[2, 2])
    for e in range(3):
        if m[e, e] > WEAK * most:
            share = (vectors[0, e] * side[0] + vectors[1, e] * side[1] + vectors[2, e] * side[2]) / m[e, e]
            for k in range(3):
                out[k] += share * vectors[k, e]
    for k in range(3):
        out[k] = min(low[k] + cell, max(low[k], out[k]))


@njit(cache=True, nogil=True)
def _diagonal(m, vectors):
    """Jacobi rotations: the upper triangle of a symmetric m (3, 3) becomes diagonal, `vectors` its
    directions."""
    for _ in range(6):
        off = abs(m[0, 1]) + abs(m[0, 2]) + abs(m[1, 2])
        if off < 1e-12:
            return
        for p in range(2):
            for q in range(p + 1, 3):
                if abs(m[p, q]) < 1e-15:
                    continue
                theta = (m[q, q] - m[p, p]) / (2.0 * m[p, q])
                t = (1.0 if theta >= 0.0 else -1.0) / (abs(theta) + math.sqrt(theta * theta + 1.0))
                c = 1.0 / math.sqrt(t * t + 1.0)
                s = t * c
                m[p, p] -= t * m[p, q]
                m[q, q] += t * m[p, q]
                m[p, q] = 0.0
                r = 3 - p - q
                rp = m[min(r, p), max(r, p)]
                rq = m[min(r, q), max(r, q)]
                m[min(r, p), max(r, p)] = c * rp - s * rq
                m[min(r, q), max(r, q)] = s * rp + c * rq
                for k in range(3):
                    vp, vq = vectors[k, p], vectors[k, q]
                    vectors[k, p], vectors[k, q] = c * vp - s * vq, s * vp + c * vq


@njit(cache=True, nogil=True)
def renumber(cells, quads, place):
    """Quads by cell numbers as quads by the places of their cells in `cells`; `place` is room for all cells,
    of which only what is written here is read."""
    for n in range(len(cells)):
        place[cells[n]] = n
    out = np.empty_like(quads)
    for m in range(len(quads)):
        for k in range(4):
            out[m, k] = place[quads[m, k]]
    return out


@njit(cache=True, nogil=True)
def _mixed_in(h, value):
    """One step of a 64-bit hash (the mixing of splitmix64, Steele et al. 2014)."""
    h = (h ^ np.uint64(value)) * np.uint64(0x9E3779B97F4A7C15)
    h ^= h >> np.uint64(30)
    h *= np.uint64(0xBF58476D1CE4E5B9)
    return h ^ (h >> np.uint64(27))


@njit(cache=True, nogil=True)
def brick_names(places, dexels):
    """A hash (n,) of all that each brick's surface depends on: the ends and tags within reach of its cells,
    and where there is material. Bricks that lie wholly in air or in material all have the names 0 and 1."""
    tiles_u, shape, origin, cell = dexels.tiles_u, dexels.shape, dexels.origin, dexels.cell
    out = np.empty(len(places), dtype=np.uint64)
    for n in range(len(places)):
        h, ends_met, inside_met, rays_met = np.uint64(n + 2), 0, 0, 0
        for a in range(3):
            u, v = (1, 2) if a == 0 else ((0, 2) if a == 1 else (0, 1))
            rays = dexels.rays[a]
            places_at, widths, counts, tags = rays.places, rays.widths, rays.counts, rays.tags
            ends, bits = rays.ends, rays.ends.view(np.uint32)
            low = origin[a] + (places[n, a] * BRICK - 0.5) * cell - 1e-3
            high = low + (BRICK + 1) * cell + 2e-3
            for j in range(NODES):
                nv = places[n, v] * BRICK - 1 + j
                for i in range(NODES):
                    nu = places[n, u] * BRICK - 1 + i
                    rays_met += 1
                    if nu < 0 or nv < 0 or nu >= shape[u] or nv >= shape[v]:
                        continue
                    tile = (nv // SIDE) * tiles_u[a] + nu // SIDE
                    c = (nv % SIDE) * SIDE + nu % SIDE
                    o = places_at[tile] + c * widths[tile]
                    for e in range(2 * counts[tile * TILE + c]):
                        if ends[o + e] < low:
                            continue
                        if ends[o + e] > high:
                            inside_met += e % 2
                            break
                        ends_met += 1
                        h = _mixed_in(h, np.uint64(j * NODES + i + 4096 * a + 16384 * (e % 2)))
                        h = _mixed_in(
                            h, np.uint64(bits[o + e]) | (np.uint64(np.uint32(tags[o + e])) << np.uint64(32))
                        )
        if ends_met == 0:
            h = np.uint64(1) if inside_met > 0 else np.uint64(0)
        out[n] = h
    return out
