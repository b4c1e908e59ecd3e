"""Numba kernels of the proof of motion: poses of one body in the frame of another, how far they move in a
range of joint values, and which ranges boxes about the bodies clear.

A pair's `chain` are the joints between its two bodies, first to last from the one that stands still: rows of
kind (1 rotary), axis (3), point (3) and the column of its values in the table of motion.
"""

import math
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

ROTARY, AXIS, POINT, COLUMN = 0, 1, 4, 7
DEEPEST = 48
"""Halvings of a piece's time before a range counts as a place."""


class Track(NamedTuple):
    """Joint values at both ends of straight pieces (m, n), and over 1, 2, 4, ... pieces the least and
    greatest: rows of all levels one after the other, and where each level begins (`ranges`)."""

    start: NDArray[np.float64]
    end: NDArray[np.float64]
    low: NDArray[np.float64]
    high: NDArray[np.float64]
    offsets: NDArray[np.int64]


@njit(cache=True, nogil=True)
def exponential(row, value, out):
    """`out` (3, 4) is the rigid motion of one joint by a value, mm or degrees."""
    x, y, z = row[1], row[2], row[3]
    if row[ROTARY] < 0.5:
        out[:, :3] = np.eye(3)
        out[0, 3], out[1, 3], out[2, 3] = x * value, y * value, z * value
        return
    angle = math.radians(value)
    s, c = math.sin(angle), math.cos(angle)
    k = 1.0 - c
    out[0, 0], out[0, 1], out[0, 2] = c + x * x * k, x * y * k - z * s, x * z * k + y * s
    out[1, 0], out[1, 1], out[1, 2] = y * x * k + z * s, c + y * y * k, y * z * k - x * s
    out[2, 0], out[2, 1], out[2, 2] = z * x * k - y * s, z * y * k + x * s, c + z * z * k
    for i in range(3):
        out[i, 3] = row[4 + i] - out[i, 0] * row[4] - out[i, 1] * row[5] - out[i, 2] * row[6]


@njit(cache=True, nogil=True)
def product(a, b, out):
    """`out` (3, 4) = a b, rigid motions."""
    for i in range(3):
        for j in range(4):
            v = a[i, 0] * b[0, j] + a[i, 1] * b[1, j] + a[i, 2] * b[2, j]
            out[i, j] = v + a[i, 3] if j == 3 else v


@njit(cache=True, nogil=True)
def from_axis(row, p):
    """Distance of a place (3,) from a joint's axis, mm."""
    d0, d1, d2 = p[0] - row[4], p[1] - row[5], p[2] - row[6]
    along = d0 * row[1] + d1 * row[2] + d2 * row[3]
    return math.sqrt(max(0.0, d0 * d0 + d1 * d1 + d2 * d2 - along * along))


@njit(cache=True, nogil=True)
def placed(chain, middle, half, balls, pose, before):
    """The second body's `pose` (3, 4) in the frame of the first at joint values `middle`, and by how much
    mm the distance of both may change while every joint leaves its middle by `half` at most.

    `balls` (2, 4) are middle and radius of a ball about each body. Joint after joint, a turning one moves a
    point by its angle times the point's distance from the axis: the farthest point of either body counts, the
    lesser of both, for it is the same whether the one or the other is taken to move. `before` (k + 1, 3, 4)
    is scratch: the motion of all joints before each.
    """
    count = len(chain)
    one = np.empty((3, 4))
    before[0] = 0.0
    for i in range(3):
        before[0, i, i] = 1.0
    for j in range(count):
        exponential(chain[j], middle[int(chain[j, COLUMN])], one)
        product(before[j], one, before[j + 1])
    pose[:] = before[count]
    # what joints between a joint and either body may add to the distance of that body from its axis
    first = np.zeros(count + 1)
    bound = 0.0
    inner = np.zeros(count + 1)
    place = np.empty(3)
    radii = np.empty((count, 2))
    for j in range(count):  # the first body's middle, as the joint sees it
        for i in range(3):
            d = 0.0
            for k in range(3):
                d += before[j, k, i] * (balls[0, k] - before[j, k, 3])
            place[i] = d
        radii[j, 0] = from_axis(chain[j], place) + balls[0, 3]
    for j in range(count):  # the second's: from the joint on to it
        # behind joint j: before[j + 1]^-1 pose applied to its middle
        for i in range(3):
            d = 0.0
            for k in range(3):
                w = pose[k, 0] * balls[1, 0] + pose[k, 1] * balls[1, 1] + pose[k, 2] * balls[1, 2]
                d += before[j + 1, k, i] * (w + pose[k, 3] - before[j + 1, k, 3])
            place[i] = d
        radii[j, 1] = from_axis(chain[j], place) + balls[1, 3]
    for j in range(count):
        way = half[int(chain[j, COLUMN])]
        if chain[j, ROTARY] < 0.5:
            first[j + 1] = first[j] + way
        else:
            first[j + 1] = first[j] + math.radians(way) * (radii[j, 0] + first[j])
    for j in range(count - 1, -1, -1):
        way = half[int(chain[j, COLUMN])]
        if chain[j, ROTARY] < 0.5:
            step = way
            inner[j] = inner[j + 1] + way
        else:
            turn = math.radians(way)
            inner[j] = inner[j + 1] + turn * (radii[j, 1] + inner[j + 1])
            step = turn * min(radii[j, 1] + inner[j + 1], radii[j, 0] + first[j])
        bound += step
    return bound


@njit(cache=True, nogil=True)
def box_distance(one, two, pose):
    """A lower bound of the distance mm of two boxes (low, high: 6), the second placed by `pose` (3, 4): the
    greatest gap along the directions of their sides and those square to two of them (Gottschalk 1996)."""
    ca, ha = np.empty(3), np.empty(3)
    cb, hb = np.empty(3), np.empty(3)
    for i in range(3):
        ca[i], ha[i] = 0.5 * (one[i] + one[3 + i]), 0.5 * (one[3 + i] - one[i])
        cb[i], hb[i] = 0.5 * (two[i] + two[3 + i]), 0.5 * (two[3 + i] - two[i])
    t = np.empty(3)
    for i in range(3):
        t[i] = pose[i, 3] + pose[i, 0] * cb[0] + pose[i, 1] * cb[1] + pose[i, 2] * cb[2] - ca[i]
    best = -1e300
    outside = 0.0
    for i in range(3):
        gap = abs(t[i]) - ha[i]
        for j in range(3):
            gap -= abs(pose[i, j]) * hb[j]
        best = max(best, gap)
        if gap > 0.0:
            outside += gap * gap
    # gaps along the three sides of one box belong to a box about the other: together they are its distance
    best = max(best, math.sqrt(outside)) if outside > 0.0 else best
    outside = 0.0
    for j in range(3):
        along = t[0] * pose[0, j] + t[1] * pose[1, j] + t[2] * pose[2, j]
        gap = abs(along) - hb[j]
        for i in range(3):
            gap -= abs(pose[i, j]) * ha[i]
        best = max(best, gap)
        if gap > 0.0:
            outside += gap * gap
    best = max(best, math.sqrt(outside)) if outside > 0.0 else best
    for i in range(3):
        i1, i2 = (i + 1) % 3, (i + 2) % 3
        for j in range(3):
            j1, j2 = (j + 1) % 3, (j + 2) % 3
            length = math.sqrt(max(0.0, 1.0 - pose[i, j] * pose[i, j]))
            if length < 1e-6:
                continue
            gap = abs(t[i2] * pose[i1, j] - t[i1] * pose[i2, j])
            gap -= ha[i1] * abs(pose[i2, j]) + ha[i2] * abs(pose[i1, j])
            gap -= hb[j1] * abs(pose[i, j2]) + hb[j2] * abs(pose[i, j1])
            best = max(best, gap / length)
    return best


@njit(cache=True, nogil=True)
def boxes_distance(first, second, pose):
    """The least of `box_distance` over boxes (n, 6) of one body and (m, 6) of the other."""
    best = 1e300
    for a in range(len(first)):
        for b in range(len(second)):
            best = min(best, box_distance(first[a], second[b], pose))
    return best


@njit(cache=True, nogil=True)
def range_of(track, level, number, begin, finish, middle, half):
    """Middle and half width (n,) of the joint values in a range: pieces `number` 2^level and on, or of one
    piece the share of its time from `begin` to `finish`."""
    start, end, low, high = track.start, track.end, track.low, track.high
    if level == 0:
        for j in range(start.shape[1]):
            a = start[number, j] + begin * (end[number, j] - start[number, j])
            b = start[number, j] + finish * (end[number, j] - start[number, j])
            middle[j], half[j] = 0.5 * (a + b), 0.5 * abs(b - a)
        return
    row = track.offsets[level] + number
    for j in range(start.shape[1]):
        middle[j], half[j] = 0.5 * (low[row, j] + high[row, j]), 0.5 * (high[row, j] - low[row, j])


@njit(cache=True, nogil=True)
def ranges(start, end):
    """Least and greatest joint values over 1, 2, 4, ... pieces of (m, n): rows of all levels one after the
    other, and where each level begins."""
    count, n = start.shape
    levels, size, total = 1, count, count
    while size > 1:
        size = (size + 1) // 2
        total += size
        levels += 1
    low, high = np.empty((total, n)), np.empty((total, n))
    offsets = np.zeros(levels + 1, dtype=np.int64)
    for i in range(count):
        for j in range(n):
            low[i, j], high[i, j] = min(start[i, j], end[i, j]), max(start[i, j], end[i, j])
    begin, size = 0, count
    for level in range(1, levels):
        offsets[level] = begin + size
        here, rows = begin + size, (size + 1) // 2
        for i in range(rows):
            a, b = begin + 2 * i, begin + min(2 * i + 1, size - 1)
            for j in range(n):
                low[here + i, j] = min(low[a, j], low[b, j])
                high[here + i, j] = max(high[a, j], high[b, j])
        begin, size = here, rows
    offsets[levels] = total
    return low, high, offsets


@njit(cache=True, nogil=True)
def uncleared(track, chain, balls, first, second, margin, widest, most):
    """Ranges (k, 4: level, number, begin, finish) in which boxes about the bodies do not show that these stay
    `margin` mm apart, in the order of time, each so small that their distance changes by `widest` mm at most.
    Stops after `most`, with how many pieces (of their first) are done."""
    n, offsets = track.start.shape[1], track.offsets
    top = len(offsets) - 2
    stack = np.empty((4 * (top + DEEPEST + 2), 4))
    out = np.empty((most, 4))
    stack[0, 0], stack[0, 1], stack[0, 2], stack[0, 3] = top, 0, 0.0, 1.0
    depth, found = 1, 0
    middle, half = np.empty(n), np.empty(n)
    pose, before = np.empty((3, 4)), np.empty((len(chain) + 1, 3, 4))
    while depth > 0:
        depth -= 1
        level, number = int(stack[depth, 0]), int(stack[depth, 1])
        begin, finish = stack[depth, 2], stack[depth, 3]
        range_of(track, level, number, begin, finish, middle, half)
        bound = placed(chain, middle, half, balls, pose, before)
        if boxes_distance(first, second, pose) > margin + bound:
            continue
        if bound <= widest:
            if found == most:
                return out, -1
            out[found, 0], out[found, 1], out[found, 2], out[found, 3] = level, number, begin, finish
            found += 1
            continue
        depth = divided(stack, depth, level, number, begin, finish, offsets)
    return out[:found], found


@njit(cache=True, nogil=True)
def divided(stack, depth, level, number, begin, finish, offsets):
    """Puts both halves of a range on a stack, the earlier on top; the new depth."""
    if level > 0:
        size = offsets[level] - offsets[level - 1]
        later, earlier = 2 * number + 1, 2 * number
        if later < size:
            stack[depth, 0], stack[depth, 1], stack[depth, 2], stack[depth, 3] = level - 1, later, 0.0, 1.0
            depth += 1
        stack[depth, 0], stack[depth, 1], stack[depth, 2], stack[depth, 3] = level - 1, earlier, 0.0, 1.0
        return depth + 1
    middle = 0.5 * (begin + finish)
    stack[depth, 0], stack[depth, 1], stack[depth, 2], stack[depth, 3] = 0, number, middle, finish
    depth += 1
    stack[depth, 0], stack[depth, 1], stack[depth, 2], stack[depth, 3] = 0, number, begin, middle
    return depth + 1


@njit(cache=True, nogil=True)
def look(track, chain, balls, level, number, begin, finish, pose):
    """The second body's `pose` in the frame of the first in the middle of a range, and the bound of
    `placed`."""
    n = track.start.shape[1]
    middle, half = np.empty(n), np.empty(n)
    range_of(track, level, number, begin, finish, middle, half)
    return placed(chain, middle, half, balls, pose, np.empty((len(chain) + 1, 3, 4)))
