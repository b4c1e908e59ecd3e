"""The stock of a setup cut with the motion that a program's text means."""

from __future__ import annotations

from dataclasses import dataclass

from fenrik.core.job.cutting.kept import KeptCuts
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.setups.raw import proof_cell
from fenrik.core.machines.solids import nose_of
from fenrik.core.progress import SILENT, Progress
from fenrik.core.proof.run import Run
from fenrik.core.proof.simulate import Simulated, simulate
from fenrik.core.stock.dexels import Stock


@dataclass(frozen=True)
class Cutting:
    """What cutting a posted program gave: the `run` that cut, every step's result with the last stock, where
    the steps are kept, and the stock before the first."""

    run: Run
    done: Simulated
    keep: KeptCuts
    stock: Stock


def cut_stock(paths: Paths, posted: Posted, progress: Progress = SILENT) -> Cutting:
    """The stock of the posted program's setup cut with its motion, step by step, each kept."""
    setup, setups = posted.setup, paths.setups
    clamped, material = setups.clamped(setup), setups.material(setup)
    cell = proof_cell(clamped, paths.job.proof.cell_mm)
    progress.step(0.0, "cutting the stock")
    run = posted.run(paths.job.tools)
    nose = nose_of(setups.machine(setup))
    keep = KeptCuts(paths.store, clamped, cell, run, material, nose)
    stock = setups.raw_dexels(setup, cell, progress.stage(0.0, 0.2))
    keep.put_raw(stock)
    return Cutting(run, simulate(run, stock, material, progress, keep, nose), keep, stock)
