"""Where a job's files are: its models, the solids of stocks and fixtures, its own dialects."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from fenrik.core.errors import DocumentError
from fenrik.core.file_names import check_file_name
from fenrik.core.job.document.job import Job
from fenrik.core.model.reading import file_hash


class JobFiles(Protocol):
    """Finds the files that a job document names."""

    def path(self, name: str, where: str = "") -> Path:
        """The file under a name. Raises DocumentError with `where` when there is none."""

    def digest(self, name: str, where: str = "") -> str:
        """SHA-256 of its bytes, in hex."""


@dataclass
class FolderFiles:
    """Files beside a document that is its user's own, as on the command line: a name may climb or be
    absolute."""

    folder: Path
    _digests: dict[Path, tuple[int, int, str]] = field(default_factory=dict)

    def path(self, name: str, where: str = "") -> Path:
        """The file under a name, relative to the folder."""
        path = (self.folder / name).resolve()
        if not path.is_file():
            raise _missing(name, where)
        return path

    def digest(self, name: str, where: str = "") -> str:
        """SHA-256 of its bytes; hashed again only when size or time of the file have changed."""
        path = self.path(name, where)
        facts = path.stat()
        known = self._digests.get(path)
        if known is None or known[:2] != (facts.st_size, facts.st_mtime_ns):
            known = self._digests[path] = (facts.st_size, facts.st_mtime_ns, file_hash(path))
        return known[2]


@dataclass(frozen=True)
class ListedFiles:
    """Files that an application keeps for a job: by name their hash, and where the bytes of a hash lie.
    Nothing else on the machine can be reached through it."""

    digests: Mapping[str, str]
    folder: Path

    def path(self, name: str, where: str = "") -> Path:
        """The kept file under a name."""
        return self.folder / self.digest(name, where)

    def digest(self, name: str, where: str = "") -> str:
        """SHA-256 of its bytes."""
        known = self.digests.get(name)
        if known is None:
            raise _missing(name, where)
        return known


def files_of(job: Job) -> Iterator[tuple[str, str]]:
    """Every file that a document names, with the path of the field that names it."""
    if job.part is not None:
        yield job.part.file, "part.file"
    for i, machine in enumerate(job.machines):
        for j, body in enumerate(machine.bodies):
            if body.kind == "file":
                yield body.file, f"machines[{i}].bodies[{j}].file"
    for i, fixture in enumerate(job.fixtures):
        for j, held in enumerate(fixture.pieces):
            if held.kind == "solid":
                yield held.file, f"fixtures[{i}].pieces[{j}].file"
    for i, setup in enumerate(job.setups):
        if setup.stock.kind == "solid":
            yield setup.stock.file, f"setups[{i}].stock.file"
        for j, piece in enumerate(setup.fixture):
            if piece.kind == "solid":
                yield piece.file, f"setups[{i}].fixture[{j}].file"
    for i, release in enumerate(job.releases):
        if release.dialect.endswith(".toml"):
            yield release.dialect, f"releases[{i}].dialect"
        if release.file is not None:
            yield release.file, f"releases[{i}].file"


def check_files(job: Job) -> None:
    """Makes sure that no file a stranger's document names can lie outside the job. Raises InputError with the
    field."""
    for name, where in files_of(job):
        check_file_name(name, where)


def _missing(name: str, where: str) -> DocumentError:
    return DocumentError(
        f"The file '{name}' does not exist.",
        remedy="Check its name; it is relative to the document.",
        where=where,
    )
