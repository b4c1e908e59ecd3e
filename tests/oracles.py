"""Slow references that tests and benchmarks share; they know nothing of the kernels they check."""

from __future__ import annotations

import math

import numpy as np

from fenrik.core.stock.dexels import Stock
from fenrik.core.tooling.assembly import Assembly


def mill_distance(tool: Assembly, d: np.ndarray, up: np.ndarray) -> np.ndarray:
    """Signed distance (n,) mm from an endless flat, ball or corner-radius mill, negative inside, of spots at
    distance d (n,) from its axis and height `up` (n,) over its tip."""
    r, c = tool.radius, tool.corner_radius
    over, low = d - (r - c), c - up
    if c > 0:
        return np.where((over > 0) & (low > 0), np.hypot(over, low) - c, np.maximum(d - r, -up))
    return np.where((d > r) & (up < 0), np.hypot(d - r, up), np.maximum(d - r, -up))


def moving_distance(tool: Assembly, move: np.ndarray, points: np.ndarray, t: np.ndarray) -> np.ndarray:
    """`mill_distance` of points (n, 3) at shares t (n,) of a move (12: tip and axis at its start, the same at
    its end), the axis turning evenly over the great circle."""
    angle = math.acos(float(np.clip(move[3:6] @ move[9:], -1, 1)))
    tip, axis = move[:3] + t[:, None] * (move[6:9] - move[:3]), np.tile(move[3:6], (len(t), 1))
    if angle > 1e-9:
        parts = np.sin((1 - t) * angle)[:, None] * move[3:6] + np.sin(t * angle)[:, None] * move[9:]
        axis = parts / math.sin(angle)
    up = ((points - tip) * axis).sum(1)
    d = np.sqrt(np.maximum(0.0, ((points - tip) ** 2).sum(1) - up**2))
    return mill_distance(tool, d, up)


def cut_ends(stock: Stock, tag: int = 0) -> np.ndarray:
    """The ends (n, 3) of rays in all directions that a piece of motion cut."""
    points = []
    for direction, rays in enumerate(stock.rays):
        u, v = ((1, 2), (0, 2), (0, 1))[direction]
        ends, tags, counts = rays.dense()
        row, column, e = np.nonzero((tags == tag) & (np.arange(tags.shape[2]) < 2 * counts[:, :, None]))
        found = np.empty((len(e), 3))
        found[:, direction] = ends[row, column, e]
        found[:, u] = stock.origin[u] + (column + 0.5) * stock.cell
        found[:, v] = stock.origin[v] + (row + 0.5) * stock.cell
        points.append(found)
    return np.concatenate(points)


def sweep_errors(tool: Assembly, move: np.ndarray, points: np.ndarray) -> np.ndarray:
    """How far (n,) mm points are from the nearest that the tool comes to them on a move: above 0 it never
    touches them, below 0 it goes beyond. By 400 positions and golden section about the nearest."""
    shares = np.linspace(0, 1, 401)
    nearest, best = np.full(len(points), np.inf), np.zeros(len(points))
    for t in shares:
        off = moving_distance(tool, move, points, np.full(len(points), t))
        best, nearest = np.where(off < nearest, t, best), np.minimum(nearest, off)
    low, high = np.maximum(0.0, best - shares[1]), np.minimum(1.0, best + shares[1])
    for _ in range(40):
        c, e = high - 0.618034 * (high - low), low + 0.618034 * (high - low)
        left = moving_distance(tool, move, points, c) < moving_distance(tool, move, points, e)
        low, high = np.where(left, low, c), np.where(left, e, high)
    return np.minimum(nearest, moving_distance(tool, move, points, 0.5 * (low + high)))
