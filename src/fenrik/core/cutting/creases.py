"""Inner corners: the lines along which a dropped cutter touches the part twice.

The surface that the dropped tip describes is smooth where one contact glides over the part and has a valley
where it changes to another one. On a grid of drops, a valley is where the surface's normal turns by more than
a limit over two cells, inward; along rows and columns of the grid its place is then found by halving, to a
thousandth of the cell. The points are joined to lines through their neighbours: the longest way through every
cluster, then what is left beside it.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components, dijkstra
from scipy.spatial import cKDTree

from fenrik.core.cutting.drop import DropCutter

Floats = NDArray[np.float64]
Tip = Callable[[Floats], Floats]
HALVINGS = 12
WALL = 8.0
"""Rise from node to node beyond which there is a wall between them."""
OFF_WALL_MM = 0.004
REACH = 1.6
"""Neighbours on a line lie within this many cells."""


def creases(
    cutter: DropCutter, low: Floats, high: Floats, step: float, limit: float, floor: float
) -> list[Floats]:
    """Lines (n, 2) mm in plan view of inner corners between `low` and `high` (2,), from drops every `step`
    mm.

    `limit` rad is the least angle between the two contact normals; nothing is looked for at `floor` and
    below. Closed lines repeat their first point.
    """
    # an odd share keeps grid lines off the round numbers where walls like to stand
    xs, ys = (
        np.arange(a - o * step, b + step, step) for a, b, o in zip(low, high, (0.137, 0.171), strict=True)
    )
    grid = np.stack(np.meshgrid(xs, ys), axis=-1)
    heights = cutter.tip(grid.reshape(-1, 2), floor).reshape(len(ys), len(xs))
    points = np.concatenate([_along(cutter, heights, xs, ys, step, limit, floor, axis) for axis in (0, 1)])
    return _lines(points, step)


def _along(
    cutter: DropCutter,
    heights: Floats,
    xs: Floats,
    ys: Floats,
    step: float,
    limit: float,
    floor: float,
    axis: int,
) -> Floats:
    """Valley points (n, 2) on the grid's rows (axis 0: along x) or columns (1)."""
    z = heights if axis == 0 else heights.T
    us, vs = (xs, ys) if axis == 0 else (ys, xs)
    rise = np.diff(z, axis=1) / step  # along u, between nodes
    across = np.zeros_like(z)
    across[1:-1] = (z[2:] - z[:-2]) / (2.0 * step)
    side = 0.5 * (across[:, 1:] + across[:, :-1])
    normal = np.stack([-rise, -side, np.ones_like(rise)], axis=-1)
    normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
    # between the pieces before and after the two that may hold the valley
    before, after = normal[:, :-2], normal[:, 2:]
    angle = np.arccos(np.clip((before * after).sum(axis=-1), -1.0, 1.0))
    inward = rise[:, 2:] - rise[:, :-2] > 0.0
    lowest = np.minimum(z[:, :-3], z[:, 3:]) > floor + 1e-6
    strength = np.where(inward & lowest, angle, 0.0)
    padded = np.pad(strength, ((0, 0), (1, 1)))
    peak = (strength > limit) & (strength >= padded[:, :-2]) & (strength > padded[:, 2:])
    # along a valley the row hardly turns: the other direction of the grid finds it
    turn = np.abs(np.arctan(rise[:, 2:]) - np.arctan(rise[:, :-2]))
    j, i = np.nonzero(peak & (turn > 0.35 * strength))
    if not len(j):
        return np.zeros((0, 2))
    rows = vs[j]

    def tip(u: Floats) -> Floats:
        return cutter.tip(np.column_stack([u, rows] if axis == 0 else [rows, u]), floor)

    place = np.where(
        rise[j, i] < -WALL,
        _foot(tip, us[i], us[i + 1], z[j, i], z[j, i + 1]),
        np.where(
            rise[j, i + 2] > WALL,
            _foot(tip, us[i + 3], us[i + 2], z[j, i + 3], z[j, i + 2]),
            _turn(
                tip, us[i + 1] - 0.5 * step, us[i + 2] + 0.5 * step, rise[j, i], rise[j, i + 2], 0.02 * step
            ),
        ),
    )
    return np.column_stack([place, rows] if axis == 0 else [rows, place])


def _turn(tip: Tip, a: Floats, b: Floats, before: Floats, after: Floats, hair: float) -> Floats:
    """Where between a and b the track turns from falling as `before` to rising as `after`."""
    level = 0.5 * (np.arctan(before) + np.arctan(after))
    for _ in range(HALVINGS):
        middle = 0.5 * (a + b)
        past = np.arctan((tip(middle + hair) - tip(middle - hair)) / (2.0 * hair)) > level
        a, b = np.where(past, a, middle), np.where(past, middle, b)
    return 0.5 * (a + b)


def _foot(tip: Tip, up: Floats, down: Floats, high: Floats, low: Floats) -> Floats:
    """The foot of an upright wall between a place on top of it and one below: a hair on the lower side."""
    half = 0.5 * (high + low)
    for _ in range(HALVINGS):
        middle = 0.5 * (up + down)
        over = tip(middle) > half
        up, down = np.where(over, middle, up), np.where(over, down, middle)
    return down + OFF_WALL_MM * np.sign(down - up)


def _lines(points: Floats, step: float) -> list[Floats]:
    """Points joined to lines: the longest shortest way through every cluster, again for what lies beside
    it."""
    if len(points) < 2:
        return []
    pairs = cKDTree(points).query_pairs(REACH * step, output_type="ndarray")
    if not len(pairs):
        return []
    # squared lengths prefer many short hops: the way then runs through all points of a line
    weight = ((points[pairs[:, 0]] - points[pairs[:, 1]]) ** 2).sum(axis=1) + 1e-9
    graph = coo_matrix((weight, (pairs[:, 0], pairs[:, 1])), shape=(len(points), len(points))).tocsr()
    _, label = connected_components(graph, directed=False)
    out = []
    for cluster in range(int(label.max()) + 1):
        members = np.flatnonzero(label == cluster)
        while len(members) >= 4:
            way = _longest(graph[members][:, members])
            line = points[members[way]]
            if len(way) < 4:
                break
            if np.hypot(*(line[0] - line[-1])) <= REACH * step and len(line) > 8:
                line = np.vstack([line, line[:1]])
            out.append(line)
            far = cKDTree(line).query(points[members])[0] > REACH * step
            members = members[far]
            if len(members) < 4:
                break
            # what is left may have fallen apart: take its largest piece
            _, parts = connected_components(graph[members][:, members], directed=False)
            sizes = np.bincount(parts)
            members = members[parts == int(sizes.argmax())]
    return out


def _longest(graph: coo_matrix) -> NDArray[np.int64]:
    """The way (indices) between the two ends found by going to the farthest point twice."""
    start = 0
    for _ in range(2):
        distance, previous = dijkstra(graph, directed=False, indices=start, return_predecessors=True)
        far = int(np.argmax(np.where(np.isfinite(distance), distance, -1.0)))
        start, end = far, start
    way = [far]
    while way[-1] != end and previous[way[-1]] >= 0:
        way.append(int(previous[way[-1]]))
    return np.array(way)
