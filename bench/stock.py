"""The stock against general-purpose references: swept bodies subtracted by manifold3d, exact volumes, its
surface, and signed distances by trimesh."""

from __future__ import annotations

import math
from collections.abc import Iterator

import manifold3d as m3
import numpy as np
import trimesh

from bench.cutter_location import surface as wavy
from bench.removal import CELL, HIGH, LOW, finishing, roughed, roughing, tool
from bench.timing import Row, best, best_on
from fenrik.core.model.distance import DistanceField
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.surface import surface
from fenrik.core.tooling.assembly import Assembly

FACETS = 64


def swept(cutter: Assembly, piece: np.ndarray) -> m3.Manifold:
    """The hull of the cutter at both ends of a straight move."""
    r = cutter.radius
    if cutter.kind == "ball":
        body = m3.Manifold.sphere(r, FACETS).translate([0, 0, r])
        body = m3.Manifold.batch_hull([body, m3.Manifold.cylinder(60 - r, r, r, FACETS).translate([0, 0, r])])
    else:
        body = m3.Manifold.cylinder(60, r, r, FACETS)
    return m3.Manifold.batch_hull([body.translate(list(piece[:3])), body.translate(list(piece[3:]))])


def by_manifold(cutter: Assembly, pieces: np.ndarray) -> float:
    """Volume left of the block after all sweeps, one batch."""
    block = m3.Manifold.cube([100, 100, 50])
    sweeps = [swept(cutter, p) for p in pieces]
    return float(m3.Manifold.batch_boolean([block, *sweeps], m3.OpType.Subtract).volume())


def rows() -> Iterator[Row]:
    """The rows of this benchmark."""
    for name, cutter, pieces, bar in (
        ("roughing", tool("flat", 10), roughing()[:300], 40.0),
        ("finishing", tool("ball", 6), finishing()[60_000:60_300], 100.0),
    ):
        bodies, rapid = tool_bodies(cutter), np.zeros(len(pieces), dtype=np.bool_)

        def cut(work: Stock, pieces=pieces, bodies=bodies, rapid=rapid) -> None:
            work.cut(pieces, bodies, rapid)

        fast = best_on(cut, Stock.of_box(LOW, HIGH, CELL).copy)
        slow = best(lambda cutter=cutter, pieces=pieces: by_manifold(cutter, pieces), 1)
        yield Row(f"300 {name} moves", f"{fast:.3f} s", f"{slow:.2f} s manifold3d", slow / fast, least=bar)

    yield from volumes()
    yield from skins()
    mesh = wavy()
    points = np.random.default_rng(1).uniform([5, 5, -12], [95, 95, 12], (200_000, 3))
    field = DistanceField(mesh)
    ours = len(points) / best(lambda: field.signed(points))
    body = trimesh.Trimesh(mesh.vertices, mesh.triangles, process=False)
    few = points[:2000]
    theirs = len(few) / best(lambda: trimesh.proximity.closest_point(body, few), 1)
    yield Row(
        "deviation at 200 000 points, points/s",
        f"{ours / 1e6:.2f} M",
        f"{theirs:.0f} trimesh",
        ours / theirs,
        least=5.0,
    )
    off = np.abs(np.abs(field.signed(few)[0]) - trimesh.proximity.closest_point(body, few)[1]).max()
    yield Row("the same: largest difference, mm", f"{off:.1e}", "1e-6", off / 1e-6, most=1.0)


def volumes() -> Iterator[Row]:
    """A slot and a corner against exact formulas, in one move and in a thousand."""
    cutter = tool("flat", 10)
    block = float(np.prod(HIGH))

    def taken(ends: np.ndarray) -> float:
        stock = Stock.of_box(LOW, HIGH, CELL)
        pieces = np.hstack([ends[:-1], ends[1:]])
        stock.cut(pieces, tool_bodies(cutter), np.zeros(len(pieces), dtype=np.bool_))
        return block - stock.volume()

    line = np.array([[20.0, 50.0, 42.0], [80.0, 50.0, 42.0]])
    slot = (60 * 10 + math.pi * 25) * 8
    corner = np.array([[20.0, 30.0, 42.0], [70.0, 30.0, 42.0], [70.0, 80.0, 42.0]])
    # two legs of 50, the half ends, and the square with a rounded outside in the corner
    bend = (50 * 10 + 50 * 10 + math.pi * 25 / 2 + math.pi * 25 / 2 + math.pi * 25 / 4 - 25) * 8
    one = taken(line)
    ppm = 1e6 * abs(one / slot - 1)
    yield Row("volume of a slot, ppm off", f"{one:.1f} mm³", f"{slot:.1f} exact", ppm, most=500.0)
    two = taken(corner)
    ppm = 1e6 * abs(two / bend - 1)
    yield Row("volume of a corner, ppm off", f"{two:.1f} mm³", f"{bend:.1f} exact", ppm, most=500.0)
    many = taken(line[0] + np.linspace(0, 1, 1001)[:, None] * (line[1] - line[0]))
    yield Row(
        "the slot in 1000 moves, ppm off one move",
        f"{many:.2f} mm³",
        f"{one:.2f}",
        1e6 * abs(many / one - 1),
        most=5.0,
    )


def skins() -> Iterator[Row]:
    """The whole surface after roughing, against the time of the roughing."""
    cutter, pieces = tool("flat", 10), roughing()
    bodies, rapid = tool_bodies(cutter), np.zeros(len(pieces), dtype=np.bool_)
    base = Stock.of_box(LOW, HIGH, CELL)
    rough = best_on(lambda work: work.cut(pieces, bodies, rapid), base.copy)
    done = base.copy()
    done.cut(roughed(), tool_bodies(tool("ball", 10)), np.zeros(len(roughed()), dtype=np.bool_))
    skin = best(lambda: surface(done))
    made = surface(done)
    sides = np.sort(np.concatenate([made.quads[:, [i, (i + 1) % 4]] for i in range(4)]), axis=1)
    _, counts = np.unique(sides, axis=0, return_counts=True)
    yield Row("whole surface at 0.25 mm", f"{skin:.2f} s", f"{rough:.2f} s roughing", skin / rough, most=5.0)
    yield Row(
        "the same: edges of other than 2 or 4 quads",
        f"{int((counts % 2).sum())}",
        "0",
        float((counts % 2).sum()),
        most=0.0,
    )
