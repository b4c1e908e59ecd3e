"""Bodies of a machine along a long motion: nothing between two poses is missed, against a naive distance
query for every pose and pair."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence

import coal
import numpy as np
import trimesh
from numpy.typing import NDArray

from bench.timing import Row, best
from fenrik.core.machines.chain import rotations
from fenrik.core.machines.collision import BETTER_MM, TOUCH_MM, Motion, Near, Pair, nearest, pairs_of
from fenrik.core.machines.library import machines
from fenrik.core.machines.solids import Solid
from fenrik.core.machines.tree import Tree
from fenrik.core.model.part_model import TriangleMesh

Floats = NDArray[np.float64]
POSES, NEAR_MM, NAIVE, OVER = 100_000, 2.0, 60, 3


def rows() -> Iterator[Row]:
    """The motion against naive queries, and against dense oversampling of itself."""
    pairs, motion = scene(POSES)
    found: list[Near | None] = []

    def watch() -> None:
        found[:] = [nearest(p, motion, NEAR_MM) for p in pairs]

    seconds = best(watch, repeats=2)
    poses = [relative(p, motion.end[:: POSES // NAIVE]) for p in pairs]
    started = time.perf_counter()
    for pair, own in zip(pairs, poses, strict=True):
        for pose in own:
            distance(pair, pose)
    naive = (time.perf_counter() - started) * POSES / len(poses[0])
    what = f"{POSES} poses x {len(pairs)} pairs, {_sizes(pairs)} triangles"
    yield Row(what, f"{seconds:.2f} s", f"{naive:.0f} s naive", naive / seconds, least=100)
    yield Row("the same: pairs nearer than 2 mm", f"{sum(f is not None for f in found)}", "", 0.0)
    missed, wrong = checked(pairs, motion, found)
    yield Row(f"the same: missed, against {OVER} places between two", f"{missed}", "0", missed, most=0)
    yield Row("the same: false alarms", f"{wrong}", "0", wrong, most=0)


def scene(count: int, seed: int = 7) -> tuple[list[Pair], Motion]:
    """Twelve pairs of bumpy bodies, three on the spindle and four on the table of a mill that tilts, and a
    motion of all five joints that passes some of them closely."""
    machine = machines()["tilting_table_320"]
    rng = np.random.default_rng(seed)
    upper = [bumpy(rng, 46, (0.0, 0.0, z), size) for z, size in ((30.0, 22.0), (95.0, 32.0), (190.0, 60.0))]
    lower = [
        bumpy(rng, 66, (x, y, 10.0), 28.0)
        for x, y in ((-95.0, -80.0), (95.0, -85.0), (-90.0, 90.0), (85.0, 80.0))
    ]
    solids = [Solid(f"upper {i}", "Z", [m], True) for i, m in enumerate(upper)]
    solids += [Solid(f"lower {i}", "C", [m], True) for i, m in enumerate(lower)]
    pairs = [p for p in pairs_of(Tree(machine), solids) if p.first.name[:5] != p.second.name[:5]]
    t = np.linspace(0.0, 1.0, count + 1)
    joints = {
        "X": 120.0 * np.sin(37.0 * t),
        "Y": 120.0 * np.cos(29.0 * t),
        "Z": 47.0 + 14.0 * np.sin(211.0 * t),
        "A": -20.0 + 20.0 * np.sin(9.0 * t),
        "C": 300.0 * np.sin(5.0 * t),
    }
    values = np.column_stack([joints[j.name] for j in machine.joints])
    return pairs, Motion(values[:-1], values[1:])


def bumpy(rng: np.random.Generator, sides: int, at: tuple[float, float, float], size: float) -> TriangleMesh:
    """A ball with bumps of some thousands of triangles."""
    ball = trimesh.creation.uv_sphere(radius=1.0, count=[sides, sides // 2 + 20])
    waves = rng.normal(size=(6, 3)) * 5.0
    height = 1.0 + 0.04 * np.sin(ball.vertices @ waves.T).sum(axis=1)
    corners = ball.vertices * (size * height)[:, None] + np.array(at)
    return TriangleMesh(
        np.ascontiguousarray(corners), ball.faces.astype(np.int32), np.ones(len(ball.faces), dtype=np.int32)
    )


def relative(pair: Pair, values: Floats) -> Floats:
    """The second body in the frame of the first (m, 4, 4) at joint values (m, n)."""
    out = np.tile(np.eye(4), (len(values), 1, 1))
    for kind, *rest in pair.chain.tolist():
        axis, point, column = np.array(rest[:3]), np.array(rest[3:6]), int(rest[6])
        step = np.tile(np.eye(4), (len(values), 1, 1))
        if kind:
            turns = rotations(axis, np.radians(values[:, column]))
            step[:, :3, :3], step[:, :3, 3] = turns, point - turns @ point
        else:
            step[:, :3, 3] = values[:, [column]] * axis
        out = out @ step
    return out


def distance(pair: Pair, pose: Floats) -> float:
    """The distance of both bodies, mm, by a plain query."""
    return float(
        coal.distance(
            pair.first.tree,
            coal.Transform3s.Identity(),
            pair.second.tree,
            coal.Transform3s(pose[:3, :3], pose[:3, 3]),
            coal.DistanceRequest(),
            coal.DistanceResult(),
        )
    )


def checked(pairs: Sequence[Pair], motion: Motion, found: Sequence[Near | None]) -> tuple[int, int]:
    """How many pairs come nearer, at poses between poses, than was found, and how many were found nearer than
    they come anywhere near there."""
    missed = wrong = 0
    for pair, one in zip(pairs, found, strict=True):
        seen = least_seen(pair, motion)
        told = NEAR_MM if one is None else one.distance
        missed += seen < told - BETTER_MM - 1e-6
        wrong += one is not None and abs(least_at(pair, motion, one) - told) > 2.0 * TOUCH_MM
    return missed, wrong


def least_at(pair: Pair, motion: Motion, found: Near) -> float:
    """The distance where it was found."""
    a, b = motion.start[found.piece], motion.end[found.piece]
    return max(0.0, distance(pair, relative(pair, (a + found.share * (b - a))[None])[0]))


def least_seen(pair: Pair, motion: Motion) -> float:
    """The least distance of a pair at poses and between them, 2 mm where it is more; balls about the bodies
    show where it cannot be less."""
    (a, ra), (b, rb) = ((x[:3], x[3]) for x in pair.balls)
    least = NEAR_MM
    request, result = coal.CollisionRequest(), coal.CollisionResult()
    still = coal.Transform3s.Identity()
    for share in np.linspace(0.0, 1.0, OVER + 1)[1:]:
        poses = relative(pair, motion.start + share * (motion.end - motion.start))
        away = np.linalg.norm(poses[:, :3, :3] @ b + poses[:, :3, 3] - a, axis=1)
        for pose in poses[away < ra + rb + NEAR_MM]:
            at = coal.Transform3s(pose[:3, :3], pose[:3, 3])
            request.security_margin = least
            result.clear()
            if coal.collide(pair.first.tree, still, pair.second.tree, at, request, result):
                least = min(least, max(0.0, distance(pair, pose)))
                if least == 0.0:
                    return 0.0
    return least


def _sizes(pairs: Sequence[Pair]) -> str:
    counts = [len(s.parts[0].triangles) for p in pairs for s in (p.first, p.second)]
    return f"{min(counts)} to {max(counts)}"
