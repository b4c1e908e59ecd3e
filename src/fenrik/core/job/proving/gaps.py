"""Whether there is room: for tools between the parts of an array, for the blanks of several setups side by
side."""

from __future__ import annotations

from itertools import combinations

from fenrik.core.job.proving.evidence import Evidence
from fenrik.core.job.tasks.task import Task
from fenrik.core.proof.finding import Finding


def gaps(evidence: Evidence) -> list[Finding]:
    """A caution for each direction in which none of the tools that go around the parts passes between
    them."""
    array = evidence.posted.setup.array
    if array is None:
        return []
    needs = [_width(t) for t in evidence.tasks if t.strategy.goes_around]
    out = []
    for count, gap, axis in ((array.columns, array.gap_x, "X"), (array.rows, array.gap_y, "Y")):
        if count > 1 and needs and min(needs) > gap + 1e-9:
            narrower = (
                f"is narrower than {min(needs):g} mm, which the slimmest tool that goes around them needs"
            )
            words = (
                f"The gap of {gap:g} mm between parts along {axis} {narrower}: the material between "
                "them stays."
            )
            remedy = f"Make the gap at least {min(needs):g} mm, or go around with a thinner tool."
            out.append(Finding("caution", "gap", words, remedy))
    return out


def blanks(evidence: Evidence) -> list[Finding]:
    """A stop for every two blanks of a release's setups that would overlap on the table."""
    out = []
    for (a, in_a), (b, in_b) in combinations(evidence.release_setups, 2):
        low = [c.stock_low + c.table_from_setup for c in (in_a, in_b)]
        high = [c.stock_high + c.table_from_setup for c in (in_a, in_b)]
        into = [float(min(high[0][j], high[1][j]) - max(low[0][j], low[1][j])) for j in range(3)]
        if min(into) > 1e-6:
            words = (
                f"On the table the blanks of '{a.name}' and '{b.name}' stand {min(into[:2]):.1f} mm in "
                "each other."
            )
            remedy = "Move one of them: the place on the table is a setting of its setup."
            out.append(Finding("stop", "room", words, remedy))
    return out


def _width(task: Task) -> float:
    sides = [getattr(task.parameters, name, None) for name in ("allowance_radial", "allowance")]
    allowance = next((float(v) for v in sides if v is not None), 0.0)
    return round(task.tool.diameter + 2 * allowance, 3)
