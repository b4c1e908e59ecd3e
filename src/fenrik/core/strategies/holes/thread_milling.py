"""Thread milling by a helix of one pitch a turn, in a hole or about a boss, with one row of teeth or several.

The groove's height rises with the angle about the thread's axis. A half circle that begins in the middle of a
hole turns through twice the angle that its place has about the axis (the angle at the rim is half that at the
centre), so it enters along the groove when it rises by P/4. Going counter-clockwise inside and clockwise
outside is climb milling for a tool that turns clockwise; a right-hand thread then runs upward inside and
downward outside (common practice, no source). Depths of several passes take even areas: those of a triangle
go with the square root (common practice, no source).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from fenrik.core.errors import ComputeError
from fenrik.core.features.threads import Thread, thread
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.notes import ThreadCut
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import Example, HoleSpot, Inputs, Parameters, Strategy, fact, spots
from fenrik.core.strategies.kit.correcting import Correction, correction_fact
from fenrik.core.strategies.kit.linking import Linker
from fenrik.core.tooling.assembly import Assembly

ROOM_MM = 0.1
"""Least gap between the tool's teeth and the wall where it goes down a hole."""
LEAD_SHARE = 0.5
"""Radius of the arcs to and from an external thread over the tool's radius."""


class ThreadMilling(Parameters):
    """What thread milling can be told. Lengths mm."""

    thread: str | None = fact(None, "Name of the thread, such as M30 x 2 or 1-8.", max_length=30)
    major: float | None = fact(
        None,
        "Major diameter of a thread without a name.",
        unit="mm",
        gt=0,
        le=2000,
        group="rest",
        title="Major diameter",
    )
    pitch: float | None = fact(
        None, "Pitch of a thread without a name.", unit="mm", gt=0, le=50, group="rest"
    )
    side: Literal["internal", "external"] = fact("internal", "In a hole, or about a boss.")
    hand: Literal["right", "left"] = fact("right", "Hand of the thread.")
    thread_depth: float | None = fact(
        None, "Length of the thread under its upper end.", unit="mm", gt=0, le=1000, reason="the whole hole"
    )
    passes: int = fact(1, "Passes to full depth, of even areas.", ge=1, le=20)
    spring_passes: int = fact(0, "More passes at full depth.", ge=0, le=10)
    oversize: float = fact(
        0.0,
        "How much deeper the teeth go than the thread says, to creep up to a gauge.",
        unit="mm",
        ge=-1,
        le=1,
        title="Extra depth",
    )
    correction: Correction = correction_fact()
    direction: Literal["climb", "conventional"] = fact("climb", "Which way the teeth meet the material.")
    runout: float = fact(
        1.0, "Threads beyond either open end of the thread.", ge=0, le=20, group="rest", title="Run-out"
    )
    start_deg: float = fact(
        0.0,
        "Where the thread begins at its upper end, from X.",
        unit="°",
        ge=-360,
        le=360,
        group="rest",
        title="Start angle",
    )
    taper: float = fact(
        0.0,
        "By how much the diameter changes over a length (0.0625: 1 to 16); wider at the upper end inside, "
        "narrower outside.",
        ge=0,
        le=1,
        group="rest",
    )


@dataclass(frozen=True)
class _Helix:
    """One thread: its axis, the turn +1 counter-clockwise, the way dz of a turn (signed), the tip's height at
    the start of every run, the turns of a run, the angle at which it begins, and the taper's height of
    reference."""

    x: float
    y: float
    turn: int
    rise: float
    starts: list[float]
    turns: int
    begin: float
    top: float


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path in the setup frame. Raises ComputeError naming the thread and what does not fit it,
    Cancelled."""
    p: ThreadMilling = inputs.parameters
    tool = inputs.assembly
    if not inputs.holes:
        raise ComputeError("Thread milling has no place.", remedy="Pick holes, or give places under 'holes'.")
    wanted = _thread(p, tool)
    path = PathBuilder()
    link = Linker.of(inputs, path, inputs.stock.copy())
    for i, hole in enumerate(inputs.holes):
        _check_room(hole, wanted, tool, p)
        helix = _helix(hole, wanted, tool, p, inputs.spindle_clockwise)
        if hole.boss:
            _check_ways(hole, helix, _ring(hole, wanted, tool, p, 1.0), inputs)
        depths = [math.sqrt((k + 1) / p.passes) for k in range(p.passes)] + [1.0] * p.spring_passes
        for k, share in enumerate(depths):
            progress.step((i + k / len(depths)) / len(inputs.holes), f"thread {i + 1} of {len(inputs.holes)}")
            path.run += 1
            ring = _ring(hole, wanted, tool, p, share)
            corrects = share == 1.0 and p.correction != "computer"
            if p.side == "internal":
                _inside(path, link, helix, ring, inputs, corrects)
            else:
                _outside(path, link, helix, ring, inputs, corrects)
        link.up(max(hole.top + inputs.heights.feed, inputs.heights.retract))
        path.notes.append(_zone(hole, wanted, p))
    link.away()
    return path.build()


def _thread(p: ThreadMilling, tool: Assembly) -> Thread:
    if p.thread is not None:
        wanted = thread(p.thread)
    elif p.major is not None and p.pitch is not None:
        wanted = Thread(f"{p.major:g} x {p.pitch:g}", p.major, p.pitch)
    else:
        raise ComputeError(
            "Thread milling does not know its thread.",
            remedy="Name it under 'thread', or give major and pitch.",
        )
    own = float(tool.thread_pitch or 0.0)
    several = tool.thread_rows > 1
    if (several and abs(own - wanted.pitch) > 1e-6) or not own - 1e-6 <= wanted.pitch <= 1.1 * own + 1e-6:
        raise ComputeError(
            f"Tool {tool.number} has teeth for a pitch of {own:g} mm; {wanted.name} has {wanted.pitch:.4g} "
            "mm.",
            remedy=f"Use a thread mill of pitch {wanted.pitch:.4g} mm.",
        )
    if several and p.taper > 0:
        raise ComputeError(
            f"Tool {tool.number} has {tool.thread_rows} rows of teeth of one diameter; {wanted.name} is "
            "tapered.",
            remedy="Use a thread mill with one row of teeth.",
        )
    return wanted


def _check_room(hole: HoleSpot, wanted: Thread, tool: Assembly, p: ThreadMilling) -> None:
    if hole.boss and p.side == "internal":
        raise ComputeError(
            f"{hole.words} is no hole, and {wanted.name} is to be cut inside.",
            remedy="Choose the external side, or pick a hole.",
            offer={"parameters": {"side": "external"}},
        )
    if p.side == "external":
        if not wanted.pitch_diameter <= hole.diameter <= wanted.major + 0.3 * wanted.pitch:
            raise ComputeError(
                f"{hole.words} is Ø{hole.diameter:g}; an external {wanted.name} is cut on Ø{wanted.major:g}.",
                remedy="Turn or mill the boss to the thread's major diameter first, or choose another "
                "thread.",
            )
        return
    if not wanted.minor - 0.05 <= hole.diameter <= wanted.pitch_diameter:
        raise ComputeError(
            f"{hole.words} does not suit {wanted.name}, whose minor diameter is {wanted.minor:.3f} mm.",
            remedy=f"Bore it to {wanted.tapping_drill:.3f} mm, or choose another thread.",
        )
    if tool.diameter + 2 * ROOM_MM > hole.diameter:
        raise ComputeError(
            f"Tool {tool.number} of {tool.diameter:g} mm does not go down {hole.words}.",
            remedy=f"Use a thread mill of at most {hole.diameter - 2 * ROOM_MM:.2f} mm.",
            offer={"tool_at_most": hole.diameter - 2 * ROOM_MM},
        )


def _helix(hole: HoleSpot, wanted: Thread, tool: Assembly, p: ThreadMilling, clockwise: bool) -> _Helix:
    """Whole turns from the upper end of the thread, so that it begins there at the wanted angle; a blind end
    is kept off by half a thread."""
    pitch, rows = wanted.pitch, tool.thread_rows
    inside = 1 if p.side == "internal" else -1
    turn = inside if (p.direction == "climb") == clockwise else -inside
    up = turn * (1 if p.hand == "right" else -1)
    end = hole.bottom if p.thread_depth is None else hole.top - p.thread_depth
    open_below = hole.through and (p.thread_depth is None or end <= hole.bottom + 1e-6)
    highest = hole.top + math.ceil(p.runout - 1e-9) * pitch
    lowest = end - p.runout * pitch if open_below else end
    if not open_below and p.side == "internal":
        lowest = max(lowest, hole.bottom + 0.5 * pitch)
    count = (highest - lowest) / pitch
    count = math.ceil(count - 1e-9) if open_below else math.floor(count + 1e-9)
    if count < 1:
        raise ComputeError(
            f"{hole.words} has no room for one turn of {wanted.name}.",
            remedy="Use a finer pitch or a deeper hole.",
        )
    half = 0.5 * pitch  # the lowest row of teeth stands half a pitch over the tip
    bottom = highest - count * pitch - half
    if rows == 1:
        starts, turns = [bottom if up > 0 else bottom + count * pitch], count
    else:
        runs = math.ceil(count / rows)
        # a run is one turn; the last one overlaps the one before rather than go deeper
        lows = [bottom + min(k * rows, max(0, count - rows)) * pitch for k in range(runs)]
        starts, turns = [z if up > 0 else z + pitch for z in lows], 1
        starts = starts if up > 0 else starts[::-1]
    return _Helix(hole.x, hole.y, turn, up * pitch, starts, turns, math.radians(p.start_deg), hole.top)


def _ring(hole: HoleSpot, wanted: Thread, tool: Assembly, p: ThreadMilling, share: float) -> float:
    """Radius on which the tool's middle goes, at the upper end of a tapered thread."""
    if p.side == "internal":
        now, full = 0.5 * hole.diameter, 0.5 * wanted.major + p.oversize
        return now + share * (full - now) - tool.radius
    now, full = 0.5 * hole.diameter, 0.5 * wanted.root - p.oversize
    return now + share * (full - now) + tool.radius


def _inside(
    path: PathBuilder, link: Linker, helix: _Helix, ring: float, inputs: Inputs, corrects: bool
) -> None:
    """In from the middle by a half circle, around, and back to the middle by another, for every run; where
    the control corrects the radius, straight and by a quarter circle."""
    feed = inputs.feed * ring / (ring + inputs.assembly.radius)
    x, y, quarter = helix.x, helix.y, 0.25 * helix.rise
    for start in helix.starts:
        begin = start - quarter
        here = path.position
        if here is not None and math.dist(here[:2], (x, y)) < 1e-9:
            path.feed(x, y, begin, inputs.feed, Motion.LINK)
        else:
            link.over(x, y)
            link.down(x, y, begin)
        at = _on(helix, ring, 0.0, start, inputs)
        middle = (0.5 * (x + at[0]), 0.5 * (y + at[1]))
        if corrects:
            path.correct(helix.turn, inputs.parameters.correction == "control")
            path.feed(*_quarter(helix, at, middle, -1), begin + 0.5 * quarter, feed, Motion.LEAD)
        path.arc((*at[:2], start), middle, helix.turn, feed, Motion.LEAD)
        end = _around(path, helix, ring, start, feed, inputs)
        middle = (0.5 * (x + end[0]), 0.5 * (y + end[1]))
        if corrects:
            off = (*_quarter(helix, end, middle, 1), end[2] + 0.5 * quarter)
            path.arc(off, middle, helix.turn, feed, Motion.LEAD)
            path.feed(x, y, end[2] + quarter, feed, Motion.LEAD)
            path.corrected()
        else:
            path.arc((x, y, end[2] + quarter), middle, helix.turn, feed, Motion.LEAD)


def _quarter(
    helix: _Helix, at: tuple[float, float, float], middle: tuple[float, float], side: int
) -> tuple[float, float]:
    """The place a quarter circle about `middle` before (-1) or behind (1) one on the ring."""
    dx, dy = at[0] - middle[0], at[1] - middle[1]
    sense = helix.turn * side
    return middle[0] - sense * dy, middle[1] + sense * dx


def _outside(
    path: PathBuilder, link: Linker, helix: _Helix, ring: float, inputs: Inputs, corrects: bool
) -> None:
    """In by a quarter circle that ends along the thread, around, and off by another, for every run."""
    feed = inputs.feed * ring / max(ring - inputs.assembly.radius, 0.1 * ring)
    lead = LEAD_SHARE * inputs.assembly.radius
    share = math.atan2(lead, ring + lead) / (2.0 * math.pi)
    for start in helix.starts:
        at = _on(helix, ring, 0.0, start, inputs)
        before, centre = _beside(helix, at, lead, -1)
        begin = start - share * helix.rise
        first = _further(helix, before, lead) if corrects else before
        link.over(*first)
        link.down(*first, begin)
        if corrects:
            # the boss lies on the right of a tool that goes round it clockwise
            path.correct(-helix.turn, inputs.parameters.correction == "control")
            path.feed(*before, begin, feed, Motion.LEAD)
        path.arc((*at[:2], start), centre, -helix.turn, feed, Motion.LEAD)
        end = _around(path, helix, ring, start, feed, inputs)
        behind, centre = _beside(helix, end, lead, 1)
        path.arc((*behind, end[2] + share * helix.rise), centre, -helix.turn, feed, Motion.LEAD)
        if corrects:
            path.feed(*_further(helix, behind, lead), end[2] + share * helix.rise, feed, Motion.LEAD)
            path.corrected()


def _further(helix: _Helix, at: tuple[float, float], by: float) -> tuple[float, float]:
    """A place so many mm farther from the axis."""
    dx, dy = at[0] - helix.x, at[1] - helix.y
    long = math.hypot(dx, dy)
    return at[0] + by * dx / long, at[1] + by * dy / long


def _check_ways(hole: HoleSpot, helix: _Helix, ring: float, inputs: Inputs) -> None:
    """Raises ComputeError where the ways to and from the thread would cut what stands beside the boss, with
    an angle at which they are clear."""
    tool, p = inputs.assembly, inputs.parameters
    lead = LEAD_SHARE * tool.radius
    lowest = min(helix.starts) - abs(helix.rise) * (helix.turns if helix.rise < 0 else 0)
    cutter = inputs.cutter()

    def clear(turned: float) -> bool:
        one = replace(helix, begin=helix.begin + turned)
        at = _on(one, ring, 0.0, helix.top, inputs)
        ends = [_beside(one, at, lead, side)[0] for side in (-1, 1)]
        reached = [e for end in ends for e in (end, _further(one, end, lead))]
        return bool((cutter.tip(np.array(reached)) <= lowest + inputs.tolerance).all())

    if clear(0.0):
        return
    free = next((k for k in range(15, 360, 15) if clear(math.radians(k))), None)
    begin = None if free is None else (p.start_deg + free + 180.0) % 360.0 - 180.0
    raise ComputeError(
        f"The ways to and from the thread on {hole.words} would cut what stands beside it.",
        remedy="Use a smaller thread mill." if begin is None else f"Begin the thread at {begin:g}° from X.",
        offer=None if begin is None else {"parameters": {"start_deg": begin}},
    )


def _beside(
    helix: _Helix, at: tuple[float, float, float], lead: float, side: int
) -> tuple[tuple[float, float], tuple[float, float]]:
    """The outer end of a quarter circle that meets the ring at a place, before (-1) or behind (1) it, and its
    centre."""
    dx, dy = at[0] - helix.x, at[1] - helix.y
    long = math.hypot(dx, dy)
    dx, dy = dx / long, dy / long
    along = (-dy * helix.turn * side, dx * helix.turn * side)
    centre = (at[0] + lead * dx, at[1] + lead * dy)
    return (centre[0] + lead * along[0], centre[1] + lead * along[1]), centre


def _on(helix: _Helix, ring: float, angle: float, z: float, inputs: Inputs) -> tuple[float, float, float]:
    """The place on the thread's helix an angle on from its beginning, at a height of the tip."""
    p: ThreadMilling = inputs.parameters
    widen = 0.5 * p.taper * (z + 0.5 * abs(helix.rise) - helix.top)
    r = ring + (widen if p.side == "internal" else -widen)
    a = helix.begin + helix.turn * angle
    return helix.x + r * math.cos(a), helix.y + r * math.sin(a), z


def _around(
    path: PathBuilder, helix: _Helix, ring: float, start: float, feed: float, inputs: Inputs
) -> tuple[float, float, float]:
    """The turns of a run from its start; the place where they end. Tapered ones as chords within the
    tolerance."""
    taper = inputs.parameters.taper
    if taper == 0:
        for k in range(2 * helix.turns):
            z = start + 0.5 * (k + 1) * helix.rise
            path.arc(
                _on(helix, ring, math.pi * (k + 1), z, inputs),
                (helix.x, helix.y),
                helix.turn,
                feed,
                Motion.FEED,
            )
    else:
        step = 2.0 * math.acos(max(0.5, 1.0 - 0.5 * inputs.tolerance / ring))
        count = math.ceil(2.0 * math.pi * helix.turns / step)
        angles = np.linspace(0.0, 2.0 * math.pi * helix.turns, count + 1)[1:]
        points = [_on(helix, ring, a, start + a / (2.0 * math.pi) * helix.rise, inputs) for a in angles]
        path.line(np.array(points), feed, Motion.FEED)
    return _on(helix, ring, 2.0 * math.pi * helix.turns, start + helix.turns * helix.rise, inputs)


def _zone(hole: HoleSpot, wanted: Thread, p: ThreadMilling) -> ThreadCut:
    """Where the thread's groove may be, for the proof: the model shows the bore or the boss without it."""
    reach = max(hole.top - hole.bottom, 0.0) * 0.5 * p.taper
    if p.side == "internal":
        inner, outer = 0.5 * min(hole.diameter, wanted.minor), 0.5 * wanted.major + max(0.0, p.oversize)
        inner -= reach
    else:
        inner, outer = (
            0.5 * wanted.root - max(0.0, p.oversize),
            0.5 * max(hole.diameter, wanted.major) + reach,
        )
    low, high = hole.bottom - wanted.pitch, hole.top + wanted.pitch
    return ThreadCut(wanted.name, (hole.x, hole.y), low, high, inner, outer, p.side == "internal")


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Nothing is left open that does not follow from thread and hole."""
    return {}


STRATEGY = Strategy(
    "thread_milling",
    "Thread milling",
    "Mills internal and external threads along helices of one pitch a turn.",
    ThreadMilling,
    compute,
    proposals,
    ("thread_mill",),
    target="rounds",
    example=Example(
        {"thread": "M30 x 2", "passes": 3},
        tool={
            "kind": "thread_mill",
            "diameter": 16.0,
            "thread_pitch": 2.0,
            "flute_length": 4.0,
            "shank_diameter": 13.0,
        },
        picks={"": spots(28.0, 9.9, top=9.0)},
    ),
)
