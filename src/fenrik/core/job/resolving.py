"""An operation with nothing left open: speeds, feeds, parameters and heights, and where each number comes from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import shapely
from shapely.geometry.base import BaseGeometry

from fenrik.core.errors import ComputeError, DocumentError
from fenrik.core.job.document import Height, OperationDoc
from fenrik.core.machines.machine import Machine
from fenrik.core.setups.setup import Clamped
from fenrik.core.strategies.base import Heights, Parameters
from fenrik.core.strategies.registry import strategy
from fenrik.core.tooling.assembly import TITLES, Assembly
from fenrik.core.tooling.cutting_data import Derived, engaged_feed, propose
from fenrik.core.tooling.materials import Material


@dataclass(frozen=True)
class Resolved:
    """An operation with nothing left open: numbers to use and where each comes from."""

    document: OperationDoc
    tool: Assembly
    parameters: Parameters
    spindle_rpm: float
    feed: float
    entry_feed: float
    derived: dict[str, Derived]


def resolve(tool: Assembly, mill: Machine, stuff: Material, operation: OperationDoc) -> Resolved:
    """The operation with proposals in place of what was left open, for a tool, a machine and a material."""
    data = propose(
        tool,
        stuff,
        mill.spindle_rpm[0],
        mill.spindle_rpm[1],
        mill.feed_max_mm_min,
        operation.boldness,
    )
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
    width, depth = getattr(whole, "stepover", None), getattr(whole, "step_down", None)
    if operation.feed_mm_min is None and width and depth:
        derived["feed_mm_min"] = engaged_feed(
            derived["feed_mm_min"], tool, stuff, derived["spindle_rpm"].value, width, depth,
            mill.feed_max_mm_min, mill.spindle_power_kw,
        )  # fmt: skip
    return Resolved(
        operation,
        tool,
        whole,
        derived["spindle_rpm"].value,
        derived["feed_mm_min"].value,
        derived["entry_feed_mm_min"].value,
        derived,
    )


def feed_limit(r: Resolved, mill: Machine) -> float:
    """The highest feed mm/min that machine and tool bear."""
    limit = mill.feed_max_mm_min
    if r.tool.feed_per_tooth_max is not None:
        limit = min(limit, r.spindle_rpm * r.tool.teeth * r.tool.feed_per_tooth_max)
    return limit


def plain_derived(resolved: Resolved) -> dict[str, Any]:
    """The operation's derived numbers as plain data."""
    return {k: vars(v) for k, v in resolved.derived.items()}


def heights_of(operation: OperationDoc, clamped: Clamped, where: str) -> Heights:
    """Heights in the setup frame, mm. Raises DocumentError when clearance lies in the stock."""

    def level(height: Height) -> float:
        base = {
            "stock_top": clamped.stock_high[2],
            "stock_bottom": clamped.stock_low[2],
            "part_top": clamped.part_high[2],
            "part_bottom": clamped.part_low[2],
            "zero": 0.0,
        }[height.over]
        return float(base + height.offset)

    h = operation.heights
    clearance, retract, bottom = level(h.clearance), level(h.retract), level(h.bottom)
    if clearance < clamped.stock_high[2] + 1e-6:
        raise DocumentError(
            f"The clearance height Z {clearance:.3f} is not above the stock, whose top is Z {clamped.stock_high[2]:.3f}.",
            remedy="Raise the clearance height.",
            where=f"{where}.heights.clearance",
        )
    if clamped.shunned is not None:
        held = float(clamped.shunned.vertices[:, 2].max())
        if clearance <= held:
            raise DocumentError(
                f"The clearance height Z {clearance:.3f} is not above the fixture, whose top is Z {held:.3f} with its room.",
                remedy="Raise the clearance height, or hold the stock lower.",
                where=f"{where}.heights.clearance",
            )
        # the way from place to place goes over what holds the stock
        retract = min(max(retract, held + h.feed), clearance)
    if retract > clearance:
        raise DocumentError(
            f"The retract height Z {retract:.3f} is above the clearance height Z {clearance:.3f}.",
            remedy="Lower the retract height or raise the clearance height.",
            where=f"{where}.heights.retract",
        )
    return Heights(clearance, retract, h.feed, bottom)


def kept_out(operation: OperationDoc, tool: Assembly, area: BaseGeometry | None) -> BaseGeometry | None:
    """Keep-out bounds the whole cutter, so the tool's middle stays a radius away."""
    return None if area is None else shapely.buffer(area, tool.radius)


def check_kind(tool: Assembly, operation: OperationDoc, where: str) -> None:
    """Raises ComputeError for a kind of tool with which the strategy does not work."""
    chosen = strategy(operation.strategy)
    if tool.kind not in chosen.kinds:
        raise ComputeError(
            f"{chosen.title} does not work with a {TITLES[tool.kind]} (T{tool.number}).",
            remedy=f"Choose a {' or '.join(TITLES[k] for k in chosen.kinds)}.",
            where=where,
        )


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


def with_excess(parameters: Parameters, excess: float) -> Parameters:
    """Where a file's own gaps keep the mesh from its deflection, the path keeps off by the rest."""
    if excess <= 0:
        return parameters
    names: list[str] = [
        n for n in ("allowance", "allowance_radial", "allowance_axial") if hasattr(parameters, n)
    ]
    return parameters.model_copy(update={n: getattr(parameters, n) + excess for n in names})
