"""Hole-making along the tool's axis: spot, drill, peck, deep hole, ream, bore, counterbore, countersink, each
hole as one canned cycle but for deep ones, whose pecks get shorter: no canned cycle of the standard does
that.

Every hole starts over the in-process stock that stands there, and the way from hole to hole goes over
whatever stands between. A point's length is R tan(90° - half the point angle) (geometry: 0.300 D for 118°).
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Cycle, CycleKind, Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, HoleSpot, Inputs, Parameters, Strategy, fact, spots
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.tolerances import PECK_CLEARANCE
from fenrik.core.tooling.assembly import TITLES, Assembly

Floats = NDArray[np.float64]
FIT_MM = 0.05
"""A tool wider than its hole by more than this is the wrong one."""
LEAST_SPOT_SHARE = 0.9
"""Of the hole's diameter, for a spot where the model has no broken edge: it vanishes in the hole."""
FIRST_PECK, LEAST_PECK = 1.5, 0.3
"""The first and the shortest peck of a deep hole, in diameters (common practice, no source)."""
BORED_SHARE = 0.3
"""Share of a boring head's radius within which nothing may stand before it bores."""


class Drilling(Parameters):
    """What hole-making can be told. Lengths mm."""

    cycle: Literal[
        "drill", "spot", "peck", "chip_break", "deep", "ream", "bore", "counterbore", "countersink"
    ] = fact(
        "drill",
        "Straight down and out; only a start for the drill; in pecks, out each time or just until the chip "
        "breaks; in pecks"
        " that get shorter; at feed in and out, and so with a boring head; with the tool standing at the "
        "bottom of a counterbore or countersink.",
    )
    depth_to: Literal["as_modelled", "full_diameter", "tip"] = fact(
        "as_modelled",
        "What of a pointed tool reaches the hole's depth: its full diameter, its tip, or as the model's "
        "bottom shows.",
        shown_when={"cycle": ["drill", "peck", "chip_break", "deep", "ream", "bore"]},
    )
    breakthrough: float = fact(
        1.0,
        "How far the full diameter goes beyond the far side of a through hole.",
        unit="mm",
        ge=0,
        le=50,
        shown_when={"cycle": ["drill", "peck", "chip_break", "deep", "ream", "bore"]},
    )
    spot_diameter: float | None = fact(
        None,
        "Diameter of the spot or countersink at the hole's mouth.",
        unit="mm",
        gt=0,
        le=200,
        shown_when={"cycle": ["spot", "countersink"]},
        reason="the modelled chamfer or countersink, else 0.9 of the hole",
    )
    peck: float | None = fact(
        None,
        "Depth of a peck.",
        unit="mm",
        gt=0,
        le=200,
        shown_when={"cycle": ["peck", "chip_break"]},
        reason="0.4 diameters",
    )
    first_peck: float | None = fact(
        None,
        "Depth of the first peck.",
        unit="mm",
        gt=0,
        le=500,
        shown_when={"cycle": "deep"},
        reason="1.5 diameters",
    )
    peck_share: float = fact(
        0.8,
        "Each peck over the one before.",
        gt=0.1,
        le=1,
        shown_when={"cycle": "deep"},
        group="rest",
        title="Each peck over the last",
    )
    least_peck: float | None = fact(
        None,
        "No peck is shorter.",
        unit="mm",
        gt=0,
        le=200,
        shown_when={"cycle": "deep"},
        reason="0.3 diameters",
        title="Smallest peck",
    )
    dwell: float = fact(
        0.2,
        "How long the tool stands at the bottom.",
        unit="s",
        ge=0,
        le=30,
        shown_when={"cycle": ["counterbore", "countersink", "spot", "bore"]},
    )
    order: Literal["shortest", "as_given"] = fact("shortest", "Order of the holes.", group="rest")


KIND: dict[str, CycleKind] = {
    "drill": "drill", "spot": "dwell", "peck": "peck", "chip_break": "chip_break", "ream": "ream",
    "bore": "bore", "counterbore": "dwell", "countersink": "dwell",
}  # fmt: skip


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming the hole that the tool does not fit,
    Cancelled."""
    p: Drilling = inputs.parameters
    if not inputs.holes:
        raise ComputeError("Drilling has no hole.", remedy="Pick holes, or give places under 'holes'.")
    spots = [(hole, _bottom(hole, inputs.assembly, p)) for hole in inputs.holes]
    if p.order == "shortest":
        spots = [spots[i] for i in shortest(np.array([(h.x, h.y) for h, _ in spots]))]
    path = PathBuilder()
    link = Linker.of(inputs, path, inputs.stock.copy())
    for i, (hole, bottom) in enumerate(spots):
        progress.step(i / len(spots), f"hole {i + 1} of {len(spots)}")
        path.run += 1
        mark = max(0, path.count() - 1)
        first, retract = arrive(path, link, hole, inputs.assembly)
        if p.cycle == "bore":
            _check_bored(hole, link, inputs.assembly)
        if p.cycle == "deep":
            _deep(path, hole, retract, round(bottom, 3), inputs, p)
        else:
            _cycle(path, hole, first, retract, round(bottom, 3), inputs.feed, p)
        link.stock.cut(path.since(mark), inputs.assembly.cleared)
    link.away()
    return path.build()


def arrive(path: PathBuilder, link: Linker, hole: HoleSpot, tool: Assembly) -> tuple[int, float]:
    """To over a hole, no higher than what stands there and on the way asks for. The row with which its cycle
    may begin, and the height from which it goes at feed."""
    place = (hole.x, hole.y)
    over = max(float(link.stock.top(place, place, tool.radius)), hole.top)
    retract = math.ceil(round(10.0 * (over + link.heights.feed), 6)) / 10.0
    before, mark = path.position, path.count()
    link.over(*place)
    if before is not None and path.count() == mark + 1:
        return mark, retract  # a level way, which is the cycle's own
    level = max(retract, link.heights.retract)
    if before is None or (path.position is not None and path.position[2] < level):
        path.rapid(*place, level)
    return path.count(), retract


def _cycle(
    path: PathBuilder, hole: HoleSpot, first: int, retract: float, bottom: float, feed: float, p: Drilling
) -> None:
    """One hole from the retract height down and back to where it came from, and the canned cycle that its
    rows are."""
    x, y = hole.x, hole.y
    back = max(retract, path.position[2] if path.position is not None else retract)
    path.rapid(x, y, retract)
    kind = KIND[p.cycle]
    if kind == "bore" and p.dwell == 0:
        kind = "ream"  # without a stop at the bottom it is the same cycle
    peck = p.peck or 0.0
    if kind in ("peck", "chip_break") and peck < retract - bottom:
        depth = retract
        while depth > bottom + 1e-9:
            following = max(bottom, depth - peck)
            if depth < retract and kind == "peck":
                path.rapid(x, y, depth + PECK_CLEARANCE)
            path.feed(x, y, following, feed, Motion.PLUNGE)
            depth = following
            if depth > bottom:
                path.rapid(x, y, retract if kind == "peck" else depth + PECK_CLEARANCE)
    else:
        path.feed(x, y, bottom, feed, Motion.PLUNGE)
        kind, peck = ("drill", 0.0) if kind in ("peck", "chip_break") else (kind, 0.0)
    if kind in ("ream", "bore"):
        path.feed(x, y, retract, feed, Motion.LEAD)
    path.rapid(x, y, back)
    dwell = p.dwell if kind in ("dwell", "bore") else 0.0
    path.cycles.append(Cycle(kind, first, path.count() - 1, retract, bottom, back, feed, peck, dwell))


def _deep(
    path: PathBuilder, hole: HoleSpot, retract: float, bottom: float, inputs: Inputs, p: Drilling
) -> None:
    """One hole in pecks that get shorter, out of it after each."""
    x, y, tool = hole.x, hole.y, inputs.assembly
    back = max(retract, path.position[2] if path.position is not None else retract)
    peck, least = p.first_peck or FIRST_PECK * tool.diameter, p.least_peck or LEAST_PECK * tool.diameter
    depth = retract
    path.rapid(x, y, retract)
    while depth > bottom + 1e-9:
        if depth < retract:
            path.rapid(x, y, depth + PECK_CLEARANCE)
        depth = max(bottom, depth - peck)
        path.feed(x, y, depth, inputs.feed, Motion.PLUNGE)
        path.rapid(x, y, retract if depth > bottom else back)
        peck = max(min(peck, least), p.peck_share * peck)


def _check_bored(hole: HoleSpot, link: Linker, tool: Assembly) -> None:
    """Raises ComputeError for a hole that a boring head is to widen and that is not there yet."""
    place = (hole.x, hole.y)
    stands = float(link.stock.top(place, place, BORED_SHARE * tool.radius))
    if stands > hole.bottom + tool.radius:
        raise ComputeError(
            f"There is no hole yet that tool {tool.number} could bore at {hole.words}: stock stands to Z "
            f"{stands:.2f} there.",
            remedy="Drill it, or mill it, before.",
        )


def _bottom(hole: HoleSpot, tool: Assembly, p: Drilling) -> float:
    """Height of the tip at the bottom. Raises ComputeError where the tool does not fit the hole."""
    tip = tool.profile.height(tool.radius)
    if p.cycle in ("spot", "countersink"):
        return hole.top - tool.profile.height(0.5 * _mouth(hole, tool, p))
    wide = hole.mouth if p.cycle == "counterbore" else hole.diameter
    if tool.diameter > wide + FIT_MM:
        raise ComputeError(
            f"Tool {tool.number} is {tool.diameter:g} mm wide and does not fit {hole.words}.",
            remedy=f"Use a tool of {wide:g} mm or less, or take the hole out.",
            offer={"tool_at_most": wide},
        )
    if p.cycle == "counterbore":
        return hole.step
    if hole.through:
        return hole.bottom - p.breakthrough - tip
    to_tip = p.depth_to == "tip" or (p.depth_to == "as_modelled" and not hole.pointed)
    return hole.bottom if to_tip or tool.point_deg <= 0 else hole.bottom - tip


def _mouth(hole: HoleSpot, tool: Assembly, p: Drilling) -> float:
    """Diameter mm of a spot or a countersink. Raises ComputeError where the hole asks for none, or the tool
    cannot make it."""
    if p.cycle == "countersink" and not (p.spot_diameter or hole.edge):
        raise ComputeError(
            f"{hole.words} has no countersink in the model.",
            remedy=f"Give its diameter, more than {hole.diameter:g} mm, or take the hole out.",
        )
    wanted = p.spot_diameter or (hole.edge or LEAST_SPOT_SHARE * hole.diameter)
    if p.cycle == "countersink" and wanted <= hole.diameter:
        raise ComputeError(
            f"A countersink of {wanted:g} mm is no wider than {hole.words}.",
            remedy=f"Give more than {hole.diameter:g} mm.",
        )
    if wanted > tool.diameter + 1e-6:
        raise ComputeError(
            f"{hole.words} needs a {p.cycle} of {wanted:.2f} mm; tool {tool.number} is {tool.diameter:g} "
            "mm wide.",
            remedy="Use a wider tool or give a smaller spot diameter.",
        )
    if tool.point_deg <= 0:
        raise ComputeError(
            f"A {p.cycle} needs a point; tool {tool.number} is a {TITLES[tool.kind]}.",
            remedy="Use a chamfer cutter or a drill.",
        )
    return wanted


def shortest(places: Floats) -> list[int]:
    """An order of places (n, 2) with a short way: from the lowest left one to the nearest each time, then
    pairs of legs turned round while that shortens it (2-opt, Croes 1958)."""
    n = len(places)
    away = np.linalg.norm(places[:, None] - places[None, :], axis=2)
    order = [int(np.argmin(places.sum(axis=1)))]
    left = set(range(n)) - set(order)
    while left:
        nearest = min(left, key=lambda i: (away[order[-1], i], i))
        order.append(nearest)
        left.remove(nearest)
    better = n <= 400
    while better:
        better = False
        for i in range(n - 2):
            for j in range(i + 2, n):
                a, b, c = order[i], order[i + 1], order[j]
                after = away[c, order[j + 1]] if j + 1 < n else 0.0
                beyond = away[b, order[j + 1]] if j + 1 < n else 0.0
                if away[a, c] + beyond < away[a, b] + after - 1e-9:
                    order[i + 1 : j + 1] = order[i + 1 : j + 1][::-1]
                    better = True
    return order


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Depth of a peck where it is left open."""
    return {
        "peck": (
            0.4 * assembly.diameter,
            "0.4 diameters: 0.1 in for a quarter-inch drill (common practice, no source)",
        ),
        "first_peck": (FIRST_PECK * assembly.diameter, "1.5 diameters (common practice, no source)"),
        "least_peck": (LEAST_PECK * assembly.diameter, "0.3 diameters (common practice, no source)"),
    }


STRATEGY = Strategy(
    "drilling",
    "Drilling",
    "Spots, drills, pecks, reams, bores, counterbores or countersinks round holes along the tool's axis.",
    Drilling,
    compute,
    proposals,
    ("drill", "chamfer", "reamer", "boring", "flat", "corner"),
    target="holes",
    example=Example(
        {"cycle": "peck", "peck": 0.25},
        picks={
            "plate_a.step": spots(),
            "pillow_block.step": [{"face": 14}],
            "bearing_bracket.step": [*({"face": f} for f in (23, 29, 30, 31)), *spots()],
        },
    ),
)
