"""Results of computations: files in a folder, a cache with a limit.

A result is written to a file of its own, is forced to the disk and takes its name last, so that it is there
whole or not at all. Results of every version of the code have a folder of their own. A file's time of change
is when it was last used: what was not used for longest goes first when the limit is reached, and results of
other versions before all others.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import secrets
import shutil
import time
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from pathlib import Path

from fenrik.core.errors import ApplicationError
from fenrik.core.job.workspace.artefacts import code_version

KEY = re.compile(r"[a-z_]{1,30}-[0-9a-f]{40}(-[a-z_]{1,20}[0-9]{0,6})?")
DEFAULT_LIMIT = 10_000_000_000
"""Bytes that all results together may take, unless it is set."""
RECENT_SECONDS = 120
"""What was used within this time is not taken away: somebody may be reading it."""
USED_AGAIN_SECONDS = 30
LEFT_OVER_SECONDS = 3600


@dataclass(frozen=True)
class Usage:
    """How much the results take, in files and bytes, and the limit."""

    files: int
    bytes: int
    limit: int


class ResultStore:
    """Keeps results under their keys in a folder. Safe for threads and for processes that share the
    folder."""

    def __init__(self, folder: Path, limit: int = DEFAULT_LIMIT, version: str | None = None) -> None:
        self.folder, self.limit = folder, limit
        self._version = version or code_version()
        self._own = folder / "results" / self._version
        self._begun = folder / "begun"
        for place in (self._own, self._begun, folder / "files"):
            place.mkdir(parents=True, exist_ok=True)

    def path(self, key: str) -> Path | None:
        """The file of a result, None when it is not there. Marks it as used."""
        if not KEY.fullmatch(key):
            return None
        own = self._place(key)
        if self.touched(own):
            return own
        for other in (
            self.folder / "results"
        ).iterdir():  # a kept release stands on results of its own version
            found = other / key[-2:] / key
            if other != self._own and self.touched(found):
                return found
        return None

    def get(self, key: str) -> bytes | None:
        """A result, or None."""
        path = self.path(key)
        if path is None:
            return None
        with contextlib.suppress(FileNotFoundError):
            return path.read_bytes()
        return None

    def has(self, key: str) -> bool:
        """Whether there is a result of this version, without reading it."""
        return self._place(key).is_file()

    def put(self, key: str, kind: str, blob: bytes) -> None:
        """Keeps a result. Raises ApplicationError when the disk is full."""
        if not KEY.fullmatch(key):
            raise ValueError(f"'{key}' is no key of a result")
        write_whole(self._place(key), self._begun, [blob])

    def _place(self, key: str) -> Path:
        return self._own / key[-2:] / key

    @staticmethod
    def touched(path: Path) -> bool:
        """Whether a file of this folder is there; marks it as used."""
        try:
            if time.time() - path.stat().st_mtime > USED_AGAIN_SECONDS:
                os.utime(path)
        except OSError:
            return False
        return True

    # the limit -------------------------------------------------------------------------------

    def usage(self) -> Usage:
        """How much is kept."""
        sizes = [entry.size for entry in self._entries()]
        return Usage(len(sizes), sum(sizes), self.limit)

    def sweep(self, pinned: Collection[str]) -> Usage:
        """Takes away what is over the limit, never what is `pinned` (keys), and what a killed process left
        half written."""
        keep = set(pinned)
        entries = sorted(self._entries(), key=lambda e: (e.own, e.used))
        total, count, now = sum(e.size for e in entries), len(entries), time.time()
        for entry in entries:
            if total <= self.limit:
                break
            if entry.path.name in keep or now - entry.used < RECENT_SECONDS:
                continue
            entry.path.unlink(missing_ok=True)
            total, count = total - entry.size, count - 1
        for left in self._begun.iterdir():
            with contextlib.suppress(FileNotFoundError):
                if now - left.stat().st_mtime > LEFT_OVER_SECONDS:
                    left.unlink()
        return Usage(count, total, self.limit)

    def _entries(self) -> Iterator[_Entry]:
        for version in (*(self.folder / "results").iterdir(), self.folder):
            own = version in (self._own, self.folder)
            shelves = [self.folder / "files"] if version == self.folder else version.iterdir()
            for shelf in shelves:
                for item in os.scandir(shelf):
                    with contextlib.suppress(FileNotFoundError):
                        facts = item.stat()
                        yield _Entry(Path(item.path), facts.st_size, facts.st_mtime, own)


@dataclass(frozen=True)
class _Entry:
    path: Path
    size: int
    used: float
    own: bool


def write_whole(path: Path, begun: Path, pieces: Iterator[bytes] | list[bytes]) -> None:
    """Writes a file so that it is there whole or not at all, also after the power fails. Raises
    ApplicationError when the disk is full."""
    draft = begun / secrets.token_hex(12)
    try:
        with draft.open("wb") as file:
            for piece in pieces:
                file.write(piece)
            file.flush()
            os.fsync(file.fileno())
        path.parent.mkdir(parents=True, exist_ok=True)
        draft.replace(path)
    except OSError as error:
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            free = shutil.disk_usage(begun).free
            raise ApplicationError(
                f"The disk is full ({free / 1e6:.0f} MB are free); a result could not be kept.",
                remedy="Make room on the disk; what was saved before is all there.",
            ) from error
        raise
    finally:
        draft.unlink(missing_ok=True)
