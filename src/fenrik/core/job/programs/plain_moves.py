"""Programs that are plain moves: what of a path they cannot say."""

from __future__ import annotations

from fenrik.core.errors import PostError
from fenrik.core.job.document.job import OperationDoc
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.posting.program import TAPS


def check_plain_moves(operation: OperationDoc, path: Toolpath, when: str) -> None:
    """Refuses taps and correction of the radius by the control; `when` says where they cannot be. Raises
    PostError."""
    if any(c.kind in TAPS for c in path.cycles):
        raise PostError(
            f"'{operation.name}' taps, and {when} no control keeps the spindle in step with the feed.",
            remedy="Mill the thread.",
        )
    if path.compensated:
        raise PostError(
            f"'{operation.name}' lets the control correct the radius, which it cannot {when}.",
            remedy="Let the computer correct it.",
        )
