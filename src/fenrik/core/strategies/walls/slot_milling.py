"""Slots of one width, closed or open at their ends: down along the slot, turn by turn.

Where a needle's middle may be between the chosen walls is the slot, shrunk by the needle; the widest circle
in it tells the slot's width. A tool as wide as the slot goes to and fro on its middle line, a narrower one
round about along the walls, in as many rings as it needs. It ramps down evenly, no steeper than asked and no
deeper in a turn than a step down, and drives the last turn level. At open ends it runs out beside the part.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import LineString, Polygon
from shapely.geometry.base import BaseGeometry
from shapely.geometry.polygon import orient

from fenrik.core.cutting.drop import DropCutter
from fenrik.core.cutting.levels import polygons
from fenrik.core.errors import ComputeError
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, Inputs, Parameters, Strategy, Wall, fact
from fenrik.core.strategies.kit.contours import Contour, along, extended, merged
from fenrik.core.strategies.kit.linking import AIR_MM, Linker
from fenrik.core.tolerances import PATH_SHARE
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
BORDER, FIT = 0.1, PATH_SHARE - 0.1
"""Shares of the chord tolerance for the border of the blocked ground and for arcs and lines along it."""
NEEDLE_MM, CORE_MM, SPACING_MM = 0.1, 0.01, 0.25
"""Radius of the needle, half the width to which the slot is shrunk for its middle line (more than the mesh
strays from round ends), and the distance of that line's points."""
SAME_MM = 0.005
"""A tool that is wider than the slot by less fits: sizes of models are rounded."""
PLAY_MM = 0.02
"""Room to each side from which the tool goes round about instead of to and fro."""
RUN_OUT_MM = 1.0
"""How far the cutter leaves an open end."""
RING_SHARE = 0.9
"""Distance of rings round about, in radii: what lies between two is taken whole."""
UNEVEN = 0.05
"""Share of the ground that a slot of one width may leave beside its middle line."""


class SlotMilling(Parameters):
    """What slot milling can be told. Lengths mm."""

    step_down: float | None = fact(
        None, "Greatest depth of a turn.", unit="mm", gt=0, le=200, reason="a quarter of the diameter"
    )
    ramp_deg: float = fact(3.0, "Steepest angle of the way down.", unit="°", gt=0.1, le=30)
    direction: Literal["climb", "conventional"] = fact(
        "climb", "Which way the teeth meet the walls, where the tool is narrower than the slot."
    )
    allowance_radial: float = fact(
        0.0, "Left on the walls.", unit="mm", ge=-1, le=20, title="Radial allowance"
    )
    allowance_axial: float = fact(0.0, "Left under the tip.", unit="mm", ge=0, le=20, title="Axial allowance")
    below: float = fact(
        0.0,
        "How far the tip goes below the walls' lower end.",
        unit="mm",
        ge=0,
        le=50,
        group="rest",
        title="Depth below",
    )
    spring_passes: int = fact(0, "Times that the level turn is driven again.", ge=0, le=10, group="rest")


@dataclass(frozen=True)
class Slot:
    """A slot's ground, shrunk by the needle, the widest half width in it, mm, and the walls that bound it."""

    ground: Polygon
    half: float
    walls: list[Wall]

    @property
    def words(self) -> str:
        """For messages."""
        return f"the slot at {self.walls[0].words.removeprefix('the ')}, {2 * self.half:.2f} mm wide"


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming a slot that the tool does not fit or that has
    no one width, Cancelled."""
    if not inputs.walls:
        raise ComputeError("Slot milling has no slot.", remedy="Pick a slot's floor or its walls.")
    return _Slotting(inputs, progress).run()


class _Slotting:
    def __init__(self, inputs: Inputs, progress: Progress) -> None:
        p: SlotMilling = inputs.parameters
        self.inputs, self.p, self.progress, self.tool = inputs, p, progress, inputs.assembly
        self.stock, self.path = inputs.stock.copy(), PathBuilder()
        self.link = Linker.of(inputs, self.path, self.stock)
        self.step_down = p.step_down or 0.25 * self.tool.diameter
        self.material_right = (p.direction == "climb") == inputs.spindle_clockwise
        progress.step(0.0, "sampling the part")
        margin = 2 * self.tool.diameter + 2.0
        needle = DropCutter(inputs.topology, Profile(NEEDLE_MM, 0.0), p.allowance_radial, p.allowance_axial)
        fine = min(0.5, max(0.1, self.tool.diameter / 24))
        self.areas = inputs.areas(needle, margin, fine, BORDER * inputs.tolerance)

    def run(self) -> Toolpath:
        groups = self.inputs.walls_by_depth()
        for i, (low, walls) in enumerate(groups):
            stage = self.progress.stage(i / len(groups), (i + 1) / len(groups))
            bottom = low - self.p.below + self.p.allowance_axial
            blocked = self.areas.blocked(bottom)
            slots = self._slots(walls, blocked)
            for k, slot in enumerate(slots):
                mine = stage.stage(k / len(slots), (k + 1) / len(slots))
                mine.step(0.0, f"slot {k + 1} of {len(slots)} at Z {bottom:.2f}")
                self._mill(slot, blocked, bottom, mine)
        if self.path.count() == 0:
            raise ComputeError(
                f"No slot lies between the walls: {self.inputs.walls[0].words} bounds no ground with "
                "another.",
                remedy="Pick the floor of a slot, or both of its walls.",
            )
        self.link.away()
        return self.path.build()

    def _free(self, blocked: BaseGeometry) -> BaseGeometry:
        """Where the tool's middle may be, by what is blocked for it."""
        return self.inputs.allowed(self.areas.domain.difference(blocked))

    def _slots(self, walls: list[Wall], blocked: BaseGeometry) -> list[Slot]:
        """The pieces of free ground between walls."""
        hull = merged([w.line for w in walls]).convex_hull.buffer(0.01)
        between = self._free(blocked).intersection(hull)
        reach = NEEDLE_MM + abs(self.p.allowance_radial) + 2 * self.inputs.tolerance + 0.02
        out = []
        for ground in polygons(between):
            own = [w for w in walls if w.line.distance(ground) <= reach]
            circle = shapely.maximum_inscribed_circle(ground, tolerance=0.001)
            if own and circle.length > 0.01:
                if ground.interiors:
                    raise ComputeError(
                        f"The ground at {own[0].words} goes round about an island and is no slot.",
                        remedy="Clear it and finish its walls by a profile.",
                    )
                out.append(Slot(ground, float(circle.length) + NEEDLE_MM, own))
        return out

    def _mill(self, slot: Slot, blocked: BaseGeometry, bottom: float, progress: Progress) -> None:
        """One slot from the stock's top down."""
        loops = self._loops(slot, blocked)
        for k, loop in enumerate(loops):
            self._down(loop, bottom, progress.stage(k / len(loops), (k + 1) / len(loops)))

    def _down(self, loop: Floats, bottom: float, progress: Progress) -> None:
        """Down along a loop (n, 2), turn by turn, the last one level."""
        top = float(self.stock.top_at(loop, self.tool.radius).max())
        start = max(top, bottom) + AIR_MM
        length = float(np.hypot(*np.diff(loop, axis=0).T).sum())
        drop = min(self.step_down, length * math.tan(math.radians(self.p.ramp_deg)))
        turns = max(1, math.ceil((start - bottom) / drop - 1e-9))
        self.path.run += 1
        mark = max(0, self.path.count() - 1)
        self.link.over(float(loop[0, 0]), float(loop[0, 1]))
        self.link.down(float(loop[0, 0]), float(loop[0, 1]), start)
        tolerance, feed = FIT * self.inputs.tolerance, self.inputs.feed
        for k in range(turns):
            progress.step(k / turns, f"turn {k + 1} of {turns}")
            z0, z1 = (start + (bottom - start) * (k + j) / turns for j in (0, 1))
            along(self.path, loop, z0, z1, feed, tolerance, Motion.FEED)
        for _ in range(1 + self.p.spring_passes):
            along(self.path, loop, bottom, bottom, feed, tolerance, Motion.FEED)
        self.stock.cut(self.path.since(mark), self.tool.cleared)

    def _loops(self, slot: Slot, blocked: BaseGeometry) -> list[Floats]:
        """The closed ways (n, 2) of the tool's middle: to and fro, or round about, from the middle to the
        walls."""
        play = slot.half - self.tool.radius
        if play < -SAME_MM:
            wide = math.floor(100 * (2 * slot.half + SAME_MM)) / 100
            raise ComputeError(
                f"Tool {self.tool.number} of {self.tool.diameter:g} mm does not fit {slot.words}.",
                remedy=f"Use a tool of {wide:g} mm or less.",
                offer={"tool_at_most": wide},
            )
        if play < PLAY_MM:
            line = self._middle(slot, blocked)
            return [np.vstack([line, line[-2::-1]])]
        beyond = merged([w.line for w in slot.walls]).convex_hull
        beyond = beyond.buffer(self.tool.radius + RUN_OUT_MM, join_style="mitre")
        free = self._free(blocked.buffer(self.tool.radius - NEEDLE_MM, quad_segs=48))
        mine = max(polygons(free.intersection(beyond)), key=lambda g: float(g.intersection(slot.ground).area))
        count = max(1, math.ceil(play / (RING_SHARE * self.tool.radius)))
        sense = 1.0 if self.material_right else -1.0
        return [
            Contour(np.asarray(orient(ring, sense).exterior.coords)[:, :2], True).begun().points
            for k in range(count, 0, -1)
            for ring in polygons(mine.buffer(-play * (k - 1) / count, quad_segs=48) if k > 1 else mine)
        ]

    def _middle(self, slot: Slot, blocked: BaseGeometry) -> Floats:
        """The slot's middle line (n, 2), driven on at open ends. Raises ComputeError where it has no one
        width."""
        hull = merged([w.line for w in slot.walls]).convex_hull.buffer(0.01)
        around = hull.buffer(2 * slot.half, join_style="mitre")
        free = self._free(blocked).intersection(around)
        core = free.buffer(NEEDLE_MM + CORE_MM - slot.half, quad_segs=48).intersection(hull)
        line = _between_sides(max(polygons(core), key=lambda g: float(g.intersection(slot.ground).area)))
        # what keep-in and keep-out forbid is shut as well as what the tool would cut
        near = blocked.buffer(self.tool.radius - NEEDLE_MM - PLAY_MM, quad_segs=48)
        shut = self.areas.domain.difference(self._free(near))
        whole = extended(Contour(line, False), self.tool.radius + RUN_OUT_MM, shut).points
        left = slot.ground.difference(LineString(whole).buffer(slot.half, quad_segs=48))
        if left.area > UNEVEN * slot.ground.area:
            raise ComputeError(
                f"{slot.words[0].upper()}{slot.words[1:]} at its widest, is not as wide all along: tool"
                f" {self.tool.number} of {self.tool.diameter:g} mm would leave {left.area:.1f} mm² of it.",
                remedy="Use a smaller tool, or clear it and finish its walls.",
            )
        return whole


def _between_sides(thin: Polygon) -> Floats:
    """The line (n, 2) midway between the two long sides of a thin polygon, as long as it but for half its
    width."""
    ring = np.asarray(thin.exterior.segmentize(SPACING_MM).coords)[:-1, :2]
    away = np.hypot(*(ring[:, None] - ring[None]).T)
    first, last = sorted(int(v) for v in np.unravel_index(int(np.argmax(away)), away.shape))
    sides = ring[first : last + 1], np.vstack([ring[last:], ring[: first + 1]])[::-1]
    count = max(4, int(LineString(sides[0]).length / SPACING_MM))
    shares = np.linspace(0.0, 1.0, count)
    even = [shapely.get_coordinates(LineString(s).interpolate(shares, normalized=True)) for s in sides]
    line: Floats = 0.5 * (even[0] + even[1])
    # both sides end in the same corner, which lies beside the middle
    for end, near, far in ((0, 1, 2), (-1, -2, -3)):
        step = line[near] - line[far]
        line[end] = line[near] + step * max(0.0, 1.0 - CORE_MM / max(1e-9, float(np.hypot(*step))))
    return line


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Shallow turns: the cutter is engaged over its whole width."""
    return {"step_down": (0.25 * assembly.diameter, "a quarter of the diameter (common practice, no source)")}


STRATEGY = Strategy(
    "slot_milling",
    "Slot milling",
    "Mills slots of one width, also with a tool as wide as the slot.",
    SlotMilling,
    compute,
    proposals,
    ("flat", "corner", "ball"),
    target="walls",
    example=Example(
        {"step_down": 2.0, "ramp_deg": 5.0}, picks={"bearing_bracket.step": [{"face": 50}, {"face": 51}]}
    ),
)
