"""What the application asks of the floors beside it."""

from __future__ import annotations

from typing import Protocol


class Queue(Protocol):
    """Where background work is handed in."""

    def submit(self, run_id: int) -> None:
        """Hands in the run with this id; it must have been committed before."""
