"""Random jumps on the run strip: restoring and replaying against a fresh run to the same moment, and the fine
surface."""

from __future__ import annotations

import time
from collections.abc import Iterator

import numpy as np

from bench.removal import CELL, HIGH, LOW, finishing, roughed, roughing, tool
from bench.timing import Row
from fenrik.core.proof.replay import Replay, Strokes
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.keeping import LiveStock, Snapshot

PLAN = [(tool("flat", 10), roughing()[:1600]), (tool("ball", 10), roughed()), (tool("ball", 6), finishing())]
JUMPS = 40
CPU_MS, FINE_MS = 60.0, 300.0


def proved() -> tuple[Replay, float]:
    """A program of roughing, semi-finishing and 200 000 finishing moves, as its proof leaves it; its length
    s."""
    raw = Snapshot.of(Stock.of_box(LOW, HIGH, CELL))
    live, after, steps, clock, tag = LiveStock(raw), [], [], 0.0, 0
    for number, (cutter, pieces) in enumerate(PLAN):
        live.stock.cut(pieces, tool_bodies(cutter), np.zeros(len(pieces), dtype=np.bool_), tag)
        after.append(live.snapshot())
        ends = clock + 0.01 * np.arange(1, len(pieces) + 1)
        steps.append(Strokes(pieces, ends, np.full(len(pieces), number, dtype=np.int32)))
        clock, tag = float(ends[-1]), tag + len(pieces)
    return Replay(raw, after, steps, [tool_bodies(c) for c, _ in PLAN]), clock


def fresh(replay: Replay, moment: float) -> tuple[Stock, float]:
    """The stock of a run from the beginning to a moment, and its processor time s."""
    stock, started = Stock.of_box(LOW, HIGH, CELL), time.process_time()
    upto = replay.index(moment)
    for number, bodies in enumerate(replay.bodies):
        mine = np.flatnonzero(replay.tool[:upto] == number)
        if len(mine):
            rapid = np.zeros(len(mine), dtype=np.bool_)
            stock.cut(replay.pieces[mine], bodies, rapid, int(mine[0]), measured=False)
    return stock, time.process_time() - started


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    replay, clock = proved()
    replay.surface(clock)
    for moment in np.linspace(0, clock, 40):  # as somebody does who has looked through the program once
        replay.surface(moment)
    jumps, fine = [], []
    moments = np.random.default_rng(0).uniform(0, clock, JUMPS)
    for moment in moments:
        started = time.process_time()
        replay.go_to(moment)
        jumps.append(1000 * (time.process_time() - started))
        wall = time.perf_counter()
        replay.surface(moment)
        fine.append(1000 * (time.perf_counter() - wall))
    ended = replay.ends_at[replay.index(moments[0]) - 1]
    stock, whole = fresh(replay, ended)
    middle, late = float(np.median(jumps)), float(np.quantile(jumps, 0.9))
    what = "random jump: restore and replay, CPU"
    yield Row(
        f"{what}, median of {JUMPS}",
        f"{middle:.0f} ms",
        f"{1000 * whole:.0f} ms fresh",
        middle / CPU_MS,
        most=1.0,
    )
    yield Row(f"{what}, 9 of 10 within", f"{late:.0f} ms", f"{CPU_MS:.0f} ms", late / CPU_MS, most=1.0)
    middle = float(np.median(fine))
    yield Row(
        "the same: fine surface, wall, median",
        f"{middle:.0f} ms",
        f"{FINE_MS:.0f} ms",
        middle / FINE_MS,
        most=1.0,
    )
    off = float(np.abs(np.subtract(replay.stock(ended).volumes(), stock.volumes())).max())
    yield Row("the same: volume against the fresh run, mm³ off", f"{off:g}", "0", off, most=0.0)
