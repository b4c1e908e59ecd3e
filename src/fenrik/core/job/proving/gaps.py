"""Whether there is room: for tools between the parts of an array, for the blanks of several setups side by side."""

from __future__ import annotations

from itertools import combinations

from fenrik.core.job.document.job import OperationDoc, ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.proof.finding import Finding
from fenrik.core.strategies.registry import strategy


def gap_findings(paths: Paths, setup: SetupDoc, operations: list[OperationDoc]) -> list[Finding]:
    """A caution for each direction in which none of the tools that go around the parts passes between them."""
    array = setup.array
    if array is None:
        return []
    needs = [_width(paths, setup, o) for o in operations if strategy(o.strategy).goes_around]
    out = []
    for count, gap, axis in ((array.columns, array.gap_x, "X"), (array.rows, array.gap_y, "Y")):
        if count > 1 and needs and min(needs) > gap + 1e-9:
            out.append(
                Finding(
                    "caution", "gap",
                    f"The gap of {gap:g} mm between parts along {axis} is narrower than {min(needs):g} mm, which the"
                    " slimmest tool that goes around them needs: the material between them stays.",
                    f"Make the gap at least {min(needs):g} mm, or go around with a thinner tool.",
                )
            )  # fmt: skip
    return out


def room_findings(paths: Paths, release: ReleaseDoc) -> list[Finding]:
    """A stop for every two blanks of a release's setups that would stand in each other on the table."""
    out = []
    for a, b in combinations([paths.job.setup(name) for name in release.setups], 2):
        boxes = []
        for setup in (a, b):
            c = paths.setups.clamped(setup)
            boxes.append((c.stock_low + c.table_from_setup, c.stock_high + c.table_from_setup))
        (low_a, high_a), (low_b, high_b) = boxes
        into = [float(min(high_a[j], high_b[j]) - max(low_a[j], low_b[j])) for j in range(3)]
        if min(into) > 1e-6:
            out.append(
                Finding(
                    "stop", "room",
                    f"On the table the blanks of '{a.name}' and '{b.name}' stand {min(into[:2]):.1f} mm in each other.",
                    "Move one of them: the place on the table is a setting of its setup.",
                )
            )  # fmt: skip
    return out


def _width(paths: Paths, setup: SetupDoc, operation: OperationDoc) -> float:
    r = paths.tasks.task(setup, operation)
    sides = [getattr(r.parameters, name, None) for name in ("allowance_radial", "allowance")]
    allowance = next((float(v) for v in sides if v is not None), 0.0)
    return round(r.tool.diameter + 2 * allowance, 3)
