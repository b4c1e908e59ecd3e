"""An assembly: a cutter in a holder with its stick-out, as it sits in the magazine."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from pydantic import Field, model_validator
from pydantic_core import PydanticCustomError

from fenrik.core.strict import Strict
from fenrik.core.tooling.profile import Profile

Kind = Literal[
    "flat",
    "ball",
    "corner",
    "taper",
    "taper_ball",
    "chamfer",
    "drill",
    "reamer",
    "boring",
    "tap",
    "thread_mill",
    "lollipop",
    "t_slot",
]
Length = Annotated[float, Field(gt=0, le=2000)]
CONED = ("taper", "taper_ball", "chamfer", "drill")
UNDERCUTTING = ("lollipop", "t_slot", "thread_mill")
"""Kinds whose shank is a neck over a wider head."""
POINTED = ("drill", "reamer", "boring", "tap")
"""Kinds that cut with their points: they go down into solid stock, and nothing bends them to the side."""
THREADING = ("tap", "thread_mill")
TOOTH_HEIGHT = 0.6
"""Of a thread mill's teeth over the pitch: 5/8 H = 0.541 P of an internal thread (ISO 68-1) and some
clearance."""
TOOTH_TIP = 0.125
"""Width of a tooth's tip over the pitch: that of an internal thread's root, P/8 (ISO 68-1)."""
TITLES = {
    "flat": "flat end mill",
    "ball": "ball end mill",
    "corner": "corner-radius end mill",
    "taper": "tapered end mill",
    "taper_ball": "tapered ball end mill",
    "chamfer": "chamfer cutter",
    "drill": "drill",
    "reamer": "reamer",
    "boring": "boring head",
    "tap": "tap",
    "thread_mill": "thread mill",
    "lollipop": "lollipop cutter",
    "t_slot": "T-slot cutter",
}


class HolderSegment(Strict):
    """One cone or cylinder of a holder, counted from the cutter upward; lengths and diameters mm."""

    length: Length
    diameter_low: Length
    diameter_high: Length


class Assembly(Strict):
    """A milling tool ready to run. All lengths mm.

    `diameter` is the greatest cutting diameter, `stick_out` the distance from the tip to the holder's face,
    `flute_length` how far up from the tip it cuts; what is over that belongs to the shank. On a tapered
    cutter the sides lean by `taper_deg` from the axis up to the diameter, a chamfer cutter's or drill's point
    has the included angle `point_deg`; `tip_diameter` is the flat at the tip of both. A tap's diameter is its
    thread's, with `thread_pitch` and `thread_hand`; a thread mill has `thread_rows` rows of teeth, a pitch
    apart, from the tip up.
    """

    number: Annotated[int, Field(ge=1, le=9999, description="Number in the magazine.")]
    name: Annotated[str, Field(min_length=1, max_length=80)]
    kind: Kind
    diameter: Length
    corner_radius: Annotated[
        float, Field(ge=0, le=1000, description="0 for flat, half the diameter for ball.")
    ] = 0.0
    taper_deg: Annotated[
        float, Field(ge=0, lt=90, description="Angle between axis and side of a tapered cutter.")
    ] = 0.0
    point_deg: Annotated[
        float, Field(ge=0, lt=180, description="Included angle of the point of a chamfer cutter or drill.")
    ] = 0.0
    tip_diameter: Annotated[
        float, Field(ge=0, le=1000, description="Flat at the tip of a tapered or chamfer cutter.")
    ] = 0.0
    thread_pitch: Annotated[
        float | None, Field(gt=0, le=50, description="Pitch of a tap's or thread mill's teeth, mm.")
    ] = None
    thread_hand: Annotated[Literal["right", "left"], Field(description="Hand of a tap's thread.")] = "right"
    thread_rows: Annotated[
        int,
        Field(
            ge=1,
            le=100,
            description="Rows of teeth of a thread mill; 1 cuts any pitch its teeth are fit for.",
        ),
    ] = 1
    flute_length: Length
    teeth: Annotated[int, Field(ge=1, le=40)] = 3
    shank_diameter: Length
    stick_out: Length
    cutter_material: Literal["carbide", "hss"] = "carbide"
    coating: Annotated[
        Literal["uncoated", "nitride", "carbon"],
        Field(description="Class of coating: none, a metal nitride, or diamond and the like."),
    ] = "uncoated"
    rpm_max: Annotated[
        float | None, Field(gt=0, le=200000, description="Greatest speed that the tool bears, 1/min.")
    ] = None
    feed_per_tooth_max: Annotated[
        float | None, Field(gt=0, le=10, description="Greatest feed per tooth that the tool bears, mm.")
    ] = None
    holder: Annotated[list[HolderSegment], Field(min_length=1, max_length=12)]
    to_check: Annotated[
        bool,
        Field(description="Made up by a proposal: its lengths and holder are not confirmed by anybody yet."),
    ] = False

    @model_validator(mode="after")
    def _consistent(self) -> Assembly:
        self._check_corner()
        self._check_point()
        self._check_thread()
        if self.flute_length > self.stick_out:
            raise _wrong(
                f"the flute length, {self.flute_length:g}, is longer than the stick-out, {self.stick_out:g}",
                stick_out=self.flute_length,
                flute_length=self.stick_out,
            )
        tip = self.profile.height(self.radius)
        if self.flute_length < tip - 1e-9:
            raise _wrong(
                f"the flute length, {self.flute_length:g}, is shorter than the tip, which reaches the"
                f" diameter {tip:.3f} mm up (corner radius, taper or point)",
                flute_length=math.ceil(tip * 1000) / 1000,
            )
        if self.kind in UNDERCUTTING and self.shank_diameter >= self.diameter:
            raise _wrong(
                f"the shank diameter, {self.shank_diameter:g}, is no neck under a head of {self.diameter:g}",
                shank_diameter=round(self.diameter / 2, 3),
            )
        return self

    def _check_corner(self) -> None:
        half, corner, title = self.diameter / 2, self.corner_radius, TITLES[self.kind]
        said = f"the corner radius is {corner:g} on a {title}"
        if self.kind in ("flat", "chamfer", "drill", "reamer", "boring", *THREADING) and corner != 0:
            raise _wrong(
                f"{said}; set it to 0" + (" or the kind to 'corner'" if self.kind == "flat" else ""),
                corner_radius=0,
            )
        if self.kind in ("ball", "lollipop") and abs(corner - half) > 1e-9:
            raise _wrong(
                f"{said}; it must be half the diameter, {half:g}", corner_radius=half, diameter=2 * corner
            )
        if self.kind in ("corner", "taper_ball") and not 0 < corner < half:
            raise _wrong(
                f"{said}; it must be between 0 and half the diameter, {half:g}",
                corner_radius=round(half / 4, 3),
                diameter=4 * corner,
            )
        if self.kind == "t_slot" and corner >= half:
            raise _wrong(f"{said}; it must be less than half the diameter, {half:g}", corner_radius=0)

    def _check_point(self) -> None:
        leans, points = self.kind in ("taper", "taper_ball"), self.kind in ("chamfer", "drill")
        for name, value, wanted in (
            ("angle of the side", self.taper_deg, leans),
            ("point angle", self.point_deg, points),
        ):
            if wanted and value <= 0:
                raise ValueError(f"the {name} is {value:g} on a {TITLES[self.kind]}; it must be above 0°")
            if not wanted and value != 0:
                raise ValueError(f"the {name} is {value:g} on a {TITLES[self.kind]}; set it to 0")
        if self.tip_diameter and self.kind not in ("taper", "chamfer"):
            raise _wrong(
                f"the flat at the tip is {self.tip_diameter:g} on a {TITLES[self.kind]}; set it to 0",
                tip_diameter=0,
            )
        if self.kind in CONED:
            room = self.tip_diameter / 2 + self.corner_radius * math.sin(self._steepness)
            if room >= self.diameter / 2:
                raise ValueError(
                    f"the flat at the tip, {self.tip_diameter:g}, and the corner radius,"
                    f" {self.corner_radius:g}, leave no cone under a diameter of {self.diameter:g};"
                    " make them smaller"
                )

    def _check_thread(self) -> None:
        if self.kind not in THREADING:
            if self.thread_pitch is not None or self.thread_rows != 1:
                raise ValueError(
                    f"a pitch or rows of teeth are given on a {TITLES[self.kind]}; leave them out"
                )
            return
        if self.thread_pitch is None:
            raise ValueError(f"a {TITLES[self.kind]} needs its pitch")
        if self.core_radius <= 0:
            raise ValueError(f"a pitch of {self.thread_pitch:g} leaves no core in {self.diameter:g}")
        if self.kind == "tap" and self.thread_rows != 1:
            raise ValueError("rows of teeth are for thread mills; leave them out on a tap")
        if self.kind == "thread_mill":
            if self.flute_length < self.thread_rows * self.thread_pitch - 1e-9:
                raise ValueError(
                    f"the flute length, {self.flute_length:g}, is shorter than {self.thread_rows} rows of"
                    f" teeth {self.thread_pitch:g} apart"
                )
            if self.shank_diameter > 2 * self.core_radius + 1e-9:
                raise ValueError(
                    f"shank_diameter {self.shank_diameter} is thicker than the core under the teeth,"
                    f" {2 * self.core_radius:.3f}; make it thinner"
                )

    @property
    def _steepness(self) -> float:
        return math.radians(90.0 - (self.taper_deg or self.point_deg / 2))

    @property
    def radius(self) -> float:
        """Greatest cutting radius, mm."""
        return self.diameter / 2

    @property
    def core_radius(self) -> float:
        """Radius mm under a thread mill's teeth, and what a tap leaves free: that of its thread's minor
        diameter."""
        pitch = self.thread_pitch or 0.0
        height = TOOTH_HEIGHT if self.kind == "thread_mill" else 0.625 * math.sqrt(3.0) / 2.0
        return self.radius - height * pitch

    @property
    def profile(self) -> Profile:
        """The underside, as seen from above."""
        if self.kind in CONED:
            return Profile(self.radius, self.corner_radius, self._steepness, self.tip_diameter / 2)
        return Profile(self.radius, self.corner_radius)

    @property
    def cleared(self) -> Profile:
        """The part of the underside over which the tool surely leaves nothing: all of it, but under a neck
        only that."""
        if self.kind == "tap":
            return Profile(self.core_radius, 0.0)
        if self.kind in UNDERCUTTING:
            return Profile(self.shank_diameter / 2, 0.0)
        return self.profile

    @property
    def gauge_length(self) -> float:
        """Tip to the top of the holder, which is the spindle's gauge line, mm."""
        return self.stick_out + sum(s.length for s in self.holder)

    def facts(self) -> dict[str, object]:
        """The tool as the release's tools.json lists it, mm."""
        return {
            "number": self.number,
            "name": self.name,
            "kind": self.kind,
            "diameter": self.diameter,
            "corner_radius": self.corner_radius,
            "taper_deg": self.taper_deg,
            "point_deg": self.point_deg,
            "tip_diameter": self.tip_diameter,
            "thread_pitch": self.thread_pitch,
            "thread_hand": self.thread_hand if self.kind == "tap" else None,
            "thread_rows": self.thread_rows if self.kind == "thread_mill" else None,
            "flute_length": self.flute_length,
            "shank_diameter": self.shank_diameter,
            "stick_out": self.stick_out,
            "gauge_length": self.gauge_length,
            "teeth": self.teeth,
            "coating": self.coating,
            "holder": [s.model_dump() for s in self.holder],
        }


def _wrong(words: str, **instead: float) -> PydanticCustomError:
    """Dimensions that do not go together, in words, and for each of some the value with which they would; a
    diameter of nothing is none."""
    fitting = {name: value for name, value in instead.items() if value > 0 or name != "diameter"}
    return PydanticCustomError("together", "{words}", {"words": words, "set": fitting})
