"""A ruled face as the straight lines that make it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Rulings:
    """A ruled face: `low` and `high` (n, 3) two points on each of its rulings, mm, in order along the face;
    `out_low` and `out_high` (n, 3) the unit normals there, out of the material. Both run smoothly along the
    face; its rails lie at the shares `foot` and `top` (n,) of the way from low to high."""

    low: Floats
    high: Floats
    out_low: Floats
    out_high: Floats
    foot: Floats
    top: Floats

    def __len__(self) -> int:
        return len(self.low)

    def points(self, share: Floats) -> Floats:
        """The points (n, 3) at shares (n,) of the way from low to high."""
        return np.asarray(self.low + share[:, None] * (self.high - self.low))

    @property
    def lengths(self) -> Floats:
        """Lengths mm (n,) from low to high."""
        return np.asarray(np.linalg.norm(self.high - self.low, axis=1))

    @property
    def twist(self) -> Floats:
        """The angle rad (n,) between the normals at both points of every ruling."""
        sine = np.linalg.norm(np.cross(self.out_low, self.out_high), axis=1)
        return np.asarray(np.arctan2(sine, np.einsum("ij,ij->i", self.out_low, self.out_high)))

    def moved(self, matrix: Floats) -> Rulings:
        """Through a rigid transform (4, 4)."""
        turned, shift = matrix[:3, :3], matrix[:3, 3]
        return replace(
            self,
            low=self.low @ turned.T + shift,
            high=self.high @ turned.T + shift,
            out_low=self.out_low @ turned.T,
            out_high=self.out_high @ turned.T,
        )

    def upwards(self) -> Rulings:
        """With the rail `top` at the upper ends along Z."""
        if float((self.high - self.low)[:, 2].sum()) >= 0.0:
            return self
        return Rulings(self.high, self.low, self.out_high, self.out_low, 1.0 - self.top, 1.0 - self.foot)

    def backwards(self) -> Rulings:
        """In the other order along the face."""
        columns = (self.low, self.high, self.out_low, self.out_high, self.foot, self.top)
        return Rulings(*(c[::-1].copy() for c in columns))
