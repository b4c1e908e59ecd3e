"""What a process that answers questions has at hand."""

from __future__ import annotations

from collections import OrderedDict
from pathlib import Path
from typing import Any

from fenrik.core.errors import DocumentError
from fenrik.core.job.cutting.replaying import replay_of
from fenrik.core.job.document.job import Job
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.workspace.artefacts import Store
from fenrik.core.job.workspace.files import ListedFiles
from fenrik.core.model.part_model import PartModel
from fenrik.core.proof.replay import Replay

KEPT_JOBS = 3


class Desk:
    """What one process has at hand to answer: the results, and the jobs and replays asked about lately."""

    def __init__(self, store: Store, folder: Path) -> None:
        self.store, self._folder = store, folder
        self._opened: OrderedDict[str, Paths] = OrderedDict()
        self._replay: tuple[str, Replay] | None = None

    def paths(self, order: dict[str, Any], store: Store | None = None) -> Paths:
        """A paths on the job of an order: `job` (a name for the document and its files), `document` and
        `files`."""
        name = order["job"]
        if store is not None or name not in self._opened:
            job: Job = job_from_data(order["document"])
            files = self.files(order)
            paths = open_job(job, files, store or self.store, not_here, may_cut=False)
            if store is not None:
                return paths
            self._opened[name] = paths
        self._opened.move_to_end(name)
        while len(self._opened) > KEPT_JOBS:
            self._opened.popitem(last=False)
        return self._opened[name]

    def files(self, order: dict[str, Any]) -> ListedFiles:
        """The files of the job of an order."""
        return ListedFiles(order["files"], self._folder / "files")

    def replay(self, key: str) -> Replay:
        """The replay of a proof."""
        if self._replay is None or self._replay[0] != key:
            self._replay = None  # one of them may be large: never two at a time
            self._replay = key, replay_of(key, self.store)
        return self._replay[1]


def not_here(
    path: Path, name: str, solid: int | None, scale: float, heal: bool, round_facets: bool
) -> PartModel:
    """Refuses to read a model: that is for a run."""
    raise DocumentError(
        f"The part '{name}' has not been read yet.",
        remedy="Wait until it is, or read it again.",
        where="part",
    )
