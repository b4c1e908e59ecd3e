"""A whole plan for what is seen from one side of a setup: face, clear, clear the rest, finish floors, walls
and curved faces, make the slots and holes, cut the chamfers. What comes out are ordinary operations."""

from __future__ import annotations

import math
from collections.abc import Set as AbstractSet
from functools import cached_property
from typing import NamedTuple

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry import MultiPoint

from fenrik.core.cutting.topology import prepare
from fenrik.core.features.feature import Feature
from fenrik.core.features.holes import alike
from fenrik.core.features.made import made_already
from fenrik.core.features.seen import Face, Seen, inner_radius, seen_from_above
from fenrik.core.features.way_up import made_from
from fenrik.core.frames import same_direction
from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.job.document.picks import Boundary, WallPick
from fenrik.core.job.document.recipe_data import HOLES, PartRecipe, PartStep, shipped
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proposing.balls import BallPass, FaceReach, choose_balls, passes_of
from fenrik.core.job.proposing.recipes import (
    Proposal,
    free_name,
    from_side,
    is_seen,
    on_side,
    propose_all,
    with_proposal,
)
from fenrik.core.job.proposing.tool_choice import CORNER_SHARE, WIDEST_LONG, ToolChoice
from fenrik.core.job.tasks.heights import over_fixture
from fenrik.core.job.tasks.task import SHALLOWEST
from fenrik.core.job.tasks.wall_lines import wall_of
from fenrik.core.tolerances import BENDING_SHARE
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.cutting_data import propose
from fenrik.core.tooling.stiffness import stiff_depth

Floats = NDArray[np.float64]
FACE_MM = 0.05
"""Stock over the part's top worth facing."""
CLEARING_SHARE = 0.25
"""Diameter of the clearing tool over the part's smaller side, at most (common practice, no source)."""
WIDEST_CLEARING = 12.0
SLOT_SHARE = 0.8
"""Diameter of the tool over the width of a pocket or slot, at most: it must go round in it (common practice,
no source)."""
LEFT_MM = 0.3
"""What clearing leaves on walls for finishing."""
REST_MM = 0.01
"""What a corner must be narrower than the clearing mill, in radius, to be gone along again."""
PASSING = 0.2
"""How much slimmer than a gap, on each side, the tool is that goes through it, mm."""
HOLDER_MM = 2.0
"""Gap kept between a holder and the part's top where a mill ends short of the depth."""
CHAMFER_MM, SAME_DEG = 3.0, 1.0


class Deep(NamedTuple):
    """A mill and the depth under the part's top mm down to which it is used."""

    tool: Assembly
    upto: float


class SidePlan:
    """The plan for what is seen from one side of a setup, in that side's frame; it goes into a proposal.
    Faces that are `done`, or are to be made from `elsewhere`, are left alone."""

    def __init__(
        self,
        paths: Paths,
        setup: SetupDoc,
        out: Proposal,
        features: list[Feature] | None = None,
        side: str | None = None,
        done: AbstractSet[int] = frozenset(),
        elsewhere: AbstractSet[int] = frozenset(),
    ) -> None:
        self.paths, self.setup, self.out, self.features, self.side = paths, setup, out, features, side
        self.clamped, self.part = paths.setups.seen(setup, side), paths.workspace.part()
        # the mesh of the view tells what is seen; paths are computed on their own, finer one
        self.mesh = self.part.mesh.moved(self.clamped.setup_from_part)
        self.topology = prepare(self.mesh)
        self.seen: Seen = seen_from_above(self.part, self.mesh, self.topology)
        self.made = made_already(self.part, self.mesh, self.clamped)
        self.done, self.elsewhere = self.made | done, elsewhere - done
        others = self.done | self.elsewhere
        open_holes = [h for h in paths.workspace.holes() if not set(h.faces) <= others]
        if setup.sides:
            open_holes = [h for h in open_holes if is_seen(h, self.clamped)]
        if features is not None:
            chosen = {face for f in features for face in f.faces}
            for faces in vars(self.seen).values():
                faces[:] = [f for f in faces if f.id in chosen]
            open_holes = []
        job = with_proposal(paths.job, setup, out)
        own = job.setup(setup.name)
        holes = propose_all(job, own, alike(open_holes), self.clamped)
        self.holes = on_side(holes, side, self.clamped, [o.name for o in own.operations])
        self.out.tools += self.holes.tools
        self.tools = ToolChoice(paths.job, self.part, self.out)
        self.drilled = {f for o in self.holes.operations for p in o.holes for f in self._walls_of(p.face)}
        self.drilled |= others
        self.slots = self._slots()
        self.slotted = {face for f, _ in self.slots for face in f.faces}

    @property
    def _up(self) -> Floats:
        """Towards the tool (3,), in the part's frame."""
        return self.clamped.setup_from_part[2, :3]

    def _walls_of(self, face: int | None) -> list[int]:
        return next((list(h.faces) for h in self.paths.workspace.holes() if face in h.faces), [])

    def _slots(self) -> list[tuple[Feature, Assembly]]:
        """The slots that the clearing mill does not circle in, each with the mill that makes it."""
        up, widest = self._up, self._clearing_size(WIDEST_CLEARING)
        floors = {f.id for f in self.seen.floors} - self.drilled
        found = []
        for f in self.features if self.features is not None else self.paths.workspace.features():
            narrow = f.kind in ("slot", "open slot") and SLOT_SHARE * f.width < widest
            if not narrow or f.islands or f.floor not in floors or not same_direction(up, f.axis):
                continue
            most = min(SLOT_SHARE * f.width, 2 * CORNER_SHARE * (f.radius or f.width))
            level = next(face.low for face in self.seen.floors if face.id == f.floor)
            found.append((f, self.tools.mill(most, self.clamped.part_high[2] - level)))
        return found

    @property
    def reached(self) -> set[int]:
        """Ids of the faces that are made from here."""
        seen = {f.id for f in (*self.seen.floors, *self.seen.walls, *self.seen.leaning)}
        return (seen | self.drilled) - self.elsewhere

    def run(self) -> None:
        apart = self.drilled | self.slotted
        walls = [w for w in self.seen.walls if w.id not in apart]
        floors = [f for f in self.seen.floors if f.id not in apart]
        leaning = [f for f in self.seen.leaning if f.id not in apart]
        self.open = [*floors, *leaning, *walls]
        chamfers, curved = self._chamfers(leaning)
        if not (walls or floors or leaning or self.slots) and not self.holes.operations:
            self.out.words.append(f"Nothing that is seen from {self._here} has stock on it.")
            return
        mills, passes_by = self._mills(walls, [*walls, *floors, *leaning])
        top = [f for f in floors if f.high > self.clamped.part_high[2] - FACE_MM] if self.side else floors
        over = top and self.clamped.stock_high[2] - self.clamped.part_high[2] > FACE_MM
        clears = bool(walls or floors or leaning) and not self._outside_only()
        if self.side is not None and self.features is None:
            clears = bool(self._over(mills["clearing"][0].tool))
        narrow = clears and mills["finishing"][-1].tool.diameter < mills["clearing"][-1].tool.diameter
        balls = self._balls(curved, walls, mills) if curved else []
        needed: dict[str | None, bool] = {
            None: True,
            "stock over the top": bool(over and floors)
            and (self.features is None or any(f.kind == "top" for f in self.features)),
            "something to clear": clears,
            "narrow corners": narrow,
            "slots": bool(self.slots),
            "floors": bool(floors),
            "floors with narrow corners": bool(floors) and narrow,
            "walls": bool(walls),
            "walls with narrow corners": bool(walls) and passes_by,
            "curved faces": bool(balls),
            "steep curved faces": any(p.steep for p in balls),
            "flat curved faces": any(not p.steep for p in balls),
            "chamfers": bool(chamfers),
        }
        for step in self._recipe().steps:
            if step.strategy == HOLES:
                self.out.operations += self.holes.operations
            elif needed[step.when] and step.tool == "slots":
                self._slot_step(step)
            elif needed[step.when] and step.tool == "ball":
                self._ball_step(step, balls)
            elif needed[step.when] and step.tool == "chamfer":
                self._add(step, self.tools.point(chamfers), {}, walls=_picks(chamfers))
            elif needed[step.when] and step.works_on == "walls":
                self._wall_step(step, mills, walls)
            elif needed[step.when]:
                self._level_step(step, mills[step.tool], floors)
        self.out.words += self.holes.words

    def _mills(self, walls: list[Face], seen: list[Face]) -> tuple[dict[str, list[Deep]], bool]:
        """The mills by what they are for, each with those for deeper levels, and whether that for walls
        passes narrow corners by."""
        narrowest = inner_radius(self.part, walls, self.drilled | self.slotted)
        narrowest = min(narrowest, 0.5 * self._passage / CORNER_SHARE)
        high, lowest = float(self.clamped.part_high[2]), float(self.clamped.part_low[2])
        if self.features is not None or self.side is not None:
            lowest = min([f.low for f in seen], default=high)
        most, widest = self._clearing_size(WIDEST_CLEARING), self._clearing_size(WIDEST_LONG)
        big = fine = self._deep(most, high - lowest, widest)
        if big[-1].tool.radius > CORNER_SHARE * narrowest:
            corner = 2 * CORNER_SHARE * narrowest
            of_walls = max([high - w.low for w in walls], default=0.0)
            fine = self._deep(min(corner, most), of_walls, corner)
        # a mill that just fits a corner would turn about in it: walls get the larger one only where it passes
        # corners by
        least = big[0].tool.radius
        passes_by = fine[0].tool.radius < least and narrowest < least - REST_MM
        return {"clearing": big, "finishing": fine, "walls": big if passes_by else fine}, passes_by

    def _deep(self, most: float, deepest: float, widest: float) -> list[Deep]:
        """The mill up to a diameter with the depth that it is for, and the longer one for what lies
        deeper."""
        short, long = self.tools.pair(most, deepest, widest)
        if long is None:
            return [Deep(short, math.inf)]
        ends = math.inf if long.stick_out >= deepest else long.stick_out - HOLDER_MM
        return [Deep(short, short.flute_length), Deep(long, ends)]

    @cached_property
    def _passage(self) -> float:
        """The narrowest gap between islands, and between islands and walls, of the pockets that are made from
        here."""
        up = self._up
        gaps = [float("inf")]
        for f in self.features if self.features is not None else self.paths.workspace.features():
            if not f.islands or not same_direction(up, f.axis):
                continue
            rings = [
                shapely.union_all([wall_of(self.mesh, w).line for w in ids])
                for ids in (f.walls, *f.islands)
                if ids
            ]
            gaps += [float(a.distance(b)) for i, a in enumerate(rings) for b in rings[i + 1 :]]
        return min(g for g in gaps if g > 1e-3) - 2 * PASSING

    def _outside_only(self) -> bool:
        """Whether nothing is to be cleared, but walls are to be gone along."""
        return self.features is not None and all(
            f.kind in ("outside", "chamfer", "fillet") for f in self.features
        )

    def _within(self, tool: Assembly) -> list[Boundary]:
        """Where the tool's middle may be for chosen features: over what is closed, and from outside into what
        is open."""
        out = []
        for f in self.features or []:
            if set(f.faces) <= self.slotted:
                continue
            is_open = f.kind in ("open pocket", "open slot", "top")
            if f.kind == "boss" and f.floor:
                out.append(Boundary(faces=[f.floor], offset=round(tool.diameter + 1.0, 3)))
            elif f.floor:
                out.append(Boundary(faces=[f.floor], offset=round(tool.radius + 1.0, 3) if is_open else 0.0))
            elif f.kind == "through pocket":
                out.append(self._around(f.walls))
        return out

    def _around(self, faces: list[int]) -> Boundary:
        """The convex outline of some faces in plan view."""
        ids = np.isin(self.mesh.face_ids, faces)
        hull = MultiPoint(self.mesh.vertices[np.unique(self.mesh.triangles[ids])][:, :2]).convex_hull
        around = np.array(hull.exterior.coords)[:-1]  # type: ignore[attr-defined]
        return Boundary(polygon=[(x, y) for x, y in np.round(around, 4).tolist()])

    def _clearing_size(self, cap: float) -> float:
        size = self.mesh.vertices.max(axis=0) - self.mesh.vertices.min(axis=0)
        most = max(3.0, min(cap, CLEARING_SHARE * float(min(size[:2]))))
        narrow = [f.width for f in self.features or [] if f.kind in ("pocket", "through pocket")]
        most = min([most, *(max(1.0, SLOT_SHARE * w) for w in narrow)])
        array = self.setup.array
        gaps = (
            []
            if array is None
            else [
                gap for gap, count in ((array.gap_x, array.columns), (array.gap_y, array.rows)) if count > 1
            ]
        )
        return min([most, *(gap - 2 * LEFT_MM for gap in gaps)])

    def _add(
        self, step: PartStep, tool: Assembly, also: dict[str, object], name: str | None = None, **more: object
    ) -> None:
        """Adds the operation of a step with a tool, its parameters and those that are worked out."""
        tool = self.tools.taken(tool)
        parameters = {**step.parameters, **also}
        if step.full_flutes:
            parameters["step_down"] = self._full_depth(tool)
        name = from_side(name or step.name, self.side)
        name = free_name(name, [o.name for o in (*self.setup.operations, *self.out.operations)])
        given = {"name": name, "strategy": step.strategy, "tool": tool.number, "parameters": parameters}
        given |= {"side": self.side}
        self.out.operations.append(over_fixture(OperationDoc.model_validate(given | more), self.clamped))

    def _full_depth(self, tool: Assembly) -> float:
        """The flutes' length, or less where the tool would bend by too much at what clearing has left."""
        setups = self.paths.setups
        mill, material = setups.machine(self.setup), setups.material(self.setup)
        data = propose(tool, material, *mill.spindle_rpm, mill.feed_max_mm_min)
        rpm, feed = data["spindle_rpm"].value, data["feed_mm_min"].value
        limit = 2.0 * BENDING_SHARE * self.paths.job.proof.tolerance_mm
        most = stiff_depth(tool, material, rpm, feed, LEFT_MM, limit)
        return round(max(1.0, min(tool.flute_length, max(most, SHALLOWEST * tool.diameter))), 3)

    def _chamfers(self, leaning: list[Face]) -> tuple[list[Face], list[Face]]:
        """Small flat or conical faces of 45° that a 90° point cuts, and all else that leans."""
        chamfers: list[Face] = []
        curved: list[Face] = []
        kinds = {f.id: f for f in self.part.faces}
        for face in leaning:
            facts, height = kinds[face.id], face.high - face.low
            small = facts.kind in ("plane", "cone") and 0 < height <= CHAMFER_MM
            (chamfers if small and self._is_45(face) else curved).append(face)
        return chamfers, curved

    def _is_45(self, face: Face) -> bool:
        corners = self.mesh.vertices[self.mesh.triangles[self.mesh.face_ids == face.id]]
        normal = corners[:, 1] - corners[:, 0]
        other = corners[:, 2] - corners[:, 0]
        z = (normal[:, 0] * other[:, 1] - normal[:, 1] * other[:, 0]).sum()
        area = 0.5 * np.linalg.norm(np.cross(normal, other), axis=1).sum()
        return abs(math.degrees(math.acos(min(1.0, abs(z) / (2 * area)))) - 45.0) < SAME_DEG

    def _recipe(self) -> PartRecipe:
        """The job's own recipe for what is chosen, else the one that ships with Fenrik."""
        kinds = {f.kind for f in self.features or []}
        fitting = [
            r
            for r in (*self.paths.job.part_recipes, *shipped()[1])
            if not r.kinds or (kinds and kinds <= set(r.kinds))
        ]
        # one that names its kinds is meant for them
        return next((r for r in fitting if r.kinds), fitting[0])

    def _over(self, tool: Assembly) -> list[Boundary]:
        """Where the tool's middle may be over what a side has to make: the rest of what is seen from there is
        another's."""
        grounds = [f for f in self.open if f.id not in {w.id for w in self.seen.walls}]
        grown = round(tool.radius + 1.0, 3)
        out = [Boundary(faces=[f.id for f in grounds], offset=grown)] if grounds else []
        open_walls = {f.id for f in self.open}
        return out + [
            self._around(f.walls)
            for f in self.paths.workspace.features()
            if f.kind == "through pocket" and made_from(f, self._up) and open_walls & set(f.walls)
        ]

    def _level_step(self, step: PartStep, mills: list[Deep], floors: list[Face]) -> None:
        """Adds the operations of a step that works on levels: the short mill down to where its flutes end,
        the longer one for what lies deeper."""
        high, above = float(self.clamped.part_high[2]), -math.inf
        on_floors = step.when in ("floors", "floors with narrow corners")
        for i, (tool, upto) in enumerate(mills if step.strategy != "facing" else mills[:1]):
            inside = not on_floors or any(above < high - f.low <= upto for f in floors)
            more: dict[str, object] = {}
            if step.works_on == "ground":
                own = self.features is not None or self.side is None
                more["keep_in"] = self._within(tool) if own else self._over(tool)
            if step.strategy != "facing":
                more |= _down_to(upto)
            if inside:
                self._add(step, tool, {}, f"{step.name} deeper" if i > 0 else None, **more)
            above = upto

    def _wall_step(self, step: PartStep, mills: dict[str, list[Deep]], walls: list[Face]) -> None:
        """Adds the operations of a step along walls: the short mill on those that its flutes reach, the
        longer one on the others."""
        high, above = float(self.clamped.part_high[2]), -math.inf
        for i, (tool, upto) in enumerate(mills[step.tool]):
            groups: dict[float, list[Face]] = {}
            last = i + 1 == len(mills[step.tool])
            for wall in (w for w in walls if above < high - w.low and (last or high - w.low <= upto)):
                # a corner's rest is that of the mill that went along this very wall
                before = next(
                    (d for d in mills["walls"] if high - wall.low <= d.upto), mills["walls"][-1]
                ).tool
                if not step.rest_of_walls or self._has_rest(wall, before):
                    groups.setdefault(before.diameter if step.rest_of_walls else 0.0, []).append(wall)
            for diameter, mine in groups.items():
                rest: dict[str, object] = {"rest_of": diameter} if step.rest_of_walls else {}
                more: dict[str, object] = {"walls": _picks(mine)} | (_down_to(upto) if last else {})
                self._add(step, tool, rest, f"{step.name} deeper" if i > 0 else None, **more)
            above = upto

    def _has_rest(self, wall: Face, before: Assembly) -> bool:
        """Whether a mill that went along a wall may have left a corner or a gap of it."""
        passage = 0.5 * self._passage < before.radius
        return passage or inner_radius(self.part, [wall], set()) < before.radius - REST_MM

    def _balls(self, curved: list[Face], walls: list[Face], mills: dict[str, list[Deep]]) -> list[BallPass]:
        """Passes of balls over curved faces, the widest ball first: smaller ones where a wider one, or for
        walls their mill, does not reach."""
        candidates = self.tools.balls(0.5 * self._clearing_size(WIDEST_CLEARING))
        lowest = float(self.clamped.part_low[2])
        reach = FaceReach(self.mesh, self.topology, [*curved, *walls], lowest)
        by_mills = reach.share({d.tool.profile for d in (*mills["walls"], *mills["finishing"])})
        chosen = choose_balls(candidates, curved, walls, reach, by_mills)
        self.out.words += reach.words(candidates, curved, chosen)
        passes, high = passes_of(chosen, curved, reach), float(self.clamped.part_high[2])
        deepest: dict[float, float] = {}
        for p in passes:
            low = high - min(f.low for f in p.faces)
            deepest[p.tool.diameter] = max(low, deepest.get(p.tool.diameter, 0.0))
        return [p._replace(tool=self.tools.reaching(p.tool, deepest[p.tool.diameter])) for p in passes]

    def _ball_step(self, step: PartStep, passes: list[BallPass]) -> None:
        """Adds the operations of a step on curved faces, one for each pass."""
        wanted = {"steep curved faces": True, "flat curved faces": False}.get(step.when or "")
        for one in passes:
            if wanted is None or one.steep == wanted:
                rest: dict[str, object] = {} if one.rest_of is None else {"rest_of": one.rest_of}
                self._add(step, one.tool, rest, faces=[f.id for f in one.faces])

    def _slot_step(self, step: PartStep) -> None:
        """Adds the operations of a step on the slots, one for each mill."""
        by_tool: list[tuple[Assembly, list[Feature]]] = []
        for feature, tool in sorted(self.slots, key=lambda slot: -slot[1].diameter):
            same = next((slots for t, slots in by_tool if t == tool), None)
            if same is None:
                by_tool.append((tool, same := []))
            same.append(feature)
        upright = {w.id for w in self.seen.walls}
        for tool, slots in by_tool:
            picks = (
                [f.floor for f in slots]
                if step.works_on == "ground"
                else [w for f in slots for w in f.walls if w in upright]
            )
            self._add(step, tool, {}, walls=[WallPick(face=f) for f in dict.fromkeys(picks)])

    @property
    def _here(self) -> str:
        return "here" if self.side is None else f"'{self.side}'"


def _down_to(depth: float) -> dict[str, object]:
    """The bottom of an operation at a depth under the part's top, where it is finite."""
    if math.isinf(depth):
        return {}
    return {"heights": {"bottom": {"over": "part_top", "offset": -round(depth, 3)}}}


def _picks(faces: list[Face]) -> list[WallPick]:
    return [WallPick(face=f.id) for f in faces]
