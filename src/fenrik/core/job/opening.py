"""Opens a job: builds its setups, tasks and paths, and gives the setups what cuts the stock of earlier
ones."""

from __future__ import annotations

from pathlib import Path

from fenrik.core.job.cutting.carrying import Carrying
from fenrik.core.job.document.job import Job
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.setups.setups import Setups
from fenrik.core.job.tasks.tasks import Tasks
from fenrik.core.job.workspace.artefacts import Store
from fenrik.core.job.workspace.files import JobFiles
from fenrik.core.job.workspace.workspace import ReadModel, Workspace


def open_job(
    job: Job, files: Path | JobFiles, store: Store, read: ReadModel | None = None, may_cut: bool = True
) -> Paths:
    """The paths of a job with all that they stand on: `tasks`, `setups` and `workspace`.

    `files` finds what the document names (a folder: relative to it); `read` reads models (replaced where
    untrusted files are read in a process of their own). Where nothing `may_cut`, the stocks that setups leave
    come from the store only.
    """
    setups = Setups(Workspace(job, files, store, read), may_cut)
    paths = Paths(Tasks(setups))
    setups.earlier = Carrying(paths)
    return paths
