"""Whether what holds the stock stands on the table: neither over it nor in it."""

from __future__ import annotations

from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.proof.finding import Finding

TOUCH_MM = 0.01


def standing_findings(fixture: TriangleMesh, height: float, named: str | None) -> list[Finding]:
    """A *stop* for a fixture (setup frame) that goes into the table, whose top lies `height` mm under program
    zero, and a caution for one by a name that hangs over it. Pieces without a fixture's name stand on what is
    not drawn."""
    lowest = fixture.vertices[fixture.vertices[:, 2].argmin()]
    over = float(lowest[2]) + height
    x, y, z = (float(v) for v in lowest)
    what = f"'{named}'" if named else "What holds the stock"
    if over < -TOUCH_MM:
        return [
            Finding(
                "stop",
                "standing",
                f"{what} goes {-over:.2f} mm into the table at ({x:.2f}, {y:.2f}, {z:.2f}).",
                "Set the work higher.",
                place=(x, y, z),
                measure=-over,
                bodies=("fixture", "table"),
                offer={"placement_by": {"z": -over}},
            )
        ]
    if over > TOUCH_MM and named:
        return [
            Finding(
                "caution",
                "standing",
                f"{what} hangs {over:.2f} mm over the table: nothing carries it.",
                "Measure the gap and take it out, or draw what it stands on.",
                place=(x, y, z),
                measure=over,
                bodies=("fixture", "table"),
                offer={"placement_by": {"z": -over}},
            )
        ]
    return []
