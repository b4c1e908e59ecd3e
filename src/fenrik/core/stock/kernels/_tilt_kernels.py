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
from typing import Any

import numpy as np

from fenrik.core.stock.kernels import _row_kernels as rows
from fenrik.core.stock.kernels._jit import njit
from fenrik.core.stock.kernels._sweep_kernels import BALL, FRUSTUM
from fenrik.core.stock.kernels._tile_kernels import FAR, SIDE, TILE, TRACE, carve, keep, scratch_of
from fenrik.core.stock.kernels._tuples import Line, Poses, Row, Seen

KIND, Z0, Z1, R0, R1 = range(5)
POSES: Any = np.int64(5)
"""Poses along a part of a move. Of a type, as all that is handed on: a plain number has what it is handed to
compiled once more."""
MOST_MM, MOST_RAD = 0.8, 0.02
"""A part of a move is no longer and turns no more than this."""
CLOSE = 2e-3
"""The lowest of a smooth run of poses is where the parabola says, to within this (mm); else it is
searched."""
NEAR = 1e-6
"""How far (mm) from a rounded disc the ends of an interval may be."""
LOOKS, LOOKS_AT_RIMS = 3, 12
"""Steps of that search, two poses each."""
MISS_LOW, MISS_HIGH = 1.0, 0.0
BOTH, HIGH_END, LOW_END = np.int64(0), np.int64(2), np.int64(1)
"""Which ends of an interval are asked for."""


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def pose(move, t, out):
    """Tip and axis (6,) at share t of a move."""
    dot = min(1.0, max(-1.0, move[3] * move[9] + move[4] * move[10] + move[5] * move[11]))
    angle = math.acos(dot)
    for k in range(3):
        out[k] = move[k] + t * (move[6 + k] - move[k])
    if angle < 1e-9:
        out[3], out[4], out[5] = move[3], move[4], move[5]
        return
    a, b = math.sin((1.0 - t) * angle) / math.sin(angle), math.sin(t * angle) / math.sin(angle)
    for k in range(3):
        out[3 + k] = a * move[3 + k] + b * move[9 + k]


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _between(poses, t):
    """The pose at share t of a short part of a move, into the last row: its axis is on the great circle; that
    it is a little before or after its time (the turn³ / 60) is not seen."""
    size = 0.0
    for k in range(3):
        poses[POSES, k] = poses[0, k] + t * (poses[POSES - 1, k] - poses[0, k])
        n = poses[0, 3 + k] + t * (poses[POSES - 1, 3 + k] - poses[0, 3 + k])
        poses[POSES, 3 + k] = n
        size += n * n
    size = 1.0 / math.sqrt(size)
    for k in range(3, 6):
        poses[POSES, k] *= size


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _frustum(cone, seen):
    """Interval of a ray inside a `cone` (z0, z1, r0, r1): along the ray the height is s0 + na * l and the
    square of the distance from the tip w2 + 2 wa l + l²."""
    z0, z1, r0, r1 = cone
    na, s0, wa, w2 = seen
    if abs(na) > 1e-12:
        a, b = (z0 - s0) / na, (z1 - s0) / na
        low, high = min(a, b), max(a, b)
    elif s0 < z0 or s0 > z1:
        return MISS_LOW, MISS_HIGH
    else:
        low, high = -1e30, 1e30
    k = (r1 - r0) / (z1 - z0)
    base = r0 + k * (s0 - z0)  # radius at l = 0
    qa = 1.0 - na * na * (1.0 + k * k)
    qb = wa - s0 * na - k * na * base
    qc = w2 - s0 * s0 - base * base
    if abs(qa) < 1e-12:
        if abs(qb) < 1e-12:
            return (low, high) if qc <= 0.0 else (MISS_LOW, MISS_HIGH)
        root = -0.5 * qc / qb
        if qb > 0.0:
            high = min(high, root)
        else:
            low = max(low, root)
        return (low, high) if low < high else (MISS_LOW, MISS_HIGH)
    disc = qb * qb - qa * qc
    if disc <= 0.0:
        if qa > 0.0:
            return MISS_LOW, MISS_HIGH
        return low, high
    root = math.sqrt(disc)
    first, last = (-qb - root) / qa, (-qb + root) / qa
    if qa > 0.0:
        low, high = max(low, first), min(high, last)
        return (low, high) if low < high else (MISS_LOW, MISS_HIGH)
    first, last = last, first  # inside is before the one and behind the other; one nappe lies in the slab
    if low < first:
        return low, min(high, first)
    if high > last:
        return max(low, last), high
    return MISS_LOW, MISS_HIGH


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _disc_slope(disc, seen, at):
    """Distance of a ray's spot from a `disc` (radius flat at height corner), and how it changes along the
    ray."""
    flat, corner = disc
    na, s0, wa, w2 = seen
    s = s0 + na * at
    d = math.sqrt(max(0.0, w2 + 2.0 * wa * at + at * at - s * s))
    over, up = max(0.0, d - flat), s - corner
    away = math.sqrt(over * over + up * up)
    slope = up * na
    if over > 0.0 and d > 1e-12:
        slope += over * (wa + at - s * na) / d
    return away, slope / max(away, 1e-12)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _rounded(disc, seen, like, ends):
    """As `_frustum` for a rounded disc: all within `corner` of a `disc` of radius `flat` at height `corner`,
    below it.

    The distance from a convex body is convex along the ray: Newton from outside comes down to it from either
    side. It begins where the interval of a pose near by ends (`like`: low, high), or, where there is none
    (a miss) or where that is on the other side of the body, at a ball about the disc. A step from inside
    leads outside, the distance being convex. `ends` as for `_swept`: an end that is not asked for is left at
    that ball.
    """
    flat, corner = disc
    na, s0, wa, w2 = seen
    like_low, like_high = like
    # the ray enters and leaves a ball about the disc's middle
    mb, mc = wa - corner * na, w2 - 2.0 * corner * s0 + corner * corner - (flat + corner) ** 2
    under = mb * mb - mc
    if under <= 0.0:
        return MISS_LOW, MISS_HIGH
    root = math.sqrt(under)
    low, high = -mb - root, -mb + root
    if abs(na) > 1e-12:
        at = (corner - s0) / na
        if na > 0.0:
            high = min(high, at)
        else:
            low = max(low, at)
    elif s0 > corner:
        return MISS_LOW, MISS_HIGH
    if low >= high:
        return MISS_LOW, MISS_HIGH
    for side in range(2):
        if ends + side == 2:
            continue
        outermost = low if side == 0 else high
        at = outermost
        sign = 1.0 if side == 0 else -1.0
        warm = like_low < like_high
        if warm:
            at = min(high, max(low, like_low if side == 0 else like_high))
        for _ in range(30):
            away, slope = _disc_slope(disc, seen, at)
            value = away - corner
            if abs(value) <= NEAR or (not warm and value <= 0.0):
                break
            if slope * sign >= -1e-12:
                if not warm:
                    return MISS_LOW, MISS_HIGH
                at, warm = outermost, False
                continue
            at -= value / slope
            if warm:
                warm = False
                at = max(at, low) if side == 0 else min(at, high)
            if (side == 0 and at >= high) or (side == 1 and at <= low):
                return MISS_LOW, MISS_HIGH
        if side == 0:
            low = at
        else:
            high = at
    return (low, high) if low < high else (MISS_LOW, MISS_HIGH)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _ray(poses, k, line):
    """A line seen from pose k."""
    axis, pu, pv, u, v = line
    wu, wv, wa = pu - poses[k, u], pv - poses[k, v], -poses[k, axis]
    na = poses[k, 3 + axis]
    s0 = wu * poses[k, 3 + u] + wv * poses[k, 3 + v] + wa * na
    return Seen(na, s0, wa, wu * wu + wv * wv + wa * wa)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _interval(body, poses, k, line, like, ends):
    """Interval of a line inside a body at pose k; `like` is that of a pose near by, or a miss."""
    seen = _ray(poses, k, line)
    if body[KIND] == FRUSTUM:
        return _frustum((body[Z0], body[Z1], body[R0], body[R1]), seen)
    return _rounded((body[R0], body[R1]), seen, like, ends)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _hull(body, part, out):
    """A cone (4: z0, z1, r0, r1) in the middle pose of a short part of a move that holds the body in all its
    poses."""
    dot = min(1.0, max(-1.0, part[3] * part[9] + part[4] * part[10] + part[5] * part[11]))
    tip = math.sqrt((part[6] - part[0]) ** 2 + (part[7] - part[1]) ** 2 + (part[8] - part[2]) ** 2)
    turn = 0.5 * math.acos(dot)
    z0, z1, r0, r1 = body[Z0], body[Z1], body[R0], body[R1]
    if body[KIND] != FRUSTUM:
        z0, r0, r1 = 0.0, body[R0] + body[R1], body[R0] + body[R1]
    lean = 1.0 + abs(r1 - r0) / (z1 - z0)
    # a spot moves by half the way of the tip and by the turn times its distance from it
    low, high = 0.5 * tip + turn * (z0 + r0), 0.5 * tip + turn * (z1 + r1)
    out[0], out[1] = z0 - low, z1 + high
    out[2], out[3] = r0 + low * lean, r1 + high * lean


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _nearest(body, part):
    """How much nearer a rounded disc can come to a spot outside it in a short part of a move than at its
    ends.

    Seen from the tool the spot moves. Where a straight way of length s comes nearest to a convex body, it is
    square to the shortest line, so by Pythagoras an end of it is at most s² / 8 c farther off than c; from
    its chord the way bends by an eighth of its second derivative.
    """
    dot = min(1.0, max(-1.0, part[3] * part[9] + part[4] * part[10] + part[5] * part[11]))
    way = math.sqrt((part[6] - part[0]) ** 2 + (part[7] - part[1]) ** 2 + (part[8] - part[2]) ** 2)
    turn = math.acos(dot)
    speed = way + turn * (body[R0] + 3.0 * body[R1] + way)
    return 0.125 * (speed * speed / body[R1] + turn * (speed + way)) + 1e-6


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _clear_of(body, poses, line, low, high, margin):
    """Whether the piece low..high of a ray stays outside a rounded disc at both ends of a part of a move by
    the margin: the distance is convex, so an end that far off and moving away will do for the whole piece."""
    least = body[R1] + margin
    disc = (body[R0], body[R1])
    for k in range(0, POSES, POSES - 1):
        seen = _ray(poses, k, line)
        away, slope = _disc_slope(disc, seen, low)
        if away > least and slope >= 0.0:
            continue
        away, slope = _disc_slope(disc, seen, high)
        if away > least and slope <= 0.0:
            continue
        return False
    return True


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _inside(body, seen, at):
    """Whether a ray's spot lies in a body."""
    na, s0, wa, w2 = seen
    s = s0 + na * at
    if s < body[Z0] or s > body[Z1]:
        return False
    if body[KIND] != FRUSTUM:
        return _disc_slope((body[R0], body[R1]), seen, at)[0] < body[R1]
    wide = body[R0] + (body[R1] - body[R0]) * (s - body[Z0]) / (body[Z1] - body[Z0])
    return w2 + 2.0 * wa * at + at * at - s * s < wide * wide


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _has_rim(body):
    """Whether a body begins with a sharp rim at the tip: one that begins higher stands on another."""
    return body[KIND] == FRUSTUM and body[Z0] == 0.0 and body[R0] > 0.0


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _extreme(values, sign, body, poses, line, spare):
    """Least of sign * values over the poses, at which, and whether it is sure: where the parabola through
    three of them says that it lies beyond them, or where an exact pose in between agrees with it."""
    last = POSES - 1
    k = 0
    for q in range(1, POSES):
        if sign * values[q] < sign * values[k]:
            k = q
    best = sign * values[k]
    middle = min(last - 1, max(1, k))
    low, at, high = sign * values[middle - 1], sign * values[middle], sign * values[middle + 1]
    if low > 1e29 or at > 1e29 or high > 1e29:
        return best, k, False
    shift, expected = _least(low, at, high)
    place = middle + shift
    if place <= 0.0 or place >= last:
        return best, k, (k == 0 or k == last) and not _has_rim(body)
    if abs(shift) > 1.0:
        return best, k, False
    _between(poses, place / last)
    end = LOW_END if sign > 0.0 else HIGH_END
    a, b = _interval(body, poses, POSES, line, (spare[0, middle], spare[1, middle]), end)
    if a >= b:
        return best, k, False
    seen = sign * (a if sign > 0.0 else b)
    return min(best, seen), k, abs(seen - expected) < CLOSE


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _look(found, sign, body, poses, line, spare):
    """The least of sign * end about a pose, (that least so far, the pose) being what was `found`, by golden
    section, over poses that meet the ray."""
    best, k = found
    p, q = max(0, k - 1) / (POSES - 1), min(POSES - 1, k + 1) / (POSES - 1)
    end = LOW_END if sign > 0.0 else HIGH_END
    for _ in range(LOOKS_AT_RIMS if _has_rim(body) else LOOKS):
        c, e = q - 0.6180339887 * (q - p), p + 0.6180339887 * (q - p)
        _between(poses, c)
        a, b = _interval(body, poses, POSES, line, (spare[0, k], spare[1, k]), end)
        fc = (sign * (a if sign > 0.0 else b)) if a < b else 1e30
        _between(poses, e)
        a, b = _interval(body, poses, POSES, line, (spare[0, k], spare[1, k]), end)
        fe = (sign * (a if sign > 0.0 else b)) if a < b else 1e30
        best = min(best, fc, fe)
        if fc < fe:
            q = e
        else:
            p = c
    return best


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _least(low, at, high):
    """Where the parabola through values at -1, 0 and 1 is least, and its value there; beyond them where it
    has no least."""
    rise, bend = high - low, low - 2.0 * at + high
    shift = -0.5 * rise / bend if bend > 1e-12 else -rise * 1e30
    return shift, at + 0.25 * rise * shift


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _swept(body, poses, line, spare, ends, like):
    """Interval that a ray loses to a body in a part of a move whose `poses` are given. Three poses and the
    one where the parabola through them ends are enough where the ends of the interval run smoothly; else
    `_searched`. Of `ends` (BOTH, LOW_END, HIGH_END) the other is anywhere; `like` (low, high) holds them
    all."""
    if _has_rim(body):
        return _searched(body, poses, line, spare, ends, like)
    a1, b1 = _interval(body, poses, POSES // 2, line, like, ends)
    if a1 >= b1:
        return _searched(body, poses, line, spare, ends, like)
    a0, b0 = _interval(body, poses, np.int64(0), line, (a1, b1), ends)
    a2, b2 = _interval(body, poses, POSES - 1, line, (a1, b1), ends)
    if a0 >= b0 or a2 >= b2:
        return _searched(body, poses, line, spare, ends, like)
    low, high = -1e30, 1e30
    if ends != HIGH_END:
        low = min(a0, min(a1, a2))
        shift, expected = _least(a0, a1, a2)
        if abs(shift) < 1.0:
            _between(poses, 0.5 + 0.5 * shift)
            c, d = _interval(body, poses, POSES, line, (a1, b1), LOW_END)
            if c >= d or abs(c - expected) >= CLOSE:
                return _searched(body, poses, line, spare, ends, like)
            low = min(low, c)
    if ends != LOW_END:
        high = max(b0, max(b1, b2))
        shift, expected = _least(-b0, -b1, -b2)
        if abs(shift) < 1.0:
            _between(poses, 0.5 + 0.5 * shift)
            c, d = _interval(body, poses, POSES, line, (a1, b1), HIGH_END)
            if c >= d or abs(d + expected) >= CLOSE:
                return _searched(body, poses, line, spare, ends, like)
            high = max(high, d)
    return low, high


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _searched(body, poses, line, spare, ends, like):
    """As `_swept`, by all poses, and a golden section where no parabola fits."""
    a, b = like
    lows, highs = spare[0], spare[1]
    for k in range(POSES):
        a, b = _interval(body, poses, k, line, (a, b), ends)
        lows[k], highs[k] = (a, b) if a < b else (1e30, -1e30)
    low, at_low, sure_low = -1e30, 0, True
    high, at_high, sure_high = -1e30, 0, True
    if ends != HIGH_END:
        low, at_low, sure_low = _extreme(lows, 1.0, body, poses, line, spare)
    if ends != LOW_END:
        high, at_high, sure_high = _extreme(highs, -1.0, body, poses, line, spare)
    if (low if ends != HIGH_END else high) > 1e29:
        return MISS_LOW, MISS_HIGH
    if not sure_low:
        low = _look((low, at_low), 1.0, body, poses, line, spare)
    if not sure_high:
        high = _look((high, at_high), -1.0, body, poses, line, spare)
    return low, -high


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _steady_frame(move, out):
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
def _slab(low, high, at, along, first, last):
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
def _steady_cylinder(cylinder, q, e, run, rise):
    """Interval of a line q + e l (in the directions of `_steady_frame`, from the first tip) inside a
    `cylinder` (z0, z1, radius) that moves straight by `run` and `rise`: exact.

    A spot is inside at some moments; among them is the first or the last of the way, one at which an end of
    the cylinder passes, or the one at which the axis comes nearest. So the sweep is both end poses, its two
    discs swept and the prism that its greatest breadth sweeps; it is convex, so its part of a line goes from
    the least to the greatest end.
    """
    z0, z1, radius = cylinder
    low, high = 1e30, -1e30
    for end in range(2):
        a, b = _slab(-1e30, 1e30, q[2] - end * rise, e[2], z0, z1)
        if a < b:
            a, b = _disc_swept((a, b), (q[0] - end * run, e[0]), (q[1], e[1]), radius)
            if a < b:
                low, high = min(low, a), max(high, b)
    if abs(rise) > 1e-12:
        for end in range(2):
            z = z0 if end == 0 else z1
            a, b = _slab(-1e30, 1e30, (q[2] - z) / rise, e[2] / rise, 0.0, 1.0)
            if a < b:
                k = run / rise
                a, b = _disc_swept((a, b), (q[0] - k * (q[2] - z), e[0] - k * e[2]), (q[1], e[1]), radius)
                if a < b:
                    low, high = min(low, a), max(high, b)
    if run > 0.0:
        a, b = _slab(-1e30, 1e30, q[0], e[0], 0.0, run)
        if a < b:
            a, b = _slab(a, b, q[1], e[1], -radius, radius)
        if a < b:
            k = rise / run
            a, b = _slab(a, b, q[2] - k * q[0], e[2] - k * e[0], z0, z1)
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
def _steady_rounded(disc, q, e, run, rise, within):
    """As `_steady_cylinder` for all within `corner` of a disc, which lies `within` (low, high); by Newton
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
def _is_steady(bodies, b, move):
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
        _steady_frame(move, frame)
        for k in range(3):
            e[k] = frame[3 * k + direction]
    elif body[KIND] != BALL:
        _hull(body, part, hull)
    margin = _nearest(body, part) if body[KIND] != FRUSTUM else 0.0
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
        for i in range(i0, i1 + 1):
            r = tile * TILE + j * SIDE + i
            if last[r] <= out[6] or first[r] >= out[7]:
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
                a, b = _steady_cylinder((body[Z0], top, wide), q, e, frame[9], frame[10])
            else:
                seen = _ray(poses, POSES // 2, line)
                a, b = _frustum((hull[0], hull[1], hull[2], hull[3]), seen)
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
                        clear = _clear_of(body, poses, line, c, np.float64(void_low[r]), margin)
                        if clear and _clear_of(body, poses, line, np.float64(void_high[r]), d, margin):
                            continue
                    elif _clear_of(body, poses, line, c, d, margin):
                        continue
                # an end that lies in the body in some pose need not be looked for: beyond it there is no
                # material
                low_known = c > a and _inside(body, seen, c)
                high_known = d < b and _inside(body, seen, d)
                if not (low_known and high_known):
                    asked = HIGH_END if low_known else (LOW_END if high_known else BOTH)
                    a, b = _swept(body, poses, line, spare, asked, (a, b))
                if a < b:
                    a, b = beyond_c if low_known else a, beyond_d if high_known else b
            elif body[KIND] != FRUSTUM:
                a, b = _steady_rounded((body[R0], body[R1]), q, e, frame[9], frame[10], (a, b))
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
        if _has_rim(bodies[b]):
            parts *= 2
        if bodies[b, KIND] == BALL:
            parts = max(1, int(math.ceil(math.acos(dot) / 0.04 - 1e-9)))
        _sight(move, room.sight)
        steady = _is_steady(bodies, b, move)
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
