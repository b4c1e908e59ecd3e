"""The motion of a whole program: what its text means to a control, whatever wrote it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.motion import table
from fenrik.core.motion.moves import Moves
from fenrik.core.motion.pieces import cut_shorter
from fenrik.core.motion.table import column

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class RowFrame:
    """Coordinates in which moves are written while the rotary joints stand: `setup_from_rows` (4, 4), the
    tool's `axis` (3,) in the setup frame, from the tip to the spindle, and the joints' `angles` (r,)
    degrees."""

    setup_from_rows: Floats
    axis: Floats
    angles: Floats

    @property
    def axis_in_rows(self) -> Floats:
        """The axis (3,) in the coordinates of the rows."""
        return np.asarray(self.axis @ self.setup_from_rows[:3, :3])

    @property
    def plain(self) -> bool:
        """Whether rows are in the setup frame with the tool upright."""
        same = np.abs(self.setup_from_rows - np.eye(4)).max() < 1e-9
        return bool(same and self.axis[2] > 1.0 - 1e-12)


PIECES = ("poses", "joints", "seconds")
"""What Turning holds of every piece of a move that turns joints."""


@dataclass(frozen=True)
class Turning:
    """What the moves of a program mean on a machine with rotary joints.

    `frames` are the coordinates that moves are written in, by `Moves.side`; `came` (n,) is the frame before
    each move; `aside` (n,) marks moves that are no path: to the machine's upper end, and those of rotary
    joints alone. Whatever turns joints goes through `poses` (m, 12: tip and axis at both ends, setup frame),
    with the values of all joints at both ends in `joints` (m, 2k) and the `seconds` (m,) that the text asks
    for, 0 at rapid; `owner` (m,) is the move of each.
    """

    came: NDArray[np.int32] = column("<i4")
    aside: NDArray[np.bool_] = column("?")
    frames: tuple[RowFrame, ...] = ()
    poses: Floats = field(default_factory=lambda: np.zeros((0, 12)))
    joints: Floats = field(default_factory=lambda: np.zeros((0, 0)))
    seconds: Floats = field(default_factory=lambda: np.zeros(0))
    owner: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, dtype=np.int32))

    def __len__(self) -> int:
        return len(self.came)

    @property
    def turns(self) -> NDArray[np.bool_]:
        """Moves (n,) that turn joints."""
        out = np.zeros(len(self), dtype=np.bool_)
        out[self.owner] = True
        return out

    def rows(self, chosen: NDArray[np.int64]) -> Turning:
        """What belongs to some of the moves, in their order."""
        first, last = (np.searchsorted(self.owner, chosen, side) for side in ("left", "right"))
        owner, number = table.in_parts(last - first)
        picked = first[owner] + number
        return replace(
            table.rows(self, chosen),
            **{name: getattr(self, name)[picked] for name in PIECES},
            owner=owner.astype(np.int32),
        )

    @staticmethod
    def joined(parts: list[Turning], counts: list[int]) -> Turning:
        """That of motions with so many moves each, one after the other, over the frames of the first."""
        first = np.cumsum([0, *counts])
        owner = [t.owner + n for t, n in zip(parts, first, strict=False)]
        pieces: dict[str, Any] = {n: np.concatenate([getattr(t, n) for t in parts]) for n in PIECES}
        return replace(table.concat(parts), **pieces, owner=np.concatenate(owner).astype(np.int32))

    @property
    def last(self) -> tuple[NDArray[np.int32], Floats]:
        """The moves (j,) that turn joints, and the tip and axis (j, 6) at the end of each."""
        ends = np.flatnonzero(np.diff(self.owner, append=-1))
        return self.owner[ends], self.poses[ends, 6:]


@dataclass(frozen=True)
class ProgramMotion:
    """Moves of one program in program coordinates, with marks of length n.

    `tool` (n,) number; `spindle` (n,) 1/min, negative counter-clockwise, 0 stopped; `line` (n,) line of the
    text from 1; `dwell` (n,) s for which the tool stands after a move; `offset` (n,) 54 to 59, the work
    offset in whose coordinates it is. `turning` is there on machines with rotary joints: then moves have
    coordinates of their own.
    """

    moves: Moves = table.table()
    tool: NDArray[np.int32] = column("<i4")
    spindle: Floats = column("<f8")
    line: NDArray[np.int32] = column("<i4")
    dwell: Floats = column("<f8")
    offset: NDArray[np.int32] = column("<i4")
    turning: Turning | None = None

    def __len__(self) -> int:
        return len(self.moves)

    @property
    def start(self) -> Floats:
        """Where each move begins (n, 3), mm."""
        return self.moves.start

    @property
    def tip(self) -> Floats:
        """Where each move ends (n, 3), mm."""
        return self.moves.tip

    @property
    def rapid(self) -> NDArray[np.bool_]:
        """Moves (n,) at rapid."""
        return self.moves.rapid

    @property
    def turn(self) -> NDArray[np.int8]:
        """0 for straight moves (n,), +1 for arcs counter-clockwise, -1 clockwise."""
        return self.moves.turn

    @property
    def plane(self) -> NDArray[np.int8]:
        """The plane (n,) in which each arc lies."""
        return self.moves.plane

    @property
    def centre(self) -> Floats:
        """The centre (n, 2) of each arc in its plane."""
        return self.moves.centre

    @property
    def feed(self) -> Floats:
        """Feed (n,), mm/min."""
        return self.moves.feed

    def with_feed(self, feed: Floats) -> ProgramMotion:
        """The same moves at other feeds (n,), mm/min."""
        return replace(self, moves=replace(self.moves, feed=feed))

    def rows(self, chosen: NDArray[np.int64] | NDArray[np.bool_]) -> ProgramMotion:
        """Some of the moves."""
        picked = np.arange(len(self))[chosen]
        turning = None if self.turning is None else self.turning.rows(picked)
        return replace(table.rows(self, picked), turning=turning)

    @staticmethod
    def joined(parts: list[ProgramMotion]) -> ProgramMotion:
        """Motions of one program one after the other."""
        own = [p.turning for p in parts if p.turning is not None]
        whole = table.concat(parts)
        return replace(whole, turning=Turning.joined(own, [len(p) for p in parts])) if own else whole

    def straightened(
        self, tolerance: float, longest: float | None = None
    ) -> tuple[Floats, NDArray[np.int32]]:
        """As `Moves.straightened`."""
        return self.moves.straightened(tolerance, longest)

    def in_setup(self, tolerance: float, longest: float | None = None) -> tuple[Floats, NDArray[np.int32]]:
        """As `straightened`, in the setup frame: (m, 6) where the tool is upright throughout, else (m, 12)
        with tip and axis at both ends."""
        pieces, owner = self.straightened(tolerance, longest)
        return (pieces, owner) if self.turning is None else self._placed(self.turning, pieces, owner, longest)

    @property
    def places(self) -> Floats:
        """The tip (n, 3) at the end of every move, in the setup frame."""
        if self.turning is None:
            return self.tip
        out = self.tip.copy()
        for number, frame in enumerate(self.turning.frames):
            mine = self.moves.sides == number
            out[mine] = apply(frame.setup_from_rows, self.tip[mine])
        rows, ends = self.turning.last
        out[rows] = ends[:, :3]
        return out

    @property
    def leans(self) -> Floats:
        """The tool's axis (n, 3) at the end of every move, in the setup frame."""
        if self.turning is None:
            return self.moves.axes
        out = np.array([f.axis for f in self.turning.frames]).reshape(-1, 3)[self.moves.sides]
        rows, ends = self.turning.last
        out[rows] = ends[:, 3:]
        return out

    def placing(self) -> bytes:
        """All that says where the moves are in the setup frame beside their columns, as bytes for a hash."""
        turning = self.turning
        if turning is None:
            return b""
        frames = [np.vstack([f.setup_from_rows, [*f.axis, 0.0]]) for f in turning.frames]
        own = np.array(frames, dtype=np.float64)[self.moves.sides] if frames else np.zeros(0)
        return own.tobytes() + self.moves.axes.tobytes() + turning.poses.tobytes() + turning.owner.tobytes()

    def in_pieces(self, pieces: Floats, owner: NDArray[np.int64]) -> ProgramMotion:
        """The motion as straight moves: pieces (m, 6) with the move (m,) that each belongs to."""
        own = table.rows(self, owner)
        moves = replace(own.moves.without_arcs(own.turn != 0), begin=pieces[:, :3], tip=pieces[:, 3:])
        return replace(own, moves=moves, dwell=np.zeros(len(pieces)), turning=None)

    def _placed(
        self, turning: Turning, pieces: Floats, owner: NDArray[np.int32], longest: float | None
    ) -> tuple[Floats, NDArray[np.int32]]:
        """Straight pieces (m, 6) of moves, in the moves' coordinates, as poses (k, 12) in the setup frame
        with the move (k,) of each; (k, 6) where the tool is upright throughout."""
        turned, sides = turning.turns, self.moves.sides
        own = np.flatnonzero(~turned[owner])
        used = np.unique(sides[owner[own]]) if len(own) else np.zeros(0, dtype=np.int32)
        if not len(turning.owner) and all(turning.frames[f].plain for f in used):
            return pieces, owner
        out = np.zeros((len(own), 12))
        for f in used:
            mine = sides[owner[own]] == f
            frame, those = turning.frames[f], pieces[own[mine]]
            out[mine, :3] = apply(frame.setup_from_rows, those[:, :3])
            out[mine, 6:9] = apply(frame.setup_from_rows, those[:, 3:])
            axes = self.moves.axes[owner[own[mine]]]
            out[mine, 3:6] = out[mine, 9:] = axes @ frame.setup_from_rows[:3, :3].T
        poses, parts = turning.poses, turning.owner
        if longest is not None:
            feeding = np.where(self.rapid[parts], np.inf, longest)
            poses, number = cut_shorter(poses, feeding)
            parts = parts[number]
        whole, rows = np.vstack([out, poses]), np.concatenate([owner[own], parts])
        order = np.argsort(rows, kind="stable")
        return whole[order], rows[order].astype(np.int32)


_FRAME = ("setup_from_rows", "axis", "angles")
"""What is kept of a RowFrame."""


def to_arrays(motion: ProgramMotion) -> dict[str, NDArray[Any]]:
    """The columns of a motion in full precision, to be kept."""
    out = {f"move_{name}": values for name, values in table.to_arrays(motion).items()}
    turning = motion.turning
    if turning is not None:
        out |= {f"turning_{name}": values for name, values in table.to_arrays(turning).items()}
        out |= {f"turning_{name}": getattr(turning, name) for name in (*PIECES, "owner")}
        out |= {f"frames_{name}": np.array([getattr(f, name) for f in turning.frames]) for name in _FRAME}
    return out


def from_arrays(arrays: dict[str, NDArray[Any]]) -> ProgramMotion:
    """The inverse of `to_arrays`."""
    own = {name.removeprefix("move_"): values for name, values in arrays.items() if name.startswith("move_")}
    turning = None
    if "turning_came" in arrays:
        given = {
            name.removeprefix("turning_"): values
            for name, values in arrays.items()
            if name.startswith("turning_")
        }
        frames = tuple(
            RowFrame(*row) for row in zip(*(arrays[f"frames_{name}"] for name in _FRAME), strict=True)
        )
        pieces = {name: given[name] for name in (*PIECES, "owner")}
        turning = table.from_arrays(Turning, given, frames=frames, **pieces)
    return table.from_arrays(ProgramMotion, own, moves=table.from_arrays(Moves, own), turning=turning)
