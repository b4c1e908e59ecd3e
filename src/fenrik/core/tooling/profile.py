"""The underside of a cutter as a body of revolution: flat, arc, cone, and the arc of the rim.

Every milling cutter and drill, seen from above, is one of these (the generalized cutter of APT and ISO 3592
without its concave forms): flat end mill (flat only), ball (arc only), corner radius (flat and arc), tapered
cutters (an arc that ends where the cone begins), chamfer cutters and drills (flat or point, and cone).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.tooling._profile_kernels import underside

NO_CONE = 0.5 * math.pi
Shape = tuple[float, float, float, float, float, float, float, float, float, float]


@dataclass(frozen=True)
class Profile:
    """A cutter's underside: largest radius `radius` R and corner radius `corner` r (0 <= r <= R), mm.

    `steepness` rad is the cone's angle to the horizontal (π/2: none, the corner runs out into the side),
    `flat` the radius of the flat bottom (by itself R - r; to be given for a cone) and `rim` the radius of the
    arc in which a cone ends at R. Heights are over the tip.
    """

    radius: float
    corner: float
    steepness: float = NO_CONE
    flat: float = -1.0
    rim: float = 0.0

    def __post_init__(self) -> None:
        if not self.tapered:
            object.__setattr__(self, "flat", self.radius - self.corner)
        if not (self.radius > 0 and self.corner >= 0 and self.flat >= -1e-9 * self.radius):
            raise ValueError(
                f"expected 0 <= corner <= radius, got corner {self.corner}, radius {self.radius}"
            )
        if not 0 < self.steepness <= NO_CONE or self.cone_start > self.cone_end + 1e-9:
            raise ValueError(
                f"a flat of {self.flat} mm and a corner of {self.corner} mm leave no room for a cone"
                f" under a radius of {self.radius} mm"
            )

    @property
    def tapered(self) -> bool:
        """Whether there is a cone."""
        return self.steepness < NO_CONE - 1e-12

    @property
    def cone_start(self) -> float:
        """Radius at which the cone begins."""
        return self.flat + self.corner * math.sin(self.steepness) if self.tapered else self.radius

    @property
    def cone_end(self) -> float:
        """Radius at which the cone ends."""
        return self.radius - self.rim * (1.0 - math.sin(self.steepness)) if self.tapered else self.radius

    @property
    def shape(self) -> Shape:
        """For kernels: radius, flat, corner, tangent of the cone, radius and height at which the cone begins,
        radius of the rim arc's centre, its radius, where the cone ends, and the height of the rim arc's
        centre."""
        sine, cosine = math.sin(self.steepness), math.cos(self.steepness)
        start = self.cone_start
        if not self.tapered:
            return (
                self.radius,
                self.flat,
                self.corner,
                0.0,
                start,
                self.corner,
                self.radius,
                0.0,
                self.radius,
                self.corner,
            )
        tan = sine / cosine
        low = self.corner * (1.0 - cosine)
        middle = low + tan * (self.cone_end - start) + self.rim * cosine
        return (
            self.radius,
            self.flat,
            self.corner,
            tan,
            start,
            low,
            self.radius - self.rim,
            self.rim,
            self.cone_end,
            middle,
        )

    @property
    def floor_radius(self) -> float:
        """Half the width that one pass leaves even but for a low ridge; at least half the radius without a
        cone."""
        if self.tapered:
            return max(0.1 * self.radius, self.flat + 0.7 * self.corner)
        return max(0.5 * self.radius, self.radius - 0.3 * self.corner)

    def reached_up_to(self, heights: NDArray[np.float64]) -> NDArray[np.float64]:
        """Greatest radius (n,) mm of the cutter up to heights (n,) mm over its tip."""
        away = np.linspace(0.0, self.radius, 400)
        up = np.array([self.height(d) for d in away])
        up = np.maximum.accumulate(up) + 1e-12 * np.arange(len(up))
        return np.asarray(np.interp(heights, up, away))

    def height(self, distance: float) -> float:
        """Height mm of the underside over the tip at a distance mm from the axis (at most the radius)."""
        return float(underside(float(min(distance, self.radius)), self.shape))

    def grown(self, by: float) -> Profile:
        """The cutter enlarged by `by` mm on all sides (its tip then lies `by` deeper); a negative `by`
        shrinks it."""
        if not self.tapered:
            return Profile(self.radius + by, self.corner + by)
        if self.corner + by < 0:
            raise ValueError(f"a {self.corner} mm corner on a cone cannot be shrunk by {-by} mm")
        return Profile(self.radius + by, self.corner + by, self.steepness, self.flat, max(0.0, self.rim + by))
