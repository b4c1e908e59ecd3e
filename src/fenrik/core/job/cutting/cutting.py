"""The stock of a setup cut with the motion that a program's text means."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.job.cutting.kept import KeptCuts
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posting import Posted
from fenrik.core.job.setups.raw import proof_cell
from fenrik.core.progress import SILENT, Progress
from fenrik.core.proof.simulate import Simulated, simulate
from fenrik.core.stock.dexels import Stock

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Cutting:
    """What cutting a posted program gave: every step's result with the last stock, where the steps are kept, the stock
    before the first, and (n,) s for every move how long it takes and when it begins."""

    done: Simulated
    keep: KeptCuts
    stock: Stock
    times: Floats
    begin: Floats


def cut_stock(paths: Paths, posted: Posted, progress: Progress = SILENT) -> Cutting:
    """The stock of the posted program's setup cut with its motion, step by step, each kept."""
    motion, step_of, setup = posted.checked(), posted.comparison.step_of, posted.setup
    clamped, material = paths.setups.clamped(setup), paths.setups.material(setup)
    tools = {t.number: t for t in paths.job.tools}
    names = [o.name for o in posted.operations]
    times, begin = posted.times, posted.begin
    cell = proof_cell(clamped, paths.job.proof.cell_mm)
    progress.step(0.0, "cutting the stock")
    keep = KeptCuts(paths.store, clamped, cell, motion, step_of, names, times, tools, material)
    stock = paths.setups.raw_dexels(setup, cell, progress.part(0.0, 0.2))
    keep.put_raw(stock)
    done = simulate(motion, step_of, names, tools, stock, begin, times, material, progress, keep)
    return Cutting(done, keep, stock, times, begin)
