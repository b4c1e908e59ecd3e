"""Moves with a tilted and turning axis: their cost against one finishing move, and the error of what they
leave."""

from __future__ import annotations

import math
import time
from collections.abc import Iterator

import numba
import numpy as np
import yaml
from tests.conftest import ROOT
from tests.oracles import cut_ends, sweep_errors

from bench.removal import CELL, HIGH, LOW, finishing, roughed, shape, tool
from bench.timing import Row, best_of_each
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.programs.posting import post
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.proof.simulate import strokes_of
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.tooling.assembly import Assembly

BALL = tool("ball", 10)


def corner() -> Assembly:
    """A 10 mm mill with a corner radius of 1 mm."""
    return Assembly(**(tool("flat", 10).model_dump() | {"kind": "corner", "corner_radius": 1.0}))


def turning(count: int, cutter: Assembly) -> np.ndarray:
    """Moves of 1 mm that turn by 2°, leaning up to 25°, their lowest spot 0.2 mm in the wavy surface's
    stock."""
    x = np.tile(np.linspace(5.0, 95.0, 91), count // 90 + 1)[: count + 1]
    y = 5.0 + (np.arange(count + 1) // 91) * 2.0
    lean = np.radians(25.0) * np.sin(np.radians(2.0) / np.radians(25.0) * np.arange(count + 1))
    axis = np.column_stack([np.sin(lean), np.zeros(count + 1), np.cos(lean)])
    corner, flat = cutter.corner_radius, cutter.radius - cutter.corner_radius
    low = np.column_stack([np.cos(lean), np.zeros(count + 1), -np.sin(lean)]) * np.sign(lean)[:, None]
    spot = np.column_stack([x, y, shape(x, y) + 0.3])  # the stock stands 0.5 mm over the surface
    middle = spot - flat * low + np.array([0.0, 0.0, corner])
    ends = np.hstack([middle - corner * axis, axis])
    good = np.diff(x) > 0
    return np.hstack([ends[:-1], ends[1:]])[good]


def errors(cutter: Assembly, moves: np.ndarray, seed: int) -> np.ndarray:
    """Signed error mm of the ends that single moves cut into a block: above 0 too much was taken."""
    rng = np.random.default_rng(seed)
    found = []
    for move in moves[rng.choice(len(moves), 6, replace=False)]:
        low = np.floor(move[[0, 1, 2]] - 9.0)
        stock = Stock.of_box(low, low + np.array([18.0, 18.0, 12.0]), CELL)
        stock.cut(move[None, :], tool_bodies(cutter), np.array([False]))
        found.append(sweep_errors(cutter, move, cut_ends(stock)))
    return np.concatenate(found)


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    threads = numba.get_num_threads()
    numba.set_num_threads(1)
    base = Stock.of_box(LOW, HIGH, CELL)
    base.cut(roughed(), tool_bodies(tool("ball", 10)), np.zeros(len(roughed()), dtype=np.bool_))
    fine = finishing()[60_000:80_000]
    still = np.zeros(len(fine), dtype=np.bool_)
    for name, cutter, most in (("ball 10", BALL, 15.0), ("corner radius 10 R1", corner(), 40.0)):
        moves = turning(1800, cutter)
        rapid = np.zeros(len(moves), dtype=np.bool_)
        turned, one = best_of_each(
            [
                (lambda s, m=moves, c=cutter, r=rapid: s.cut(m, tool_bodies(c), r), base.copy),
                (lambda s: s.cut(fine, tool_bodies(tool("ball", 6)), still), base.copy),
            ],
            5,
            time.process_time,
        )
        turned, one = turned / len(moves), one / len(fine)
        what = f"a move of 1 mm turning by 2°, {name}"
        yield Row(what, f"{1e6 * turned:.0f} µs", f"{1e6 * one:.0f} µs finishing", turned / one, most=most)
        off = errors(cutter, moves, 3)
        late, most_off = float(np.quantile(np.abs(off), 0.999)), float(off.max())
        yield Row(
            "the same: error of its surface, p99.9", f"{1000 * late:.2f} µm", "10 µm", late / 0.01, most=1.0
        )
        yield Row(
            "the same: overcut at most", f"{1000 * most_off:.2f} µm", "5 µm", most_off / 0.005, most=1.0
        )
    yield from wall(fine)
    yield from fixed()
    numba.set_num_threads(threads)


def wall(fine: np.ndarray) -> Iterator[Row]:
    """The example's wall by the side of the tool, as its program means it, against as many upright finishing
    moves."""
    document = yaml.safe_load((ROOT / "examples" / "guide_vane.yaml").read_text("utf-8"))
    rough, finish = document["setups"][0]["operations"]
    still = np.zeros(len(fine), dtype=np.bool_)
    for kind, corner_radius, most in (("ball", 6.0, 15.0), ("corner", 1.0, 40.0)):
        document["tools"][1] |= {"kind": kind, "corner_radius": corner_radius}
        document["setups"][0]["operations"] = [rough, finish]
        paths = open_job(job_from_data(document), ROOT / "examples", MemoryStore())
        setup, posted = paths.job.setups[0], post(paths, paths.job.releases[0])
        strokes = [
            strokes_of(
                posted.motion.rows(np.flatnonzero(posted.comparison.step_of == n)),
                posted.run(paths.job.tools).tools,
            )
            for n in range(2)
        ]
        stock = paths.setups.raw_dexels(setup, CELL)
        for stroke in strokes[0]:
            stock.cut(stroke.pieces, tool_bodies(stroke.tool), np.zeros(len(stroke.pieces), dtype=np.bool_))
        pieces = np.concatenate([s.pieces for s in strokes[1] if s.pieces.shape[1] == 12])
        bodies, rapid = tool_bodies(paths.job.tool(4)), np.zeros(len(pieces), dtype=np.bool_)
        base = Stock.of_box(LOW, HIGH, CELL)
        base.cut(roughed(), tool_bodies(tool("ball", 10)), np.zeros(len(roughed()), dtype=np.bool_))
        turned, one = best_of_each(
            [
                (lambda s, p=pieces, b=bodies, r=rapid: s.cut(p, b, r), stock.copy),
                (lambda s: s.cut(fine, tool_bodies(tool("ball", 6)), still), base.copy),
            ],
            5,
            time.process_time,
        )
        turned, one = turned / len(pieces), one / len(fine)
        what = f"a piece of the vane's wall, {kind} 12, of {len(pieces)}"
        yield Row(what, f"{1e6 * turned:.0f} µs", f"{1e6 * one:.0f} µs finishing", turned / one, most=most)


def fixed() -> Iterator[Row]:
    """The error of what straight moves with a fixed axis leave, upright and leaning by 30°."""
    lines = np.array(
        [[30.0, 40, 20, 36, 45, 18], [50.0, 30, 25, 58, 33, 25], [20.0, 60, 22, 20.1, 60.05, 21.98]]
    )
    for lean in (0.0, 30.0):
        axis = np.array([math.sin(math.radians(lean)), 0.0, math.cos(math.radians(lean))])
        for name, cutter in (("ball", BALL), ("corner radius", corner()), ("flat", tool("flat", 10))):
            found = []
            for line in lines:
                low = np.floor(line[:3] - 12.0)
                stock = Stock.of_box(low, low + np.array([40.0, 30.0, 14.0]), CELL)
                move = np.concatenate([line[:3], axis, line[3:], axis])
                stock.cut((line if lean == 0.0 else move)[None, :], tool_bodies(cutter), np.array([False]))
                found.append(sweep_errors(cutter, move, cut_ends(stock)))
            late = float(np.quantile(np.abs(np.concatenate(found)), 0.999))
            words = "upright" if lean == 0.0 else f"leaning by {lean:.0f}°"
            what = f"error of the surface, axis {words}, {name} 10, p99.9"
            yield Row(what, f"{1000 * late:.3f} µm", "0.1 µm", late / 1e-4, most=1.0)
