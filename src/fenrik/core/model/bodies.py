"""The bodies of a file that holds several, to choose from."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass

from fenrik.core.errors import FileError

NAMED = 12
"""Bodies that a message lists; the page lists all."""


@dataclass(frozen=True)
class Body:
    """One body: its number in the file from 1, its size along X, Y, Z and its lowest corner, mm, as the file
    places it."""

    number: int
    size: list[float]
    low: list[float]

    def words(self) -> str:
        """The body in a few words."""
        size = " x ".join(f"{v:.4g}" for v in self.size)
        return f"{self.number}: {size} mm at ({', '.join(f'{v + 0.0:.4g}' for v in self.low)})"


def body(number: int, low: Sequence[float], high: Sequence[float], scale: float) -> Body:
    """A body from the corners of its box, all lengths multiplied."""
    size = [scale * (b - a) for a, b in zip(low, high, strict=True)]
    return Body(number, size, [scale * v for v in low])


def chosen(name: str, bodies: list[Body], solid: int | None, noun: str) -> int:
    """The number of the body to take: the one asked for, or the only one. Raises FileError that lists all
    bodies, and offers them as `solids`."""
    count = len(bodies)
    if solid is None and count > 1:
        listing = "; ".join(b.words() for b in bodies[:NAMED]) + ("; ..." if count > NAMED else "")
        raise FileError(
            f"The file '{name}' holds {count} {noun} ({listing}).",
            remedy=f"Choose one: set part.solid to a number from 1 to {count}.",
            offer={"solids": [asdict(b) for b in bodies]},
        )
    number = solid or 1
    if not 1 <= number <= count:
        raise FileError(
            f"Solid {number} does not exist in '{name}'.",
            remedy=f"Choose a solid from 1 to {count}.",
            offer={"solids": [asdict(b) for b in bodies]} if count > 1 else None,
        )
    return number
