"""Sweeps in closed form: cylinders, and rounded discs under one, that lean and move without turning.

A line is q + e l in the directions of `steady_frame`, from the first tip; the body moves by `run` along the
first and by `rise` along the axis.
"""

import math

from fenrik.core.stock.kernels._jit import njit
from fenrik.core.stock.kernels._sweep_kernels import BALL, FRUSTUM, KIND, MISS_HIGH, MISS_LOW, R0, R1, Z0, Z1


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def steady_frame(move, out):
    """For a move that does not turn: the directions (3 x 3) level along the way, level across it and along
    the axis, then how far the tip goes along the first and the last."""
    n, way = out[6:9], out[9:12]
    for k in range(3):
        n[k], way[k] = move[3 + k], move[6 + k] - move[k]
    rise = way[0] * n[0] + way[1] * n[1] + way[2] * n[2]
    x, y, z = way[0] - rise * n[0], way[1] - rise * n[1], way[2] - rise * n[2]
    run = math.sqrt(x * x + y * y + z * z)
    if run < 1e-9:  # along the axis: any level direction does
        run = 0.0
        k = 0 if abs(n[0]) < 0.6 else 1
        x, y, z = -n[k] * n[0], -n[k] * n[1], -n[k] * n[2]
        x, y = (x + 1.0, y) if k == 0 else (x, y + 1.0)
    size = math.sqrt(x * x + y * y + z * z)
    out[0], out[1], out[2] = x / size, y / size, z / size
    out[3] = n[1] * out[2] - n[2] * out[1]
    out[4] = n[2] * out[0] - n[0] * out[2]
    out[5] = n[0] * out[1] - n[1] * out[0]
    out[9], out[10] = run, rise


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def slab(low, high, at, along, first, last):
    """The part of low..high on a line on which first <= at + along * l <= last."""
    if abs(along) < 1e-12:
        return (low, high) if first <= at <= last else (MISS_LOW, MISS_HIGH)
    a, b = (first - at) / along, (last - at) / along
    return max(low, min(a, b)), min(high, max(a, b))


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _disc_swept(within, along_x, along_y, radius):
    """The part `within` (low, high) on a line on which (x + ex l)² + (y + ey l)² <= radius²; `along_x` is
    (x, ex)."""
    (low, high), (x, ex), (y, ey) = within, along_x, along_y
    qa, qb, qc = ex * ex + ey * ey, x * ex + y * ey, x * x + y * y - radius * radius
    if qa < 1e-15:
        return (low, high) if qc <= 0.0 else (MISS_LOW, MISS_HIGH)
    disc = qb * qb - qa * qc
    if disc <= 0.0:
        return MISS_LOW, MISS_HIGH
    root = math.sqrt(disc)
    return max(low, (-qb - root) / qa), min(high, (-qb + root) / qa)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def steady_cylinder(cylinder, q, e, run, rise):
    """Interval of a line q + e l (in the directions of `steady_frame`, from the first tip) inside a
    `cylinder` (z0, z1, radius) that moves straight by `run` and `rise`: exact.

    A spot is inside at some moments; among them is the first or the last of the way, one at which an end of
    the cylinder passes, or the one at which the axis comes nearest. So the sweep is both end poses, its two
    discs swept and the prism that its greatest breadth sweeps; it is convex, so its part of a line goes from
    the least to the greatest end.
    """
    z0, z1, radius = cylinder
    low, high = 1e30, -1e30
    for end in range(2):
        a, b = slab(-1e30, 1e30, q[2] - end * rise, e[2], z0, z1)
        if a < b:
            a, b = _disc_swept((a, b), (q[0] - end * run, e[0]), (q[1], e[1]), radius)
            if a < b:
                low, high = min(low, a), max(high, b)
    if abs(rise) > 1e-12:
        for end in range(2):
            z = z0 if end == 0 else z1
            a, b = slab(-1e30, 1e30, (q[2] - z) / rise, e[2] / rise, 0.0, 1.0)
            if a < b:
                k = run / rise
                a, b = _disc_swept((a, b), (q[0] - k * (q[2] - z), e[0] - k * e[2]), (q[1], e[1]), radius)
                if a < b:
                    low, high = min(low, a), max(high, b)
    if run > 0.0:
        a, b = slab(-1e30, 1e30, q[0], e[0], 0.0, run)
        if a < b:
            a, b = slab(a, b, q[1], e[1], -radius, radius)
        if a < b:
            k = rise / run
            a, b = slab(a, b, q[2] - k * q[0], e[2] - k * e[0], z0, z1)
        if a < b:
            low, high = min(low, a), max(high, b)
    return (low, high) if low < high else (MISS_LOW, MISS_HIGH)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _disc_distance(spot, disc, run, rise):
    """Least distance of a spot (x, y, z) from a `disc` (radius flat at height corner) that moves straight,
    and the share of the way where it is: convex along the way."""
    (x, y, z), (flat, corner) = spot, disc
    a, b = 0.0, 1.0
    for _ in range(26):
        c, e = b - 0.6180339887 * (b - a), a + 0.6180339887 * (b - a)
        d = max(0.0, math.sqrt((x - c * run) ** 2 + y * y) - flat)
        fc = d * d + (z - corner - c * rise) ** 2
        d = max(0.0, math.sqrt((x - e * run) ** 2 + y * y) - flat)
        fe = d * d + (z - corner - e * rise) ** 2
        if fc < fe:
            b = e
        else:
            a = c
    t = 0.5 * (a + b)
    d = max(0.0, math.sqrt((x - t * run) ** 2 + y * y) - flat)
    return math.sqrt(d * d + (z - corner - t * rise) ** 2), t


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def steady_rounded(disc, q, e, run, rise, within):
    """As `steady_cylinder` for all within `corner` of a disc, which lies `within` (low, high); by Newton
    from outside, the distance being convex along the line. Its upper half is left to the cylinder that stands
    on it."""
    (flat, corner), (low, high) = disc, within
    for side in range(2):
        at = low if side == 0 else high
        sign = 1.0 if side == 0 else -1.0
        for _ in range(40):
            x, y, z = q[0] + at * e[0], q[1] + at * e[1], q[2] + at * e[2]
            away, t = _disc_distance((x, y, z), disc, run, rise)
            value = away - corner
            if value <= 1e-7:
                break
            x -= t * run
            z -= corner + t * rise
            d = math.sqrt(x * x + y * y)
            slope = z * e[2]
            if d > flat:
                slope += (d - flat) * (x * e[0] + y * e[1]) / d
            slope /= max(away, 1e-12)
            if slope * sign >= -1e-12:
                return MISS_LOW, MISS_HIGH
            at -= value / slope
            if (side == 0 and at >= high) or (side == 1 and at <= low):
                return MISS_LOW, MISS_HIGH
        if side == 0:
            low = at
        else:
            high = at
    return (low, high) if low < high else (MISS_LOW, MISS_HIGH)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def is_steady(bodies, b, move):
    """Whether a body's sweep along a move has a closed form here: no turn, and a cylinder or a rounded disc
    under one."""
    dot = move[3] * move[9] + move[4] * move[10] + move[5] * move[11]
    if dot < 1.0 - 1e-15:
        return False
    if bodies[b, KIND] == FRUSTUM:
        return bodies[b, R0] == bodies[b, R1]
    if bodies[b, KIND] == BALL or b + 1 == len(bodies):
        return False
    above, corner = bodies[b + 1], bodies[b, R1]
    wide = bodies[b, R0] + corner
    return (
        above[KIND] == FRUSTUM
        and above[Z0] == corner
        and above[Z1] >= 2 * corner
        and above[R0] == wide == above[R1]
    )
