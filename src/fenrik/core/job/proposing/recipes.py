"""Recipes: from holes that are alike and what they are for to operations, with tools from the job or the
library."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fenrik.core.errors import ComputeError
from fenrik.core.features.hole_use import Purpose, Use, shown_by_model, uses
from fenrik.core.features.holes import Hole, turned_over
from fenrik.core.features.threads import Thread, thread
from fenrik.core.frames import same_direction
from fenrik.core.job.document.job import Job, OperationDoc, SetupDoc
from fenrik.core.job.document.picks import HolePick
from fenrik.core.job.document.recipe_data import RecipeStep, shipped
from fenrik.core.job.tasks.heights import over_fixture
from fenrik.core.setups.setup import Clamped
from fenrik.core.tooling.assembly import Assembly, HolderSegment, Kind
from fenrik.core.tooling.library import starting_library

NEAR_MM = 0.02
DRILL_POINT_DEG = 140.0
"""Of a carbide drill that is made up where neither job nor library has one (common practice, no source)."""


@dataclass
class Proposal:
    """What a recipe leads to: tools that the job does not have yet, operations, and words about what was
    decided."""

    recipe: str
    tools: list[Assembly] = field(default_factory=list)
    operations: list[OperationDoc] = field(default_factory=list)
    words: list[str] = field(default_factory=list)

    def plain(self) -> dict[str, Any]:
        """As plain data."""
        return {
            "recipe": self.recipe,
            "tools": [t.model_dump(mode="json") for t in self.tools],
            "operations": [o.model_dump(mode="json") for o in self.operations],
            "words": self.words,
        }


def with_proposal(job: Job, setup: SetupDoc, proposal: Proposal) -> Job:
    """The job with a proposal taken into a setup."""
    whole = setup.model_copy(update={"operations": [*setup.operations, *proposal.operations]})
    setups = [whole if s.name == setup.name else s for s in job.setups]
    return job.model_copy(update={"tools": [*job.tools, *proposal.tools], "setups": setups})


def uses_of(job: Job, hole: Hole) -> list[Use]:
    """What a hole of a job may be for, the likeliest first."""
    return uses(hole.diameter, hole.through, hole.headed, job.units == "inch")


def propose_operations(
    job: Job, setup: SetupDoc, holes: list[Hole], purpose: Purpose | None = None, name: str | None = None
) -> Proposal:
    """Operations for holes that are alike; `purpose` open: by the tables; `name` chooses among the threads or
    fasteners of a purpose. Raises ComputeError where no recipe fits."""
    hole = holes[0]
    known_uses = uses_of(job, hole)
    use = next((u for u in known_uses if purpose in (None, u.purpose) and name in (None, u.name)), None)
    chosen = use.purpose if use is not None else purpose
    known = [*job.recipes, *shipped()[0]]
    recipe = next((r for r in known if chosen is not None and r.holds(hole, chosen)), None)
    if recipe is None:
        raise ComputeError(
            f"No recipe is for {hole.words()} as '{purpose or chosen}'.",
            remedy="Choose another use, or add its operations one by one.",
        )
    out = Proposal(recipe.name)
    if use is not None:
        out.words.append(f"{len(holes)} x {hole.words()}: {use.words} ({use.table}).")
    cut = thread(use.name) if use is not None and chosen == "thread" else None
    for step in recipe.steps:
        tool = _tool(job, out, step, hole, cut)
        picks = [HolePick(face=h.faces[0]) for h in holes]
        called = free_name(
            f"{step.name} Ø{hole.diameter:g}", [o.name for o in (*setup.operations, *out.operations)]
        )
        out.operations.append(
            OperationDoc(
                name=called, strategy=step.strategy, tool=tool.number, holes=picks, parameters=step.parameters
            )
        )
    return out


NUMBERED = re.compile(r" \(\d+\)$")
"""What makes a name one of its own."""
LONGEST = 74
"""Letters of a name that has room for its number."""
PHASES = (
    "spot",
    "drill",
    "chip_break",
    "peck",
    "deep",
    "counterbore",
    "countersink",
    "bore",
    "ream",
    "tapping",
)
"""Order in which holes of several sizes are made; milled ones come last."""


def propose_all(job: Job, setup: SetupDoc, groups: list[list[Hole]], clamped: Clamped) -> Proposal:
    """Operations for all holes that a tool can make from above in a setup: first all spots, then all drills
    and so on, one operation where tool and parameters are the same. The words say which holes were left, and
    why."""
    out = Proposal("every hole seen from here")
    for holes in groups:
        seen = [h for h in holes if is_seen(h, clamped)]
        if not seen:
            out.words.append(f"Left: {len(holes)} x {holes[0].words()}, not seen along the tool from here.")
            continue
        for side in (
            [h for h in seen if _up(h.axis, clamped) > 0],
            [h for h in seen if _up(h.axis, clamped) < 0],
        ):
            if not side:
                continue
            met = side if _up(side[0].axis, clamped) > 0 else [turned_over(h) for h in side]
            known = job.model_copy(update={"tools": [*job.tools, *out.tools]})
            try:
                one = _as_shown(known, setup, met)
            except ComputeError as error:
                out.words.append(f"Left: {error}")
                continue
            out.tools += one.tools
            out.words += one.words
            out.operations += one.operations
    out.operations = _together(out.operations, [o.name for o in setup.operations])
    return out


def _as_shown(job: Job, setup: SetupDoc, holes: list[Hole]) -> Proposal:
    """Operations for holes whose use nobody has told: what the model shows is made. A likely thread is
    drilled for and its tapping is proposed, switched off; a likely fit is drilled as drawn. Either is marked
    until it is confirmed."""
    likely = uses_of(job, holes[0])
    use = likely[0]
    if shown_by_model(use):
        return propose_operations(job, setup, holes, use.purpose, use.name)
    mark = f"{use.purpose} {use.name}"
    if use.purpose == "thread":
        one = propose_operations(job, setup, holes, use.purpose, use.name)
        one.operations = [
            o if o.strategy in ("drilling", "bore_milling") else _waiting(o, mark, enabled=False)
            for o in one.operations
        ]
        one.words.append(
            f"'{one.operations[-1].name}' is switched off until somebody confirms the {mark}: the model does "
            "not show a thread."
        )
        return one
    shown = next(u for u in likely if shown_by_model(u))
    one = propose_operations(job, setup, holes, shown.purpose, shown.name)
    one.operations = [*one.operations[:-1], _waiting(one.operations[-1], mark, enabled=True)]
    one.words.append(f"{use.words}; drilled as drawn until somebody says that it is one.")
    return one


def _waiting(operation: OperationDoc, mark: str, enabled: bool) -> OperationDoc:
    return operation.model_copy(update={"unconfirmed": mark, "enabled": enabled})


def is_seen(hole: Hole, clamped: Clamped) -> bool:
    """Whether a tool from above comes into a hole."""
    return any(same_direction(clamped.setup_from_part[2, :3], entry) for entry in hole.entries)


def _up(direction: list[float], clamped: Clamped) -> float:
    """How much a direction of the part points up in a setup, -1 to 1."""
    return float(clamped.setup_from_part[2, :3] @ np.array(direction))


def _phase(operation: OperationDoc) -> int:
    cycle = operation.parameters.get("cycle", operation.strategy)
    return PHASES.index(cycle) if cycle in PHASES else len(PHASES)


def _together(operations: list[OperationDoc], taken: list[str]) -> list[OperationDoc]:
    """Operations by phase, those alike but for their holes as one."""
    merged: list[OperationDoc] = []
    for operation in sorted(operations, key=lambda o: (_phase(o), o.tool)):
        last = merged[-1] if merged else None
        if last is not None and _but_for_holes(last) == _but_for_holes(operation):
            first = last.name.split(" Ø")[0]
            merged[-1] = last.model_copy(update={"holes": [*last.holes, *operation.holes], "name": first})
        else:
            merged.append(operation)
    out: list[OperationDoc] = []
    for operation in merged:
        name = free_name(operation.name, [*taken, *(o.name for o in out)])
        out.append(operation.model_copy(update={"name": name}))
    return out


def _but_for_holes(operation: OperationDoc) -> dict[str, object]:
    return operation.model_dump(exclude={"name", "holes"})


def on_side(proposal: Proposal, side: str | None, seen: Clamped, taken: list[str]) -> Proposal:
    """What is proposed as made from a side, which sees what is clamped like that: its operations say so in
    their names, and go over the fixture there."""
    out = Proposal(proposal.recipe, tools=proposal.tools, words=list(proposal.words))
    for operation in proposal.operations:
        name = operation.name
        if side is not None:
            own = [*taken, *(o.name for o in out.operations)]
            name = free_name(from_side(NUMBERED.sub("", operation.name), side), own)
            out.words = [w.replace(f"'{operation.name}'", f"'{name}'") for w in out.words]
        made = operation.model_copy(update={"side": side, "name": name})
        out.operations.append(over_fixture(made, seen))
    return out


def from_side(name: str, side: str | None) -> str:
    """The name of an operation that is made from a side."""
    return name if side is None else f"{name}, {side}"[:LONGEST]


def free_name(name: str, taken: list[str]) -> str:
    """The name, numbered where it is taken."""
    number = 2
    wanted = name
    while wanted in taken:
        wanted, number = f"{name} ({number})", number + 1
    return wanted


def _tool(job: Job, out: Proposal, step: RecipeStep, hole: Hole, cut: Thread | None) -> Assembly:
    """A fitting tool of the job or of the proposal, else from the library, else made up."""
    widest = max(s.diameter_top for s in hole.sections)
    if step.size == "thread" and cut is None:
        raise ComputeError(
            f"{hole.words()} is in no table of tapping drills, so that its thread is not known.",
            remedy="Choose another use, or add a tapping or thread milling operation with its tool.",
        )
    sizes = {"hole": hole.diameter, "mouth": widest, "thread": cut.major if cut is not None else 0.0}
    size = sizes[step.size] - step.under
    have = [*job.tools, *out.tools]
    for place in (have, starting_library()):
        fitting = [t for t in place if _fits(t, step, size, hole, cut)]
        if not fitting:
            continue
        # the wanted size; for a mill, half of it leaves room to circle and to throw chips out
        aim = 0.5 * size if step.tool == "mill" else size
        best = min(fitting, key=lambda t: (abs(t.diameter - aim), t.number))
        if place is have:
            return best
        taken = best.model_copy(update={"number": free_number(best.number, have)})
        out.tools.append(taken)
        out.words.append(f"T{taken.number} {taken.name} comes from the library.")
        return taken
    made = _tool_for(step, size, hole, free_number(1, have), cut).model_copy(update={"to_check": True})
    out.tools.append(made)
    out.words.append(f"T{made.number} {made.name} was made up: check its lengths and holder.")
    return made


def _fits(tool: Assembly, step: RecipeStep, size: float, hole: Hole, cut: Thread | None) -> bool:
    if step.tool == "tap":
        same = tool.kind == "tap" and cut is not None and abs((tool.thread_pitch or 0.0) - cut.pitch) < 1e-3
        deep = hole.depth + (3.5 * cut.pitch if cut is not None and hole.through else 0.0)
        slim = tool.shank_diameter < hole.diameter or tool.flute_length >= deep
        return same and slim and abs(tool.diameter - size) <= NEAR_MM and tool.stick_out >= deep + 5.0
    if step.tool == "spot":
        return tool.kind == "chamfer" and tool.tip_diameter == 0 and tool.diameter >= size - 1e-6
    if step.tool == "mill":
        return (
            tool.kind == "flat" and tool.diameter <= 0.8 * size and tool.flute_length >= _depth_of(step, hole)
        )
    if step.tool == "end mill":
        return tool.kind == "flat" and abs(tool.diameter - size) <= NEAR_MM
    kind = {"drill": "drill", "reamer": "reamer"}[step.tool]
    return tool.kind == kind and abs(tool.diameter - size) <= NEAR_MM and tool.flute_length >= hole.depth


def _depth_of(step: RecipeStep, hole: Hole) -> float:
    """How deep the step goes mm."""
    straight = [s for s in hole.sections if s.straight]
    return straight[0].bottom if step.size == "mouth" and len(straight) > 1 else hole.sections[-1].bottom


def free_number(number: int, have: list[Assembly]) -> int:
    """The number, or the next that no tool has."""
    taken = {t.number for t in have}
    while number in taken:
        number += 1
    return number


def _tool_for(step: RecipeStep, size: float, hole: Hole, number: int, cut: Thread | None) -> Assembly:
    """A generic tool of the wanted size, long enough for the hole."""
    whole = hole.sections[-1].bottom
    flutes = round(max(5.0 * size, whole + 1.5 * size + 2.0), 1)
    kinds: dict[str, Kind] = {"spot": "chamfer", "drill": "drill", "reamer": "reamer", "tap": "tap"}
    kind: Kind = kinds.get(step.tool, "flat")
    size = float(max(1, round(0.5 * size))) if step.tool == "mill" else size
    names = {
        "spot": "Spot cutter",
        "drill": "Drill",
        "reamer": "Reamer",
        "tap": "Tap",
        "end mill": "End mill",
        "mill": "End mill",
    }
    diameter = float(max(1.0, size)) if step.tool != "spot" else float(size + 1.0)
    return Assembly(
        number=number,
        name=f"{names[step.tool]} {diameter:g}",
        kind=kind,
        diameter=diameter,
        point_deg=90.0 if step.tool == "spot" else DRILL_POINT_DEG if step.tool == "drill" else 0.0,
        thread_pitch=cut.pitch if step.tool == "tap" and cut is not None else None,
        flute_length=flutes if step.tool != "spot" else diameter,
        teeth=4 if kind in ("reamer", "flat") else 2,
        shank_diameter=diameter if step.tool != "tap" else round(0.75 * diameter, 2),
        stick_out=round(flutes + 8.0, 1),
        holder=[
            HolderSegment(
                length=26.0, diameter_low=max(26.0, diameter + 8), diameter_high=max(30.0, diameter + 12)
            ),
            HolderSegment(
                length=20.0, diameter_low=max(40.0, diameter + 14), diameter_high=max(40.0, diameter + 14)
            ),
        ],
    )
