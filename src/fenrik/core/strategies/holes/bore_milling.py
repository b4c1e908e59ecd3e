"""Milling round holes: down a helix, ring by ring from the middle, each ring entered and left by half
circles.

On a ring of radius c the tool's edge runs (c + r) / c times as fast as its middle, so the feed of the middle
is lowered by that (common practice, no source). Inside, counter-clockwise is climb milling for a tool that
turns clockwise (common practice, no source).
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, HoleSpot, Inputs, Parameters, Strategy, fact, spots
from fenrik.core.strategies.kit.correcting import Correction, correction_fact
from fenrik.core.strategies.kit.linking import AIR_MM, Linker
from fenrik.core.tooling.assembly import Assembly

CORE_SHARE = 0.95
"""Of the tool's radius: a first ring no wider than this leaves no core."""
SPIRAL_MM = 1.27
"""Depth of a turn in a small bore: 0.050 in (common practice, no source)."""


class BoreMilling(Parameters):
    """What milling a round hole can be told. Lengths mm."""

    part: Literal["narrowest", "mouth"] = fact(
        "narrowest",
        "The narrowest diameter down to the hole's end, or the mouth's diameter down to the first step.",
        title="Part of the hole",
    )
    pitch: float | None = fact(
        None, "Depth of a turn.", unit="mm", gt=0.01, le=50, reason="0.050 in, less for a small tool"
    )
    stepover: float | None = fact(None, "Distance of the rings.", unit="mm", gt=0, le=200)
    last_stock: float = fact(
        0.2, "Left for the last ring.", unit="mm", ge=0, le=5, title="Left for the last ring"
    )
    last_turns: int = fact(
        1,
        "Level turns of the last ring at the bottom; two or more relieve the tool.",
        ge=1,
        le=10,
        title="Turns of the last ring",
    )
    direction: Literal["climb", "conventional"] = fact("climb", "Which way the teeth meet the material.")
    beyond: float = fact(
        0.5,
        "How far the tip goes beyond the far side of a through hole.",
        unit="mm",
        ge=0,
        le=50,
        group="rest",
        title="Breakthrough",
    )
    allowance: float = fact(0.0, "Left on the wall.", unit="mm", ge=-5, le=20)
    correction: Correction = correction_fact()


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming a hole that is too narrow, Cancelled."""
    p: BoreMilling = inputs.parameters
    tool = inputs.assembly
    if not inputs.holes:
        raise ComputeError("Bore milling has no hole.", remedy="Pick holes, or give places under 'holes'.")
    path = PathBuilder()
    link = Linker.of(inputs, path, inputs.stock.copy())
    turn = 1 if (p.direction == "climb") == inputs.spindle_clockwise else -1
    for i, hole in enumerate(inputs.holes):
        widest, bottom = _reach(hole, tool, p)
        rings = _rings(widest, tool, p)
        for k, ring in enumerate(rings):
            progress.step((i + k / len(rings)) / len(inputs.holes), f"hole {i + 1} of {len(inputs.holes)}")
            path.run += 1
            mark = max(0, path.count() - 1)
            last = k == len(rings) - 1
            _ring(path, link, hole, ring, bottom, turn, p.last_turns if last else 1, inputs, last)
            link.stock.cut(path.since(mark), tool.cleared)
    link.away()
    return path.build()


def _reach(hole: HoleSpot, tool: Assembly, p: BoreMilling) -> tuple[float, float]:
    """Radius of the last ring, and the height of the tip at the bottom."""
    diameter = hole.diameter if p.part == "narrowest" else hole.mouth
    widest = 0.5 * diameter - p.allowance - tool.radius
    if widest < 0.02 * tool.diameter:
        raise ComputeError(
            f"Tool {tool.number} of {tool.diameter:g} mm has no room to circle in {hole.words}: its middle "
            f"could move by {max(0.0, widest):.2f} mm only.",
            remedy=f"Use a tool of {math.floor(8 * diameter) / 10:g} mm or less, or drill the hole.",
            offer={"tool_at_most": math.floor(8 * diameter) / 10},
        )
    if p.part == "mouth":
        return widest, hole.step
    return widest, hole.bottom - (p.beyond + tool.corner_radius if hole.through else 0.0)


def _rings(widest: float, tool: Assembly, p: BoreMilling) -> list[float]:
    """Radii of the rings from the middle out: even steps, then the last one by what is left for it."""
    last = min(p.last_stock, 0.5 * widest)
    rough = widest - last
    first = min(
        rough,
        CORE_SHARE * (tool.radius - tool.corner_radius) if tool.corner_radius else CORE_SHARE * tool.radius,
    )
    step = p.stepover or 0.4 * tool.diameter
    count = max(1, math.ceil((rough - first) / step - 1e-9) + 1)
    rings = [float(v) for v in np.linspace(first, rough, count)] if count > 1 else [rough]
    return rings if last <= 1e-6 else [*rings, widest]


def _ring(
    path: PathBuilder,
    link: Linker,
    hole: HoleSpot,
    ring: float,
    bottom: float,
    turn: int,
    turns: int,
    inputs: Inputs,
    to_size: bool,
) -> None:
    """One ring: from the middle by a half circle, down, level turns at the bottom, by a half circle to the
    middle, up. Where the control corrects the radius of the ring to size, straight and by a quarter circle
    instead."""
    p: BoreMilling = inputs.parameters
    x, y = hole.x, hole.y
    feed = inputs.feed * ring / (ring + inputs.assembly.radius)
    top = float(link.stock.top((x, y), (x, y), ring + inputs.assembly.radius))
    start = max(bottom + 1e-6, top + AIR_MM)
    link.over(x, y)
    link.down(x, y, start)
    inward, outward = (x + 0.5 * ring, y), (x + ring, y)
    corrects = to_size and p.correction != "computer"
    aside = (x + 0.5 * ring, y - 0.5 * turn * ring)
    if corrects:
        # inside, the tool goes on the left of the wall where it turns counter-clockwise
        path.correct(turn, p.correction == "control")
        path.feed(*aside, start, feed, Motion.LEAD)
    path.arc((*outward, start), inward, turn, feed, Motion.LEAD)
    pitch = p.pitch or SPIRAL_MM
    count = max(1, math.ceil((start - bottom) / pitch - 1e-9))
    height = start
    for k in range(1, count + 1):
        following = start + (bottom - start) * k / count
        _turn(path, x, y, ring, height, following, turn, feed, Motion.ENTRY)
        height = following
    for _ in range(turns):
        _turn(path, x, y, ring, bottom, bottom, turn, feed, Motion.FEED)
    if corrects:
        path.arc((aside[0], 2 * y - aside[1], bottom), inward, turn, feed, Motion.LEAD)
        path.feed(x, y, bottom, feed, Motion.LEAD)
        path.corrected()
    else:
        path.arc((x, y, bottom), inward, turn, feed, Motion.LEAD)
    link.up(start)


def _turn(
    path: PathBuilder,
    x: float,
    y: float,
    r: float,
    z0: float,
    z1: float,
    turn: int,
    feed: float,
    kind: Motion,
) -> None:
    path.arc((x - r, y, 0.5 * (z0 + z1)), (x, y), turn, feed, kind)
    path.arc((x + r, y, z1), (x, y), turn, feed, kind)


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Depth of a turn and distance of the rings where they are left open."""
    pitch = min(SPIRAL_MM, 0.15 * assembly.diameter)
    return {
        "pitch": (pitch, "0.050 in a turn, at most 0.15 diameters (common practice, no source)"),
        "stepover": (0.4 * assembly.diameter, "0.4 diameters (common practice, no source)"),
    }


STRATEGY = Strategy(
    "bore_milling",
    "Bore milling",
    "Mills round holes down a helix, ring by ring, with a last ring to size.",
    BoreMilling,
    compute,
    proposals,
    ("flat", "corner"),
    target="holes",
    example=Example(
        {"pitch": 0.5},
        picks={
            "plate_a.step": spots(12.0),
            "pillow_block.step": [{"at": [0, 0], "top": 0, "diameter": 22, "depth": 4}, *spots()],
            "bearing_bracket.step": [{"face": 48}, *spots()],
        },
    ),
)
