"""What the application asks of the layers beside it."""

from __future__ import annotations

from typing import Any, Protocol


class Asker(Protocol):
    """Answers questions about jobs, which take computing, away from who asks."""

    def ask(self, question: str, order: dict[str, Any]) -> bytes:
        """The answer to a question (a name in `app.questions`) about what is ordered, as JSON or as a packed
        blob.

        Raises what the question raises, and ComputeError when it takes too long or too much memory.
        """
