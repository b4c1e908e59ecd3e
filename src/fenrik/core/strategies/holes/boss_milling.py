"""Milling round bosses: about them down a helix, ring by ring from outside, each ring entered and left by
quarter circles.

On a ring of radius c about a boss the tool's edge at the wall runs (c - r) / c times as fast as its middle;
the feed of the middle is kept. Outside, clockwise is climb milling for a tool that turns clockwise (common
practice, no source).
"""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, HoleSpot, Inputs, Parameters, Strategy, fact, spots
from fenrik.core.strategies.kit.correcting import Correction, correction_fact
from fenrik.core.strategies.kit.linking import AIR_MM, Linker
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
TURN_MM = 3.81
"""Depth of a turn round an outside wall: 0.150 in (common practice, no source)."""
LEAD_SHARE = 0.25
"""Radius of the quarter circles on and off over the tool's diameter (common practice, no source)."""
ANGLES = 72
"""Places round a boss at which ways on and off are tried."""


class BossMilling(Parameters):
    """What milling a round boss can be told. Lengths mm."""

    pitch: float | None = fact(
        None, "Depth of a turn.", unit="mm", gt=0.01, le=50, reason="0.150 in, less for a small tool"
    )
    rings: int = fact(1, "Rings side by side, from outside; the last one to size.", ge=1, le=100)
    stepover: float | None = fact(
        None, "Distance of the rings.", unit="mm", gt=0, le=200, shown_when={"rings": list(range(2, 101))}
    )
    last_stock: float = fact(
        0.2,
        "Left for the last ring.",
        unit="mm",
        ge=0,
        le=5,
        shown_when={"rings": list(range(2, 101))},
        title="Left for the last ring",
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
        0.0,
        "How far the tip goes below the boss's lower end.",
        unit="mm",
        ge=0,
        le=50,
        group="rest",
        title="Depth below",
    )
    allowance: float = fact(0.0, "Left on the wall.", unit="mm", ge=-5, le=20)
    allowance_axial: float = fact(
        0.0, "Left under the tip.", unit="mm", ge=0, le=20, group="rest", title="Axial allowance"
    )
    correction: Correction = correction_fact()


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming a boss that the tool cannot go round,
    Cancelled."""
    p: BossMilling = inputs.parameters
    if not inputs.holes:
        raise ComputeError("Boss milling has no boss.", remedy="Pick bosses, or give places under 'holes'.")
    path = PathBuilder()
    link = Linker.of(inputs, path, inputs.stock.copy())
    turn = -1 if (p.direction == "climb") == inputs.spindle_clockwise else 1
    for i, boss in enumerate(inputs.holes):
        bottom = boss.bottom - p.beyond + p.allowance_axial
        rings = _rings(boss, inputs.assembly, p)
        for k, ring in enumerate(rings):
            progress.step((i + k / len(rings)) / len(inputs.holes), f"boss {i + 1} of {len(inputs.holes)}")
            path.run += 1
            mark = max(0, path.count() - 1)
            _Ring(inputs, path, link, boss, ring, bottom, turn, k == len(rings) - 1).drive()
            link.stock.cut(path.since(mark), inputs.assembly.cleared)
    link.away()
    return path.build()


def _rings(boss: HoleSpot, tool: Assembly, p: BossMilling) -> list[float]:
    """Radii of the rings, the widest first."""
    size = 0.5 * boss.diameter + p.allowance + tool.radius
    if p.rings == 1:
        return [size]
    step = p.stepover or 0.4 * tool.diameter
    return [size + p.last_stock + k * step for k in range(p.rings - 2, -1, -1)] + [size]


class _Ring:
    """One ring: where it begins, its ways on and off, the turns between."""

    def __init__(
        self,
        inputs: Inputs,
        path: PathBuilder,
        link: Linker,
        boss: HoleSpot,
        ring: float,
        bottom: float,
        turn: int,
        to_size: bool,
    ) -> None:
        self.inputs, self.path, self.link, self.boss = inputs, path, link, boss
        self.p: BossMilling = inputs.parameters
        self.ring, self.bottom, self.turn, self.to_size = ring, bottom, turn, to_size
        self.corrects = to_size and self.p.correction != "computer"
        self.lead = LEAD_SHARE * inputs.assembly.diameter
        self.begin = self._place()

    def _on(self, angle: float, radius: float | None = None) -> tuple[float, float]:
        r = self.ring if radius is None else radius
        return self.boss.x + r * math.cos(angle), self.boss.y + r * math.sin(angle)

    def _free(self, points: Floats) -> NDArray[np.bool_]:
        """Whether the tool at the bottom of points (n, 2) leaves the part alone; as far as its tessellation
        tells."""
        cutter = self.inputs.cutter(0.0, self.p.allowance_axial)
        return np.asarray(cutter.tip(points) <= self.bottom + self.inputs.tolerance)

    def _place(self) -> float:
        """The angle at which the ring is entered and left: the first from X at which the ways on and off are
        clear of the part. Raises ComputeError where the ring itself meets another wall, or where no place is
        clear."""
        angles = 2 * math.pi * np.arange(ANGLES) / ANGLES
        slack = 2.0 * self.inputs.tolerance
        around = self._free(np.array([self._on(a, self.ring + slack) for a in angles]))
        tool = self.inputs.assembly
        if not around.all():
            x, y = self._on(float(angles[int(np.argmin(around))]))
            raise ComputeError(
                f"Tool {tool.number} of {tool.diameter:g} mm does not go round {self.boss.words}: at X "
                f"{x:.2f} Y {y:.2f} it would cut the part at Z {self.bottom:.2f}.",
                remedy="Use a smaller tool, stay higher over the floor, or follow the wall by a profile.",
                offer={"tool_at_most": 0.5 * tool.diameter},
            )
        for angle in angles.tolist():
            ways = [self._way(angle, s) for s in (-1, 1)]
            if self._free(np.array([p for way in ways for p in way])).all():
                return float(angle)
        raise ComputeError(
            f"There is no room beside {self.boss.words} for a way on and off by a quarter circle of "
            f"{self.lead:.2f} mm.",
            remedy="Use a smaller tool, or follow the wall by a profile.",
            offer={"tool_at_most": 0.5 * tool.diameter},
        )

    def _corner(self, angle: float, side: int) -> tuple[tuple[float, float], tuple[float, float]]:
        """The outer end of the quarter circle before (-1) or behind (1) a place on the ring, and its
        centre."""
        out = (math.cos(angle), math.sin(angle))
        along = (-out[1] * self.turn * side, out[0] * self.turn * side)
        x, y = self._on(angle, self.ring + self.lead)
        return (x + self.lead * along[0], y + self.lead * along[1]), (x, y)

    def _way(self, angle: float, side: int) -> list[tuple[float, float]]:
        """Places of the tool's middle from the ring outwards, to test."""
        end, (cx, cy) = self._corner(angle, side)
        out = (math.cos(angle), math.sin(angle))
        places = []
        for k in range(1, 9):
            a = 0.5 * math.pi * k / 8
            along = (-out[1] * self.turn * side, out[0] * self.turn * side)
            places.append(
                (
                    cx - self.lead * (math.cos(a) * out[0] - math.sin(a) * along[0]),
                    cy - self.lead * (math.cos(a) * out[1] - math.sin(a) * along[1]),
                )
            )
        return [*places, self._further(end)]

    def _further(self, at: tuple[float, float]) -> tuple[float, float]:
        """The end of the straight way on or off, where the control corrects the radius; the place itself
        else."""
        if not self.corrects:
            return at
        dx, dy = at[0] - self.boss.x, at[1] - self.boss.y
        long = math.hypot(dx, dy)
        return at[0] + self.lead * dx / long, at[1] + self.lead * dy / long

    def drive(self) -> None:
        """On by a quarter circle over the stock, down, level turns at the bottom, off by a quarter circle,
        up."""
        p, path, feed = self.p, self.path, self.inputs.feed
        ring = np.array([self._on(2 * math.pi * k / 90) for k in range(90)])
        top = float(self.link.stock.top_at(ring, self.inputs.assembly.radius + 2 * self.lead).max())
        start = max(self.bottom + 1e-6, top + AIR_MM)
        before, centre = self._corner(self.begin, -1)
        first = self._further(before)
        self.link.over(*first)
        self.link.down(*first, start)
        if self.corrects:
            # the boss lies on the right of a tool that goes round it clockwise
            path.correct(-self.turn, p.correction == "control")
            path.feed(*before, start, feed, Motion.LEAD)
        path.arc((*self._on(self.begin), start), centre, -self.turn, feed, Motion.LEAD)
        count = max(1, math.ceil((start - self.bottom) / (p.pitch or TURN_MM) - 1e-9))
        heights = [start + (self.bottom - start) * k / count for k in range(count + 1)]
        for above, below in pairwise(heights):
            self._turn(above, below, Motion.ENTRY)
        for _ in range(p.last_turns if self.to_size else 1):
            self._turn(self.bottom, self.bottom, Motion.FEED)
        behind, centre = self._corner(self.begin, 1)
        path.arc((*behind, self.bottom), centre, -self.turn, feed, Motion.LEAD)
        if self.corrects:
            path.feed(*self._further(behind), self.bottom, feed, Motion.LEAD)
            path.corrected()
        self.link.up(start)

    def _turn(self, z0: float, z1: float, kind: Motion) -> None:
        middle = (self.boss.x, self.boss.y)
        half = (*self._on(self.begin + math.pi), 0.5 * (z0 + z1))
        self.path.arc(half, middle, self.turn, self.inputs.feed, kind)
        self.path.arc((*self._on(self.begin), z1), middle, self.turn, self.inputs.feed, kind)


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Depth of a turn and distance of the rings where they are left open."""
    return {
        "pitch": (
            min(TURN_MM, 0.3 * assembly.diameter),
            "0.150 in a turn, at most 0.3 diameters (common practice, no source)",
        ),
        "stepover": (0.4 * assembly.diameter, "0.4 diameters (common practice, no source)"),
    }


STRATEGY = Strategy(
    "boss_milling",
    "Boss milling",
    "Mills round bosses down a helix about them, ring by ring from outside, with a last ring to size.",
    BossMilling,
    compute,
    proposals,
    ("flat", "corner"),
    target="bosses",
    example=Example({"pitch": 0.5, "rings": 6, "stepover": 0.5}, picks={"": spots()[2:4]}),
)
