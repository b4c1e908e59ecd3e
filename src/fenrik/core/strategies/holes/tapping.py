"""Rigid tapping: the spindle turns with the feed, down and back (G84, left-hand G74).

Feed is pitch x speed. A tap's first teeth are ground away: the full thread ends so many pitches above its
tip.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Cycle, CycleKind, Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, HoleSpot, Inputs, Parameters, Strategy, fact, spots
from fenrik.core.strategies.holes.drilling import arrive, shortest
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.tooling.assembly import Assembly

START_PITCHES = 2.0
"""Over the hole's mouth, for spindle and feed to come in step (common practice, no source)."""
TIGHT_MM = 0.02


class Tapping(Parameters):
    """What tapping can be told. Lengths mm."""

    thread_depth: float | None = fact(
        None,
        "Depth of full thread under the mouth.",
        unit="mm",
        gt=0,
        le=500,
        reason="through, or as deep as the hole lets the tap go",
    )
    lead_threads: float = fact(
        2.5,
        "Threads at the tap's tip that are ground away.",
        ge=0,
        le=12,
        group="rest",
        title="Chamfer threads",
    )
    bottom_clearance: float = fact(
        1.0, "Threads left between the tap's tip and the bottom of a blind hole.", ge=0, le=20, group="rest"
    )
    order: Literal["shortest", "as_given"] = fact("shortest", "Order of the holes.", group="rest")


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming the hole that the tap does not fit,
    Cancelled."""
    p: Tapping = inputs.parameters
    tool = inputs.assembly
    if not inputs.holes:
        raise ComputeError("Tapping has no hole.", remedy="Pick holes, or give places under 'holes'.")
    if inputs.spindle_clockwise != (tool.thread_hand == "right"):
        raise ComputeError(
            f"Tool {tool.number} cuts a {tool.thread_hand}-hand thread; its spindle turns the other way.",
            remedy="Set the spindle to "
            f"{'clockwise' if tool.thread_hand == 'right' else 'counter_clockwise'}.",
            offer={"set": {"spindle": "clockwise" if tool.thread_hand == "right" else "counter_clockwise"}},
        )
    spots = [(hole, _bottom(hole, tool, p)) for hole in inputs.holes]
    if p.order == "shortest":
        spots = [spots[i] for i in shortest(np.array([(h.x, h.y) for h, _ in spots]))]
    path = PathBuilder()
    link = Linker.of(inputs, path, inputs.stock.copy())
    kind: CycleKind = "tap" if tool.thread_hand == "right" else "tap_left"
    for i, (hole, bottom) in enumerate(spots):
        progress.step(i / len(spots), f"hole {i + 1} of {len(spots)}")
        path.run += 1
        first, near = arrive(path, link, hole, tool)
        retract = max(near, math.ceil(10.0 * (hole.top + START_PITCHES * (tool.thread_pitch or 0.0))) / 10.0)
        back = max(retract, path.position[2] if path.position is not None else retract)
        path.rapid(hole.x, hole.y, retract)
        path.feed(hole.x, hole.y, bottom, inputs.feed, Motion.PLUNGE)
        path.feed(hole.x, hole.y, retract, inputs.feed, Motion.LEAD)
        path.rapid(hole.x, hole.y, back)
        path.cycles.append(Cycle(kind, first, path.count() - 1, retract, bottom, back, inputs.feed))
    link.away()
    return path.build()


def _bottom(hole: HoleSpot, tool: Assembly, p: Tapping) -> float:
    """Height of the tip at the bottom. Raises ComputeError where hole and tap do not go together."""
    pitch = float(tool.thread_pitch or 0.0)
    if not 2 * tool.core_radius - TIGHT_MM <= hole.diameter <= tool.diameter - 0.5 * pitch:
        raise ComputeError(
            f"{hole.words} does not suit a tap of {tool.diameter:g} x {pitch:g} (T{tool.number}), whose "
            f"thread is {2 * tool.core_radius:.3f} mm at its core.",
            remedy=f"Drill it to {tool.diameter - pitch:.3g} mm, or use another tap.",
        )
    lead = p.lead_threads * pitch
    deepest = -math.inf if hole.through else hole.bottom + p.bottom_clearance * pitch
    if p.thread_depth is not None:
        bottom = hole.top - p.thread_depth - lead
        if bottom < deepest - 1e-9:
            raise ComputeError(
                f"{hole.words} lets the tap's tip go {hole.top - deepest:.2f} mm deep; a full thread of"
                f" {p.thread_depth:g} mm needs {hole.top - bottom:.2f} mm.",
                remedy=f"Thread at most {max(0.0, hole.top - deepest - lead):.2f} mm, or drill deeper.",
                offer={"parameters": {"thread_depth": math.floor(100 * (hole.top - deepest - lead)) / 100}},
            )
        return round(bottom, 3)
    return round(hole.bottom - lead - pitch if hole.through else deepest, 3)


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Nothing is left open that does not follow from the hole."""
    return {}


STRATEGY = Strategy(
    "tapping",
    "Tapping",
    "Taps drilled holes with the spindle in step with the feed.",
    Tapping,
    compute,
    proposals,
    ("tap",),
    target="holes",
    example=Example(
        {},
        tool={"kind": "tap", "diameter": 11.0, "thread_pitch": 1.0, "shank_diameter": 8.0},
        picks={"": spots(10.0, 9.9, top=9.0)},
    ),
)
