"""What operations did to the stock, kept in the store under the hash of all that led to it."""

from __future__ import annotations

import hashlib

import numpy as np
from numpy.typing import NDArray

from fenrik.core.job.workspace.artefacts import Store, key_of
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.setups.setup import Clamped
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.keeping import Snapshot
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.materials import Material

Floats = NDArray[np.float64]


class KeptCuts:
    """The steps of one program: each key stands on the one before, the first on the raw stock and its cell."""

    def __init__(
        self,
        store: Store,
        clamped: Clamped,
        cell: float,
        motion: ProgramMotion,
        step_of: NDArray[np.int32],
        names: list[str],
        times: Floats,
        tools: dict[int, Assembly],
        material: Material,
    ) -> None:
        self.store = store
        self.keys: list[str] = []
        mesh = clamped.stock_mesh
        shape = (
            ""
            if mesh is None
            else hashlib.sha256(mesh.vertices.tobytes() + mesh.triangles.tobytes()).hexdigest()
        )
        self.raw = last = key_of(
            "raw", [cell, clamped.stock_low.tolist(), clamped.stock_high.tolist(), shape]
        )
        for step, name in enumerate(names):
            rows = np.flatnonzero(step_of == step)
            digest = hashlib.sha256()
            for column in ("start", "tip", "rapid", "turn", "plane", "centre", "feed", "tool", "spindle"):
                digest.update(np.ascontiguousarray(getattr(motion, column)[rows]).tobytes())
            digest.update(motion.rows(rows).placing())  # the same words elsewhere cut something else
            digest.update(times[rows].tobytes())
            used = [tools[int(n)].facts() for n in np.unique(motion.tool[rows]) if int(n) in tools]
            last = key_of("cut", [last, digest.hexdigest(), name, used, material.model_dump()])
            self.keys.append(last)

    def put_raw(self, stock: Stock) -> None:
        """Keeps the stock before the first operation, where it is more than a box."""
        if not stock.is_box:
            self.store.put(self.raw, "stock", Snapshot.of(stock).changes(None))

    def get(self, step: int) -> tuple[bytes, bytes] | None:
        """The step's cut and its changes to the stock, or None."""
        cut = self.store.get(self.keys[step])
        changes = self.store.get(f"{self.keys[step]}-stock") if cut is not None else None
        return (cut, changes) if cut is not None and changes is not None else None

    def put(self, step: int, cut: bytes, changes: bytes) -> None:
        """Keeps them, the stock first."""
        self.store.put(f"{self.keys[step]}-stock", "stock", changes)
        self.store.put(self.keys[step], "cut", cut)
