"""An operation with nothing left open: speeds, feeds and parameters, and where each number comes from."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from fenrik.core.errors import ComputeError
from fenrik.core.job.document.job import OperationDoc, SetupDoc
from fenrik.core.machines.machine import Machine
from fenrik.core.strategies.base import Parameters, Strategy
from fenrik.core.strategies.registry import strategy
from fenrik.core.tolerances import BENDING_SHARE
from fenrik.core.tooling.assembly import POINTED, THREADING, TITLES, Assembly
from fenrik.core.tooling.cutting_data import Derived, engaged_feed, propose
from fenrik.core.tooling.materials import Material
from fenrik.core.tooling.stiffness import stiff_depth

BANDS_AT_MOST = 3.0
"""Bands of "on size" by which a tool that leaves nothing on walls may bend at most (common practice, no
source)."""
SHALLOWEST = 0.1
"""Step down in diameters that is proposed however slender the tool (common practice, no source)."""


@dataclass(frozen=True)
class Task:
    """An operation of a setup, resolved: what it works with, and in `derived` where each number comes from.

    Its place in the job's state (the part, the stock before it) is not here; see `Tasks.inputs`.
    """

    setup: SetupDoc
    operation: OperationDoc
    strategy: Strategy
    tool: Assembly
    machine: Machine
    material: Material
    parameters: Parameters
    spindle_rpm: float
    feed: float
    entry_feed: float
    derived: dict[str, Derived]

    @property
    def feed_limit(self) -> float:
        """The highest feed mm/min that machine and tool bear."""
        limit = self.machine.feed_max_mm_min
        if self.tool.feed_per_tooth_max is not None:
            limit = min(limit, self.spindle_rpm * self.tool.teeth * self.tool.feed_per_tooth_max)
        return limit

    def may_bend(self, band: float) -> tuple[float | None, float]:
        """The bending mm of the tool from which the proof cautions, a share of what is left on walls or of
        the band of "on size" (twice the half `band`) where that is more; and from which it stops: what is
        left, and where nothing is left some bands. None and infinity for tools that cut with their points."""
        if self.tool.kind in POINTED:
            return None, math.inf
        left = allowance_of(self.parameters)
        return BENDING_SHARE * max(left, 2.0 * band), max(left, 2.0 * band * BANDS_AT_MOST)

    def check_kind(self, where: str) -> None:
        """Raises ComputeError for a kind of tool with which the strategy does not work."""
        kinds = self.strategy.kinds
        if self.tool.kind not in kinds:
            raise ComputeError(
                f"{self.strategy.title} does not work with a {TITLES[self.tool.kind]} (T{self.tool.number}).",
                remedy=f"Choose a {' or '.join(TITLES[k] for k in kinds)}.",
                where=where,
            )

    def plain_derived(self) -> dict[str, Any]:
        """The derived numbers as plain data."""
        return {k: vars(v) for k, v in self.derived.items()}

    def track_inputs(self) -> list[Any]:
        """What of the operation makes the cutter's track, as plain data for a key: names, notes, coolant,
        stick-out and holder do not."""
        return [self.ground_inputs(), self.feed, self.entry_feed]

    def ground_inputs(self) -> list[Any]:
        """What of the operation shapes the ground that its cutter leaves, as plain data for a key: feeds do
        not."""
        tool, doc, setup = self.tool, self.operation, self.setup
        cutter: list[Any] = [tool.kind, tool.profile.shape, tool.cleared.shape]
        if tool.kind in THREADING:
            cutter += [tool.thread_pitch, tool.thread_hand, tool.thread_rows]
        repeat = setup.repeat_of(doc)
        picked = (doc.holes, doc.walls, doc.lines, setup.plain(doc.keep_in), setup.plain(doc.keep_out))
        numbers = [doc.spindle, doc.tolerance_mm, doc.heights.model_dump()]
        own = [
            doc.strategy,
            self.parameters.model_dump(),
            *numbers,
            *([p.model_dump() for p in picks] for picks in picked),
            doc.faces,
            None if repeat is None else [*([p.turn, p.shift] for p in repeat.places()), *setup.turns_of(doc)],
        ]
        return [cutter, own]

    def body_inputs(self) -> list[Any]:
        """What of the tool over the cutter shapes the path, as plain data for a key."""
        tool = self.tool
        holder = [h.model_dump() for h in tool.holder]
        return [[tool.flute_length, tool.shank_diameter, tool.stick_out, holder], self.operation.when_short]


def resolve(
    setup: SetupDoc, operation: OperationDoc, tool: Assembly, machine: Machine, material: Material
) -> Task:
    """The operation with proposals in place of what was left open."""
    slowest, fastest = machine.spindle_rpm
    data = propose(tool, material, slowest, fastest, machine.feed_max_mm_min, operation.boldness)
    derived = dict(data)
    given = {
        "spindle_rpm": operation.spindle_rpm,
        "feed_mm_min": operation.feed_mm_min,
        "entry_feed_mm_min": operation.entry_feed_mm_min,
    }
    for key, value in given.items():
        if value is not None:
            derived[key] = Derived(
                value, data[key].unit, "given", f"proposed: {data[key].value:g}, {data[key].formula}"
            )
    if operation.feed_mm_min is not None and operation.entry_feed_mm_min is None:
        derived["entry_feed_mm_min"] = Derived(
            round(operation.feed_mm_min * 0.4), "mm/min", "from feed", "40 % of the feed"
        )
    if tool.kind == "tap":
        derived |= in_step(tool, derived["spindle_rpm"].value)
    chosen = strategy(operation.strategy)
    parameters = chosen.parameters(**operation.parameters)
    proposed = chosen.proposals(tool, {k: v.value for k, v in data.items()})
    filled = {}
    for key, (value, reason) in proposed.items():
        if getattr(parameters, key) is None:
            filled[key] = value
            extra = chosen.parameters.model_fields[key].json_schema_extra
            unit = str(extra.get("unit", "")) if isinstance(extra, dict) else ""
            derived[key] = Derived(round(value, 4), unit, "from material and tool", reason)
    whole = parameters.model_copy(update=filled)
    whole = held_by_stiffness(operation, whole, tool, material, derived)
    width, depth = getattr(whole, "stepover", None), getattr(whole, "step_down", None)
    if operation.feed_mm_min is None and width and depth:
        derived["feed_mm_min"] = engaged_feed(
            derived["feed_mm_min"],
            tool,
            material,
            derived["spindle_rpm"].value,
            width,
            depth,
            machine.feed_max_mm_min,
            machine.spindle_power_kw,
        )
    return Task(
        setup=setup,
        operation=operation,
        strategy=chosen,
        tool=tool,
        machine=machine,
        material=material,
        parameters=whole,
        spindle_rpm=derived["spindle_rpm"].value,
        feed=derived["feed_mm_min"].value,
        entry_feed=derived["entry_feed_mm_min"].value,
        derived=derived,
    )


def allowance_of(parameters: Parameters) -> float:
    """What an operation leaves on walls, mm."""
    values = (getattr(parameters, name, None) for name in ("allowance_radial", "allowance"))
    return max([0.0, *(float(v) for v in values if v is not None)])


def held_by_stiffness(
    given: OperationDoc,
    parameters: Parameters,
    tool: Assembly,
    material: Material,
    derived: dict[str, Derived],
) -> Parameters:
    """The parameters with a step down that was left open held to what the tool bears: it bends by no more
    than a share of the allowance. The reason goes to `derived`."""
    width, depth = getattr(parameters, "stepover", None), getattr(parameters, "step_down", None)
    left = allowance_of(parameters)
    if not (width and depth and left > 0) or given.parameters.get("step_down") is not None:
        return parameters
    rpm, feed = derived["spindle_rpm"].value, derived["feed_mm_min"].value
    most = stiff_depth(tool, material, rpm, feed, width, BENDING_SHARE * left)
    if most >= depth:
        return parameters
    held = max(round(most, 3), SHALLOWEST * tool.diameter)
    derived["step_down"] = Derived(
        held,
        "mm",
        "from stiffness",
        f"at {depth:.2f} mm the tool, {tool.stick_out / tool.diameter:.1f} D long, would bend by "
        f"{BENDING_SHARE * left * depth / most:.3f} mm: held to {100 * BENDING_SHARE:.0f} % of the allowance",
    )
    changed = {"step_down": held}
    up = getattr(parameters, "step_up", None)
    if up and given.parameters.get("step_up") is None:
        changed["step_up"] = min(up, held)
    return parameters.model_copy(update=changed)


def in_step(tool: Assembly, rpm: float) -> dict[str, Derived]:
    """A tap's feed, which is no choice: it follows from pitch and speed."""
    pitch = float(tool.thread_pitch or 0.0)
    feed = Derived(
        round(rpm * pitch, 4),
        "mm/min",
        "from tool",
        f"vf = n P = {rpm:g} · {pitch:.4g}, in step with the spindle",
    )
    return {"feed_mm_min": feed, "entry_feed_mm_min": feed}
