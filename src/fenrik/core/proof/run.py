"""A program as it runs on its machine: its motion, the operations behind it, the tools, and the time."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Run:
    """`step_of` (n,) is the operation of each move, by its number in `names`; `tools` are known by number;
    `begin` and `times` (n,) s say when each move begins and how long it takes."""

    motion: ProgramMotion
    step_of: NDArray[np.int32]
    names: list[str]
    tools: dict[int, Assembly]
    begin: Floats
    times: Floats

    def __len__(self) -> int:
        return len(self.motion)

    def rows(self, chosen: NDArray[np.int64]) -> Run:
        """Some of the moves."""
        return replace(
            self,
            motion=self.motion.rows(chosen),
            step_of=self.step_of[chosen],
            begin=self.begin[chosen],
            times=self.times[chosen],
        )

    def with_motion(self, motion: ProgramMotion) -> Run:
        """The same with the motion in another reading, move by move."""
        return replace(self, motion=motion)

    def moment(self, move: int) -> dict[str, Any]:
        """Where in the text and when a finding about a move stands."""
        return {"move": move, "line": int(self.motion.line[move]), "time_s": float(self.begin[move])}

    def at(self, move: int) -> dict[str, Any]:
        """The same with the place at the end of the move, in the setup frame."""
        x, y, z = self.motion.places[move].tolist()
        return self.moment(move) | {"place": (x, y, z)}
