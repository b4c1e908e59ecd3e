"""Rows of rays against a body that moves: the interval each ray loses, many rays at a time.

Every function fills lo[o + g0 : o + g1] and hi of a `Row` (float32) with what the sweep covers of the rays
whose first coordinate is u0 + at[i]; lo > hi means nothing. Loops have no branches and unsigned indices, so
that the compiler turns them into vector instructions, and `_nrt=False` spares them the counting of
references, which as locked instructions took four fifths of the time; arithmetic is float32 in coordinates
relative to the start of the move, with distances from its line taken as cross products, so that a long move
costs no digits. Rounding is below 0.01 µm but for rays that graze a body (chord under 5 µm).
"""

import math

import numpy as np

from fenrik.core.stock.kernels._jit import njit

FAST = {"nnan", "ninf", "nsz"}
"""Liberties of arithmetic that change no finite result."""

NONE_LOW, NONE_HIGH = np.float32(1e30), np.float32(-1e30)
ZERO = np.float32(0.0)
f32 = np.float32
SIDE = np.uint64(32)
"""Rays in a row of a tile."""


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy", _nrt=False)
def nothing(lo, hi, a, b):
    """Empties the intervals a..b."""
    for i in range(np.uint64(a), np.uint64(b)):
        lo[i], hi[i] = NONE_LOW, NONE_HIGH


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy", _nrt=False)
def stadium(row, move, rho, t0, t1):
    """Rays along a horizontal axis a, u is the other one; a disc of radius rho moves over t0..t1 of a `move`
    (pa, da, pb, db): from (pa, pb) by (da, db)."""
    lo, hi, o, g0, g1, u0, at = row
    pa, da, pb, db = move
    pa, pb = pa + t0 * da, pb + t0 * db
    da, db = da * (t1 - t0), db * (t1 - t0)
    r2, start = f32(rho * rho), f32(pa)
    m = abs(db)
    near = f32(u0 - pb)
    if m < 1e-12:
        low, high = f32(min(pa, pa + da)), f32(max(pa, pa + da))
        for i in range(g0, g1):
            w = near + at[i]
            q = r2 - w * w
            half = math.sqrt(q if q > ZERO else ZERO)
            lo[o + i] = low - half if q > ZERO else NONE_LOW
            hi[o + i] = high + half if q > ZERO else NONE_HIGH
        return
    sign = f32(1.0 if db >= 0.0 else -1.0)
    tilt = da / m
    slope, shift = f32(tilt), f32(tilt * rho / math.sqrt(1.0 + tilt * tilt))
    radius, m32 = f32(rho), f32(m)
    for i in range(g0, g1):
        foot = sign * (near + at[i])
        a, b = foot - radius, foot + radius
        first = a if a > ZERO else ZERO
        last = b if b < m32 else m32
        s = foot + shift
        s = s if s > first else first
        s = s if s < last else last
        q = r2 - (s - foot) * (s - foot)
        high = start + slope * s + math.sqrt(q if q > ZERO else ZERO)
        s = foot - shift
        s = s if s > first else first
        s = s if s < last else last
        q = r2 - (s - foot) * (s - foot)
        low = start + slope * s - math.sqrt(q if q > ZERO else ZERO)
        meets = (b > ZERO) & (a < m32)
        lo[o + i] = low if meets else NONE_LOW
        hi[o + i] = high if meets else NONE_HIGH


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy", _nrt=False)
def ball(row, move, r):
    """Rays along a; a `move` (pa, da, pu, du, wv, dv) of a ball's centre starts at (pa, pu), wv under the row
    in the third axis, and goes by (da, du, dv)."""
    lo, hi, o, g0, g1, u0, at = row
    pa, da, pu, du, wv, dv = move
    m = math.sqrt(du * du + dv * dv)
    r2, start, over, near = f32(r * r), f32(pa), f32(wv), f32(u0 - pu)
    if m < 1e-12:
        low, high = f32(min(pa, pa + da)), f32(max(pa, pa + da))
        for i in range(g0, g1):
            w = near + at[i]
            q = r2 - w * w - over * over
            half = math.sqrt(q if q > ZERO else ZERO)
            lo[o + i] = low - half if q > ZERO else NONE_LOW
            hi[o + i] = high + half if q > ZERO else NONE_HIGH
        return
    nu, nv = f32(du / m), f32(dv / m)
    tilt = da / m
    slope, lean, m32 = f32(tilt), f32(tilt / math.sqrt(1.0 + tilt * tilt)), f32(m)
    for i in range(g0, g1):
        w = near + at[i]
        foot = w * nu + over * nv
        aside = w * nv - over * nu
        rho2 = r2 - aside * aside
        rho = math.sqrt(rho2 if rho2 > ZERO else ZERO)
        a, b = foot - rho, foot + rho
        first = a if a > ZERO else ZERO
        last = b if b < m32 else m32
        s = foot + lean * rho
        s = s if s > first else first
        s = s if s < last else last
        q = rho2 - (s - foot) * (s - foot)
        high = start + slope * s + math.sqrt(q if q > ZERO else ZERO)
        s = foot - lean * rho
        s = s if s > first else first
        s = s if s < last else last
        q = rho2 - (s - foot) * (s - foot)
        low = start + slope * s - math.sqrt(q if q > ZERO else ZERO)
        meets = (rho2 > ZERO) & (b > ZERO) & (a < m32)
        lo[o + i] = low if meets else NONE_LOW
        hi[o + i] = high if meets else NONE_HIGH


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy", _nrt=False)
def plunge(row, px, wy, low, high, shape):
    """Rays along Z under a cutter of a `shape` as in `upright` that stands, or moves along Z from `low` (its
    tip) to `high` (its top)."""
    lo, hi, o, g0, g1, u0, at = row
    wide, flat, corner = shape
    w2, c2 = f32(wide * wide), f32(corner * corner)
    near = f32(u0 - px)
    c32, flat32, y, low32, high32 = f32(corner), f32(flat), f32(wy), f32(low), f32(high)
    for i in range(g0, g1):
        w = near + at[i]
        d2 = w * w + y * y
        over = math.sqrt(d2) - flat32
        over = over if over > ZERO else ZERO
        q = c2 - over * over
        lift = c32 - math.sqrt(q if q > ZERO else ZERO)
        lo[o + i] = low32 + lift if d2 < w2 else NONE_LOW
        hi[o + i] = high32 if d2 < w2 else NONE_HIGH


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy", _nrt=False)
def upright(row, move, shape, z0, z1):
    """Rays along Z under a cutter of a `shape` (wide, flat, corner): its lower side is a disc `flat` with a
    corner radius (0: none) at z0 over the tip, its top is at z1. The `move` (px, dx, wy, dy, pz, dz) starts
    at px, wy under the row, pz. Exact where the move is level or the corner is 0 or flat is 0."""
    px, dx, wy, dy, pz, dz = move
    m = math.sqrt(dx * dx + dy * dy)
    if m < 1e-12:
        plunge(row, px, wy, min(pz, pz + dz) + z0, max(pz, pz + dz) + z1, shape)
        return
    lo, hi, o, g0, g1, u0, at = row
    wide, flat, corner = shape
    nx, ny = f32(dx / m), f32(dy / m)
    tilt = dz / m
    lean = f32(0.0)
    if tilt != 0.0:
        lean = f32(tilt / math.sqrt(1.0 + tilt * tilt)) if flat == 0.0 else f32(1e9 if tilt > 0.0 else -1e9)
    slope, rise, fall = f32(tilt), f32(max(tilt, 0.0)), f32(min(tilt, 0.0))
    w2, c2, c32, flat32, y, m32 = (
        f32(wide * wide),
        f32(corner * corner),
        f32(corner),
        f32(flat),
        f32(wy),
        f32(m),
    )
    bottom, top, near = f32(pz + z0), f32(pz + z1), f32(u0 - px)
    for i in range(g0, g1):
        w = near + at[i]
        foot = w * nx + y * ny
        aside = w * ny - y * nx
        h2 = w2 - aside * aside
        half = math.sqrt(h2 if h2 > ZERO else ZERO)
        a, b = foot - half, foot + half
        first = a if a > ZERO else ZERO
        last = b if b < m32 else m32
        s = foot - lean * half
        s = s if s > first else first
        s = s if s < last else last
        over = math.sqrt(aside * aside + (s - foot) * (s - foot)) - flat32
        over = over if over > ZERO else ZERO
        q = c2 - over * over
        low = bottom + (slope * s + (c32 - math.sqrt(q if q > ZERO else ZERO)))
        high = top + (rise * last + fall * first)
        meets = (h2 > ZERO) & (b > ZERO) & (a < m32)
        lo[o + i] = low if meets else NONE_LOW
        hi[o + i] = high if meets else NONE_HIGH


@njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy", _nrt=False)
def flat_upright(row, move, wide, z0, z1):
    """As `upright` for a flat lower side, which needs one root instead of three; not for plunges."""
    lo, hi, o, g0, g1, u0, at = row
    px, dx, wy, dy, pz, dz = move
    m = math.sqrt(dx * dx + dy * dy)
    nx, ny = f32(dx / m), f32(dy / m)
    tilt = dz / m
    rise, fall = f32(max(tilt, 0.0)), f32(min(tilt, 0.0))
    w2, y, m32 = f32(wide * wide), f32(wy), f32(m)
    bottom, top, near = f32(pz + z0), f32(pz + z1), f32(u0 - px)
    for i in range(g0, g1):
        w = near + at[i]
        foot = w * nx + y * ny
        aside = w * ny - y * nx
        h2 = w2 - aside * aside
        half = math.sqrt(h2 if h2 > ZERO else ZERO)
        a, b = foot - half, foot + half
        first = a if a > ZERO else ZERO
        last = b if b < m32 else m32
        meets = (h2 > ZERO) & (b > ZERO) & (a < m32)
        lo[o + i] = bottom + (rise * first + fall * last) if meets else NONE_LOW
        hi[o + i] = top + (rise * last + fall * first) if meets else NONE_HIGH
