"""The heights of an operation in its side's frame."""

from __future__ import annotations

import math

from fenrik.core.errors import DocumentError
from fenrik.core.job.document.job import Height, OperationDoc
from fenrik.core.setups.setup import Clamped
from fenrik.core.strategies.base import Heights

ROOM_MM = 5.0
"""How far over the fixture a proposed way from place to place goes (common practice, no source)."""


def over_fixture(operation: OperationDoc, clamped: Clamped) -> OperationDoc:
    """The operation, its clearance raised where the fixture, as its side sees it, stands higher."""
    if clamped.keep_clear is None:
        return operation
    held = float(clamped.keep_clear.vertices[:, 2].max() - clamped.stock_high[2]) + ROOM_MM
    height = operation.heights.clearance
    if height.over != "stock_top" or height.offset >= held:
        return operation
    raised = height.model_copy(update={"offset": float(math.ceil(held))})
    heights = operation.heights.model_copy(update={"clearance": raised})
    return operation.model_copy(update={"heights": heights})


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
            f"The clearance height Z {clearance:.3f} is not above the stock, whose top is Z "
            f"{clamped.stock_high[2]:.3f}.",
            remedy="Raise the clearance height.",
            where=f"{where}.heights.clearance",
        )
    if clamped.keep_clear is not None:
        held = float(clamped.keep_clear.vertices[:, 2].max())
        if clearance <= held:
            raise DocumentError(
                f"The clearance height Z {clearance:.3f} is not above the fixture, whose top is Z "
                f"{held:.3f} with its room.",
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
