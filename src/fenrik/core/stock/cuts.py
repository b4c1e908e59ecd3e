"""What every tag of a stock stands for: the piece of motion that cut an end, and the tool that moved."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
COLUMNS = 6


class Table(NamedTuple):
    """For kernels: `pieces` (n, 6) of the tip; `leans` (n,) the row in `axes` (k, 6: at both ends) of a piece
    whose axis leans or turns, -1 upright, empty where all are; the set (n,) of bodies that moved; `sets` (s,
    b, 6) and their numbers of bodies (s,)."""

    pieces: Floats
    leans: NDArray[np.int32]
    axes: Floats
    owner: NDArray[np.int32]
    sets: Floats
    sizes: NDArray[np.int32]


@dataclass
class Cuts:
    """Pieces (m, 6), or (m, 12: tip and axis at both ends), in the order of their tags, from 0, each with the
    set of bodies that moved."""

    parts: list[Floats] = field(default_factory=list)
    owners: list[NDArray[np.int32]] = field(default_factory=list)
    tools: list[Floats] = field(default_factory=list)
    _table: Table | None = None

    def add(self, pieces: Floats, bodies: Floats) -> None:
        """Straight pieces that bodies (b, 6) cut next."""
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
        """As arrays for kernels."""
        if self._table is not None:
            return self._table
        sizes = np.array([len(t) for t in self.tools] or [0], dtype=np.int32)
        sets = np.zeros((max(1, len(self.tools)), int(max(1, sizes.max())), COLUMNS))
        for number, bodies in enumerate(self.tools):
            sets[number, : len(bodies)] = bodies
        upright, axes = np.zeros((0, 6)), [p[:, [3, 4, 5, 9, 10, 11]] for p in self.parts if p.shape[1] == 12]
        tips = [p if p.shape[1] == 6 else p[:, [0, 1, 2, 6, 7, 8]] for p in self.parts]
        owner = np.concatenate([np.zeros(0, dtype=np.int32), *self.owners])
        return Table(
            np.concatenate([upright, *tips]),
            self._leans(),
            np.concatenate([upright, *axes]),
            owner,
            sets,
            sizes,
        )

    def _leans(self) -> NDArray[np.int32]:
        if all(p.shape[1] == 6 for p in self.parts):
            return np.zeros(0, dtype=np.int32)
        out, count = [], 0
        for part in self.parts:
            leaning = part.shape[1] == 12
            out.append(np.arange(count, count + len(part)) if leaning else np.full(len(part), -1))
            count += len(part) if leaning else 0
        return np.concatenate(out).astype(np.int32)
