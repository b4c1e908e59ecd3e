"""Round bosses of a part, found from its faces: cylinders with the material inside that go all the way
round."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.features.bands import bands_of
from fenrik.core.model.part_model import PartModel

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Boss:
    """A round boss in the part frame: its faces, a point on its axis (3,), the axis (3,), the heights along
    the axis from that point between which it is round, and its diameter, mm."""

    faces: list[int]
    origin: Floats
    axis: Floats
    low: float
    high: float
    diameter: float

    def words(self) -> str:
        """The boss in a few words."""
        high = f"{self.high - self.low:.2f}".rstrip("0").rstrip(".")
        return f"Boss Ø{self.diameter:.3f}".rstrip("0").rstrip(".") + f", {high} high"


def find_bosses(part: PartModel) -> list[Boss]:
    """All round bosses in the order of their first faces; a cylinder in halves is one, two about one line are
    two."""
    found = [
        Boss(sorted(band.faces), foot, axis, band.low, band.high, 2 * band.radius_low)
        for axis, foot, bands in bands_of(part, lambda f: f.kind == "cylinder" and not f.hollow)
        for band in bands
    ]
    return sorted(found, key=lambda b: b.faces[0])
