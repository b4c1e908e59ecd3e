"""Looking at the processes of this machine."""

from __future__ import annotations

import os
from pathlib import Path


def processes_with(mark: str) -> list[str]:
    """Command lines of living processes that were started with `mark` in their environment."""
    found = []
    for folder in Path("/proc").iterdir():
        if folder.name.isdigit() and int(folder.name) != os.getpid():
            try:
                if mark.encode() in (folder / "environ").read_bytes():
                    found.append((folder / "cmdline").read_bytes().replace(b"\0", b" ").decode())
            except OSError:
                continue  # it ended meanwhile, or belongs to somebody else
    return [line for line in found if line]
