"""What parts of the job's computation ask of the planner."""

from __future__ import annotations

from typing import Protocol

from fenrik.core.job.document import Job, OperationDoc, SetupDoc
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.setups.setup import Clamped
from fenrik.core.stock.dexels import Stock
from fenrik.core.tooling.materials import Material


class Plans(Protocol):
    """Setups, materials and paths of a job."""

    job: Job

    def clamped(self, setup: SetupDoc) -> Clamped:
        """Frame and stock of a setup."""

    def seen(self, setup: SetupDoc, side: str | None) -> Clamped:
        """The same as one of its sides sees it."""

    def raw_dexels(self, setup: SetupDoc, cell: float) -> Stock:
        """The stock before the first operation of a setup."""

    def material(self, setup: SetupDoc) -> Material:
        """The setup's material."""

    def before(self, setup: SetupDoc, operation: OperationDoc) -> list[OperationDoc]:
        """The operations that cut before one."""

    def made(self, setup: SetupDoc, operation: OperationDoc) -> Toolpath | None:
        """An operation's path, None where it fails."""
