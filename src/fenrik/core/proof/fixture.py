"""The tool against the fixture: cutter, shank and holder on their whole way, at feed and at rapid."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting.clearance import Reach
from fenrik.core.cutting.drop import DropCutter
from fenrik.core.cutting.topology import Topology, prepare
from fenrik.core.machines.solids import pieces_of
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.motion.pieces import is_upright
from fenrik.core.motion.table import in_parts
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.fixture_pieces import FixturePieces
from fenrik.core.proof.run import Run
from fenrik.core.stock.dexels import CUTTING, HOLDER, ROLES, SHANK, Stock, tool_bodies
from fenrik.core.stock.kernels._tilt_kernels import move_boxes
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]
PITCH_MM = 0.25
"""The way is looked at every so many mm."""
CHORD_MM = 0.005
NEAR_MM = 0.9
"""Nearer than this, to the side or over it, is told (common practice, no source)."""
TOUCH_MM = 0.01


def against_fixture(run: Run, fixture: TriangleMesh, names: Sequence[str] = ()) -> list[Finding]:
    """All that the tools meet of the fixture (setup frame): upright by how far the tip would have to stay
    higher, leaning or turning by what they would take out of it. `names` are those of its pieces, which the
    ids of its faces count from 1 on."""
    pieces = FixturePieces(fixture, names)
    findings = fixture_findings(run, prepare(fixture), pieces)
    return findings if run.motion.turning is None else findings + leaning_findings(run, fixture, pieces)


def leaning_findings(run: Run, fixture: TriangleMesh, names: FixturePieces) -> list[Finding]:
    """One *stop* for every operation and part of its tool that meets the fixture while it leans or turns,
    where it does so first. The fixture is cut like a stock, so that nothing between two poses is missed."""
    motion, stocks = run.motion, [_as_stock(piece) for piece in pieces_of(fixture)]
    findings: list[Finding] = []
    poses, owner = motion.in_setup(CHORD_MM)
    leaning = np.flatnonzero(~is_upright(poses))
    for step, name in enumerate(run.names):
        mine = leaning[run.step_of[owner[leaning]] == step]
        tool = run.tools.get(int(motion.tool[owner[mine[0]]])) if len(mine) else None
        if tool is None:
            continue
        lost = _taken_out(stocks, poses[mine], tool)
        for role, part in ((CUTTING, "cutter"), (SHANK, "shank"), (HOLDER, "holder")):
            hit = np.flatnonzero(lost[:, role] > TOUCH_MM)
            if not len(hit):
                continue
            move = int(owner[mine[hit[0]]])
            x, y, z = (float(v) for v in poses[mine[hit[0]], 6:9])
            met = poses[mine[hit[0]], 6:9] + _begin(part, tool) * poses[mine[hit[0]], 9:12]
            fast = "at rapid " if motion.rapid[move] else ""
            findings.append(
                Finding(
                    "stop",
                    "fixture",
                    f"The {part} of '{name}' runs {fast}into the fixture{names.at(met)} near ({x:.2f}, "
                    f"{y:.2f}, {z:.2f}), up to {lost[hit, role].max():.2f} mm deep.",
                    "Hold the stock lower or elsewhere, keep the operation out of there, or use a longer "
                    "stick-out.",
                    operation=name,
                    place=(x, y, z),
                    **run.moment(move),
                    measure=float(lost[hit, role].max()),
                    bodies=(part, "fixture"),
                )
            )
    return findings


def _as_stock(piece: TriangleMesh) -> Stock:
    """A closed piece of the fixture as material that can be cut."""
    low, high = piece.bounds
    return Stock.of_mesh(piece, min(1.0, max(0.2, float(np.linalg.norm(high - low)) / 450)))


def _taken_out(stocks: list[Stock], poses: Floats, tool: Assembly) -> Floats:
    """How deep (n, roles) mm the bodies of a tool go into pieces of a fixture along poses (n, 12). Each is
    cut by itself: where two touch or overlap, material would be counted as none. Poses whose box does not
    meet the piece's take nothing out of it."""
    bodies = tool_bodies(tool)
    boxes = move_boxes(np.ascontiguousarray(poses), bodies).reshape(len(poses), -1, 7)
    low, high = boxes[:, :, :3].min(axis=1), boxes[:, :, 3:6].max(axis=1)
    deepest = np.zeros((len(poses), ROLES))
    for stock in stocks:
        its_low, its_high = stock.box
        near = np.flatnonzero(((low <= its_high) & (high >= its_low)).all(axis=1))
        if len(near):
            lost = stock.copy().cut(poses[near], bodies, np.ones(len(near), dtype=np.bool_)).overlap
            deepest[near] = np.maximum(deepest[near], lost)
    return deepest


def _begin(part: str, tool: Assembly) -> float:
    """How far over the tip a part of a tool begins, mm."""
    return {"cutter": 0.0, "shank": tool.flute_length, "holder": tool.stick_out}[part]


def fixture_findings(run: Run, fixture: Topology, names: FixturePieces) -> list[Finding]:
    """One *stop* for every operation and part of its tool that meets the fixture, at the worst place, and a
    caution where the cutter only passes near. `fixture` is in the setup frame."""
    numbers, motion = np.arange(len(run)), run.motion
    if motion.turning is not None:
        upright = np.array([f.plain for f in motion.turning.frames], dtype=np.bool_)
        numbers = np.flatnonzero(upright[motion.moves.sides] & ~motion.turning.turns)
        motion = replace(motion.rows(numbers), turning=None)
    step_of = run.step_of[numbers]
    if not len(motion):
        return []
    pieces, owner = motion.straightened(CHORD_MM)
    top = float(fixture.high[2])
    findings: list[Finding] = []
    for step, name in enumerate(run.names):
        mine = np.flatnonzero(step_of[owner] == step)
        if not len(mine):
            continue
        tool = run.tools[int(motion.tool[owner[mine[0]]])]
        tips, row = _places(pieces[mine], owner[mine])
        lack = Reach(fixture, tool).lack(tips)
        low = np.flatnonzero(tips[:, 2] < top + NEAR_MM)
        into, near = np.zeros(len(tips)), np.zeros(len(tips), dtype=np.bool_)
        if len(low):
            into[low] = DropCutter(fixture, tool.profile).tip(tips[low, :2]) - tips[low, 2]
            wide = Profile(tool.radius + NEAR_MM, 0.0)
            near[low] = DropCutter(fixture, wide).tip(tips[low, :2]) + NEAR_MM > tips[low, 2]
        hit = False
        for part, depth in (("cutter", into), ("shank", lack.shank), ("holder", lack.holder)):
            worst = int(np.argmax(depth))
            if depth[worst] <= TOUCH_MM:
                continue
            hit, move = True, int(row[worst])
            x, y, z = (float(v) for v in tips[worst])
            met = tips[worst] + np.array([0.0, 0.0, _begin(part, tool)])
            fast = "at rapid " if motion.rapid[move] else ""
            findings.append(
                Finding(
                    "stop",
                    "fixture",
                    f"The {part} of '{name}' runs {fast}into the fixture{names.at(met)} at ({x:.2f}, "
                    f"{y:.2f}, {z:.2f}): the tip would have to stay {depth[worst]:.2f} mm higher.",
                    "Hold the stock lower or elsewhere, keep the operation out of there, or use a longer "
                    "stick-out.",
                    operation=name,
                    place=(x, y, z),
                    **run.moment(int(numbers[move])),
                    measure=float(depth[worst]),
                    bodies=(part, "fixture"),
                )
            )
        if not hit and near.any():
            first = int(np.argmax(near))
            move = int(row[first])
            x, y, z = (float(v) for v in tips[first])
            findings.append(
                Finding(
                    "caution",
                    "near",
                    f"'{name}' passes the fixture{names.at(tips[first])} nearer than {NEAR_MM:g} mm at "
                    f"({x:.2f}, {y:.2f}, {z:.2f}).",
                    "Look whether the fixture is as drawn.",
                    operation=name,
                    place=(x, y, z),
                    limit=NEAR_MM,
                    bodies=("cutter", "fixture"),
                    **run.moment(int(numbers[move])),
                )
            )
    return findings


def _places(pieces: Floats, owner: NDArray[np.int32]) -> tuple[Floats, NDArray[np.int32]]:
    """Tips (n, 3) along straight pieces (m, 6), both ends included, and the move of each."""
    away = np.linalg.norm(pieces[:, 3:] - pieces[:, :3], axis=1)
    count = np.maximum(1, np.ceil(away / PITCH_MM).astype(np.int64)) + 1
    piece, at = in_parts(count)
    share = (at / (count[piece] - 1))[:, None]
    return pieces[piece, :3] * (1.0 - share) + pieces[piece, 3:] * share, owner[piece]
