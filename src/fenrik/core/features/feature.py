"""What a feature of a part is: its kind, its faces, its sizes, in words and as bytes."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from typing import Any, Literal

Kind = Literal[
    "top",
    "pocket",
    "open pocket",
    "slot",
    "open slot",
    "through pocket",
    "boss",
    "outside",
    "chamfer",
    "fillet",
]


@dataclass(frozen=True)
class Feature:
    """A feature in the part frame. `axis` (3,) points to where a tool comes from; `faces` are all its own,
    `floor` is its floor or top (0: none), `walls` those that bound it, `islands` the walls of what stands in
    it. `depth` mm from the highest wall's end to the floor; `length` and `width` mm of the smallest rectangle
    around it, `radius` the smallest of its inner corners or that of a round boss (0: none)."""

    kind: Kind
    axis: list[float]
    floor: int
    walls: list[int]
    islands: list[list[int]]
    depth: float
    length: float
    width: float
    radius: float

    @property
    def faces(self) -> list[int]:
        """Ids of all its faces."""
        inside = [f for island in self.islands for f in island]
        return sorted({*([self.floor] if self.floor else []), *self.walls, *inside})

    def words(self) -> str:
        """The feature in a few words."""
        size = f"{_mm(self.length)} x {_mm(self.width)}"
        deep = f", {_mm(self.depth)} deep"
        corner = f", corners R{_mm(self.radius)}" if self.radius else ""
        within = f", {len(self.islands)} island{'s' if len(self.islands) > 1 else ''}" if self.islands else ""
        if self.kind == "boss":
            shape = f"Ø{_mm(2 * self.radius)}" if self.radius else size
            return f"boss {shape}, {_mm(self.depth)} high"
        if self.kind == "chamfer":
            return f"chamfer {_mm(self.width)} wide"
        if self.kind == "fillet":
            return f"fillet R{_mm(self.radius)}"
        if self.kind == "top":
            return f"top face {size}"
        if self.kind == "outside":
            return f"outside {size}, {_mm(self.depth)} high{corner}"
        if self.kind == "through pocket":
            return f"pocket {size}, through{corner}"
        return f"{self.kind} {size}{deep}{corner}{within}"

    def facts(self) -> dict[str, Any]:
        """As plain data."""
        return asdict(self) | {"faces": self.faces, "words": self.words()}

    @property
    def likeness(self) -> tuple[Any, ...]:
        """Equal for features that are made alike."""
        sizes = (self.depth, self.length, self.width, self.radius)
        return (
            self.kind,
            *(round(a, 5) for a in self.axis),
            *(round(s, 1) for s in sizes),
            len(self.islands),
        )


def _mm(value: float) -> str:
    return f"{value:.2f}".rstrip("0").rstrip(".")


def features_to_bytes(features: list[Feature]) -> bytes:
    """As JSON."""
    return json.dumps([asdict(f) for f in features]).encode()


def features_from_bytes(blob: bytes) -> list[Feature]:
    """The inverse of `features_to_bytes`."""
    return [Feature(**f) for f in json.loads(blob)]


def features_alike(features: list[Feature]) -> list[list[Feature]]:
    """Features in groups that are made alike, in their order."""
    groups: dict[tuple[Any, ...], list[Feature]] = {}
    for feature in features:
        groups.setdefault(feature.likeness, []).append(feature)
    return list(groups.values())
