"""The tools of a whole plan: from the job, else from the library, else made up for the depth, which is
said."""

from __future__ import annotations

from collections.abc import Callable

from fenrik.core.features.seen import Face
from fenrik.core.job.document.job import Job
from fenrik.core.job.proposing.recipes import Proposal, free_number
from fenrik.core.model.part_model import PartModel
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.library import starting_library

CORNER_SHARE = 0.9
"""Radius of the finishing tool over the smallest inner radius: the tool turns in the corner, not about it."""
LONGEST_REACH, NECK = 8.0, 0.95
"""Stick-out that a mill can have, and the relieved neck over the flutes of one that is longer than usual, in
diameters (common practice, no source)."""
STIFF = 4.0
"""Stick-out in diameters up to which a mill counts as short (common practice, no source)."""
WIDEST_LONG, WIDER_PER_DEPTH = 20.0, 0.25
"""Widest mill for deep levels, mm, and the diameter that a depth asks for as a share of it: four diameters of
stick-out bend little (common practice, no source)."""
INCH_SIZE = 25.4 / 64
"""Sizes of inch tools are whole multiples of it, mm (common practice, no source)."""


class ToolChoice:
    """Chooses tools for a part; those that the job does not have yet go to the proposal, with a word about
    each."""

    def __init__(self, job: Job, part: PartModel, out: Proposal) -> None:
        self.job, self.part, self.out = job, part, out

    @property
    def have(self) -> list[Assembly]:
        """The job's tools and those that are proposed."""
        return [*self.job.tools, *self.out.tools]

    def mill(self, most: float, deep: float) -> Assembly:
        """The widest flat mill up to a diameter; a longer one of it is made up where its flutes are shorter
        than the depth."""
        tool = self._best(
            "flat",
            lambda t: t.diameter <= most + 1e-6,
            lambda t: (t.flute_length >= deep, t.diameter, t.flute_length),
        )
        return self.reaching(tool, deep)

    def pair(self, most: float, deep: float, widest: float) -> tuple[Assembly, Assembly | None]:
        """The mill up to a diameter for what lies no deeper than its flutes, and the longer one, as wide as
        `widest` at most, for what lies deeper (None where the first reaches it all). A mill of the job that
        reaches and is no longer than usual is taken for both."""
        short = self._best(
            "flat", lambda t: t.diameter <= most + 1e-6, lambda t: (t.diameter, -t.stick_out / t.diameter)
        )
        if short.flute_length >= deep:
            return short, None
        own = self._best(
            "flat",
            lambda t: t.diameter <= most + 1e-6,
            lambda t: (t.flute_length >= deep, t.diameter, t.flute_length),
        )
        if own.flute_length >= deep and own.stick_out <= STIFF * own.diameter:
            return own, None
        necked = self.reaching(short, deep)
        if necked.stick_out <= STIFF * necked.diameter and necked.stick_out >= deep:
            return necked, None
        asked = min(widest, WIDEST_LONG, max(most, WIDER_PER_DEPTH * deep))
        return short, self.mill(asked, deep)

    def point(self, chamfers: list[Face]) -> Assembly:
        """A pointed cutter wide enough for the chamfers."""
        widest = max((c.high - c.low for c in chamfers), default=0.5)
        return self._best(
            "chamfer",
            lambda t: t.point_deg == 90.0 and t.radius >= widest + 0.5 + 0.5 * t.tip_diameter,
            lambda t: (-t.diameter,),
        )

    def balls(self, most: float) -> list[Assembly]:
        """Balls up to a radius, the widest first: the job's own, else those of the library in the job's
        units."""
        own = [t for t in self.have if t.kind == "ball"]
        shelf = [t for t in starting_library() if t.kind == "ball" and self._own_units(t)]
        fitting = [t for t in own or shelf if t.radius <= most + 1e-6]
        return sorted(fitting, key=lambda t: (-t.diameter, t.number)) or [
            min(own or shelf, key=lambda t: t.diameter)
        ]

    def taken(self, tool: Assembly) -> Assembly:
        """The tool as the job has it: itself, one that differs by its number only, or new with a free number,
        which is said."""
        for mine in self.have:
            if mine.model_copy(update={"number": tool.number, "to_check": tool.to_check}) == tool:
                return mine
        made_up = tool not in starting_library()
        words = (
            "was made up for the depth: check its lengths and holder" if made_up else "comes from the library"
        )
        number = free_number(tool.number, self.have)
        new = tool.model_copy(update={"number": number, "to_check": made_up})
        self.out.tools.append(new)
        self.out.words.append(f"T{new.number} {new.name} {words}.")
        return new

    def reaching(self, tool: Assembly, deep: float) -> Assembly:
        """The tool, or one like it with a relieved neck above its flutes where these end above the depth. One
        that ends short of it all the same is told."""
        if tool.flute_length >= deep:
            return tool
        reach = round(min(deep + 5.0, max(LONGEST_REACH * tool.diameter, tool.flute_length + 8.0)), 1)
        if reach < deep:
            words = (
                f"{tool.name} sticks out {reach:g} mm at most, {deep - reach:.1f} mm short of the depth of "
                f"{deep:.1f} mm: what lies deeper is left."
            )
            if words not in self.out.words:
                self.out.words.append(words)
        if tool.stick_out >= reach and tool.shank_diameter < tool.diameter - 1e-6:
            return tool
        reach = max(reach, tool.stick_out)
        neck: dict[str, object] = {
            "name": f"{tool.name}, neck to {reach:g}",
            "stick_out": reach,
            "shank_diameter": round(NECK * tool.diameter, 2),
        }
        return tool.model_copy(update=neck)

    def _best(
        self, kind: str, fits: Callable[[Assembly], bool], rank: Callable[[Assembly], tuple[float, ...]]
    ) -> Assembly:
        """The fitting tool that ranks first: of the job, else of the library in the job's units, else of the
        whole library; the library's smallest where none fits."""
        shelf = [t for t in starting_library() if t.kind == kind]
        for tools in (
            [t for t in self.job.tools if t.kind == kind],
            [t for t in shelf if self._own_units(t)],
            shelf,
        ):
            if fitting := [t for t in tools if fits(t)]:
                return max(fitting, key=lambda t: (*rank(t), -t.number))
        return min(shelf, key=lambda t: t.diameter)

    def _own_units(self, tool: Assembly) -> bool:
        """Whether a tool's size is one of the units that the job is written in."""
        of_inches = abs(tool.diameter / INCH_SIZE - round(tool.diameter / INCH_SIZE)) < 1e-6
        return of_inches == (self.job.units == "inch")
