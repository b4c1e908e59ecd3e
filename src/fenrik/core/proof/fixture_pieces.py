"""Which piece of a fixture lies somewhere."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenrik.core.model.distance import DistanceField
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]


class FixturePieces:
    """The pieces of a fixture by `names`, which the ids of its faces count from 1 on."""

    def __init__(self, fixture: TriangleMesh, names: Sequence[str]) -> None:
        self._fixture, self._names = fixture, names

    @cached_property
    def _field(self) -> DistanceField:
        return DistanceField(self._fixture)

    def at(self, place: Floats) -> str:
        """The name of the piece nearest to a place (3,) as it follows "the fixture" in a finding: in brackets
        after a space; empty where there is but one piece."""
        if len(self._names) < 2:
            return ""
        return f" ({self._names[int(self._field.signed(place[None])[1][0]) - 1]})"
