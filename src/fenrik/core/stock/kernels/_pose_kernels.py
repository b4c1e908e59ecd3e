"""Rays against a body in one pose after the other of a short part of a move: the interval in a pose, and the
union over the part (see `_tilt_kernels`)."""

import math
from typing import Any

import numpy as np

from fenrik.core.stock.kernels._jit import njit
from fenrik.core.stock.kernels._sweep_kernels import FRUSTUM, KIND, MISS_HIGH, MISS_LOW, R0, R1, Z0, Z1
from fenrik.core.stock.kernels._tuples import Seen

POSES: Any = np.int64(5)
"""Poses along a part of a move. Of a type, as all that is handed on: a plain number has what it is handed to
compiled once more."""
CLOSE = 2e-3
"""The lowest of a smooth run of poses is where the parabola says, to within this (mm); else it is
searched."""
NEAR = 1e-6
"""How far (mm) from a rounded disc the ends of an interval may be."""
LOOKS, LOOKS_AT_RIMS = 3, 12
"""Steps of that search, two poses each."""
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
def frustum(cone, seen):
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
    """As `frustum` for a rounded disc: all within `corner` of a `disc` of radius `flat` at height `corner`,
    below it.

    The distance from a convex body is convex along the ray: Newton from outside comes down to it from either
    side. It begins where the interval of a pose near by ends (`like`: low, high), or, where there is none
    (a miss) or where that is on the other side of the body, at a ball about the disc. A step from inside
    leads outside, the distance being convex. `ends` as for `swept`: an end that is not asked for is left at
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
def seen_from(poses, k, line):
    """A line seen from pose k."""
    axis, pu, pv, u, v = line
    wu, wv, wa = pu - poses[k, u], pv - poses[k, v], -poses[k, axis]
    na = poses[k, 3 + axis]
    s0 = wu * poses[k, 3 + u] + wv * poses[k, 3 + v] + wa * na
    return Seen(na, s0, wa, wu * wu + wv * wv + wa * wa)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def _interval(body, poses, k, line, like, ends):
    """Interval of a line inside a body at pose k; `like` is that of a pose near by, or a miss."""
    seen = seen_from(poses, k, line)
    if body[KIND] == FRUSTUM:
        return frustum((body[Z0], body[Z1], body[R0], body[R1]), seen)
    return _rounded((body[R0], body[R1]), seen, like, ends)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def hull_of(body, part, out):
    """A cone (4: z0, z1, r0, r1) in the middle pose of a short part of a move that holds the body in all its
    poses."""
    dot = min(1.0, max(-1.0, part[3] * part[9] + part[4] * part[10] + part[5] * part[11]))
    tip = math.sqrt((part[6] - part[0]) ** 2 + (part[7] - part[1]) ** 2 + (part[8] - part[2]) ** 2)
    turn = 0.5 * math.acos(dot)
    z0, z1, r0, r1 = body[Z0], body[Z1], body[R0], body[R1]
    if body[KIND] != FRUSTUM:
        z0, r0, r1 = 0.0, body[R0] + body[R1], body[R0] + body[R1]
    k = (r1 - r0) / (z1 - z0)
    # a spot moves by half the way of the tip and by the turn times its distance from it, at most
    far = 0.5 * tip + turn * max(z0 + r0, z1 + r1)
    # as far along the axis and as far aside: the cone's own slope, carried on beyond both ends
    out[0], out[1] = z0 - far, z1 + far
    out[2], out[3] = r0 + far * (1.0 + abs(k) - k), r1 + far * (1.0 + abs(k) + k)


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def nearer_by(body, part):
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
def clear_of(body, poses, line, low, high, margin):
    """Whether the piece low..high of a ray stays outside a rounded disc at both ends of a part of a move by
    the margin: the distance is convex, so an end that far off and moving away will do for the whole piece."""
    least = body[R1] + margin
    disc = (body[R0], body[R1])
    for k in range(0, POSES, POSES - 1):
        seen = seen_from(poses, k, line)
        away, slope = _disc_slope(disc, seen, low)
        if away > least and slope >= 0.0:
            continue
        away, slope = _disc_slope(disc, seen, high)
        if away > least and slope <= 0.0:
            continue
        return False
    return True


@njit(cache=True, nogil=True, error_model="numpy", _nrt=False)
def inside(body, seen, at):
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
def has_rim(body):
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
        return best, k, (k == 0 or k == last) and not has_rim(body)
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
    for _ in range(LOOKS_AT_RIMS if has_rim(body) else LOOKS):
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
def swept(body, poses, line, spare, ends, like):
    """Interval that a ray loses to a body in a part of a move whose `poses` are given. Three poses and the
    one where the parabola through them ends are enough where the ends of the interval run smoothly; else
    `_searched`. Of `ends` (BOTH, LOW_END, HIGH_END) the other is anywhere; `like` (low, high) holds them
    all."""
    if has_rim(body):
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
    """As `swept`, by all poses, and a golden section where no parabola fits."""
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
