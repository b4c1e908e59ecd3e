"""How an arm holds a tool along a path: the spin about the tool and the table's angle, and one of the arm's
postures.

A path gives the tip and the axis; the spin about the tool and the table's angle are free. Both are held, or
one of them is searched over the whole path: first for one value with which the arm keeps one posture
throughout, else in steps from column to column of the path, by dynamic programming (Bellman 1957) over value
and posture. Costs are integrals over the way, so that more columns do not change the answer.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines.arm import BRANCHES, JOINTS, Postures
from fenrik.core.machines.cell import Cell

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
STEP_DEG = 15.0
"""Between the values that a search tries."""
COLUMN_MM = 60.0
"""Way of the tip, or of a place `LEVER_MM` up the tool, from one column of a search to the next."""
LEVER_MM = 300.0
MOST_COLUMNS = 1500
ROUNDS = 4
MOST_TRIED = 24
"""Values and postures that hold all columns and are looked at in every place."""
NEAR_END_DEG = 30.0
"""A joint nearer than this to an end of its range makes a posture worse."""
LEAST = 0.02
NEVER = 1e6
"""Price of a place that cannot be held, mm of the best posture's way."""
OTHER_POSTURE, NEARER = 1e3, 100.0
"""Price of a leap to another posture or value, where the tool is out, and of every mm that it is out less
than it can be."""


@dataclass(frozen=True)
class Held:
    """What is chosen: the `table` angle and the `spin` degrees; None for the one that is searched."""

    table: float | None = 0.0
    spin: float | None = None


@dataclass(frozen=True)
class Holding:
    """How a cell holds the tool along a path: `table` and `spin` (n,) degrees, `joints` (n, k) of the whole
    chain degrees, which `posture` (n,) it takes, the `leg` (n,) of the path, from one leap to another posture
    or value to the next, and where it `holds` (n,) the tool at all."""

    table: Floats
    spin: Floats
    joints: Floats
    posture: NDArray[np.int64]
    leg: NDArray[np.int64]
    holds: Bools

    @property
    def constant(self) -> bool:
        """Whether spin and table stand."""
        return bool(np.ptp(self.table) == 0.0 and np.ptp(self.spin) == 0.0)


def held_along(cell: Cell, tips: Floats, axes: Floats, loose: Bools, held: Held) -> Holding:
    """How the cell holds a tool with its tip at (n, 3), pointing along (n, 3), setup frame; where the way to
    a place is `loose` (n,), the tool is out, and the arm may take another posture.

    Places that the arm cannot hold stay in it, marked, with the joints of the place before.
    """
    path = _Path(cell, tips, axes, loose, held)
    columns = path.columns()
    values = path.candidates()
    one = _one_value(path, values, columns)
    if one is not None:
        return one
    best = None
    for _ in range(ROUNDS):
        found = _by_steps(path, values, columns)
        if best is None or found.holds.sum() > best.holds.sum():
            best = found
        wrong = np.setdiff1d(np.flatnonzero(~found.holds), columns)
        if not len(wrong):
            break
        columns = np.union1d(columns, wrong[:: max(1, len(wrong) // 200)])
    assert best is not None
    return best


@dataclass(frozen=True)
class _Path:
    cell: Cell
    tips: Floats
    axes: Floats
    loose: Bools
    held: Held

    @cached_property
    def way(self) -> Floats:
        """How far (n,) mm the tool has come."""
        steps = np.linalg.norm(np.diff(self.tips, axis=0), axis=1)
        steps += LEVER_MM * np.linalg.norm(np.diff(self.axes, axis=0), axis=1)
        return np.concatenate([[0.0], np.cumsum(steps)])

    def columns(self) -> NDArray[np.int64]:
        """Places that are looked at first, both ends among them."""
        step = max(COLUMN_MM, float(self.way[-1]) / MOST_COLUMNS)
        number = np.floor(self.way / step)
        chosen = np.concatenate([[True], number[1:] != number[:-1]])
        chosen[-1] = True
        return np.flatnonzero(chosen)

    def candidates(self) -> Floats:
        """Values (k,) degrees of what is searched, the nearest to zero first."""
        if self.held.spin is not None and self.held.table is not None:
            return np.zeros(1)
        values = np.arange(-180.0, 180.0, STEP_DEG)
        if self.held.table is None and self.cell.has_table:
            machine = self.cell.on.machine
            values = values[(values >= machine.low[0]) & (values <= machine.high[0])]
        return values

    @cached_property
    def out(self) -> Floats:
        """How far out (n,) mm along its axis the tool is all the way to each place."""
        up = np.einsum("ij,ij->i", self.tips, self.axes)
        return np.asarray(np.minimum(up, np.concatenate([up[:1], up[:-1]])))

    def farthest_out(self, rows: NDArray[np.int64]) -> int:
        """Of places (m,), the one on whose loose way the tool is out farthest."""
        ways = rows[self.loose[rows]]
        return int(ways[np.argmax(self.out[ways])])

    def free(self, value: Floats) -> tuple[Floats, Floats]:
        """Table and spin (m,) for values (m,) of what is searched."""
        table = value if self.held.table is None else np.full(len(value), self.held.table)
        spin = value if self.held.spin is None else np.full(len(value), self.held.spin)
        return table, spin

    def ways(self, rows: NDArray[np.int64], value: Floats) -> tuple[Postures, Floats]:
        """All ways to hold the tool at places (m,) with values (m,), and what each costs (m, 8) for a mm of
        way; infinite where it cannot be."""
        table, spin = self.free(value)
        frames = self.cell.frames(self.axes[rows], table, spin)
        found = self.cell.postures(self.tips[rows], frames, table)
        margin = np.full(found.exists.shape, NEAR_END_DEG)
        machine = self.cell.on.machine
        for j in range(JOINTS):
            low, high = machine.low[-JOINTS + j], machine.high[-JOINTS + j]
            if np.isfinite(low):
                middle, half = 0.5 * (low + high), 0.5 * (high - low)
                away = found.angles[:, :, j] - middle
                margin = np.minimum(margin, half - np.abs(away - 360.0 * np.round(away / 360.0)))
        far = np.minimum(np.minimum(found.wrist, found.elbow), 2.0 * found.shoulder)
        cost = 1.0 / (LEAST + far) + NEAR_END_DEG / (1.0 + np.maximum(0.0, margin))
        cost += (1.0 - np.cos(np.radians(spin)))[:, None]
        return found, np.where(found.exists & (margin > -1e-9), cost, np.inf)


def _one_value(path: _Path, values: Floats, columns: NDArray[np.int64]) -> Holding | None:
    """One value and one posture for the whole path, the best of those with which it can be held
    throughout."""
    count = len(columns)
    cost = np.stack([path.ways(columns, np.full(count, v))[1] for v in values])
    ends = path.way[columns]
    share = 0.5 * (np.diff(ends, prepend=ends[0]) + np.diff(ends, append=ends[-1])) + 1e-6
    total = np.einsum("kmb,m->kb", np.where(np.isfinite(cost), cost, NEVER), share)
    able = np.isfinite(cost).all(axis=1)
    none = np.zeros(len(path.tips), dtype=np.int64)
    best = sorted(np.argwhere(able).tolist(), key=lambda at: float(total[at[0], at[1]]))
    for k, b in best[:MOST_TRIED]:
        found = _placed(path, np.full(len(none), values[k]), none + b, none)
        if found.holds.all():
            return found
    return None


def _by_steps(path: _Path, values: Floats, columns: NDArray[np.int64]) -> Holding:
    """Values and postures that change along the path, the former by one step at most from column to
    column."""
    count, ways = len(columns), [path.ways(columns, np.full(len(columns), v))[1] for v in values]
    node = np.stack(ways, axis=1)  # (columns, values, postures)
    node = np.where(np.isfinite(node), node, NEVER)
    turns = bool(np.ptp(values) + STEP_DEG >= 360.0 - 1e-9) and path.held.spin is None
    best, back = node[0] * 1e-3, np.zeros((count, len(values), BRANCHES), dtype=np.int64)
    number = np.arange(len(values) * BRANCHES).reshape(len(values), BRANCHES)
    for i in range(1, count):
        length = float(path.way[columns[i]] - path.way[columns[i - 1]]) + 1e-3
        offers = [(best, number)]
        for step in (1, -1):
            moved, of = np.roll(best, step, axis=0) + STEP_DEG, np.roll(number, step, axis=0)
            if not turns:
                moved[0 if step == 1 else -1] = np.inf
            offers.append((moved, of))
        between = np.arange(columns[i - 1] + 1, columns[i] + 1)
        if path.loose[between].any():
            nearer = path.out.max() - path.out[path.farthest_out(between)]
            price = OTHER_POSTURE + NEARER * nearer
            offers.append((np.full_like(best, best.min() + price), np.full_like(number, np.argmin(best))))
        costs = np.stack([c for c, _ in offers])
        pick = np.argmin(costs, axis=0)
        back[i] = np.take_along_axis(np.stack([n for _, n in offers]), pick[None], axis=0)[0]
        best = costs.min(axis=0) + length * node[i]
    state = int(np.argmin(best))
    states = np.zeros(count, dtype=np.int64)
    for i in range(count - 1, -1, -1):
        states[i] = state
        state = int(back[i].reshape(-1)[state])
    return _between(path, values[states // BRANCHES], states % BRANCHES, columns, turns)


def _between(
    path: _Path, values: Floats, branch: NDArray[np.int64], columns: NDArray[np.int64], turns: bool
) -> Holding:
    """Values and postures at all places from those at columns: evenly along the way where the posture stays,
    and where it changes, or the value by more than a step, where the tool is out farthest."""
    values = np.degrees(np.unwrap(np.radians(values))) if turns else values
    every = np.interp(path.way, path.way[columns], values)
    number = np.searchsorted(columns, np.arange(len(path.tips)), side="right") - 1
    out, leg = branch[number], np.zeros(len(path.tips), dtype=np.int64)
    jumps = (np.diff(branch) != 0) | (np.abs(np.diff(values)) > STEP_DEG + 1e-6)
    for i in np.flatnonzero(jumps) + 1:
        rows = np.arange(columns[i - 1] + 1, columns[i] + 1)
        change = path.farthest_out(rows)
        every[rows] = np.where(rows >= change, values[i], values[i - 1])
        out[rows] = np.where(rows >= change, branch[i], branch[i - 1])
        leg[change:] += 1
    return _placed(path, every, out, leg)


def _placed(path: _Path, value: Floats, branch: NDArray[np.int64], leg: NDArray[np.int64]) -> Holding:
    """The joints at all places for values (n,) and postures (n,) on legs (n,) of the path."""
    rows = np.arange(len(path.tips))
    found, _ = path.ways(rows, value)
    table, spin = path.free(value)
    angles, exists = found.angles[rows, branch].copy(), found.exists[rows, branch]
    known = np.maximum.accumulate(np.where(exists, rows, -1))
    known = np.where(known < 0, int(np.argmax(exists)) if exists.any() else 0, known)
    angles = angles[known]
    machine = path.cell.on.machine
    low, high = machine.low[-JOINTS:], machine.high[-JOINTS:]
    holds = exists.copy()
    breaks = [0, *(np.flatnonzero(np.diff(leg)) + 1).tolist(), len(rows)]
    for first, last in pairwise(breaks):
        own = np.degrees(np.unwrap(np.radians(angles[first:last]), axis=0))
        angles[first:last] = own + _turns(own, low, high, machine.at_home[-JOINTS:])
    holds &= ((angles >= low - 1e-9) & (angles <= high + 1e-9)).all(axis=1)
    joints = np.column_stack([table, angles]) if path.cell.has_table else angles
    return Holding(table, spin, joints, branch, leg, holds)


def _turns(angles: Floats, low: Floats, high: Floats, home: Floats) -> Floats:
    """Whole turns (j,) degrees that bring angles (m, j) into their ranges as far as can be, the nearest to
    home."""
    out = np.zeros(angles.shape[1])
    for j in range(len(out)):
        turns = 360.0 * np.arange(-11, 12)
        beyond = (
            np.maximum(0.0, angles[:, j].max() + turns - high[j]) if np.isfinite(high[j]) else 0.0 * turns
        )
        if np.isfinite(low[j]):
            beyond = np.maximum(beyond, low[j] - angles[:, j].min() - turns)
        out[j] = turns[np.lexsort((np.abs(angles[:, j].mean() + turns - home[j]), np.round(beyond, 6)))[0]]
    return out
