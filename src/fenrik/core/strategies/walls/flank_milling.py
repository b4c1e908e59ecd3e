"""Walls finished by the side of the tool: its axis follows the straight lines of a ruled face.

How the tool lies along the wall is worked out in `cutting.flank`; here it is led along it, step by step down
the wall, and between the ends of the wall in straight lines over it.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting.flank import Flank, Lying, Wall, lying_along
from fenrik.core.errors import ComputeError
from fenrik.core.model.ruled import Rulings
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.notes import FlankLies
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, Inputs, Parameters, RuledFace, Strategy, fact
from fenrik.core.strategies.kit.posed import PosedPath, thinned
from fenrik.core.tolerances import PATH_SHARE
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
LEAST_RISE = math.sin(math.radians(15.0))
"""Rulings that rise less are no wall from this side."""
DENSE, DENSEST = 129, 8193
"""Places along the wall that are looked at: at least, and at most."""
DENSE_SHARE = 0.1
"""Share of the chords' tolerance that lies between the poses that are looked at."""
FASTEST = 3.0
"""How many times the feed the tip goes at most where the contact is slower than it."""


class FlankMilling(Parameters):
    """What flank milling can be told. Lengths mm."""

    step_down: float | None = fact(
        None, "Greatest length of a step down the wall.", unit="mm", gt=0, le=500, reason="the flutes' length"
    )
    allowance: float = fact(0.0, "Left on the wall.", unit="mm", ge=-5, le=20)
    below: float = fact(
        0.0,
        "How far the tip goes beyond the wall's foot, along the tool.",
        unit="mm",
        ge=-50,
        le=50,
        title="Depth below",
    )
    overcut: float = fact(
        0.0,
        "How far the straight tool may cut into a wall that twists; the rest of the difference is left on.",
        unit="mm",
        ge=0,
        le=1,
        title="Allowed overcut",
    )
    direction: Literal["climb", "conventional"] = fact("climb", "Which way the teeth meet the material.")
    lead_share: float = fact(
        0.7,
        "Length of the way on and off, in line with the wall.",
        unit="diameters",
        ge=0,
        le=10,
        group="rest",
        title="Lead length",
    )


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the side's frame. Raises ComputeError naming the face and what is wrong with it,
    Cancelled."""
    if not inputs.ruled:
        raise ComputeError(
            "Flank milling has no wall.", remedy="Pick a face whose lines from edge to edge are straight."
        )
    path = PosedPath()
    for i, face in enumerate(inputs.ruled):
        stage = progress.stage(i / len(inputs.ruled), (i + 1) / len(inputs.ruled))
        _Flanking(inputs, face, path, stage).run()
    return path.build()


@dataclass(frozen=True)
class _Track:
    """A tool along a wall at many places: how it lies, and the wall's normals (n, 3) where its side begins to
    touch it, in the middle and where it ends."""

    lying: Lying
    out_low: Floats
    out: Floats
    out_high: Floats

    def in_line(self, end: int) -> Floats:
        """The direction (3,) in which the tool comes to the first place (`end` 0) or leaves the last (-1):
        that of the wall at the end of the ruling from which a straight way clears all of it. Along a twisted
        ruling the other end's would cut in."""
        near, after = (0, 1) if end == 0 else (-2, -1)
        away = -1.0 if end == 0 else 1.0
        ways = [_direction(e[near], e[after]) for e in self.lying.ends.swapaxes(0, 1)]
        clear = [min(away * float(w @ o[end]) for o in (self.out_low, self.out_high)) for w in ways]
        return ways[int(np.argmax(clear))]


class _Flanking:
    """One wall."""

    def __init__(self, inputs: Inputs, face: RuledFace, path: PosedPath, progress: Progress) -> None:
        self.inputs, self.face, self.path, self.progress = inputs, face, path, progress
        self.p: FlankMilling = inputs.parameters
        self.tool = inputs.assembly
        self.flank, self.side = flank_of(self.tool)
        self.tolerance = PATH_SHARE * inputs.tolerance
        climb = (self.p.direction == "climb") == inputs.spindle_clockwise
        self.rulings = _led(face, climb)
        self.wall = Wall(self.rulings)

    def run(self) -> None:
        height = float(((self.rulings.top - self.rulings.foot) * self.rulings.lengths).max())
        assert self.p.step_down is not None
        count = max(1, math.ceil(height / self.p.step_down - 1e-9))
        worst = [0.0, 0.0]
        for k in range(1, count + 1):
            self.progress.step((k - 1) / count, "laying the tool along the wall")
            self.path.level, self.path.run = k, k
            track = self._dense(k / count, self.p.below if k == count else 0.0)
            told = (track.lying.overcut, track.lying.left)
            worst = [max(a, float(b.max())) for a, b in zip(worst, told, strict=True)]
            self._pass(track)
        twist = math.degrees(float(self.rulings.twist.max()))
        self.path.notes.append(FlankLies(self.face.words, twist, *worst))

    def _dense(self, share: float, below: float) -> _Track:
        """How the tool lies along the wall at many places, with the tip at a share of the way down."""
        stations, rulings = np.arange(len(self.rulings)), self.rulings
        known, count = (rulings.lengths, rulings.foot, rulings.top), max(DENSE, len(rulings))
        while True:
            s = np.linspace(0.0, stations[-1], count)
            lengths, foot, top = (np.interp(s, stations, v) for v in known)
            lowest = top + share * (foot - top) + (self.flank.low - below) / lengths
            highest = np.minimum(top, lowest + self.side / lengths)
            if float((highest - lowest).min()) <= 0.0:
                raise ComputeError(
                    f"The straight side of tool {self.tool.number} begins {self.flank.low:.2f} mm over "
                    f"its tip and does not reach {self.face.words}.",
                    remedy="Let the tip go farther below the foot, or use a tool with a smaller corner.",
                )
            given = (s, (lowest, highest), self.flank, self.p.allowance, self.p.overcut)
            lying = lying_along(self.wall, *given)
            outs = [self.wall.out(s, t) for t in (lowest, 0.5 * (lowest + highest), highest)]
            track = _Track(lying, *outs)
            sags = (_sag(lying.ends) * track.out[1:-1, None]).sum(axis=2)
            if float(np.abs(sags).max()) <= DENSE_SHARE * self.tolerance or count >= DENSEST:
                return track
            count = 2 * count - 1

    def _pass(self, track: _Track) -> None:
        """One way along the wall: down beside its end, on in line, along it, off in line, up."""
        lying, path = track.lying, self.path
        ends = lying.ends
        kept = thinned(ends[:, 0], ends[:, 1], track.out, (1.0 - DENSE_SHARE) * self.tolerance)
        tips, axes = lying.tip[kept], lying.axis[kept]
        feed, entry = self.inputs.feed, self.inputs.entry_feed
        lead = self.p.lead_share * self.tool.diameter
        on, off = tips[0] - lead * track.in_line(0), tips[-1] + lead * track.in_line(-1)
        over = self.inputs.heights.clearance + self.tool.radius
        path.to(_raised(on, axes[0], over), axes[0], Motion.RAPID)
        path.to(_raised(on, axes[0], self._free(on, axes[0], over)), axes[0], Motion.RAPID)
        path.to(on, axes[0], Motion.PLUNGE, entry)
        path.to(tips[0], axes[0], Motion.LEAD, feed)
        path.along(tips[1:], axes[1:], Motion.FEED, self._feeds(track, kept))
        path.to(off, axes[-1], Motion.LEAD, feed)
        path.to(_raised(off, axes[-1], self._free(off, axes[-1], over)), axes[-1], Motion.LINK, feed)
        path.to(_raised(off, axes[-1], over), axes[-1], Motion.RAPID)

    def _free(self, tip: Floats, axis: Floats, over: float) -> float:
        """The height over which nothing of the stock is in the tool's way down its axis to a tip, with the
        height over it at which a rapid ends; `over` at most."""
        top = _raised(tip, axis, over)
        met = self.inputs.stock.top((tip[0], tip[1]), (top[0], top[1]), self.tool.radius)
        return min(over, max(float(tip[2]), met + self.inputs.heights.feed))

    def _feeds(self, track: _Track, kept: NDArray[np.int64]) -> Floats:
        """Feeds (m - 1,) of the tip between the kept poses, so that where the side touches the wall the
        fastest point goes at the operation's feed."""
        low, high = track.lying.ends[:, 0], track.lying.ends[:, 1]
        away = self.flank.ball + self.p.allowance
        grown = self.flank.sine * np.linalg.norm(high - low, axis=1)[:, None]
        touched = (low - away * track.out_low, high - (away + grown) * track.out_high)
        ways = [np.linalg.norm(np.diff(e, axis=0), axis=1) for e in (track.lying.tip, *touched)]
        tip, below, above = (np.add.reduceat(way, kept[:-1]) for way in ways)
        return np.asarray(self.inputs.feed * np.minimum(tip / np.maximum(below, above), FASTEST))


def flank_of(tool: Assembly) -> tuple[Flank, float]:
    """A tool's straight side and its length mm."""
    profile = tool.profile
    if profile.tapered:
        start, end = profile.height(profile.cone_start), profile.height(profile.cone_end)
        return Flank(profile.cone_start, 0.5 * math.pi - profile.steepness, start), end - start
    return Flank(tool.radius, 0.0, tool.corner_radius), tool.flute_length - tool.corner_radius


def _led(face: RuledFace, climb: bool) -> Rulings:
    """The rulings in the order in which the tool goes along them."""
    rulings = face.rulings
    ways = rulings.high - rulings.low
    rise = float((ways[:, 2] / np.linalg.norm(ways, axis=1)).min())
    if rise < LEAST_RISE:
        raise ComputeError(
            f"The straight lines of {face.words} rise by {math.degrees(math.asin(max(rise, 0.0))):.0f}° only:"
            " from here it is no wall for the side of the tool.",
            remedy="Work it from another side, or finish it as a surface.",
        )
    along = np.diff(rulings.points(0.5 * (rulings.foot + rulings.top)), axis=0)
    out = rulings.out_low[:-1] + rulings.out_high[:-1]
    # left of the way seen from the spindle: there the tool is in climb milling
    left = float((np.cross(ways[:-1], along) * out).sum())
    return rulings if (left > 0) == climb else rulings.backwards()


def _direction(a: Floats, b: Floats) -> Floats:
    return np.asarray((b - a) / max(float(np.linalg.norm(b - a)), 1e-12))


def _raised(tip: Floats, axis: Floats, z: float) -> Floats:
    """The tip drawn out along the axis up to a height, where it is lower."""
    return np.asarray(tip + max(0.0, (z - tip[2]) / axis[2]) * axis)


def _sag(points: Floats) -> Floats:
    """What chords between neighbouring points (n, ..., 3) miss (n - 2, ..., 3): a quarter of how far each
    inner point lies off the middle of its neighbours."""
    return np.asarray(0.25 * (points[1:-1] - 0.5 * (points[:-2] + points[2:])))


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Steps of the whole flute: the side of the tool finishes."""
    return {"step_down": (assembly.flute_length, "the flutes' length")}


STRATEGY = Strategy(
    "flank_milling",
    "Flank milling",
    "Finishes ruled walls with the side of the tool, its axis along the wall's straight lines.",
    FlankMilling,
    compute,
    proposals,
    ("flat", "ball", "corner", "taper", "taper_ball"),
    target="ruled",
    axis="moving",
    finishes=True,
    example=Example({"step_down": 5.0}, picks={"guide_vane.step": [{"face": 1}]}),
)
