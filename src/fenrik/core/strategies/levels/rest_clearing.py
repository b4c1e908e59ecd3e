"""Rest clearing: what earlier tools left, and nothing else.

The stock comes from the operations before. At every level only what stands higher and is thicker in plan view
than the skin that the allowances of the earlier operations leave is cut, at a bounded engagement; the way in
between is linked over cleared ground or over the stock.
"""

from __future__ import annotations

import math

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.ndimage import binary_dilation, binary_opening
from shapely.geometry.base import BaseGeometry

from fenrik.core.motion.moves import Motion
from fenrik.core.motion.notes import ThroughAir
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import Progress
from fenrik.core.strategies.base import CLEARING, Example, Inputs, Strategy, fact
from fenrik.core.strategies.levels.bounded_clearing import BoundedClearing, ClearingRun
from fenrik.core.tooling.assembly import Assembly


class RestClearing(BoundedClearing):
    """What rest clearing can be told. Lengths mm."""

    thinnest: float = fact(
        0.5,
        "Rests thinner than this in plan view are left to finishing.",
        unit="mm",
        gt=0,
        le=50,
        reason="a little more than the allowance before",
        title="Thinnest leftover",
    )
    air_share: float = fact(
        0.25,
        "Greatest share of its cutting moves' length that may go through air.",
        ge=0.02,
        le=0.9,
        group="rest",
        title="Share in air",
    )


def compute(inputs: Inputs, progress: Progress) -> Toolpath:
    """The path over the rests in the setup frame. Raises Cancelled."""
    return _RestRun(inputs, progress).run()


class _RestRun(ClearingRun):
    p: RestClearing

    def __init__(self, inputs: Inputs, progress: Progress) -> None:
        super().__init__(inputs, progress)
        self.gap = min(self.gap, self.p.air_share)

    def _nothing(self, levels: list[float]) -> None:
        """Earlier tools may have left nothing that is thick enough."""

    def _over(self, level: float, area: BaseGeometry) -> NDArray[np.bool_]:
        """Cells over the level that the tool can cut, in rests that are thick enough, whole."""
        stock = self.stock
        over = super()._over(level, area)
        # cells on the border are walls' and count as thick: leave out those that are not wholly within reach
        within = area.buffer(self.radius - stock.half_diagonal)
        shapely.prepare(within)
        j, i = np.nonzero(over)
        x, y = stock.x0 + (i + 0.5) * stock.cell, stock.y0 + (j + 0.5) * stock.cell
        over[j, i] = shapely.contains_xy(within, x, y)
        cells = max(1, math.ceil(self.p.thinnest / stock.cell))
        size = np.ones((cells, cells), dtype=np.bool_)
        thick = binary_opening(np.pad(over, cells), size)[cells:-cells, cells:-cells]
        return np.asarray(over & binary_dilation(thick, iterations=2))

    def run(self) -> Toolpath:
        path = super().run()
        self._note_air(path)
        return path

    def _note_air(self, path: Toolpath) -> None:
        """The share of the cutting moves that the strategy knows to go through air, held against what was
        asked."""
        lengths = path.moves.lengths()
        fed = float(lengths[path.kind == Motion.FEED].sum())
        if fed <= 0 or not self.engaged:
            return
        rows = np.concatenate(self.engaged)
        share = float(rows[rows[:, 1] <= 0, 0].sum()) / fed
        path.notes.append(ThroughAir(round(share, 4), self.p.air_share))


def proposals(assembly: Assembly, data: dict[str, float]) -> dict[str, tuple[float, str]]:
    """Shallower than clearing of the bulk: the rests stand beside walls."""
    down = min(0.8 * assembly.flute_length, 0.5 * assembly.diameter)
    return {
        "stepover": (0.25 * assembly.diameter, "25 % of the diameter (common practice, no source)"),
        "step_down": (
            down,
            "half the diameter, not more than 80 % of the flutes (common practice, no source)",
        ),
        "step_up": (down / 2, "half the step down"),
        "link_feed": (data["link_feed_mm_min"], "three times the feed, held to the machine's"),
    }


STRATEGY = Strategy(
    "rest_clearing",
    "Rest clearing",
    "Clears only what earlier, larger tools have left.",
    RestClearing,
    compute,
    proposals,
    CLEARING,
    goes_around=True,
    example=Example({"step_down": 10.0, "step_up": 10.0, "stepover": 3.0}),
)
