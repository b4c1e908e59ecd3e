"""Motion as a controller executes it: what a program's text means, whatever wrote it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core import planes
from fenrik.core.frames import apply

Floats = NDArray[np.float64]
UPRIGHT = 1.0 - 1e-14
"""Cosine from which an axis counts as upright."""


@dataclass(frozen=True)
class RowFrame:
    """Coordinates in which moves are written while the rotary joints stand: `setup_from_rows` (4, 4), the tool's `axis`
    (3,) in the setup frame, from the tip to the spindle, and the joints' `angles` (r,) degrees."""

    setup_from_rows: Floats
    axis: Floats
    angles: Floats

    @property
    def plain(self) -> bool:
        """Whether rows are in the setup frame with the tool upright."""
        same = np.abs(self.setup_from_rows - np.eye(4)).max() < 1e-9
        return bool(same and self.axis[2] > 1.0 - 1e-12)


@dataclass(frozen=True)
class Turning:
    """What moves on a machine with rotary joints mean beside their columns.

    `frame` (n,) is the number in `frames` of each move's coordinates; `aside` (n,) marks moves that are no path: to the
    machine's upper end, and of rotary joints. The latter go through `poses` (m, 12: tip and axis at both ends, setup
    frame); `owner` (m,) is the move of each, `came` (n,) the frame before a move.
    """

    frames: tuple[RowFrame, ...]
    frame: NDArray[np.int32]
    came: NDArray[np.int32]
    aside: NDArray[np.bool_]
    poses: Floats
    owner: NDArray[np.int32]

    @property
    def turns(self) -> NDArray[np.bool_]:
        """Moves (n,) of rotary joints."""
        out = np.zeros(len(self.frame), dtype=np.bool_)
        out[self.owner] = True
        return out

    def rows(self, chosen: NDArray[np.int64]) -> Turning:
        """What belongs to some of the moves, in their order."""
        turned = np.flatnonzero(self.turns[chosen])
        order = [np.flatnonzero(self.owner == chosen[n]) for n in turned]
        picked = np.concatenate([np.zeros(0, dtype=np.int64), *order])
        owner = np.repeat(turned, [len(o) for o in order]).astype(np.int32)
        return Turning(
            self.frames, self.frame[chosen], self.came[chosen], self.aside[chosen], self.poses[picked], owner
        )

    def placing(self) -> bytes:
        """All that says where the moves are in the setup frame, as bytes for a hash."""
        frames = [np.vstack([f.setup_from_rows, [*f.axis, 0.0]]) for f in self.frames]
        own = np.array(frames, dtype=np.float64)[self.frame] if frames else np.zeros(0)
        return own.tobytes() + self.poses.tobytes() + self.owner.tobytes()

    def placed(self, pieces: Floats, owner: NDArray[np.int32]) -> tuple[Floats, NDArray[np.int32]]:
        """Straight pieces (m, 6) of moves, in the moves' coordinates, as poses (k, 12) in the setup frame with the
        move (k,) of each; (k, 6) where the tool is upright throughout."""
        turned = self.turns
        own = np.flatnonzero(~turned[owner])
        used = np.unique(self.frame[owner[own]]) if len(own) else np.zeros(0, dtype=np.int32)
        if not len(self.owner) and all(self.frames[f].plain for f in used):
            return pieces, owner
        out = np.zeros((len(own), 12))
        for f in used:
            mine = self.frame[owner[own]] == f
            frame, those = self.frames[f], pieces[own[mine]]
            out[mine, :3] = apply(frame.setup_from_rows, those[:, :3])
            out[mine, 6:9] = apply(frame.setup_from_rows, those[:, 3:])
            out[mine, 3:6] = out[mine, 9:] = frame.axis
        whole, rows = np.vstack([out, self.poses]), np.concatenate([owner[own], self.owner])
        order = np.argsort(rows, kind="stable")
        return whole[order], rows[order].astype(np.int32)


@dataclass(frozen=True)
class MotionTable:
    """Moves of one program in program coordinates, columns of length n.

    `start`, `end` (n, 3) mm; `rapid` (n,) bool; `turn` (n,) 0 straight, +1 counter-clockwise, -1
    clockwise; `plane` (n,) of Plane; `centre` (n, 2) along its axes (NaN when straight); `feed` (n,) mm/min; `tool` (n,) number;
    `spindle` (n,) 1/min, negative counter-clockwise, 0 stopped; `line` (n,) line of the text from 1; `dwell` (n,) s
    for which the tool stands after a move; `offset` (n,) 54 to 59, the work offset in whose coordinates it is. `turning`
    is there on machines with rotary joints: then moves have coordinates of their own.
    """

    start: Floats
    end: Floats
    rapid: NDArray[np.bool_]
    turn: NDArray[np.int8]
    plane: NDArray[np.int8]
    centre: Floats
    feed: Floats
    tool: NDArray[np.int32]
    spindle: Floats
    line: NDArray[np.int32]
    dwell: Floats = field(default_factory=lambda: np.zeros(0))
    offset: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, dtype=np.int32))
    turning: Turning | None = None

    def __post_init__(self) -> None:
        if len(self.dwell) != len(self.end):
            object.__setattr__(self, "dwell", np.zeros(len(self.end)))
        if len(self.offset) != len(self.end):
            object.__setattr__(self, "offset", np.zeros(len(self.end), dtype=np.int32))

    def rows(self, chosen: NDArray[np.int64] | NDArray[np.bool_]) -> MotionTable:
        """Some of the moves."""
        picked = np.arange(len(self))[chosen]
        turning = None if self.turning is None else self.turning.rows(picked)
        return MotionTable(**{name: getattr(self, name)[chosen] for name in COLUMNS}, turning=turning)

    @staticmethod
    def joined(parts: Sequence[MotionTable]) -> MotionTable:
        """Motions of one program one after the other."""
        columns: dict[str, Any] = {
            name: np.concatenate([getattr(p, name) for p in parts]) for name in COLUMNS
        }
        whole = MotionTable(**columns)
        own = [p.turning for p in parts if p.turning is not None]
        if not own:
            return whole
        first = np.cumsum([0, *(len(p) for p in parts)])
        owner = np.concatenate([t.owner + n for t, n in zip(own, first, strict=False)]).astype(np.int32)
        names = ("frame", "came", "aside", "poses")
        more: dict[str, Any] = {name: np.concatenate([getattr(t, name) for t in own]) for name in names}
        return replace(whole, turning=Turning(own[0].frames, owner=owner, **more))

    def in_setup(self, tolerance: float, longest: float | None = None) -> tuple[Floats, NDArray[np.int32]]:
        """As `straightened`, in the setup frame: (m, 6) where the tool is upright throughout, else (m, 12) with tip and
        axis at both ends."""
        pieces, owner = self.straightened(tolerance, longest)
        return (pieces, owner) if self.turning is None else self.turning.placed(pieces, owner)

    @property
    def places(self) -> Floats:
        """The tip (n, 3) at the end of every move, in the setup frame."""
        if self.turning is None:
            return self.end
        out = self.end.copy()
        for number, frame in enumerate(self.turning.frames):
            mine = self.turning.frame == number
            out[mine] = apply(frame.setup_from_rows, self.end[mine])
        return out

    def __len__(self) -> int:
        return len(self.end)

    def sweeps(self) -> Floats:
        """Angle rad each arc turns through, 0 for straight moves; a closed arc is a full turn."""
        out = np.zeros(len(self.end))
        arc = np.flatnonzero(self.turn)
        if len(arc):
            rows = (self.start[arc], self.end[arc], self.centre[arc], self.turn[arc], self.plane[arc])
            out[arc] = planes.sweeps(*rows)
        return out

    def lengths(self) -> Floats:
        """Length (n,) of every move along its line, arc or helix, mm."""
        return planes.lengths(self.start, self.end, self.turn, self.plane, self.centre)

    def box(self) -> tuple[Floats, Floats]:
        """Lowest and highest tip position (3,) over all moves, arcs included."""
        pieces = self.straightened(0.01)[0]
        points = np.concatenate([pieces[:, :3], pieces[:, 3:]])
        return points.min(axis=0), points.max(axis=0)

    def straightened(
        self, tolerance: float, longest: float | None = None
    ) -> tuple[Floats, NDArray[np.int32]]:
        """Straight pieces (m, 6: start, end) within `tolerance` mm of the motion and the move (m,) each
        belongs to; the ends of an arc's chords lie on it. Moves at feed are cut into parts of at most
        `longest` mm."""
        sweeps = self.sweeps()
        counts = np.ones(len(self.end), dtype=np.int64)
        if longest is not None:
            parts = np.ceil(self.lengths() / longest - 1e-9)
            counts = np.where(self.rapid, 1, np.maximum(1, parts)).astype(np.int64)
        arc = np.flatnonzero(self.turn)
        radius = np.maximum(planes.radii(self.start[arc], self.centre[arc], self.plane[arc]), tolerance)
        angle = np.maximum(2.0 * np.arccos(1.0 - tolerance / radius), 1e-3)
        chords = np.ceil(sweeps[arc] / np.minimum(angle, 2.0)).astype(
            np.int64
        )  # a turn is a triangle at least
        counts[arc] = np.maximum(counts[arc], chords)
        owner = np.repeat(np.arange(len(self.end)), counts)
        first = np.cumsum(counts) - counts
        share = (np.arange(len(owner)) - first[owner])[:, None] / counts[owner][:, None]
        upto = (np.arange(len(owner)) - first[owner] + 1)[:, None] / counts[owner][:, None]
        pieces = np.hstack([self._at(owner, share, sweeps), self._at(owner, upto, sweeps)])
        last = first + counts - 1
        pieces[first, :3], pieces[last, 3:] = self.start, self.end
        return pieces, owner.astype(np.int32)

    def in_pieces(self, pieces: Floats, owner: NDArray[np.int64]) -> MotionTable:
        """The motion as straight moves: pieces (m, 6) with the move (m,) that each belongs to."""
        columns = {c: getattr(self, c)[owner] for c in ("rapid", "feed", "tool", "spindle", "line")}
        straight, nowhere = np.zeros(len(pieces), dtype=np.int8), np.full((len(pieces), 2), np.nan)
        return MotionTable(
            pieces[:, :3], pieces[:, 3:], turn=straight, plane=straight, centre=nowhere, **columns
        )

    def _at(self, owner: NDArray[np.int64], share: Floats, sweeps: Floats) -> Floats:
        """Positions (m, 3) at a share (m, 1) of the moves `owner` (m,)."""
        start, end = self.start[owner], self.end[owner]
        points = start + share * (end - start)
        arc = self.turn[owner] != 0
        if arc.any():
            rows, part = owner[arc], share[arc, 0]
            angle = part * sweeps[rows] * self.turn[rows]
            points[arc] = planes.on_arcs(
                start[arc], end[arc], self.centre[rows], angle, self.plane[rows], part
            )
        return points


COLUMNS = tuple(name for name in MotionTable.__dataclass_fields__ if name != "turning")
"""The columns of a MotionTable."""


def upright_pieces(poses: Floats) -> Floats:
    """The tips (m, 6) of pieces (m, 6) or poses (m, 12)."""
    return poses if poses.shape[1] == 6 else np.hstack([poses[:, :3], poses[:, 6:9]])


def with_axes(pieces: Floats) -> Floats:
    """Pieces (m, 6) with the tool upright as poses (m, 12); poses as they are."""
    if pieces.shape[1] == 12:
        return pieces
    up = np.tile([0.0, 0.0, 1.0], (len(pieces), 1))
    return np.hstack([pieces[:, :3], up, pieces[:, 3:], up])


def is_upright(pieces: Floats) -> NDArray[np.bool_]:
    """Whether the tool stands upright along pieces (m, 6) or poses (m, 12)."""
    if pieces.shape[1] == 6:
        return np.ones(len(pieces), dtype=np.bool_)
    return (pieces[:, 5] > UPRIGHT) & (pieces[:, 11] > UPRIGHT)


def by_axis(pieces: Floats) -> Iterator[tuple[Floats, slice]]:
    """Stretches of pieces with the tool upright (m, 6), which cut faster, and leaning or turning (m, 12)."""
    if pieces.shape[1] == 6:
        yield pieces, slice(0, len(pieces))
        return
    upright = is_upright(pieces)
    borders = [0, *(np.flatnonzero(np.diff(upright)) + 1).tolist(), len(pieces)]
    for a, b in pairwise(borders):
        yield upright_pieces(pieces[a:b]) if upright[a] else pieces[a:b], slice(a, b)
