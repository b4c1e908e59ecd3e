"""One time that an operation is done, where it is done again with the work turned on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Repetition:
    """The frame (4, 4) of the operation's side in the setup, with the joint `letter`, which carries the work,
    turned on by `turn` degrees; None where the operation is done once."""

    frame: NDArray[np.float64]
    letter: str = ""
    turn: float | None = None

    def named(self, name: str) -> str:
        """The operation's name, this time."""
        return name if not self.turn else f"{name}, {self.letter} {self.turn:+g}°"
