"""Shank and holder kept clear of part and in-process stock when a path is planned.

The cutter's own track is clear of the part by construction, and so is everything above it that is no thicker.
A thicker shank or holder is a set of upright cylinders (cones in slices, each as thick as at its thicker
end): each dropped on the part like a flat cutter says how high the tip must stay for it. What the path lacks
there is the length by which the tool is too short.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d

from fenrik.core.cutting.drop import DropCutter, Profile
from fenrik.core.cutting.leaving_out import SKIN_MM, TOUCH_MM, Trimming, raised, slowed
from fenrik.core.cutting.topology import Topology
from fenrik.core.errors import ComputeError
from fenrik.core.motion.notes import Short
from fenrik.core.motion.planes import Plane
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.tooling.assembly import UNDERCUTTING, Assembly

Floats = NDArray[np.float64]
When = Literal["trim", "raise", "leave"]
SLICES = 4
PITCH_MM = 0.25
"""A path is looked at every so many mm."""
ROUNDS = 6
"""How often moves are left out, each time with the stock as what is left cuts it."""
FAR_MM = 0.002
"""As `TOUCH_MM`, far beside the cutter, where cells count whole."""


@dataclass(frozen=True)
class Lack:
    """How much the tip (n,) mm stands too low for the `shank` and for the `holder`, 0 where it is free."""

    shank: Floats
    holder: Floats

    @property
    def most(self) -> Floats:
        """The greater of both (n,)."""
        return np.maximum(self.shank, self.holder)

    def or_more(self, other: Lack) -> Lack:
        """What lacks against one or the other."""
        return Lack(np.maximum(self.shank, other.shank), np.maximum(self.holder, other.holder))


class Reach:
    """Shank and holder of one assembly over one part, setup frame."""

    def __init__(self, topology: Topology, tool: Assembly) -> None:
        self.topology = topology
        # no thicker than the cutter, it touches nothing of the part, but stock that stands higher than the
        # flutes reach; as thick as the cutter, since the flutes will come up through what a neck went under
        self.thin = [
            (part, start, tool.radius)
            for part, radius, start in _cylinders(tool)
            if part == "shank" and radius <= tool.radius + 1e-9 and tool.kind not in (*UNDERCUTTING, "tap")
        ]
        self.cylinders = [
            (part, start, radius + SKIN_MM)
            for part, radius, start in _cylinders(tool)
            if radius > tool.radius + 1e-9
        ]

    def stays_above(self, path: Toolpath, stock: HeightMap | None) -> bool:
        """Whether the path is nowhere deep enough for shank or holder to come down to part or stock. Upright
        arcs may run deeper than their ends; of paths with such nothing is said."""
        if (path.plane[path.turn != 0] != Plane.XY).any():
            return False
        top = max(float(self.topology.high[2]), -np.inf if stock is None else float(stock.heights.max()))
        lowest = float(path.tip[:, 2].min())
        return all(lowest + start >= top for _, start, _ in (*self.cylinders, *self.thin))

    def lack(self, tips: Floats) -> Lack:
        """For tip positions (n, 3)."""
        out = {"shank": np.zeros(len(tips)), "holder": np.zeros(len(tips))}
        lowest, top = float(tips[:, 2].min(initial=np.inf)), float(self.topology.high[2])
        for part, start, wide in self.cylinders:
            if lowest + start >= top:
                continue  # nothing of the part is as high as that
            cylinder = DropCutter(self.topology, Profile(wide, 0.0))
            low = np.flatnonzero(cylinder.blocked(tips[:, :2], tips[:, 2] + start))
            if len(low):
                need = cylinder.tip(tips[low, :2]) - start - tips[low, 2]
                out[part][low] = np.maximum(out[part][low], need)
        return Lack(out["shank"], out["holder"])

    def lack_over(self, stock: HeightMap, tips: Floats, rapid: NDArray[np.bool_], tool: Assembly) -> Lack:
        """For tip positions (n, 3) one after the other, over a stock that the cutter lowers on its way."""
        out = {"shank": np.zeros(len(tips)), "holder": np.zeros(len(tips))}
        lowest = float(tips[~rapid, 2].min(initial=np.inf))
        top = float(stock.heights.max())
        bodies = [
            (part, start, wide)
            for part, start, wide in (*self.cylinders, *self.thin)
            if lowest + start < top - FAR_MM
        ]
        if bodies and len(tips) > 1:
            pieces = np.hstack([tips[:-1], tips[1:]])
            # far beside the cutter cells count whole; nearer, those at the wall that it follows would always
            # be in the way
            whole = 3.0 * stock.half_diagonal
            shapes = np.array(
                [
                    (wide + (stock.half_diagonal if wide > tool.radius + whole else 0.0), start)
                    for _, start, wide in bodies
                ]
            )
            found = stock.copy().lacks(pieces, rapid[1:], tool.cleared, shapes)
            # cells that the cutter only begins to take are not seen yet: what is a little before and behind
            # counts, too
            reach = 2 * math.ceil(2.0 * stock.half_diagonal / PITCH_MM) + 1
            for column, (part, _, wide) in enumerate(bodies):
                far = wide > tool.radius + whole
                need = np.where(found[:, column] > (FAR_MM if far else TOUCH_MM), found[:, column], 0.0)
                if not far:
                    need = maximum_filter1d(need, reach)
                out[part][1:] = np.maximum(out[part][1:], need)
        return Lack(out["shank"], out["holder"])


def _cylinders(tool: Assembly) -> list[tuple[str, float, float]]:
    """Part, radius and height over the tip of everything above the flutes."""
    out: list[tuple[str, float, float]] = []
    if tool.stick_out > tool.flute_length:
        out.append(("shank", tool.shank_diameter / 2, tool.flute_length))
    at = tool.stick_out
    for segment in tool.holder:
        low, high = segment.diameter_low / 2, segment.diameter_high / 2
        count = 1 if low == high else SLICES
        for i in range(count):
            a, b = (low + (high - low) * k / count for k in (i, i + 1))
            out.append(("holder", max(a, b), at + segment.length * i / count))
        at += segment.length
    # what is thinner than something below it can never be the first to touch
    kept: list[tuple[str, float, float]] = []
    for row in out:
        if all(row[1] > other[1] + 1e-9 for other in kept):
            kept.append(row)
    return kept


def kept_clear(
    path: Toolpath,
    topology: Topology,
    tool: Assembly,
    when: When,
    clearance: float,
    stock: HeightMap | None = None,
) -> Toolpath:
    """The path with the moves left out ("trim") or lifted ("raise") at which shank or holder would touch the
    part, or the in-process stock, which the path itself lowers as it goes (`stock` is the one before the
    operation).

    Raises ComputeError where moves would have to be left out or lifted whose radius the control corrects.
    What was done is added to the notes: kind "short", how much of the way, the lack mm and where. Links over
    what was left out go at `clearance` mm. A path that is free comes back as it is.
    """
    if len(path) < 2:
        return path
    reach = Reach(topology, tool)
    if not (reach.cylinders or reach.thin) or reach.stays_above(path, stock):
        return path
    if tool.kind == "tap":
        when = (
            "leave"  # it must go in and out as one, in step with the spindle: the proof tells what it touches
        )
    moved = path
    short: Short | None = None
    for _ in range(ROUNDS):
        counts = np.maximum(1, np.ceil(moved.moves.lengths() / PITCH_MM)).astype(np.int64)
        parts, owner = moved.moves.divided(counts)
        points = parts.tip
        alone = lack = reach.lack(points)
        if stock is not None:
            lack = lack.or_more(reach.lack_over(stock, points, parts.rapid, tool))
        touches = lack.most > 0
        bad = touches & ~parts.rapid
        if not bad.any():
            break
        if path.compensated and when != "leave":
            _refuse(points, bad, lack, tool)
        if short is None:
            looked_at = len(points)
            short = _note(points, bad, lack, tool, when, _against(bad, alone, lack))
        else:
            short = replace(short, share=short.share + float(bad.sum()) / looked_at)
        if when == "trim":
            # what is left out leaves stock standing, which later moves may touch: so once more
            moved = Trimming(moved, clearance, stock, tool).run(owner, points, touches)
        elif when == "raise":
            moved = raised(moved, owner, points, np.where(bad, lack.most, 0.0))
            break
        else:
            break
    if when == "trim" and moved is not path and stock is not None:
        moved = slowed(moved, stock.copy(), tool)
    return path if short is None else replace(moved, notes=[*path.notes, short])


def _refuse(points: Floats, bad: NDArray[np.bool_], lack: Lack, tool: Assembly) -> None:
    """Raises ComputeError: moves whose radius the control corrects cannot be left out or lifted."""
    x, y, z = points[int(np.argmax(np.where(bad, lack.most, -1.0)))]
    raise ComputeError(
        f"Shank or holder of tool {tool.number} would touch at X {x:.2f} Y {y:.2f} Z {z:.2f}, in work "
        "whose radius the control corrects: no moves can be left out or lifted there.",
        remedy="Give the tool more stick-out, leave the moves as they are, or let the computer correct the "
        "radius.",
        offer={"parameters": {"correction": "computer"}},
    )


def _note(
    points: Floats, bad: NDArray[np.bool_], lack: Lack, tool: Assembly, when: When, against: str
) -> Short:
    worst = int(np.argmax(np.where(bad, lack.most, -1.0)))
    x, y, z = (float(v) for v in points[worst])
    holder = float(np.where(bad, lack.holder, 0.0).max())
    part: Literal["shank", "holder"] = "holder" if lack.holder[worst] >= lack.shank[worst] else "shank"
    stick_out = round(tool.stick_out + holder, 2)
    return Short((x, y, z), when, float(lack.most[worst]), float(bad.mean()), part, against, stick_out)


def _against(bad: NDArray[np.bool_], part: Lack, both: Lack) -> str:
    """Whether the worst of the spots is too near the part or only the stock."""
    worst = int(np.argmax(np.where(bad, both.most, -1.0)))
    return "part" if part.most[worst] >= both.most[worst] else "stock"
