"""Cuts the stock with a program's motion, operation by operation, and reports what should not touch."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.machines.motion import MotionTable
from fenrik.core.progress import Progress
from fenrik.core.proof.finding import Finding
from fenrik.core.stock.dexels import HOLDER, SHANK, Stock, tool_bodies
from fenrik.core.tolerances import CONTACT_MM
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]
ARC_MM = 0.0005
"""Chords of arcs in the simulation leave them by no more than this."""


@dataclass(frozen=True)
class Simulated:
    """The result of cutting: `stocks` after every step, `move_of_tag` (pieces,) the move behind a tag,
    removed `volume` (n,) mm³ per move, and findings."""

    stocks: list[Stock]
    move_of_tag: NDArray[np.int32]
    volume: Floats
    findings: list[Finding]


def simulate(
    motion: MotionTable,
    step_of: NDArray[np.int32],
    names: list[str],
    tools: dict[int, Assembly],
    stock: Stock,
    clock: Floats,
    progress: Progress,
) -> Simulated:
    """Cuts a copy of `stock` with the motion. `step_of` (n,) gives each move's operation in `names`."""
    work = stock.copy()
    stocks: list[Stock] = []
    owners: list[NDArray[np.int32]] = []
    volume = np.zeros(len(motion))
    findings: list[Finding] = []
    tag0 = 0
    for step, name in enumerate(names):
        rows = np.flatnonzero(step_of == step)
        for number in np.unique(motion.tool[rows]):
            mine = rows[motion.tool[rows] == number]
            if int(number) not in tools:
                continue
            part = MotionTable(*(getattr(motion, f)[mine] for f in MotionTable.__dataclass_fields__))
            pieces, owner = part.straightened(ARC_MM)
            bodies = tool_bodies(tools[int(number)])
            overlaps = []
            for a in range(0, len(pieces), 10_000):
                progress.step((step + a / max(1, len(pieces))) / len(names), f"cutting with '{name}'")
                piece = pieces[a : a + 10_000]
                removal = work.cut(piece, bodies, part.rapid[owner[a : a + 10_000]], tag0 + a)
                np.add.at(volume, mine[owner[a : a + 10_000]], removal.volume.sum(axis=1))
                overlaps.append(removal.overlap)
            overlap = np.concatenate(overlaps) if overlaps else np.zeros((0, 3))
            findings += _contacts(motion, mine, owner, overlap, name, tools[int(number)], clock)
            owners.append(mine[owner].astype(np.int32))
            tag0 += len(pieces)
        stocks.append(work.copy())
    move_of_tag = np.concatenate(owners) if owners else np.zeros(0, dtype=np.int32)
    return Simulated(stocks, move_of_tag, volume, findings)


def _contacts(
    motion: MotionTable,
    rows: NDArray[np.int64],
    owner: NDArray[np.int32],
    overlap: Floats,
    name: str,
    tool: Assembly,
    clock: Floats,
) -> list[Finding]:
    """One finding per kind of contact: its first move, how many moves, and the deepest overlap."""
    findings = []
    rapid = motion.rapid[rows][owner]
    cases = (
        ("rapid", 0, rapid, f"Tool {tool.number} moves at rapid through stock", "Raise the retract or the feed height."),
        ("shank", SHANK, None, f"The shank of tool {tool.number} cuts into stock", "Use a tool with longer flutes or cut shallower."),
        ("holder", HOLDER, None, f"The holder of tool {tool.number} cuts into stock", "Increase the stick-out or cut shallower."),
    )  # fmt: skip
    for kind, role, mask, words, remedy in cases:
        depth = overlap[:, role] if mask is None else np.where(mask, overlap[:, role], 0.0)
        hit = np.flatnonzero(depth > CONTACT_MM)
        if not len(hit):
            continue
        i = int(rows[owner[hit[0]]])
        moves = len(np.unique(owner[hit]))
        deepest = float(depth.max())
        x, y, z = (float(v) for v in motion.end[i])
        findings.append(
            Finding(
                "stop",
                kind,
                f"{words} in '{name}' ({moves} move{'s' if moves > 1 else ''}, up to {deepest:.3f} mm long).",
                remedy,
                operation=name,
                move=i,
                line=int(motion.line[i]),
                time_s=float(clock[i]),
                place=(x, y, z),
                measure=deepest,
                limit=CONTACT_MM,
            )
        )
    return findings
