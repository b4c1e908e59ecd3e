"""Two programs held against each other line by line."""

from __future__ import annotations

import re
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Literal

_NUMBER = re.compile(r"^N\d+ ?")
AROUND = 2
"""Equal lines shown before and after a change."""
LONGEST = 4000
"""Where more lines than this differ in one stretch they are told as taken out and put in, without looking for
pairs."""


@dataclass(frozen=True)
class Line:
    """One line of the comparison: its text, the number it has in the first and in the second program (None
    where it is not in that one), and whether it is the same in both, taken out, put in, or stands for lines
    left out here."""

    kind: Literal["same", "out", "in", "gap"]
    first: int | None
    second: int | None
    text: str


def line_changes(first: str, second: str, with_numbers: bool = False) -> list[Line]:
    """What was taken out of the first text and put in, with some equal lines around it; empty when nothing
    differs. Block numbers (N) do not count unless they are asked for."""
    a, b = first.splitlines(), second.splitlines()
    x, y = (t if with_numbers else [_NUMBER.sub("", line) for line in t] for t in (a, b))
    rows: list[Line] = []
    for tag, i0, i1, j0, j1 in _stretches(x, y):
        if tag == "equal":
            rows += [Line("same", i + 1, j0 + i - i0 + 1, b[j0 + i - i0]) for i in range(i0, i1)]
        else:
            rows += [Line("out", i + 1, None, a[i]) for i in range(i0, i1)]
            rows += [Line("in", None, j + 1, b[j]) for j in range(j0, j1)]
    return _folded(rows)


def _stretches(x: list[str], y: list[str]) -> list[tuple[str, int, int, int, int]]:
    """Stretches that are equal or not, of the whole; what both begin and end with is found first, which is
    most of it."""
    low = 0
    while low < min(len(x), len(y)) and x[low] == y[low]:
        low += 1
    tail = 0
    while tail < min(len(x), len(y)) - low and x[-1 - tail] == y[-1 - tail]:
        tail += 1
    p, q = len(x) - tail, len(y) - tail
    out: list[tuple[str, int, int, int, int]] = [("equal", 0, low, 0, low)]
    if max(p, q) - low > LONGEST:
        out.append(("replace", low, p, low, q))
    else:
        matcher = SequenceMatcher(None, x[low:p], y[low:q], autojunk=False)
        out += [(t, i0 + low, i1 + low, j0 + low, j1 + low) for t, i0, i1, j0, j1 in matcher.get_opcodes()]
    return [*out, ("equal", p, len(x), q, len(y))]


def _folded(rows: list[Line]) -> list[Line]:
    """Long equal stretches away from changes as one line that says how many."""
    changed = [i for i, row in enumerate(rows) if row.kind != "same"]
    if not changed:
        return []
    near = {j for i in changed for j in range(i - AROUND, i + AROUND + 1)}
    out: list[Line] = []
    hidden = 0
    for i, row in enumerate(rows):
        if i in near:
            if hidden:
                out.append(Line("gap", None, None, f"{hidden} equal lines"))
            hidden = 0
            out.append(row)
        else:
            hidden += 1
    return [*out, Line("gap", None, None, f"{hidden} equal lines")] if hidden else out
