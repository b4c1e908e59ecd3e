"""The table of motion: straight moves, arcs and helices, with the direction of the tool."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import IntEnum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.motion import planes, table
from fenrik.core.motion.table import column

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]


class Motion(IntEnum):
    """What a move is for. Everything but RAPID moves at feed."""

    RAPID = 0
    FEED = 1
    PLUNGE = 2
    LEAD = 3
    LINK = 4
    ENTRY = 5


def _upright() -> Floats:
    return np.array([[0.0, 0.0, 1.0]])


def _first_frame() -> NDArray[np.int32]:
    return np.zeros(1, dtype=np.int32)


def turned_evenly(before: Floats, after: Floats, share: Floats) -> Floats:
    """Unit directions (m, 3) at shares (m,) of an even turn from `before` to `after` (m, 3), the shortest
    way."""
    sine_of = np.linalg.norm(np.cross(before, after), axis=1)
    angle = np.arctan2(sine_of, np.einsum("ij,ij->i", before, after))
    small = np.sin(angle) < 1e-9
    safe = np.where(small, 1.0, np.sin(angle))
    first = np.where(small, 1.0 - share, np.sin((1.0 - share) * angle) / safe)
    last = np.where(small, share, np.sin(share * angle) / safe)
    out = first[:, None] * before + last[:, None] * after
    return np.asarray(out / np.linalg.norm(out, axis=1, keepdims=True))


@dataclass(frozen=True)
class Moves:
    """Moves one after the other, in columns of length n; mm, mm/min.

    `tip` (n, 3) is where each ends; `kind` (n,) of Motion; `turn` (n,) 0 straight, +1 counter-clockwise, -1
    clockwise; `plane` (n,) of planes.Plane in which an arc lies, `centre` (n, 2) along the plane's first and
    second axis (NaN for straight moves); `feed` (n,), 0 for rapids. `axis` (n, 3) is the unit direction from
    the tip to the spindle at the end of each move, or (1, 3) for all; `side` (n,), or (1,) for all, is the
    index of the frame in whose coordinates a move is written. `begin` (n, 3) is where each begins; None where
    each begins at the tip of the one before (the first at its own).
    """

    tip: Floats = column("<f8", 3)
    kind: NDArray[np.int8] = column("<i1")
    turn: NDArray[np.int8] = column("<i1")
    plane: NDArray[np.int8] = column("<i1")
    centre: Floats = column("<f8", 2)
    feed: Floats = column("<f8")
    axis: Floats = column("<f8", 3, shared=True, default_factory=_upright)
    side: NDArray[np.int32] = column("<i4", shared=True, default_factory=_first_frame)
    begin: Floats | None = column("<f8", 3, default=None)

    def __len__(self) -> int:
        return len(self.tip)

    @staticmethod
    def straight(tip: Floats, kind: Motion = Motion.RAPID, feed: float = 0.0) -> Moves:
        """Straight moves through points (n, 3)."""
        n = len(tip)
        none = np.zeros(n, dtype=np.int8)
        kinds = np.full(n, kind, dtype=np.int8)
        return Moves(
            np.asarray(tip, dtype=np.float64), kinds, none, none, np.full((n, 2), np.nan), np.full(n, feed)
        )

    @cached_property
    def start(self) -> Floats:
        """Where each move begins (n, 3)."""
        return np.vstack([self.tip[:1], self.tip[:-1]]) if self.begin is None else self.begin

    @cached_property
    def rapid(self) -> NDArray[np.bool_]:
        """Moves (n,) at rapid."""
        return np.asarray(self.kind == Motion.RAPID)

    @cached_property
    def sides(self) -> NDArray[np.int32]:
        """The index (n,) of every move's frame."""
        return np.broadcast_to(self.side, len(self))

    @cached_property
    def axes(self) -> Floats:
        """The tool's axis (n, 3) at the end of every move, in the coordinates of its frame."""
        return np.broadcast_to(self.axis, (len(self), 3))

    @property
    def turns_axis(self) -> bool:
        """Whether the tool's axis may differ from move to move."""
        return len(self.axis) > 1

    def axes_at(self, owner: Whole, share: Floats) -> Floats:
        """The tool's axis (m, 3) at a share (m,) of the way along moves `owner` (m,) of a chain: it turns
        evenly from that of the move before, along the shortest way."""
        return turned_evenly(self.axes[np.maximum(owner - 1, 0)], self.axes[owner], share)

    def after_start(self) -> Moves:
        """All moves but the first, which says only where a chain begins."""
        return replace(table.rows(self, slice(1, None)), begin=self.start[1:])

    def sweeps(self) -> Floats:
        """Angle rad (n,) that each arc turns through, 0 for straight moves; a closed arc is a full turn."""
        out = np.zeros(len(self))
        arc = np.flatnonzero(self.turn)
        if len(arc):
            ends = (self.start[arc], self.tip[arc], self.centre[arc])
            out[arc] = planes.sweeps(*ends, self.turn[arc], self.plane[arc])
        return out

    def lengths(self) -> Floats:
        """Length (n,) of every move along its line, arc or helix, mm."""
        return planes.lengths(self.start, self.tip, self.turn, self.plane, self.centre)

    def box(self) -> tuple[Floats, Floats]:
        """Lowest and highest tip position (3,) over all moves, arcs included."""
        pieces = self.straightened(0.01)[0]
        points = np.concatenate([pieces[:, :3], pieces[:, 3:]])
        return points.min(axis=0), points.max(axis=0)

    def at(self, owner: Whole, share: Floats, sweeps: Floats) -> Floats:
        """Positions (m, 3) at a share (m,) of the way along moves `owner` (m,), whose arcs turn through
        `sweeps` (n,)."""
        start, tip = self.start[owner], self.tip[owner]
        points = start + share[:, None] * (tip - start)
        arc = self.turn[owner] != 0
        if arc.any():
            rows, part = owner[arc], share[arc]
            angle = part * sweeps[rows] * self.turn[rows]
            points[arc] = planes.on_arcs(
                start[arc], tip[arc], self.centre[rows], angle, self.plane[rows], part
            )
        return points

    def chords(self, tolerance: float, least: int = 1) -> Whole:
        """How many chords (n,) keep each arc within `tolerance` mm, `least` at least; 1 for straight
        moves."""
        counts = np.ones(len(self), dtype=np.int64)
        arc = np.flatnonzero(self.turn)
        radius = np.maximum(planes.radii(self.start[arc], self.centre[arc], self.plane[arc]), tolerance)
        angle = np.maximum(2.0 * np.arccos(1.0 - tolerance / radius), 1e-3)
        # a turn is a triangle at least
        chords = np.ceil(self.sweeps()[arc] / np.minimum(angle, 2.0)).astype(np.int64)
        counts[arc] = np.maximum(least, chords)
        return counts

    def divided(self, counts: Whole) -> tuple[Moves, Whole]:
        """Every move of a chain in so many even parts (n,), at least one, on arcs and helices too; and the
        move (m,) that each came from. The first row stays one."""
        counts = np.concatenate([[1], np.maximum(counts[1:], 1)])
        owner, number = table.in_parts(counts)
        share = (number + 1) / counts[owner]
        tip = self.at(owner, share, self.sweeps())
        tip[share == 1.0] = self.tip
        axis = self.axes_at(owner, share) if self.turns_axis else self.axis
        return replace(table.rows(self, owner), tip=tip, begin=None, axis=axis), owner

    def without_arcs(self, chosen: NDArray[np.bool_]) -> Moves:
        """The moves with straight ones in place of the chosen (n,) arcs."""
        turn = np.where(chosen, 0, self.turn).astype(np.int8)
        plane = np.where(chosen, 0, self.plane).astype(np.int8)
        return replace(self, turn=turn, plane=plane, centre=np.where(chosen[:, None], np.nan, self.centre))

    def straightened(
        self, tolerance: float, longest: float | None = None
    ) -> tuple[Floats, NDArray[np.int32]]:
        """Straight pieces (m, 6: start, end) within `tolerance` mm of the motion and the move (m,) each
        belongs to; the ends of an arc's chords lie on it. Moves at feed are cut into parts of at most
        `longest` mm."""
        if longest is None and not self.turn.any():
            return np.hstack([self.start, self.tip]), np.arange(len(self), dtype=np.int32)
        owner, before, upto = self._shares(tolerance, longest)
        first, last = before == 0.0, upto == 1.0
        pieces = np.empty((len(owner), 6))
        pieces[:, 3:] = self.at(owner, upto, self.sweeps())
        pieces[last, 3:] = self.tip
        pieces[1:, :3] = pieces[:-1, 3:]  # within a move, a part begins where the one before ends
        pieces[first, :3] = self.start
        return pieces, owner.astype(np.int32)

    def poses(self, tolerance: float, longest: float | None = None) -> tuple[Floats, NDArray[np.int32]]:
        """As `straightened`, for a chain whose axis turns: pieces (m, 12: tip and axis at the start, tip and
        axis at the end) and the move (m,) of each."""
        pieces, owner = self.straightened(tolerance, longest)
        _, before, upto = self._shares(tolerance, longest)
        axes = [self.axes_at(owner.astype(np.int64), share) for share in (before, upto)]
        return np.hstack([pieces[:, :3], axes[0], pieces[:, 3:], axes[1]]), owner

    def _shares(self, tolerance: float, longest: float | None) -> tuple[Whole, Floats, Floats]:
        """The parts (m,) into which moves are cut: the move of each, and the shares of it where the part
        begins and ends."""
        counts = self.chords(tolerance)
        if longest is not None:
            parts = np.ceil(self.lengths() / longest - 1e-9)
            counts = np.maximum(counts, np.where(self.rapid, 1, np.maximum(1, parts)).astype(np.int64))
        owner, number = table.in_parts(counts)
        return owner, number / counts[owner], (number + 1) / counts[owner]
