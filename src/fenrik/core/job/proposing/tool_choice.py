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
LONGEST_FLUTES, LONGEST_REACH, NECK = 5.0, 8.0, 0.95
"""Flutes and stick-out that a mill can have, and a relieved neck above its flutes, in diameters (common
practice, no source)."""
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
        return _reaching(tool, deep)

    def point(self, chamfers: list[Face]) -> Assembly:
        """A pointed cutter wide enough for the chamfers."""
        widest = max((c.high - c.low for c in chamfers), default=0.5)
        return self._best(
            "chamfer",
            lambda t: t.point_deg == 90.0 and t.radius >= widest + 0.5 + 0.5 * t.tip_diameter,
            lambda t: (-t.diameter,),
        )

    def ball(self, faces: list[Face], widest: float, deep: float) -> Assembly:
        """A ball up to a diameter that goes into the hollows of curved faces, made up longer as mills are."""
        ids = {c.id for c in faces}
        hollow = [f.radius for f in self.part.faces if f.id in ids and f.hollow and f.radius]
        most = max(1.0, min(CORNER_SHARE * min(hollow, default=5.0), 0.5 * widest))
        return _reaching(self._best("ball", lambda t: t.radius <= most, lambda t: (t.diameter,)), deep)

    def taken(self, tool: Assembly) -> Assembly:
        """The tool as the job has it: itself, one that differs by its number only, or new with a free number,
        which is said."""
        for mine in self.have:
            if mine.model_copy(update={"number": tool.number}) == tool:
                return mine
        words = "comes from the library"
        if tool not in starting_library():
            words = "was made up for the depth: check its lengths and holder"
        new = tool.model_copy(update={"number": free_number(tool.number, self.have)})
        self.out.tools.append(new)
        self.out.words.append(f"T{new.number} {new.name} {words}.")
        return new

    def _best(
        self, kind: str, fits: Callable[[Assembly], bool], rank: Callable[[Assembly], tuple[float, ...]]
    ) -> Assembly:
        """The fitting tool that ranks first: of the job, else of the library in the job's units, else of the
        whole library; the library's smallest where none fits."""
        shelf = [t for t in starting_library() if t.kind == kind]
        for tools in (
            [t for t in self.have if t.kind == kind],
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


def _reaching(tool: Assembly, deep: float) -> Assembly:
    """The tool, or one like it with longer flutes, and above them a relieved neck, where its own end above
    the depth."""
    flutes = round(min(deep + 2.0, LONGEST_FLUTES * tool.diameter), 1)
    if tool.flute_length >= min(deep, flutes):
        return tool
    reach = round(min(max(deep + 5.0, flutes + 8.0), max(LONGEST_REACH * tool.diameter, flutes + 8.0)), 1)
    longer: dict[str, object] = {
        "name": f"{tool.name}, flutes {flutes:g}",
        "flute_length": flutes,
        "stick_out": max(tool.stick_out, reach),
    }
    if flutes < deep:  # above the flutes it must not rub along what they have cut
        longer["shank_diameter"] = round(NECK * tool.diameter, 2)
        longer["name"] = f"{tool.name}, flutes {flutes:g}, relieved neck"
    return tool.model_copy(update=longer)
