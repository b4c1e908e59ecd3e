"""What every strategy is given and what it hands back.

A strategy is a module with ``STRATEGY = Strategy(...)``: an id, a title, a typed model of its
parameters and ``compute(inputs, progress) -> Toolpath``. Form, document and contract tests come
from that; adding a strategy changes no other file.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.drop import DropCutter
from fenrik.core.cutting.levels import LevelAreas
from fenrik.core.cutting.topology import Topology
from fenrik.core.errors import ComputeError
from fenrik.core.model.ruled import Rulings
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.strategies.kit.touching import ChosenFaces
from fenrik.core.strict import Strict
from fenrik.core.tooling.assembly import Assembly, Kind
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
CLEARING: tuple[Kind, ...] = ("flat", "ball", "corner", "taper", "taper_ball")
FORMING: tuple[Kind, ...] = (*CLEARING, "lollipop", "t_slot")
"""Kinds of tools that clear levels, and those that follow surfaces."""


Target = Literal["areas", "holes", "bosses", "rounds", "walls", "rims", "lines", "ruled"]
"""What operations work on: areas of the plan view, round holes, round bosses or both, walls, the upper edges
of walls, lines to engrave, ruled faces."""


class Parameters(Strict):
    """Base of all strategies' parameters: unknown names are refused, values are frozen."""


def face_overlap() -> Any:
    """The parameter that says how far a surface strategy goes beyond the faces it was given."""
    return fact(
        0.2,
        "How far the contact goes beyond the chosen faces.",
        unit="mm",
        ge=0,
        le=50,
        group="rest",
        title="Overlap beyond faces",
    )


def beyond_border() -> Any:
    """The parameter that says how far a surface strategy goes beyond its border."""
    return fact(
        0.0,
        "How far the tool's middle goes beyond the border.",
        unit="mm",
        ge=-200,
        le=200,
        group="rest",
        title="Beyond the border",
    )


def rest_of_ball() -> Any:
    """The parameter with which a surface strategy does only what a larger ball has not reached."""
    return fact(
        None,
        "Diameter of the ball that went over the chosen faces before: only what it did not reach is cut.",
        unit="mm",
        gt=0,
        le=200,
        reason="all of the faces",
        title="Leftover from tool Ø",
    )


def fact(
    default: Any,
    meaning: str,
    *,
    unit: str = "",
    group: Literal["decide", "rest"] = "decide",
    reason: str = "",
    shown_when: dict[str, Any] | None = None,
    title: str | None = None,
    **bounds: Any,
) -> Any:
    """A parameter with its facts: meaning, unit, group, bounds, default and its reason."""
    extra: dict[str, Any] = {"group": group}
    if unit:
        extra["unit"] = unit
    if reason:
        extra["reason"] = reason
    if shown_when:
        extra["shown_when"] = shown_when
    return Field(default, description=meaning, title=title, json_schema_extra=extra, **bounds)


@dataclass(frozen=True)
class Heights:
    """Heights of the tip in the setup frame, mm: where it may cross at rapid, how far over the stock it
    changes to feed, and the lowest it may go."""

    clearance: float
    retract: float
    feed: float
    bottom: float


@dataclass(frozen=True)
class HoleSpot:
    """A round hole along the tool's axis in the setup frame, mm: place, heights of its mouth, of its end (the
    far side of a through hole, the end of the full diameter of a blind one) and of its first step, the
    narrowest diameter, that at the mouth and that of a broken edge or countersink there (0: none), whether it
    goes through, whether its bottom is a drill's point, and its words for messages."""

    x: float
    y: float
    top: float
    bottom: float
    step: float
    diameter: float
    mouth: float
    edge: float
    through: bool
    pointed: bool
    words: str
    boss: bool = False
    """Whether it is a boss: round with the material inside, its lower end at `bottom`."""


@dataclass(frozen=True)
class Wall:
    """A steep face of the part in the setup frame: its words for messages, its lines in plan view, its lowest
    and highest height, mm."""

    words: str
    line: BaseGeometry
    low: float
    high: float


@dataclass(frozen=True)
class Rim:
    """An edge where a wall falls from a level face, or a chamfer between them, in the setup frame: its words
    for messages, the wall's lines in plan view, the height of its upper end, and of a chamfer its lower end
    and its width seen from above, mm."""

    words: str
    line: BaseGeometry
    high: float
    low: float | None = None
    width: float | None = None


@dataclass(frozen=True)
class RuledFace:
    """A ruled face of the part in the setup frame: its words for messages and its straight lines, upwards."""

    words: str
    rulings: Rulings


@dataclass(frozen=True)
class Inputs:
    """All that a strategy may know. Setup frame, mm, mm/min.

    `tops` are the heights of level faces of what holds the stock, with its room; `flats` are the heights of
    the part's upward planar faces with their outlines in plan view; `stock` is the in-process stock before
    the operation; `keep_in` bounds the tool's middle (None: the strategy's own default); `lines` are to be
    engraved, words for messages and points (n, 2); `outline` is the part seen from above; `faces` are those
    that a surface strategy finishes (None: all that lies in the borders).
    """

    topology: Topology
    assembly: Assembly
    parameters: Any
    stock: HeightMap
    stock_low: Floats
    stock_high: Floats
    part_low: Floats
    part_high: Floats
    flats: list[float]
    tops: list[float]
    outline: BaseGeometry
    keep_in: BaseGeometry | None
    keep_out: BaseGeometry | None
    heights: Heights
    feed: float
    entry_feed: float
    tolerance: float
    spindle_clockwise: bool = True
    cutters: dict[tuple[float, float], DropCutter] = field(default_factory=dict)
    holes: list[HoleSpot] = field(default_factory=list)
    walls: list[Wall] = field(default_factory=list)
    rims: list[Rim] = field(default_factory=list)
    lines: list[tuple[str, Floats]] = field(default_factory=list)
    ruled: list[RuledFace] = field(default_factory=list)
    faces: ChosenFaces | None = None

    def cutter(self, radial: float = 0.0, axial: float = 0.0) -> DropCutter:
        """The prepared cutter with these allowances; prepared once."""
        key = (radial, axial)
        if key not in self.cutters:
            self.cutters[key] = DropCutter(self.topology, self.assembly.profile, radial, axial)
        return self.cutters[key]

    def ball_before(self, diameter: float | None, allowance: float) -> DropCutter | None:
        """The ball that went over the chosen faces before, None where all of them is to be cut. Raises
        ComputeError where no faces are chosen."""
        if diameter is None:
            return None
        if self.faces is None:
            raise ComputeError(
                f"What a ball of {diameter:g} mm left is looked for on chosen faces, and none are chosen.",
                remedy="Choose the faces, or clear 'rest of'.",
            )
        return DropCutter(self.topology, Profile(0.5 * diameter, 0.5 * diameter), allowance, allowance)

    def areas(self, cutter: DropCutter, margin: float, fineness: float, tolerance: float) -> LevelAreas:
        """The ground that blocks a cutter at any level, over part and stock and `margin` mm around; grid and
        accuracy mm."""
        low = np.minimum(self.stock_low, self.part_low)[:2] - margin
        high = np.maximum(self.stock_high, self.part_high)[:2] + margin
        return LevelAreas(cutter, low, high, fineness, tolerance)

    def walls_by_depth(self) -> list[tuple[float, list[Wall]]]:
        """The chosen walls by the height of their lower ends, the highest first."""
        groups: dict[float, list[Wall]] = {}
        for wall in self.walls:
            groups.setdefault(round(wall.low, 3), []).append(wall)
        return sorted(groups.items(), key=lambda group: -group[0])

    def allowed(self, ground: BaseGeometry) -> BaseGeometry:
        """What keep-in and keep-out leave of ground for the tool's middle."""
        if self.keep_out is not None:
            ground = ground.difference(self.keep_out)
        return ground if self.keep_in is None else ground.intersection(self.keep_in)

    def surface_ground(self, cutter: DropCutter, overlap: float, beyond: float = 0.0) -> BaseGeometry:
        """Where the middle of a tool that follows surfaces may be: where it can touch the chosen faces and
        `overlap` mm beside them, inside keep-in; without faces keep-in or the part's outline, moved outward
        by `beyond`; less keep-out in any case."""
        if self.faces is not None:
            ground = self.faces.room(cutter, overlap)
            ground = ground if self.keep_in is None else ground.intersection(self.keep_in)
        else:
            ground = (self.keep_in if self.keep_in is not None else self.outline).buffer(beyond)
        return ground if self.keep_out is None else ground.difference(self.keep_out)


@dataclass(frozen=True)
class Example:
    """A quick computation with a strategy, for the contract tests: parameters, the tool (open: a usual one of
    `kind`), and picks of its target by model file, "" for those that stand on any."""

    parameters: dict[str, Any] = field(default_factory=dict)
    kind: Kind = "flat"
    tool: dict[str, Any] | None = None
    picks: dict[str, list[dict[str, Any]]] = field(default_factory=dict)


def spots(diameter: float = 10.0, depth: float = 0.9, **more: Any) -> list[dict[str, Any]]:
    """Six round places in a row, for examples: in the stock over any part, unless a `top` says otherwise."""
    return [{"at": [8 * i - 20, 3 * i - 9], "diameter": diameter, "depth": depth, **more} for i in range(6)]


@dataclass(frozen=True)
class Strategy:
    """A way to machine: `id` in documents, `title` for people, its parameters and computation."""

    id: str
    title: str
    summary: str
    parameters: type[Parameters]
    compute: Callable[[Inputs, Progress], Toolpath]
    proposals: Callable[[Assembly, dict[str, float]], dict[str, tuple[float, str]]]
    """From tool and cutting data: parameter -> (value, reason) for parameters left open (None)."""
    kinds: tuple[Kind, ...] = FORMING
    """Kinds of tools that it works with."""
    target: Target = "areas"
    """What it works on."""
    axis: Literal["fixed", "moving"] = "fixed"
    """Whether the tool keeps its direction."""
    finishes: bool = False
    """Whether it follows surfaces to their size."""
    goes_around: bool = False
    """Whether the tool passes all around a part, and so between the parts of an array."""
    example: Example = Example()
    """What the contract tests compute with it."""

    @property
    def round(self) -> bool:
        """Whether it works on round holes or bosses."""
        return self.target in ("holes", "bosses", "rounds")
