"""What a proof says in numbers, as plain values: load of an operation, deviation, what is left."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Literal

Why = Literal["held", "hidden", "narrow", "unfinished"]
"""Why stock is left: what holds the stock keeps the tools off, no tool sees it, those that were used do not
reach it, or nothing took it off."""


@dataclass(frozen=True)
class LoadFacts:
    """The load of one operation in numbers: time in cut and in air, and of what cuts the length, the
    engagement that half and 95 % of it stay under, and the greatest of the rest; None where nothing cuts."""

    time_in_cut_s: float
    time_in_air_s: float
    length_in_cut_mm: float | None = None
    engagement_p50_deg: float | None = None
    engagement_p95_deg: float | None = None
    engagement_max_deg: float | None = None
    depth_max_mm: float | None = None
    rate_max_cm3_min: float | None = None
    chip_max_mm: float | None = None
    force_max_n: float | None = None
    power_max_kw: float | None = None
    bending_max_mm: float | None = None

    def known(self) -> dict[str, float]:
        """As plain data, without what is None."""
        return {name: value for name, value in asdict(self).items() if value is not None}


Reached = Literal["tools", "held", "smallest", "narrow", "hidden"]
"""What gets to a place of the design: the program's tools, those but for the fixture, only the smallest of
the shelf, none of them though it is seen, or none since it is not seen."""


@dataclass(frozen=True)
class Worst:
    """A place (x, y, z) beyond the tolerance, how far off it is and on which face; `reached` by what."""

    place: tuple[float, float, float]
    deviation_mm: float
    face: int
    reached: Reached = "tools"


@dataclass(frozen=True)
class FaceDeviation:
    """The worst overcut and leftover of a face, and the share of its measured area on size."""

    face: int
    overcut_mm: float
    leftover_mm: float
    share_on_size: float


@dataclass(frozen=True)
class Histogram:
    """Area by deviation; one more edge than areas."""

    edges_mm: list[float]
    area_mm2: list[float]


@dataclass(frozen=True)
class DeviationFacts:
    """A deviation in numbers; shares are of the design's area (on size) and of the measured one."""

    tolerance_mm: float
    max_overcut_mm: float
    max_leftover_mm: float
    share_within_tolerance: float
    share_leftover: float
    share_overcut: float
    histogram: Histogram
    cell_mm: float
    by_face: list[FaceDeviation]
    worst: list[Worst]


@dataclass(frozen=True)
class Leftover:
    """What is left for one reason: its share of the design, the most of it mm, and the faces that have it,
    the largest area first; of what is narrow `smaller`, the share that the smallest cutter of the shelf
    touches; of what is held `more_mm`, how much farther off the fixture would have to be."""

    why: Why
    share: float
    most_mm: float
    faces: list[int]
    smaller: float = 0.0
    more_mm: float = 0.0


@dataclass(frozen=True)
class Left:
    """The share of the design in reach of the tools that is on size, and what is left of the whole;
    `share_of_smallest` is the same for the tools and the `smallest` cutter of the shelf, mm."""

    share_of_reachable: float
    share_of_smallest: float
    smallest_mm: float
    left: list[Leftover]


@dataclass(frozen=True)
class ProofDeviation(DeviationFacts, Left):
    """What a proof tells of the cut surface: its deviation, and what is left."""
