"""What all processes of Fenrik share: they end with the process that started them, together with what they
have started."""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal

PDEATHSIG = 1  # prctl: the signal a process gets when its parent dies


def end_with_parent(parent: int, by: int = signal.SIGKILL) -> None:
    """Has the kernel send this process a signal when its parent, which has this number, dies; ends it at once
    when the parent is dead already. To be called after the user was changed, which would undo it."""
    ctypes.CDLL(None).prctl(PDEATHSIG, by)
    if os.getppid() != parent:
        os._exit(1)


def kill_group(process: int) -> None:
    """Ends a process group by force: a process and what it has started."""
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(process, signal.SIGKILL)
