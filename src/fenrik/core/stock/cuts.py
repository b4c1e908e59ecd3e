"""What every tag of a stock stands for: the piece of motion that cut an end, and the tool that moved."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Table = tuple[Floats, NDArray[np.int32], Floats, NDArray[np.int32]]
COLUMNS = 6


@dataclass
class Cuts:
    """Pieces in the order of their tags, from 0, each with the set of bodies that moved."""

    parts: list[Floats] = field(default_factory=list)
    owners: list[NDArray[np.int32]] = field(default_factory=list)
    tools: list[Floats] = field(default_factory=list)
    _table: Table | None = None

    def add(self, pieces: Floats, bodies: Floats) -> None:
        """Straight pieces (m, 6) that bodies (b, 6) cut next."""
        same = [n for n, t in enumerate(self.tools) if t.shape == bodies.shape and (t == bodies).all()]
        number = same[0] if same else len(self.tools)
        if not same:
            self.tools.append(bodies)
        self.parts.append(pieces)
        self.owners.append(np.full(len(pieces), number, dtype=np.int32))

    def settled(self) -> Cuts:
        """These cuts with their table made once, to be added to no more."""
        table = self.table()
        settled = Cuts(self.parts, self.owners, self.tools)
        settled._table = table
        return settled

    def table(self) -> Table:
        """For kernels: pieces (n, 6), the set of each (n,), sets (s, b, 6) and their numbers of bodies (s,)."""
        if self._table is not None:
            return self._table
        sizes = np.array([len(t) for t in self.tools] or [0], dtype=np.int32)
        sets = np.zeros((max(1, len(self.tools)), int(max(1, sizes.max())), COLUMNS))
        for number, bodies in enumerate(self.tools):
            sets[number, : len(bodies)] = bodies
        if not self.parts:
            return np.zeros((0, 6)), np.zeros(0, dtype=np.int32), sets, sizes
        return np.ascontiguousarray(np.concatenate(self.parts)), np.concatenate(self.owners), sets, sizes
