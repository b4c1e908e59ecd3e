"""Profiles: along chosen walls, outside and inside, round about or a piece of them.

Where the cutter's middle may go is the border of the ground on which it would cut the part (`LevelAreas`) at
the walls' own depth; what of it lies along the chosen walls is the profile. Where something lower stands
beside a wall and keeps the tool from its foot, the wall over that is followed at that thing's own height. So
corner radius and taper of the tool count, other walls are never cut, and a corner too narrow for the tool is
passed by. Climb milling keeps the wall on the right of a tool that turns clockwise, inside and outside
(common practice, no source).
"""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import LineString, MultiPoint
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import ComputeError
from fenrik.core.motion.notes import WallLeft
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import CLEARING, Example, Inputs, Strategy, Wall
from fenrik.core.strategies.kit.contours import Contour, apart, band_about, borders_along, merged, rests
from fenrik.core.strategies.kit.linking import TOUCH_MM
from fenrik.core.strategies.kit.room import Room
from fenrik.core.strategies.walls.profile_parameters import Profile
from fenrik.core.strategies.walls.wall_cutting import BORDER, WallCutter
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
Rounds = list[tuple[float, list[Contour]]]
"""Contours by how far they are from the wall's own, the farthest first."""
Stage = tuple[float, BaseGeometry, Rounds]
"""A level, what is blocked there, and what is driven there."""
APART = 0.1
"""Share of the diameter from which a contour at another level is another one."""
SHORTEST = 0.05
"""Pieces shorter than this share of the tool's diameter are left out."""


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming walls that the tool cannot follow,
    Cancelled."""
    if not inputs.walls:
        raise ComputeError(
            "The profile has no walls.", remedy="Pick walls, a floor or top face, or the outline."
        )
    return _Profiling(inputs, progress).run()


class _Profiling:
    def __init__(self, inputs: Inputs, progress: Progress) -> None:
        p: Profile = inputs.parameters
        self.inputs, self.p, self.progress = inputs, p, progress
        self.tool = inputs.assembly
        self.stepover = p.stepover or 0.4 * self.tool.diameter
        self.material_right = (p.direction == "climb") == inputs.spindle_clockwise
        self.cutter = WallCutter(inputs, p, self.material_right)
        margin = 2 * self.tool.radius + p.passes * self.stepover + 2.0
        progress.step(0.0, "sampling the part")
        self.areas = inputs.areas(
            inputs.cutter(p.allowance_radial, p.allowance_axial),
            margin,
            min(0.5, max(0.1, self.tool.diameter / 24)),
            BORDER * inputs.tolerance,
        )

    def run(self) -> Toolpath:
        groups = self.inputs.walls_by_depth()
        for i, (low, walls) in enumerate(groups):
            self._group(walls, low, self.progress.stage(i / len(groups), (i + 1) / len(groups)))
        if self.cutter.path.count() == 0 and self.p.rest_of is not None:
            raise ComputeError(
                f"A mill of {self.p.rest_of:g} mm leaves nothing on {self.inputs.walls[0].words} that tool"
                f" {self.tool.number} of {self.tool.diameter:g} mm could take.",
                remedy="Switch the operation off, give the diameter of the mill before, or use a smaller "
                "tool.",
                offer={"set": {"enabled": False}},
            )
        if self.cutter.path.count() == 0:
            self._refuse(groups[0][1], groups[0][0])
        self.cutter.link.away()
        return self.cutter.path.build()

    def _refuse(self, walls: list[Wall], low: float) -> None:
        """Raises ComputeError naming walls that the tool cannot follow, with the widest that can."""
        p, bottom, feet = self.p, low - self.p.below + self.p.allowance_axial, merged([w.line for w in walls])
        room = Room(self.inputs, p.allowance_radial, p.allowance_axial)
        wide = room.widest(bottom, lambda d, blocked: bool(self._contours(blocked, feet, 0.0, 0.5 * d)))
        raise ComputeError(
            f"Tool {self.tool.number} of {self.tool.diameter:g} mm cannot follow {walls[0].words} at Z "
            f"{bottom:.2f}.",
            remedy="Pick other walls."
            if wide is None
            else f"Use a tool of {wide:g} mm or less, or pick other walls.",
            offer=None if wide is None else {"tool_at_most": wide},
        )

    def _group(self, walls: list[Wall], low: float, progress: Progress) -> None:
        """All contours whose walls end at one height."""
        p, bottom = self.p, low - self.p.below + self.p.allowance_axial
        progress.step(0.02, f"finding the contours at Z {bottom:.2f}")
        blocked = self.areas.blocked(bottom)
        feet = merged([w.line for w in walls])
        passes = [k * self.stepover for k in range(p.passes - 1, -1, -1)]
        rounds = [(away, self._contours(blocked, feet, away)) for away in passes]
        stages = self._over_steps(walls, bottom, rounds)
        if not rounds[-1][1] and not stages:
            if p.rest_of is not None:
                return
            x, y = feet.representative_point().coords[0][:2]
            self.cutter.path.notes.append(WallLeft((x, y, bottom), walls[0].words))
            return
        stages.append((bottom, blocked, rounds))
        self.cutter.foot = bottom
        for k, (level, shut, found) in enumerate(stages):
            stage = progress.stage(0.1 + 0.9 * k / len(stages), 0.1 + 0.9 * (k + 1) / len(stages))
            for c, contour in enumerate(found[-1][1]):
                stage.step(c / len(found[-1][1]), f"contour {c + 1} of {len(found[-1][1])} at Z {level:.2f}")
                beside = [(away, _nearest(others, contour, away)) for away, others in found[:-1]]
                mine = [(away, other) for away, other in beside if other is not None]
                self.cutter.cut([*mine, (0.0, contour)], level, shut, stage)

    def _over_steps(self, walls: list[Wall], bottom: float, rounds: Rounds) -> list[Stage]:
        """What can be followed of the walls over what stands beside them and keeps the tool from their feet,
        as deep as the level faces of part and fixture allow: from the highest down."""
        p = self.p
        if not p.over_steps or self._piece_ends() is not None:
            return []
        reach = self.tool.radius + p.allowance_radial + 2.0 * self.inputs.tolerance + 0.05
        followed = [LineString(c.points).buffer(reach) for c in rounds[-1][1]]
        feet = merged([w.line for w in walls]).difference(shapely.union_all(followed))
        if feet.length < SHORTEST * self.tool.diameter:
            return []
        left = [w for w in walls if w.line.distance(feet) < TOUCH_MM] or walls
        out: list[Stage] = []
        driven = {away: list(found) for away, found in rounds}
        for level in self._open_levels(feet, reach, bottom, max(w.high for w in left)):
            over = [w.line for w in left if w.high > level + TOUCH_MM]
            if not over:
                continue
            blocked, lines = self.areas.blocked(level), merged(over)
            found: Rounds = []
            for away, before in driven.items():
                here = self._contours(blocked, lines, away)
                # one that runs a little beside the other follows the same wall, drafted or rounded at its
                # foot
                new = apart(here, before, APART * self.tool.diameter, 2 * self.inputs.tolerance, p.overlap)
                found.append((away, [c for c in new if c.length > APART * self.tool.diameter]))
                before += found[-1][1]
            if found[-1][1]:
                out.insert(0, (level, blocked, found))
        return out

    def _open_levels(self, feet: BaseGeometry, reach: float, bottom: float, high: float) -> list[float]:
        """The heights of level faces, with the allowance, between `bottom` and `high` at which the tool can
        stand beside the feet at places where it cannot at the next lower one: the others have nothing new to
        follow. So only the heights at which something stands beside these very walls cost anything, however
        many there are on the part."""
        near = band_about(feet, reach + self.areas.step)
        x, y, heights = self.areas.nodes_in(near.bounds)
        open_from = np.sort(heights[shapely.contains_xy(near, x, y)])
        out, before = [], bottom
        for height in sorted({*self.inputs.flats, *self.inputs.tops}):
            level = height + self.p.allowance_axial
            if not bottom + TOUCH_MM < level < high:
                continue
            first, last = np.searchsorted(open_from, [before + TOUCH_MM, level + TOUCH_MM])
            if last > first:
                out.append(level)
                before = level
        return out

    def _contours(
        self, blocked: BaseGeometry, feet: BaseGeometry, away: float, radius: float | None = None
    ) -> list[Contour]:
        """The pieces of the border of the ground that is blocked for a tool (of a radius, else ours), grown
        by `away`, that lie along the walls' feet."""
        ground = blocked.buffer(away, quad_segs=48) if away else blocked
        reach = (
            (radius or self.tool.radius) + self.p.allowance_radial + away + 2.0 * self.inputs.tolerance + 0.01
        )
        # flat at the ends: where no chosen wall follows, the contour ends square to the last
        band = self.inputs.allowed(band_about(feet, max(reach, 0.05)))
        found = borders_along(ground, band, self.material_right, 0.25 * self.areas.step)
        if self.p.rest_of is not None:
            found = rests(
                found,
                ground,
                0.5 * (self.p.rest_of - self.tool.diameter),
                self.p.overlap,
                self.inputs.tolerance,
            )
        ends = self._piece_ends()
        if ends is not None:
            near = [LineString(c.points).distance(MultiPoint(ends)) for c in found]
            found = [found[int(np.argmin(near))].between(*ends)] if found else []
        least = SHORTEST * self.tool.diameter
        return [c for c in found if c.length > least]

    def _piece_ends(self) -> tuple[Floats, Floats] | None:
        """The places near which the wanted piece of a contour begins and ends (2,); None for the whole."""
        p = self.p
        given = [p.piece_from_x, p.piece_from_y, p.piece_to_x, p.piece_to_y]
        if all(v is None for v in given):
            return None
        if any(v is None for v in given):
            raise ComputeError(
                "The piece of the contour is known at one end only, or in one direction only.",
                remedy="Give X and Y of both ends of the piece, or none of them.",
            )
        return np.array(given[:2], dtype=np.float64), np.array(given[2:], dtype=np.float64)


def _nearest(found: list[Contour], wanted: Contour, away: float) -> Contour | None:
    """The contour farther out that runs beside one at the wall."""
    line = LineString(wanted.points)
    best = min(found, key=lambda c: line.distance(LineString(c.points)), default=None)
    return best if best is not None and line.distance(LineString(best.points)) < 1.5 * away + 1e-6 else None


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Step down and stepover from the cutting data."""
    return {
        "step_down": (data["step_down"], "from material and tool"),
        "stepover": (data["stepover"], "40 % of the diameter (common practice, no source)"),
    }


STRATEGY = Strategy(
    "profile",
    "Profile",
    "Mills along chosen walls, outside or inside, with leads, passes and tabs.",
    Profile,
    compute,
    proposals,
    CLEARING,
    target="walls",
    goes_around=True,
    example=Example({"step_down": 4.0, "passes": 2}, picks={"": [{"outline": True}]}),
)
