"""Where a ray meets a convex body of revolution about Z that moves along a straight line.

A body: kind, z0, z1, r0, r1. FRUSTUM: radius r0 at z0 to r1 at z1 over the tip. ROUND: the
rounded disc of a corner radius: flat r0, corner r1, from z0 = 0 to z1 = r1. BALL: a whole ball of
radius r1 with its centre r1 over the tip. Every sweep is convex, so a ray meets it in one interval;
(1, 0) as (low, high) says that it does not.
"""

import math

from fenrik.core.stock.kernels._jit import njit

FRUSTUM, ROUND, BALL = 0, 1, 2
KIND, Z0, Z1, R0, R1 = range(5)
"""Columns of a body's row."""
MISS_LOW, MISS_HIGH = 1.0, 0.0
"""An interval that is none."""
GOLD = 0.6180339887498949


@njit(cache=True, inline="always", _nrt=False)
def _extremes(pa, da, foot, m, rho):
    """Smallest and largest a = pa + da*s/m -+ sqrt(rho² - (s - foot)²) over s in 0..m; needs contact."""
    if m < 1e-12:
        half = math.sqrt(max(0.0, rho * rho - foot * foot))
        return min(pa, pa + da) - half, max(pa, pa + da) + half
    first, last = max(0.0, foot - rho), min(m, foot + rho)
    slope = da / m
    shift = slope * rho / math.sqrt(1.0 + slope * slope)
    s = min(last, max(first, foot + shift))
    high = pa + slope * s + math.sqrt(max(0.0, rho * rho - (s - foot) * (s - foot)))
    s = min(last, max(first, foot - shift))
    low = pa + slope * s - math.sqrt(max(0.0, rho * rho - (s - foot) * (s - foot)))
    return low, high


@njit(cache=True, inline="always", _nrt=False)
def body_radius(body, z):
    """Radius of the body at height z over the tip (z within z0..z1)."""
    kind, z0, z1, r0, r1 = body
    if kind == FRUSTUM:
        return r0 + (r1 - r0) * (z - z0) / (z1 - z0)
    up = r1 - z
    return r0 + math.sqrt(max(0.0, r1 * r1 - up * up))


@njit(cache=True, inline="always", _nrt=False)
def body_low(body, d):
    """Lowest height of the body at distance d from the axis (d within its largest radius)."""
    kind, z0, z1, r0, r1 = body
    if kind == FRUSTUM:
        if d <= r0 or r1 <= r0:
            return z0
        return z0 + (d - r0) / (r1 - r0) * (z1 - z0)
    if d <= r0:
        return 0.0
    over = d - r0
    return r1 - math.sqrt(max(0.0, r1 * r1 - over * over))


@njit(cache=True, inline="always", _nrt=False)
def body_high(body, d):
    """Highest height of the body at distance d from the axis."""
    kind, z0, z1, r0, r1 = body
    if kind == FRUSTUM and r1 < r0 and d > r1:
        return z1 - (d - r1) / (r0 - r1) * (z1 - z0)
    return z1


@njit(cache=True, nogil=True, _nrt=False)
def upright(body, ray, move):
    """A `ray` (wx, wy, pz) along Z at (wx, wy) from the axis at the start, a `move` (dx, dy, dz) of the tip
    from height pz: interval of heights."""
    kind, z0, z1, r0, r1 = body
    (wx, wy, pz), (dx, dy, dz) = ray, move
    widest = r0 + r1 if kind == ROUND else max(r0, r1)
    m = math.sqrt(dx * dx + dy * dy)
    if m < 1e-12:
        d2 = wx * wx + wy * wy
        if d2 >= widest * widest:
            return 1.0, 0.0
        d = math.sqrt(d2)
        return (min(pz, pz + dz) + body_low(body, d), max(pz, pz + dz) + body_high(body, d))
    foot = (wx * dx + wy * dy) / m
    q2 = max(0.0, wx * wx + wy * wy - foot * foot)
    if q2 >= widest * widest:
        return 1.0, 0.0
    half = math.sqrt(widest * widest - q2)
    first, last = max(0.0, foot - half), min(m, foot + half)
    if first >= last:
        return 1.0, 0.0
    slope = dz / m
    if dz == 0.0:
        s = min(last, max(first, foot))
        d = math.sqrt(q2 + (s - foot) * (s - foot))
        return pz + body_low(body, d), pz + body_high(body, d)
    if kind == FRUSTUM and r0 == r1:
        za, zb = pz + slope * first, pz + slope * last
        return z0 + min(za, zb), z1 + max(za, zb)
    # convex below, concave above: golden section
    a, b = first, last
    for _ in range(44):
        c, e = b - GOLD * (b - a), a + GOLD * (b - a)
        fc = slope * c + body_low(body, math.sqrt(q2 + (c - foot) * (c - foot)))
        fe = slope * e + body_low(body, math.sqrt(q2 + (e - foot) * (e - foot)))
        if fc < fe:
            b = e
        else:
            a = c
    s = 0.5 * (a + b)
    low = pz + slope * s + body_low(body, math.sqrt(q2 + (s - foot) * (s - foot)))
    if kind == FRUSTUM and r1 < r0:
        a, b = first, last
        for _ in range(44):
            c, e = b - GOLD * (b - a), a + GOLD * (b - a)
            fc = slope * c + body_high(body, math.sqrt(q2 + (c - foot) * (c - foot)))
            fe = slope * e + body_high(body, math.sqrt(q2 + (e - foot) * (e - foot)))
            if fc > fe:
                b = e
            else:
                a = c
        s = 0.5 * (a + b)
        high = pz + slope * s + body_high(body, math.sqrt(q2 + (s - foot) * (s - foot)))
    else:
        high = pz + z1 + max(slope * first, slope * last)
    return low, high


@njit(cache=True, inline="always", _nrt=False)
def _stadium(move, rho, t0, t1):
    """Ray along a at offset wb in b; a disc of radius rho goes from t0 to t1 of a `move` (pa, da, wb, db)."""
    pa, da, wb, db = move
    wb = wb - t0 * db
    pa = pa + t0 * da
    da, db = da * (t1 - t0), db * (t1 - t0)
    m = abs(db)
    foot = wb if db >= 0.0 else -wb
    if foot <= -rho or foot >= m + rho:
        return 1.0, 0.0
    return _extremes(pa, da, foot, m, rho)


@njit(cache=True, nogil=True, _nrt=False)
def level(body, move):
    """Ray along a horizontal axis a; of a `move` (pa, da, wb, db, wz, dz), wb is the ray's offset in the
    other one and wz its height over the start tip; the tip goes by (da, db, dz). Interval along a."""
    kind, z0, z1, r0, r1 = body
    pa, da, wb, db, wz, dz = move
    if dz == 0.0:
        if wz < z0 or wz >= z1 or (wz == z0 and z0 == 0.0):
            return 1.0, 0.0
        return _stadium((pa, da, wb, db), body_radius(body, wz), 0.0, 1.0)
    # the stretch of the move in which the ray's height lies within the body
    ta, tb = (wz - z1) / dz, (wz - z0) / dz
    if ta > tb:
        ta, tb = tb, ta
    ta, tb = max(0.0, ta), min(1.0, tb)
    if ta >= tb:
        return 1.0, 0.0
    if kind == FRUSTUM and r0 == r1:
        return _stadium((pa, da, wb, db), r0, ta, tb)
    if da == 0.0 and db == 0.0:
        rho = max(body_radius(body, wz - ta * dz), body_radius(body, wz - tb * dz))
        if abs(wb) >= rho:
            return 1.0, 0.0
        half = math.sqrt(rho * rho - wb * wb)
        return pa - half, pa + half
    # stretch in which the disc at the ray's height reaches it: concave in t, so find its top first
    a, b = ta, tb
    for _ in range(40):
        c, e = b - GOLD * (b - a), a + GOLD * (b - a)
        fc = body_radius(body, wz - c * dz) - abs(wb - c * db)
        fe = body_radius(body, wz - e * dz) - abs(wb - e * db)
        if fc > fe:
            b = e
        else:
            a = c
    top = 0.5 * (a + b)
    if body_radius(body, wz - top * dz) - abs(wb - top * db) <= 0.0:
        return 1.0, 0.0
    first, last = ta, tb
    if body_radius(body, wz - ta * dz) - abs(wb - ta * db) < 0.0:
        out, inside = ta, top
        for _ in range(40):
            mid = 0.5 * (out + inside)
            if body_radius(body, wz - mid * dz) - abs(wb - mid * db) < 0.0:
                out = mid
            else:
                inside = mid
        first = inside
    if body_radius(body, wz - tb * dz) - abs(wb - tb * db) < 0.0:
        out, inside = tb, top
        for _ in range(40):
            mid = 0.5 * (out + inside)
            if body_radius(body, wz - mid * dz) - abs(wb - mid * db) < 0.0:
                out = mid
            else:
                inside = mid
        last = inside
    low = pa + _end(body, move, first, last, -1.0)
    high = pa + _end(body, move, first, last, 1.0)
    return low, high


@njit(cache=True, nogil=True, _nrt=False)
def _end(body, move, first, last, side):
    """Extreme of t*da + side*half chord over first..last (concave for the high side)."""
    _, da, wb, db, wz, dz = move
    a, b = first, last
    for _ in range(44):
        c, e = b - GOLD * (b - a), a + GOLD * (b - a)
        rho, off = body_radius(body, wz - c * dz), wb - c * db
        fc = side * c * da + math.sqrt(max(0.0, rho * rho - off * off))
        rho, off = body_radius(body, wz - e * dz), wb - e * db
        fe = side * e * da + math.sqrt(max(0.0, rho * rho - off * off))
        if fc > fe:
            b = e
        else:
            a = c
    best = -1e300
    for t in (first, 0.5 * (a + b), last):
        rho, off = body_radius(body, wz - t * dz), wb - t * db
        best = max(best, side * t * da + math.sqrt(max(0.0, rho * rho - off * off)))
    return side * best
