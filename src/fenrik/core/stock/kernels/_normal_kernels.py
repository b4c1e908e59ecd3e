"""The direction in which a cut surface faces, from the piece of motion and the tool that cut it.

The tool is a set of convex bodies of revolution (rows: kind, z0, z1, r0, r1, role) that moves along a
straight piece; a point of the cut surface lies on the skin of one of them at the moment when it comes
nearest, and the material faces against the body's own outward direction there.
"""

import math

import numpy as np

from fenrik.core.stock.kernels._jit import njit
from fenrik.core.stock.kernels._sweep_kernels import BALL, FRUSTUM, GOLD

LOOKS = 8
"""Shares of a piece with a turning axis that are looked at before the nearest is searched."""


@njit(cache=True, nogil=True)
def _distance(body, d, z):
    """Signed distance of (d, z), distance from the axis and height over the tip, from a body near its skin,
    and the outward direction there."""
    if body[0] == BALL:
        up = z - body[4]
        away = math.sqrt(d * d + up * up)
        if away < 1e-12:
            return -body[4], 0.0, -1.0
        return away - body[4], d / away, up / away
    z0, z1, r0, r1 = body[1], body[2], body[3], body[4]
    if body[0] == FRUSTUM:
        rise, lean = z1 - z0, r1 - r0
        length = math.sqrt(rise * rise + lean * lean)
        best, nd, nz = ((d - r0) * rise - (z - z0) * lean) / length, rise / length, -lean / length
        if z0 - z > best:
            best, nd, nz = z0 - z, 0.0, -1.0
        if z - z1 > best:
            best, nd, nz = z - z1, 0.0, 1.0
        return best, nd, nz
    over, up = d - r0, z - r1  # a rounded disc: flat r0, corner r1
    best, nd, nz = -z, 0.0, -1.0
    if over > 0.0:
        away = math.sqrt(over * over + up * up)
        if up < 0.0 and away > 1e-12:
            best, nd, nz = away - r1, over / away, up / away
        else:
            best, nd, nz = over - r1, 1.0, 0.0
    if z - z1 > best:
        best, nd, nz = z - z1, 0.0, 1.0
    return best, nd, nz


@njit(cache=True, nogil=True)
def _at(body, x, y, z, piece, t):
    """`_distance` of a point from a body at share t of the piece."""
    px = x - piece[0] - t * (piece[3] - piece[0])
    py = y - piece[1] - t * (piece[4] - piece[1])
    pz = z - piece[2] - t * (piece[5] - piece[2])
    return _distance(body, math.sqrt(px * px + py * py), pz)


@njit(cache=True, nogil=True)
def _nearest(body, x, y, z, piece):
    """Share of the piece at which the body comes nearest to the point."""
    dx, dy, dz = piece[3] - piece[0], piece[4] - piece[1], piece[5] - piece[2]
    px, py, pz = x - piece[0], y - piece[1], z - piece[2]
    if body[0] == BALL:
        square = dx * dx + dy * dy + dz * dz
        if square <= 0.0:
            return 0.0
        return min(1.0, max(0.0, (px * dx + py * dy + (pz - body[4]) * dz) / square))
    square = dx * dx + dy * dy
    level = 0.0 if square <= 0.0 else min(1.0, max(0.0, (px * dx + py * dy) / square))
    if dz == 0.0:
        return level
    a, b = 0.0, 1.0  # the distance from a convex body that moves straight is convex
    for _ in range(22):
        c, e = b - GOLD * (b - a), a + GOLD * (b - a)
        if _at(body, x, y, z, piece, c)[0] < _at(body, x, y, z, piece, e)[0]:
            b = e
        else:
            a = c
    return 0.5 * (a + b)


@njit(cache=True, nogil=True)
def cut_normal(x, y, z, piece, bodies, count):
    """Outward direction (nx, ny, nz) of the material at a point that the first `count` bodies cut along a
    piece, and how far (mm) the point is from the skin of the nearest."""
    best, bx, by, bz = 1e30, 0.0, 0.0, 1.0
    for b in range(count):
        t = _nearest(bodies[b], x, y, z, piece)
        sd, nd, nz = _at(bodies[b], x, y, z, piece, t)
        if sd < best:
            px = x - piece[0] - t * (piece[3] - piece[0])
            py = y - piece[1] - t * (piece[4] - piece[1])
            d = math.sqrt(px * px + py * py)
            best = sd
            if d > 1e-12:
                bx, by, bz = -nd * px / d, -nd * py / d, -nz
            else:
                bx, by, bz = 0.0, 0.0, -nz
    # at an edge of a flat bottom that goes up a ramp the skin follows the ramp
    ramp = piece[5] - piece[2]
    run = math.sqrt((piece[3] - piece[0]) ** 2 + (piece[4] - piece[1]) ** 2)
    if abs(ramp) > 1e-9 and run > 1e-9 and abs(bz) > 0.999 and bodies[0][0] != BALL:
        length = math.sqrt(ramp * ramp + run * run)
        s = ramp / length / run
        bx, by = -s * (piece[3] - piece[0]) * bz, -s * (piece[4] - piece[1]) * bz
        bz = bz * run / length
    return bx, by, bz, abs(best)


@njit(cache=True, nogil=True)
def _leaning_at(body, x, y, z, piece, axes, t):
    """`_distance` of a point from a body whose axis leans, at share t of the piece, and the way (3,) from the
    tip and the axis (3,) there."""
    px = x - piece[0] - t * (piece[3] - piece[0])
    py = y - piece[1] - t * (piece[4] - piece[1])
    pz = z - piece[2] - t * (piece[5] - piece[2])
    ax = axes[0] + t * (axes[3] - axes[0])
    ay = axes[1] + t * (axes[4] - axes[1])
    az = axes[2] + t * (axes[5] - axes[2])
    size = math.sqrt(ax * ax + ay * ay + az * az)
    ax, ay, az = ax / size, ay / size, az / size
    up = px * ax + py * ay + pz * az
    qx, qy, qz = px - up * ax, py - up * ay, pz - up * az
    d = math.sqrt(qx * qx + qy * qy + qz * qz)
    sd, nd, nz = _distance(body, d, up)
    return sd, nd, nz, d, qx, qy, qz, ax, ay, az


@njit(cache=True, nogil=True)
def turned_normal(x, y, z, piece, axes, bodies, count):
    """As `cut_normal`, for an axis that turns evenly from axes[:3] to axes[3:] (unit vectors) along the
    piece."""
    best, bx, by, bz = 1e30, 0.0, 0.0, 1.0
    for b in range(count):
        low, at = 1e30, 0.0
        for i in range(LOOKS + 1):
            found = _leaning_at(bodies[b], x, y, z, piece, axes, i / LOOKS)[0]
            if found < low:
                low, at = found, i / LOOKS
        p, q = max(0.0, at - 1.0 / LOOKS), min(1.0, at + 1.0 / LOOKS)
        for _ in range(22):
            c, e = q - GOLD * (q - p), p + GOLD * (q - p)
            near = _leaning_at(bodies[b], x, y, z, piece, axes, c)[0]
            if near < _leaning_at(bodies[b], x, y, z, piece, axes, e)[0]:
                q = e
            else:
                p = c
        sd, nd, nz, d, qx, qy, qz, ax, ay, az = _leaning_at(bodies[b], x, y, z, piece, axes, 0.5 * (p + q))
        if sd < best:
            best = sd
            share = nd / d if d > 1e-12 else 0.0
            bx, by, bz = -share * qx - nz * ax, -share * qy - nz * ay, -share * qz - nz * az
    return bx, by, bz, abs(best)


@njit(cache=True, nogil=True)
def leaning_normal(x, y, z, piece, axes, bodies, count):
    """As `cut_normal`, for an axis that leans or turns: `axes` (6,) are those at both ends of the piece."""
    ax, ay, az = axes[0], axes[1], axes[2]
    if abs(axes[3] - ax) + abs(axes[4] - ay) + abs(axes[5] - az) > 1e-12:
        return turned_normal(x, y, z, piece, axes, bodies, count)
    # it leans without turning: upright in a frame of its own
    if abs(ax) < 0.9:
        ux, uy, uz = 0.0, -az, ay
    else:
        ux, uy, uz = az, 0.0, -ax
    size = math.sqrt(ux * ux + uy * uy + uz * uz)
    ux, uy, uz = ux / size, uy / size, uz / size
    vx, vy, vz = ay * uz - az * uy, az * ux - ax * uz, ax * uy - ay * ux
    qx, qy, qz = x - piece[0], y - piece[1], z - piece[2]
    dx, dy, dz = piece[3] - piece[0], piece[4] - piece[1], piece[5] - piece[2]
    own = np.zeros(6)
    own[3], own[4] = dx * ux + dy * uy + dz * uz, dx * vx + dy * vy + dz * vz
    own[5] = dx * ax + dy * ay + dz * az
    nx, ny, nz, off = cut_normal(
        qx * ux + qy * uy + qz * uz,
        qx * vx + qy * vy + qz * vz,
        qx * ax + qy * ay + qz * az,
        own,
        bodies,
        count,
    )
    return (nx * ux + ny * vx + nz * ax, nx * uy + ny * vy + nz * ay, nx * uz + ny * vz + nz * az, off)
