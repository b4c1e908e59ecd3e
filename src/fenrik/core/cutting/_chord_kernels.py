"""Where a chord of a track leaves the exact track most, found without sampling.

Over every primitive the tip's height along a line is concave: linear over a facet, and over an edge or vertex
the sup-convolution of something concave with the cutter's concave underside. So

- the greatest overcut of a chord is the greatest over its primitives of the maximum of a concave function
  less a linear one, each bracketed and searched in its own closed-form support;
- where two neighbouring places have the same winning primitive, nothing between them is lower than the line
  between them; where the winners differ, the lowest place is where the two curves cross, or another primitive
  stands over it, and then both sides are looked at again.
"""

import math
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from fenrik.core.cutting._kernels import EDGE, FACET, LOWEST, NONE, drop_one, primitive_tip


class Line(NamedTuple):
    """A line in XY from (x, y) mm towards (ux, uy), of length 1; places on it are s mm from its start."""

    x: float
    y: float
    ux: float
    uy: float


class Chord(NamedTuple):
    """A straight piece of a track over a line, from (sa, za) to (sb, zb) mm, and its `rise` per mm."""

    sa: float
    za: float
    sb: float
    zb: float
    rise: float


class Primitive(NamedTuple):
    """A facet, edge or vertex as the cutter touches it: kind, row and the cutter's shape (see `_kernels`)."""

    kind: int
    row: NDArray[np.float64]
    shape: tuple[float, ...]


class Limits(NamedTuple):
    """Of a held track, mm: chords stay within `tolerance`, none is shorter than `finest`, no tip is below
    `floor`."""

    tolerance: float
    finest: float
    floor: float


GOLDEN = 0.5 * (math.sqrt(5.0) - 1.0)


@njit(cache=True, nogil=True)
def _halfplane(value, rate, low, high):
    """Part of low..high in which value + rate * s >= 0."""
    if rate > 1e-300:
        return max(low, -value / rate), high
    if rate < -1e-300:
        return low, min(high, -value / rate)
    if value < 0.0:
        return 1.0, 0.0
    return low, high


@njit(cache=True, nogil=True)
def _disc(px, py, ux, uy, radius):
    """Where a line through (px, py) towards (ux, uy) passes a disc about the origin; low > high where it does
    not."""
    foot = -(px * ux + py * uy)
    across = px * uy - py * ux
    half = radius * radius - across * across
    if half <= 0.0:
        return 1.0, 0.0
    half = math.sqrt(half)
    return foot - half, foot + half


@njit(cache=True, nogil=True)
def _support(primitive, line, low, high):
    """The stretch of low..high along the line over which the cutter can touch the primitive."""
    kind, row, radius = primitive.kind, primitive.row, primitive.shape[0]
    x, y, ux, uy = line
    if kind == FACET:
        for side in range(3):
            nx, ny, c = row[3 + 3 * side], row[4 + 3 * side], row[5 + 3 * side]
            low, high = _halfplane(nx * x + ny * y + c, nx * ux + ny * uy, low, high)
        return low, high
    a, b = _disc(x - row[0], y - row[1], ux, uy, radius)
    if kind == EDGE:
        ex, ey, length = row[3], row[4], row[5]
        dx, dy = x - row[0], y - row[1]
        c, d = _disc(dx - ex * length, dy - ey * length, ux, uy, radius)
        if c <= d:
            a, b = (min(a, c), max(b, d)) if a <= b else (c, d)
        along, rate = dx * ex + dy * ey, ux * ex + uy * ey
        across, drift = dy * ex - dx * ey, uy * ex - ux * ey
        c, d = _halfplane(along, rate, -1e300, 1e300)
        c, d = _halfplane(length - along, -rate, c, d)
        c, d = _halfplane(radius - across, -drift, c, d)
        c, d = _halfplane(radius + across, drift, c, d)
        if c <= d:
            a, b = (min(a, c), max(b, d)) if a <= b else (c, d)
    return max(low, a), min(high, b)


@njit(cache=True, nogil=True)
def _over(primitive, line, chord, s):
    """Height of the tip on the primitive over the chord at s."""
    x, y, ux, uy = line
    kind, row, shape = primitive
    below = chord.za + chord.rise * (s - chord.sa)
    return primitive_tip(kind, row, x + ux * s, y + uy * s, shape, LOWEST) - below


@njit(cache=True, nogil=True)
def _most_over(primitive, line, chord, low, high, limit):
    """(place, height) of the greatest height over the chord within low..high, or any not over `limit`."""
    slack = 1e-9 * (high - low)  # rounding must not leave the support at its ends
    low, high = low + slack, high - slack
    f_low = _over(primitive, line, chord, low)
    f_high = _over(primitive, line, chord, high)
    if primitive.kind == FACET or high - low < 1e-7:
        return (low, f_low) if f_low > f_high else (high, f_high)
    best, f_best = (low, f_low) if f_low > f_high else (high, f_high)
    a, b = low, high
    c, d = b - GOLDEN * (b - a), a + GOLDEN * (b - a)
    f_c = _over(primitive, line, chord, c)
    f_d = _over(primitive, line, chord, d)
    f_a, f_b = f_low, f_high
    for _ in range(40):
        if f_c > f_best:
            best, f_best = c, f_c
        if f_d > f_best:
            best, f_best = d, f_d
        if f_best <= limit and f_a > 0.5 * LOWEST and f_b > 0.5 * LOWEST:
            # what a concave function can reach: the lines through neighbouring values, drawn on
            reach = max(f_c, f_d)
            reach = max(reach, f_c + (f_c - f_d) / (d - c) * (c - a), f_d + (f_d - f_c) / (d - c) * (b - d))
            between = min(f_c + (f_c - f_a) / (c - a) * (d - c), f_d + (f_d - f_b) / (b - d) * (d - c))
            if max(reach, between) <= limit:
                break
        if b - a < 1e-7:
            break
        if f_c > f_d:
            b, f_b = d, f_d
            d, f_d = c, f_c
            c = b - GOLDEN * (b - a)
            f_c = _over(primitive, line, chord, c)
        else:
            a, f_a = c, f_c
            c, f_c = d, f_d
            d = a + GOLDEN * (b - a)
            f_d = _over(primitive, line, chord, d)
    return best, f_best


@njit(cache=True, nogil=True)
def worst_over(line, chord, limit, tree):
    """(place, height) of the greatest height of the exact track over the chord; exact where it is over
    `limit`, else any value up to it."""
    x, y, ux, uy = line
    sa, za, sb, zb, rise = chord
    node_box, child, kinds, rows, shape = tree
    best, most = sa, 0.0
    stack = np.empty(96, dtype=np.int32)
    stack[0] = 0
    depth = 1
    lowest = min(za, zb)
    while depth > 0:
        depth -= 1
        node = stack[depth]
        box = node_box[node]
        if box[4] <= lowest + limit:
            continue
        a, b = _halfplane(x - box[0], ux, sa, sb)
        a, b = _halfplane(box[1] - x, -ux, a, b)
        a, b = _halfplane(y - box[2], uy, a, b)
        a, b = _halfplane(box[3] - y, -uy, a, b)
        if a > b or box[4] <= min(za + rise * (a - sa), za + rise * (b - sa)) + limit:
            continue
        left, right = child[node, 0], child[node, 1]
        if right >= 0:
            stack[depth], stack[depth + 1] = left, right
            depth += 2
            continue
        for k in range(left, left - right):
            primitive = Primitive(kinds[k], rows[k], shape)
            low, high = _support(primitive, line, a, b)
            if low > high:
                continue
            s, f = _most_over(primitive, line, chord, low, high, max(limit, most))
            if f > most:
                best, most = s, f
    return best, most


@njit(cache=True, nogil=True)
def _height(j, x, y, floor, tree):
    return floor if j < 0 else primitive_tip(tree.kinds[j], tree.rows[j], x, y, tree.shape, LOWEST)


@njit(cache=True, nogil=True)
def _crossing(winners, line, low, high, floor, tree):
    """(place, height, whether both meet there) where the curve of the first of two primitives gives way to
    that of the second, in low..high. They do not meet where one's support ends before the other's begins;
    then the place only lies between."""
    x, y, ux, uy = line
    ja, jb = winners
    za = zb = LOWEST
    for _ in range(40):
        s = 0.5 * (low + high)
        px, py = x + ux * s, y + uy * s
        za = _height(ja, px, py, floor, tree)
        zb = _height(jb, px, py, floor, tree)
        if za <= 0.5 * LOWEST and zb <= 0.5 * LOWEST:
            return s, LOWEST, False
        if abs(za - zb) < 1e-6:
            return s, min(za, zb), True
        if za > zb:
            low = s
        else:
            high = s
        if high - low < 1e-8:
            break
    return 0.5 * (low + high), max(za, zb), False


@njit(cache=True, nogil=True)
def worst_under(line, chord, at_ends, limits, tree):
    """(place, depth) of the greatest depth of the exact track under the chord; `at_ends` are the winning
    primitives at its ends (-1 the floor). Exact where it is over the tolerance (here straight down), but for
    places nearer than the finest to one another."""
    x, y, ux, uy = line
    sa, za, sb, _, rise = chord
    limit, finest, floor = limits
    best, most = sa, 0.0
    places = np.empty((64, 2))
    winners = np.empty((64, 2), dtype=np.int64)
    places[0], winners[0] = (sa, sb), at_ends
    depth = 1
    while depth > 0:
        depth -= 1
        a, b, j, k = places[depth, 0], places[depth, 1], winners[depth, 0], winners[depth, 1]
        if j == k or b - a < finest or depth > 60:
            continue
        s, z, meet = _crossing((j, k), line, a, b, floor, tree)
        chord = za + rise * (s - sa)
        if meet and chord - z <= max(limit, most):
            continue  # the exact track is at least as high, here and to both sides
        z, i = drop_one(x + ux * s, y + uy * s, floor, NONE, tree)
        if chord - z > most:
            best, most = s, chord - z
        if not meet or (i != j and i != k):
            places[depth, 0], places[depth, 1] = a, s
            winners[depth, 0], winners[depth, 1] = j, i
            places[depth + 1, 0], places[depth + 1, 1] = s, b
            winners[depth + 1, 0], winners[depth + 1, 1] = i, k
            depth += 2
    return best, most


@njit(cache=True, nogil=True)
def held_line(samples, line, limits, tree):
    """Samples (n, 2: s, z) of the track along a line with what is lacking put in, so that no chord leaves the
    exact track by more than the tolerance square to itself, on either side. Chords shorter than the finest
    are left."""
    x, y, ux, uy = line
    tolerance, finest, floor = limits
    capacity = 2 * len(samples) + 64
    out = np.empty((capacity, 2))
    out[0] = samples[0]
    used = 1
    z, winner = drop_one(x + ux * samples[0, 0], y + uy * samples[0, 0], floor, NONE, tree)
    stack = np.empty((64, 2))
    ends = np.empty(64, dtype=np.int64)
    for i in range(1, len(samples)):
        s = samples[i, 0]
        z, last = drop_one(x + ux * s, y + uy * s, floor, winner, tree)
        stack[0], ends[0] = samples[i], last
        depth = 1
        while depth > 0:
            sa, za = out[used - 1, 0], out[used - 1, 1]
            sb, zb = stack[depth - 1, 0], stack[depth - 1, 1]
            if sb - sa > finest and depth < 63:
                chord = Chord(sa, za, sb, zb, (zb - za) / (sb - sa))
                limit = tolerance * math.hypot(1.0, chord.rise)
                s, most = worst_over(line, chord, limit, tree)
                if most <= limit:
                    at_ends = (winner, ends[depth - 1])
                    s, most = worst_under(line, chord, at_ends, Limits(limit, finest, floor), tree)
                if most > limit and sa < s < sb:
                    z, j = drop_one(x + ux * s, y + uy * s, floor, NONE, tree)
                    stack[depth, 0], stack[depth, 1], ends[depth] = s, z, j
                    depth += 1
                    continue
            if used == capacity:
                capacity *= 2
                grown = np.empty((capacity, 2))
                grown[:used] = out
                out = grown
            out[used, 0], out[used, 1] = sb, zb
            used += 1
            depth -= 1
            winner = ends[depth]
    return out[:used].copy()
