"""Changes with which a finding should go, where a feed, a speed or a tool's dimension can do it."""

from __future__ import annotations

from typing import Any

from fenrik.core.tooling.assembly import Assembly

SLOWEST, MENDED_SHARE = 0.2, 0.8
"""Share of a feed to which mending goes down at most, and of what tool or spindle bear that it aims at."""
EXPONENT = 1.0 / 0.75
"""Force and so bending and power go with the feed to the power of 1 - mc, about 0.75 (Kienzle 1952)."""
SLIMMER, SLIMMEST = 0.95, 0.85
"""Steps in which a neck is made slimmer, and how slim over the cutter's diameter (common practice, no
source)."""
SPARE_MM = 2.0
"""Stick-out added beyond what a holder lacked."""
LEAD_SHARE = 0.5
"""Leads over the tool's diameter that bring an entry back into travel (common practice, no source)."""
FindingData = dict[str, Any]
"""A finding as plain data."""


def held_feed(planned: float | None, finding: FindingData) -> float | None:
    """The feed mm/min at which tool or spindle bear less than they may, None where that is not known."""
    if not planned or not finding["measure"] or not finding["limit"]:
        return None
    share = (MENDED_SHARE * finding["limit"] / finding["measure"]) ** EXPONENT
    return float(max(1, round(planned * max(share, SLOWEST))))


def slimmer_shank(tool: Assembly) -> float | None:
    """The next slimmer shank, mm, None where it would be too slim."""
    slim = round(SLIMMER * tool.shank_diameter, 2)
    if tool.kind not in ("flat", "ball", "corner") or slim < SLIMMEST * tool.diameter:
        return None
    return slim


def longer_stick_out(tool: Assembly, finding: FindingData) -> float:
    """The stick-out, mm, with which a holder stays clear."""
    return round(tool.stick_out + (finding["measure"] or 0.0) + SPARE_MM, 1)


def mend_of(
    finding: FindingData,
    tool: Assembly | None,
    feed: float | None,
    lead_share: float | None = None,
    placement: dict[str, float] | None = None,
) -> dict[str, Any] | None:
    """What would make a finding go: fields of the `operation`, its `parameters`, its `tool` or the setup's
    `placement` to set, as plain data; None where nothing simple would. `feed` is that of its operation,
    mm/min, `lead_share` the size of its leads over the tool's diameter; without a `tool` none is changed."""
    kind, limit = finding["kind"], finding["limit"]
    if kind == "travel":
        return _travel(finding, tool, lead_share, placement)
    if kind == "standing":
        return _moved(finding, placement)
    if finding.get("offer"):
        return dict(finding["offer"])
    if kind in ("bending", "power"):
        held = held_feed(feed, finding)
        return None if held is None or held >= (feed or 0.0) else {"operation": {"feed_mm_min": held}}
    if kind in ("feed", "spindle"):
        field = "feed_mm_min" if kind == "feed" else "spindle_rpm"
        # an operation that runs slower than what was found does so elsewhere: its links or its entry
        known = limit is not None and (kind == "spindle" or (feed or 0.0) >= limit)
        return {"operation": {field: float(limit)}} if known else None
    if tool is None:
        return None
    meets = (finding.get("bodies") or [""])[0]
    if kind in ("holder", "spindle_nose") or (kind == "fixture" and meets == "holder"):
        return {"tool": {"stick_out": longer_stick_out(tool, finding)}}
    if kind in ("missing", "short") and limit and limit > tool.stick_out:
        return {"tool": {"stick_out": round(limit + SPARE_MM, 1)}}
    if kind in ("shank", "rapid"):
        slim = slimmer_shank(tool)
        return None if slim is None else {"tool": {"shank_diameter": slim}}
    return None


def _travel(
    finding: FindingData, tool: Assembly | None, lead_share: float | None, placement: dict[str, float] | None
) -> dict[str, Any] | None:
    """What brings a joint back into its travel: shorter leads where these do it alone, else another place of
    the work on the table."""
    beyond = abs(finding["measure"] - finding["limit"])
    if tool is not None and lead_share is not None and lead_share > LEAD_SHARE:
        if beyond <= (lead_share - LEAD_SHARE) * tool.diameter:
            return {"parameters": {"lead_share": LEAD_SHARE}}
    return _moved(finding, placement)


def _moved(finding: FindingData, placement: dict[str, float] | None) -> dict[str, Any] | None:
    """Another place of the work on the table."""
    by = (finding.get("offer") or {}).get("placement_by")
    if not by or placement is None:
        return None
    moved = {axis: round(placement[axis] + way, 3) for axis, way in by.items()}
    return None if moved.get("z", 0.0) < 0.0 else {"placement": moved}
