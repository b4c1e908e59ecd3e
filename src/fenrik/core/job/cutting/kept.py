"""What operations did to the stock, kept in the store under the hash of all that led to it."""

from __future__ import annotations

import hashlib

import numpy as np
from numpy.typing import NDArray

from fenrik.core.job.workspace.artefacts import Store, key_of
from fenrik.core.proof.run import Run
from fenrik.core.setups.setup import Clamped
from fenrik.core.stock.dexels import NoseSegments, Stock
from fenrik.core.stock.keeping import Snapshot
from fenrik.core.tooling.materials import Material

Floats = NDArray[np.float64]


class KeptCuts:
    """The steps of one program: each of `keys` stands on the one before, the first on the raw stock and its
    cell; `motions` are the hashes of the steps' own motions."""

    def __init__(
        self,
        store: Store,
        clamped: Clamped,
        cell: float,
        run: Run,
        material: Material,
        nose: NoseSegments = (),
    ) -> None:
        self.store = store
        self.keys: list[str] = []
        self.motions: list[str] = []
        mesh, box = clamped.stock_mesh, [clamped.stock_low.tolist(), clamped.stock_high.tolist()]
        shape = (mesh.vertices.tobytes() + mesh.triangles.tobytes()) if mesh is not None else None
        self.raw = last = key_of(
            "raw", [cell, *box, "" if shape is None else hashlib.sha256(shape).hexdigest()]
        )
        for step, name in enumerate(run.names):
            own = run.rows(np.flatnonzero(run.step_of == step))
            digest, motion = hashlib.sha256(), own.motion
            for column in ("start", "tip", "rapid", "turn", "plane", "centre", "feed", "tool", "spindle"):
                digest.update(np.ascontiguousarray(getattr(motion, column)).tobytes())
            digest.update(motion.placing())  # the same words elsewhere cut something else
            digest.update(own.times.tobytes())
            self.motions.append(digest.hexdigest())
            used = [run.tools[int(n)].facts() for n in np.unique(motion.tool) if int(n) in run.tools]
            last = key_of("cut", [last, self.motions[-1], name, used, material.model_dump(), list(nose)])
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
