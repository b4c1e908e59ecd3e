"""Whether a path does all that its operation was given: no target is left out in silence."""

from __future__ import annotations

import numpy as np

from fenrik.core.errors import ComputeError
from fenrik.core.job.tasks.task import Task
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.notes import Missing, Short
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.strategies.base import HoleSpot

SHALLOW_MM = 0.2
"""A hole that ends higher than planned by more than this is not made."""
MAY_BE_EMPTY = ("facing", "level_roughing", "bounded_clearing", "rest_clearing")
"""Strategies that cut what earlier operations left: with nothing left they are done."""


def check_not_empty(path: Toolpath, task: Task, where: str) -> None:
    """Raises ComputeError for a path without a way, where that is not what earlier operations explain."""
    if len(path) >= 2 or task.strategy.id in MAY_BE_EMPTY:
        return
    tool, areas = task.tool, task.operation.keep_in
    what = f"'{task.operation.name}' has no way: "
    if areas:
        raise ComputeError(
            f"{what}the middle of tool {tool.number}, {tool.diameter:g} mm wide, finds no room in its "
            "keep-in areas.",
            remedy=f"Move their borders outward by {tool.radius + 0.5:g} mm, choose the faces themselves, or "
            "use a smaller tool.",
            where=where,
        )
    raise ComputeError(
        f"{what}tool {tool.number}, {tool.diameter:g} mm wide, finds nothing to cut.",
        remedy="Use a smaller tool, choose other geometry, or switch it off.",
        where=where,
    )


def check_not_trimmed_away(path: Toolpath, planned: Toolpath, task: Task, where: str) -> None:
    """Raises ComputeError where keeping shank and holder clear has left nothing of a planned way."""
    if len(planned) < 2:
        return
    if _works(path) if _works(planned) else bool((path.kind != Motion.RAPID).any()):
        return
    short = next((n for n in path.notes if isinstance(n, Short)), None)
    part = short.part if short is not None else "shank or holder"
    remedy = "Use a longer tool."
    if short is not None and short.part == "holder":
        remedy = f"A stick-out of {short.stick_out:g} mm would do."
    raise ComputeError(
        f"The {part} of tool {task.tool.number} would touch all along the way of '{task.operation.name}': "
        "nothing of it is left.",
        remedy=remedy,
        where=where,
    )


def _works(path: Toolpath) -> bool:
    """Whether a path does more than come down and go away."""
    return bool(np.isin(path.kind, (Motion.FEED, Motion.ENTRY)).any())


def missing_holes(path: Toolpath, planned: Toolpath, spots: list[HoleSpot], radius: float) -> list[Missing]:
    """The note about holes or bosses that the planned way makes and the path, from which moves were left out,
    does not: it ends higher there. `radius` mm is the tool's."""
    gone = []
    for spot in spots:
        reach = max(0.5 * max(spot.diameter, spot.mouth), radius) + radius
        ends = [_lowest(p, spot, reach) for p in (planned, path)]
        if ends[1] > ends[0] + SHALLOW_MM:
            gone.append(spot)
    if not gone:
        return []
    short = next((n for n in path.notes if isinstance(n, Short)), None)
    first = gone[0]
    part = short.part if short is not None else ""
    stick_out = short.stick_out if short is not None and short.part == "holder" else 0.0
    place = (first.x, first.y, first.top)
    return [Missing(place, len(gone), len(spots), first.words, part, stick_out)]


def _lowest(path: Toolpath, spot: HoleSpot, reach: float) -> float:
    near = np.hypot(path.tip[:, 0] - spot.x, path.tip[:, 1] - spot.y) <= reach
    near &= path.kind != Motion.RAPID
    return float(path.tip[near, 2].min(initial=np.inf))
