"""The stock that an earlier setup leaves, as those see it who plan on it."""

from __future__ import annotations

from typing import Protocol

from fenrik.core.job.document.job import SetupDoc
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.progress import Progress
from fenrik.core.stock.dexels import Stock


class EarlierStock(Protocol):
    """Cuts the setups before one. A setup stands on the stock of another: data, not modules, go round in a
    circle."""

    def key(self, setup: SetupDoc) -> str:
        """What tells the stock that a setup leaves from others; nothing is computed for it."""

    def surface(self, setup: SetupDoc, progress: Progress) -> TriangleMesh:
        """What a setup leaves, as a closed mesh in the part frame."""

    def dexels(self, setup: SetupDoc, cell: float, progress: Progress) -> Stock:
        """The stock before a setup with a carried stock, in its frame."""
