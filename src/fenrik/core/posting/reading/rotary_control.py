"""What a control with rotary joints knows while it reads: their position, the tilted plane, and what
coordinates mean.

It has the machine as data and goes forward only, from words to joints to the tip. Without a tilted plane X, Y
and Z are the linear joints' own, counted from the work offset, with the tool's length along Z. In a tilted
plane (G68.2 with an origin X Y Z and the angles I J K about Z, the new X and the new Z; G53.1 sets the tool
square to it, G69 ends it: common practice, no source) they belong to the plane; while the control keeps the
tool's point (G43.4 to G49) they are the tip's in the setup frame, wherever the joints stand.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply, invert, transform
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.moves import Moves
from fenrik.core.motion.program_motion import PIECES, RowFrame, Turning
from fenrik.core.posting.reading.turned_moves import Turned, pieces_of

Floats = NDArray[np.float64]
SQUARE_DEG = 0.01
"""How far the tool may be from square to a tilted plane."""


@dataclass
class RotaryControl:
    """State while one program is read. `places` tells where each work offset (54 to 59) stands on the
    machine, `lengths` the tools' lengths by number, mm."""

    places: dict[int, OnMachine]
    lengths: dict[int, float]
    offset: int = 0
    tool: int = 0
    angles: list[float | None] = field(default_factory=list)
    plane: Floats | None = None
    frames: list[RowFrame] = field(default_factory=list)
    _known: dict[tuple[object, ...], int] = field(default_factory=dict)
    _moves: list[tuple[int, int, bool]] = field(default_factory=list)
    _turned: list[Turned] = field(default_factory=list)
    point: bool = False
    """Whether the control keeps the tool's point."""
    clamped: bool = False
    """Whether the brakes of the rotary joints that have some are on (M10 to M11)."""

    def __post_init__(self) -> None:
        self.offset = self.offset or next(iter(self.places))
        self.angles = [None] * len(self.on.machine.rotary)

    @property
    def on(self) -> OnMachine:
        """Where the present work offset stands on the machine."""
        return self.places[self.offset]

    @property
    def letters(self) -> list[str]:
        """The word addresses of the rotary joints."""
        return [j.letter for j in self.on.machine.rotary]

    @property
    def length(self) -> float:
        """The length of the tool in the spindle, mm."""
        return self.lengths.get(self.tool, 0.0)

    def home(self) -> float:
        """The coordinate Z at the upper end of Z, outside of a plane."""
        return self.on.home(self.length)

    def known(self) -> bool:
        """Whether all rotary joints have been positioned."""
        return all(a is not None for a in self.angles)

    def position(self) -> Floats:
        """The rotary joints' angles (r,) degrees; those that nobody has given count as zero."""
        return np.array([0.0 if a is None else a for a in self.angles])

    def frame(self) -> int:
        """The number of the present coordinates."""
        angles = self.position()
        key = (
            *angles.tolist(),
            self.length,
            self.offset,
            None if self.plane is None else self.plane.tobytes(),
        )
        if key not in self._known:
            frame = self.on.frame(angles, self.length)
            if self.plane is not None:
                frame = RowFrame(self.plane, frame.axis, angles)
            self._known[key] = len(self.frames)
            self.frames.append(frame)
        return self._known[key]

    def _frame_of_driven(self) -> int:
        """The number that stands for the coordinates of moves whose pieces say where they are."""
        key = ("driven",)
        if key not in self._known:
            self._known[key] = len(self.frames)
            self.frames.append(RowFrame(np.eye(4), np.array([0.0, 0.0, 1.0]), 0.0 * self.position()))
        return self._known[key]

    def keep_point(self, words: Floats) -> Floats:
        """From here on the control keeps the tool's point; a position (3,) in its coordinates."""
        tip = apply(self.on.frame(self.position(), self.length).setup_from_rows, words[None])[0]
        self.point = True
        return np.asarray(tip)

    def free_point(self, tip: Floats) -> Floats:
        """The control keeps the tool's point no longer; a position (3,) as coordinates of the work offset."""
        self.point = False
        frame = self.on.frame(self.position(), self.length)
        return np.asarray(apply(invert(frame.setup_from_rows), tip[None])[0])

    def tilt(self, origin: Floats, angles: Floats) -> float:
        """Begins a tilted plane at an origin (3,) with three angles (3,) degrees about Z, X and Z again. How
        many degrees the tool stands from square to it."""
        turned = _about_z(angles[0]) @ _about_x(angles[1]) @ _about_z(angles[2])
        self.plane = transform(turned, origin)
        return self.off_square()

    def off_square(self) -> float:
        """How many degrees the tool stands from square to the plane."""
        assert self.plane is not None
        cosine = float(self.on.axis(self.position()) @ self.plane[:3, 2])
        sine = float(np.linalg.norm(np.cross(self.on.axis(self.position()), self.plane[:3, 2])))
        return math.degrees(math.atan2(sine, cosine))

    def into_plane(self, words: Floats) -> Floats:
        """A position (3,) in the plane's coordinates."""
        assert self.plane is not None
        tip = apply(self.on.frame(self.position(), self.length).setup_from_rows, words[None])
        return np.asarray(apply(invert(self.plane), tip)[0])

    def out_of_plane(self, position: Floats) -> Floats:
        """A position (3,) in the plane as coordinates of the work offset."""
        assert self.plane is not None
        tip = apply(self.plane, position[None])
        return np.asarray(apply(invert(self.on.frame(self.position(), self.length).setup_from_rows), tip)[0])

    def moved(self, came: int | None = None, aside: bool = False) -> None:
        """Notes the coordinates of a move; `came` are those before it, where they are others."""
        frame = self.frame()
        self._moves.append((frame, frame if came is None else came, aside))

    def under_brake(self, target: dict[str, float]) -> str | None:
        """The letter of a joint that its brake keeps from turning to a position, if there is one."""
        if not self.clamped:
            return None
        now = dict(zip(self.letters, self.angles, strict=True))
        brakes = {j.letter for j in self.on.machine.rotary if j.clamps}
        return next((a for a, v in target.items() if a in brakes and now[a] not in (None, v)), None)

    def turn(self, target: dict[str, float], words: Floats | None) -> bool:
        """Turns the rotary joints; with the linear ones at `words` (3,) it is a move, unless an end is
        unknown or the same. Whether it is."""
        before, was_known, came = self.position(), self.known(), self.frame() if self.known() else 0
        self._take(target)
        after = self.position()
        if words is None or not was_known or np.array_equal(before, after):
            return False
        row = len(self._moves)
        self._turned.append(Turned(row, self.on, self.length, False, (words, words), (before, after)))
        self.moved(came, aside=True)
        return True

    def drive(
        self, target: dict[str, float], words: tuple[Floats, Floats], feed: float, inverse: bool
    ) -> None:
        """A move from coordinates to coordinates (3,) on which rotary joints turn as well, at a `feed` per
        minute or, `inverse`, of one over minutes; 0 at rapid."""
        before = self.position()
        self._take(target)
        given = (len(self._moves), self.on, self.length, self.point, words, (before, self.position()))
        self._turned.append(Turned(*given, feed, inverse))
        frame = self._frame_of_driven()
        self._moves.append((frame, frame, False))

    def _take(self, target: dict[str, float]) -> None:
        self.angles = [target.get(letter, a) for letter, a in zip(self.letters, self.angles, strict=True)]

    def placed(self, moves: Moves) -> tuple[Moves, Turning]:
        """The moves that were noted, with the frame and the tool axis of each and the feed of the tip where
        joints turn, and what they mean beside that."""
        noted = np.array(self._moves, dtype=np.int32).reshape(-1, 3)
        axes = np.array([f.axis_in_rows for f in self.frames]).reshape(-1, 3)
        sides = noted[:, 0].copy()
        moves = replace(moves, side=sides, axis=axes[sides])
        turning = Turning(noted[:, 1].copy(), noted[:, 2] > 0, tuple(self.frames))
        if not self._turned:
            return moves, turning
        made = pieces_of(self._turned)
        feed = moves.feed.copy()
        timed = made.time > 0.0
        rows = np.array([t.row for t in self._turned])[timed]
        feed[rows] = 60.0 * made.way[timed] / made.time[timed]
        pieces = {name: getattr(made, name) for name in (*PIECES, "owner")}
        return replace(moves, feed=feed), replace(turning, **pieces)


def _about_z(degrees: float) -> Floats:
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    return np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])


def _about_x(degrees: float) -> Floats:
    c, s = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
    return np.array([[1.0, 0.0, 0.0], [0.0, c, -s], [0.0, s, c]])
