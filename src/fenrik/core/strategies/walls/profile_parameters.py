"""What a profile can be told."""

from __future__ import annotations

from typing import Literal

from fenrik.core.strategies.base import Parameters, fact
from fenrik.core.strategies.kit.correcting import Correction, correction_fact


class Profile(Parameters):
    """What a profile can be told. Lengths mm."""

    step_down: float | None = fact(
        None,
        "Greatest depth of a level, or of a turn.",
        unit="mm",
        gt=0,
        le=500,
        reason="from material and tool",
    )
    depth: Literal["levels", "ramp"] = fact(
        "levels",
        "Level by level, or down along closed contours with a level turn at the end.",
        title="Descent",
    )
    passes: int = fact(1, "Passes side by side, the last one at the wall.", ge=1, le=50)
    stepover: float | None = fact(
        None,
        "Distance of the passes.",
        unit="mm",
        gt=0,
        le=200,
        reason="40 % of the diameter",
        shown_when={"passes": list(range(2, 51))},
    )
    allowance_radial: float = fact(
        0.0, "Left on the walls.", unit="mm", ge=-5, le=20, title="Radial allowance"
    )
    allowance_axial: float = fact(0.0, "Left under the tip.", unit="mm", ge=0, le=20, title="Axial allowance")
    below: float = fact(
        0.0, "How far the tip goes below the walls' lower end.", unit="mm", ge=0, le=50, title="Depth below"
    )
    last_at_depth: bool = fact(
        False, "The pass at the wall only at full depth.", group="rest", title="Final pass at full depth"
    )
    spring_passes: int = fact(0, "Times that the last pass is driven again.", ge=0, le=10)
    direction: Literal["climb", "conventional"] = fact("climb", "Which way the teeth meet the material.")
    lead: Literal["arc", "line", "none"] = fact("arc", "How the tool comes to the wall and leaves it.")
    lead_share: float = fact(
        0.3,
        "Radius of the arc, or length of the line.",
        unit="diameters",
        gt=0,
        le=5,
        group="rest",
        title="Lead length",
    )
    correction: Correction = correction_fact()
    overlap: float = fact(
        1.0,
        "How far a closed contour is driven beyond its beginning, and a rest beyond its ends.",
        unit="mm",
        ge=0,
        le=200,
        group="rest",
    )
    extension: float = fact(
        0.0,
        "By how much the ends of an open contour are driven on.",
        unit="diameters",
        ge=0,
        le=5,
        group="rest",
        title="Extend open ends",
    )
    piece_from_x: float | None = fact(
        None,
        "Only a piece of the nearest contour, from the place nearest to this one, X.",
        unit="mm",
        group="rest",
        reason="the whole contour",
    )
    piece_from_y: float | None = fact(
        None, "The same place, Y.", unit="mm", group="rest", reason="the whole contour"
    )
    piece_to_x: float | None = fact(
        None,
        "The piece ends, as it is driven, at the place nearest to this one, X.",
        unit="mm",
        group="rest",
        reason="the whole contour",
    )
    piece_to_y: float | None = fact(
        None, "The same place, Y.", unit="mm", group="rest", reason="the whole contour"
    )
    rest_of: float | None = fact(
        None,
        "Only where a flat mill of this diameter, which went along these walls before, left something.",
        unit="mm",
        gt=0,
        le=200,
        group="rest",
        reason="the whole contour",
        title="Leftover from tool Ø",
    )
    over_steps: bool = fact(
        True,
        "Where something lower stands beside a wall and keeps the tool from its foot, along the wall over "
        "that.",
        group="rest",
        title="Over steps",
    )
    begin_x: float | None = fact(
        None,
        "Place near which a closed contour begins, X.",
        unit="mm",
        group="rest",
        reason="its longest straight",
    )
    begin_y: float | None = fact(
        None,
        "Place near which a closed contour begins, Y.",
        unit="mm",
        group="rest",
        reason="its longest straight",
    )
    tabs: int = fact(0, "Tabs left to hold the part.", ge=0, le=50)
    tab_width: float = fact(4.0, "Width of a tab.", unit="mm", gt=0, le=200, group="rest")
    tab_height: float = fact(1.0, "Height of a tab.", unit="mm", gt=0, le=50, group="rest")
