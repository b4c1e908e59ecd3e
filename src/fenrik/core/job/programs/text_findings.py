"""Findings about a text: where it differs from the plan."""

from __future__ import annotations

from collections.abc import Callable

from fenrik.core.posting.compare import Comparison
from fenrik.core.proof.finding import Finding

MOST = 20
"""Findings of one kind that are told."""


def difference_findings(comparison: Comparison, row_of: Callable[[int], int] = int) -> list[Finding]:
    """A stop for every difference; `row_of` gives the driven move of a move of the text."""
    return [
        Finding(
            "stop",
            "difference",
            f"The posted text differs from the plan in line {d.line}: {d.words}.",
            "Correct the dialect; the release stays blocked.",
            move=row_of(d.move) if d.move >= 0 else -1,
            line=d.line,
        )
        for d in comparison.differences[:MOST]
    ]
