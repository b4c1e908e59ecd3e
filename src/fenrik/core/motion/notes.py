"""What strategies and planning note about a path: values with their words, what happened and what to do."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass, fields, replace
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Place = tuple[float, float, float]
Lines = tuple[tuple[tuple[float, float], ...], ...]
Words = tuple[str, str]
"""What happened, and what to do about it."""


def _near(place: Place) -> str:
    return f"({place[0]:.2f}, {place[1]:.2f})"


@dataclass(frozen=True)
class Empty:
    """There is nothing to cut."""

    kind: ClassVar[str] = "empty"

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        return f"'{name}' cuts nothing: earlier operations left nothing there for it.", "Switch it off."


@dataclass(frozen=True)
class Missing:
    """Of `given` holes or bosses `missing` are not made at all, the first of them (`which`) at `place`, since
    `part` of the tool would touch there; `stick_out` mm would do for a holder (0: nothing is known)."""

    kind: ClassVar[str] = "missing"
    place: Place
    missing: int
    given: int
    which: str
    part: str
    stick_out: float

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        made = self.given - self.missing
        what = f"'{name}' makes {made} of {self.given}: {self.which} at {_near(self.place)} is not made"
        others = f", nor {self.missing - 1} more" if self.missing > 1 else ""
        why = f", since the {self.part} of its tool would touch there." if self.part else "."
        remedy = f"A stick-out of {self.stick_out:g} mm would do." if self.stick_out else "Use a longer tool."
        return what + others + why, remedy


@dataclass(frozen=True)
class Narrow:
    """Closed ground at `place` is left, since an entry has only `room` mm to each side there."""

    kind: ClassVar[str] = "narrow"
    place: Place
    room: float

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        room = f"its tool has only {self.room:.2f} mm room to each side there"
        return f"'{name}' leaves the ground at {_near(self.place)}: {room}.", "Use a smaller tool there."


@dataclass(frozen=True)
class Unreached:
    """`area_mm2` about `place` that no pass reaches within the engagement."""

    kind: ClassVar[str] = "left"
    place: Place
    area_mm2: float

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        area = f"{self.area_mm2:.1f} mm² that no pass reaches within the engagement"
        what = f"'{name}' leaves {area} at Z {self.place[2]:.2f} near {_near(self.place)}."
        return what, "Clear the rest with a smaller tool."


@dataclass(frozen=True)
class NarrowEntry:
    """An entry at `place` down a helix of only `helix` mm: the tool cuts over its whole width."""

    kind: ClassVar[str] = "slot"
    place: Place
    helix: float

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        helix = f"on a helix of only {self.helix:.2f} mm: the tool cuts over its whole width"
        what = f"'{name}' enters at {_near(self.place)} {helix}, at the entry feed."
        return what, "Predrill there or use a smaller tool."


@dataclass(frozen=True)
class Engagement:
    """The engagement along a clearing path: what was `wanted`, what 95 % of its length stay under, the most;
    degrees."""

    kind: ClassVar[str] = "load"
    wanted_deg: float
    p95_deg: float
    most_deg: float
    length_mm: float

    def words(self, name: str) -> Words | None:
        """None: the load is measured on the stock."""
        return None


@dataclass(frozen=True)
class ThroughAir:
    """A `share` of the cutting moves go through air where `wanted` was asked for."""

    kind: ClassVar[str] = "air"
    share: float
    wanted: float

    def words(self, name: str) -> Words | None:
        """For the operation `name`; None while the share is kept."""
        if self.share <= self.wanted:
            return None
        what = f"{100 * self.share:.0f} % of the cutting moves of '{name}' go through air"
        asked = f"{100 * self.wanted:.0f} % were asked for"
        return f"{what}; {asked}.", "Raise 'thinnest' or the share allowed."


@dataclass(frozen=True)
class Short:
    """Shank or holder (`part`) would touch at `place` by `lack` mm: a `share` of the way was left out, lifted
    or kept. `stick_out` mm would do for a holder."""

    kind: ClassVar[str] = "short"
    place: Place
    when: Literal["trim", "raise", "leave"]
    lack: float
    share: float
    part: Literal["shank", "holder"]
    against: str
    stick_out: float

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        done = {"trim": "is left out", "raise": "is lifted", "leave": "is kept as it is"}[self.when]
        what = (
            f"The {self.part} of the tool of '{name}' would touch the {self.against} at {_near(self.place)}"
        )
        what += f", by {self.lack:.2f} mm: {100 * self.share:.1f} % of its way {done}."
        if self.part == "holder":
            return what, f"A stick-out of {self.stick_out:g} mm would do."
        return what, f"Flutes longer by {self.lack:.2f} mm or a thinner shank would do."


@dataclass(frozen=True)
class WallLeft:
    """A `wall` whose foot is at `place` is left: the tool does not fit there."""

    kind: ClassVar[str] = "wall_left"
    place: Place
    wall: str

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        where = f"at Z {self.place[2]:.2f} near {_near(self.place)}"
        what = f"'{name}' leaves {self.wall} and what ends with it {where}: its tool does not fit."
        return what, "Use a smaller tool there."


@dataclass(frozen=True)
class EdgeLeft:
    """Edges about `place` are left: the tool would touch another wall there."""

    kind: ClassVar[str] = "edge_left"
    place: Place

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        where = f"at Z {self.place[2]:.2f} near {_near(self.place)}"
        what = f"'{name}' leaves edges {where}: its tool would touch another wall there."
        return what, "Use a smaller tool there, or break them by hand."


@dataclass(frozen=True)
class EdgesMissing:
    """Of `given` picked edges `missing` are not broken at all, the first of them (`which`) at `place`."""

    kind: ClassVar[str] = "missing_edges"
    place: Place
    missing: int
    given: int
    which: str

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        made = self.given - self.missing
        what = f"'{name}' breaks {made} of {self.given}: {self.which} at {_near(self.place)} is not broken"
        others = f", nor {self.missing - 1} more" if self.missing > 1 else ""
        why = ", since its tool would touch another wall, or an edge that is not picked, all along."
        return what + others + why, "Use a smaller tool there, or take these edges out of the operation."


@dataclass(frozen=True)
class FeedAdapted:
    """The feed follows the measured engagement: s of the cutting moves before and after, least and most
    feed."""

    kind: ClassVar[str] = "adapted"
    before_s: float
    after_s: float
    least_mm_min: float
    most_mm_min: float

    def words(self, name: str) -> Words | None:
        """For the operation `name`."""
        feeds = f"{self.least_mm_min:.0f} to {self.most_mm_min:.0f} mm/min"
        times = f"{self.after_s / 60:.1f} instead of {self.before_s / 60:.1f} min"
        follows = f"The feed of '{name}' follows the measured engagement, {feeds}"
        return f"{follows}: its cutting moves take {times}.", ""


@dataclass(frozen=True)
class Repeated:
    """The path is there `count` times, `how` says in which way; `mirrored` where some of them are mirrors."""

    kind: ClassVar[str] = "repeated"
    count: int
    how: str
    mirrored: bool

    def words(self, name: str) -> Words | None:
        """For the operation `name`, where it is mirrored."""
        if not self.mirrored:
            return None
        return f"'{name}' runs the other way round in its mirror, so that it cuts in the same sense.", ""


@dataclass(frozen=True)
class ThreadCut:
    """A thread about an `axis` (x, y) between heights `low` and `high` and radii `inner` and `outer`, which
    the model shows as a bore (`internal`) or a boss."""

    kind: ClassVar[str] = "thread"
    name: str
    axis: tuple[float, float]
    low: float
    high: float
    inner: float
    outer: float
    internal: bool

    def words(self, name: str) -> Words | None:
        """None: it is what was wanted."""
        return None


@dataclass(frozen=True)
class EdgeBroken:
    """A chamfer along `lines` under the height `top`, `width` seen from above and `height` from the side,
    which the model shows as a sharp edge."""

    kind: ClassVar[str] = "broken_edge"
    lines: Lines
    top: float
    width: float
    height: float

    def words(self, name: str) -> Words | None:
        """None: it is what was wanted."""
        return None


@dataclass(frozen=True)
class Engraved:
    """A groove along `lines`, `depth` deep at the line; beside it the tool's underside, its `heights` over
    the tip at `radii`, leaves of that."""

    kind: ClassVar[str] = "engraving"
    lines: Lines
    depth: float
    radii: tuple[float, ...]
    heights: tuple[float, ...]

    def words(self, name: str) -> Words | None:
        """None: it is what was wanted."""
        return None


@dataclass(frozen=True)
class FlankLies:
    """A straight tool along a wall that twists by up to `twist_deg`: it cuts in by at most `overcut` mm and
    leaves at most `left` mm, allowance apart."""

    kind: ClassVar[str] = "flank"
    wall: str
    twist_deg: float
    overcut: float
    left: float

    def words(self, name: str) -> Words | None:
        """For the operation `name`, where the wall twists."""
        if self.twist_deg < 0.05:
            return None
        twist = f"'{name}': {self.wall} twists by up to {self.twist_deg:.1f}° from foot to top"
        cuts = f"cuts in by up to {self.overcut:.4f} mm and " if self.overcut >= 5e-5 else ""
        return f"{twist}; the straight tool {cuts}leaves up to {self.left:.4f} mm of it.", ""


Found = Missing | EdgesMissing | Narrow | Unreached | NarrowEntry | ThroughAir | Short | WallLeft | EdgeLeft
Done = Empty | Engagement | FeedAdapted | Repeated | ThreadCut | EdgeBroken | Engraved | FlankLies
Note = Found | Done
_KINDS: dict[str, type[Any]] = {k.kind: k for k in Note.__args__}  # type: ignore[attr-defined]


def as_lines(lines: list[Floats]) -> Lines:
    """Points (n, 2) or (n, 3) of lines in plan view, as notes hold them."""
    return tuple(tuple((float(x), float(y)) for x, y in line[:, :2]) for line in lines)


def moved_note(note: Note, plan: Callable[[Floats], Floats]) -> Note:
    """The note about another place; `plan` takes points (n, 2) of the plan view there."""
    changes: dict[str, Any] = {}
    for name in ("place", "axis"):
        value = getattr(note, name, None)
        if value is not None:
            x, y = plan(np.array([value[:2]], dtype=np.float64))[0].tolist()
            changes[name] = (x, y, *value[2:])
    lines = getattr(note, "lines", None)
    if lines is not None:
        changes["lines"] = as_lines([plan(np.array(line, dtype=np.float64)) for line in lines])
    return replace(note, **changes)


def to_plain(note: Note) -> dict[str, Any]:
    """The note as plain data."""
    return {"kind": note.kind, **asdict(note)}


def from_plain(plain: dict[str, Any]) -> Note:
    """The inverse of `to_plain`, through JSON too."""
    kind = _KINDS[plain["kind"]]
    made: Note = kind(**{f.name: _tupled(plain[f.name]) for f in fields(kind)})
    return made


def _tupled(value: Any) -> Any:
    return tuple(_tupled(v) for v in value) if isinstance(value, (list, tuple)) else value
