"""Cuts the stock with a program's motion, operation by operation, and reports what should not touch.

What an operation does to the stock is kept under the hash of everything that led to it, so that a later
change goes on from the last stock that still holds.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass, fields, replace
from functools import cached_property
from itertools import pairwise
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from fenrik.core.binary import pack, unpack
from fenrik.core.motion.pieces import by_axis, upright_pieces
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.progress import Progress
from fenrik.core.proof.contact_depth import Before, holder_depth
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.load import Load, loads, summary
from fenrik.core.proof.numbers import LoadFacts
from fenrik.core.proof.run import Run
from fenrik.core.stock.cuts import Cuts
from fenrik.core.stock.dexels import CUTTING, HOLDER, NOSE, SHANK, NoseSegments, Removal, Stock, tool_bodies
from fenrik.core.stock.keeping import LiveStock, Snapshot
from fenrik.core.stock.kernels._sweep_kernels import FRUSTUM
from fenrik.core.stock.surface import KeptBricks, StockSurface
from fenrik.core.tolerances import CONTACT_MM
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.materials import Material

Floats = NDArray[np.float64]
PART = 0.5
"""Straight moves at feed are measured in parts of so many radii."""
ARC_MM = 0.0005
"""Chords of arcs in the simulation leave them by no more than this."""
LEAVES_MM = 0.005
"""What a body that leans may leave of what it should take."""
TRACES = ("engagement", "rate", "power", "bending")


@dataclass(frozen=True)
class StepCut:
    """What one operation did. `owner` (pieces,) is the row of its moves behind every piece, `volume` (rows,)
    mm³ per move, `traces` the greatest load per move by name (rows,), `facts` the load as numbers, `findings`
    with `move` as the row; `thinning` (pieces,) is the mean chip of every piece over the feed per tooth."""

    owner: NDArray[np.int32]
    volume: Floats
    traces: dict[str, NDArray[np.float32]]
    facts: LoadFacts
    findings: list[Finding]
    thinning: NDArray[np.float32]

    def to_bytes(self) -> bytes:
        """As one blob."""
        head = {"facts": asdict(self.facts), "findings": [asdict(f) for f in self.findings]}
        arrays: dict[str, NDArray[Any]] = {
            "owner": self.owner,
            "thinning": self.thinning,
            "volume": self.volume,
        }
        return pack(json.loads(json.dumps(head)), {**arrays, **self.traces})

    @staticmethod
    def from_bytes(blob: bytes) -> StepCut:
        """The inverse of `to_bytes`."""
        head, arrays = unpack(blob)
        findings = [
            Finding(**{**f, "place": tuple(f["place"]) if f["place"] else None}) for f in head["findings"]
        ]
        traces = {name: arrays[name] for name in TRACES}
        return StepCut(
            arrays["owner"],
            arrays["volume"],
            traces,
            LoadFacts(**head["facts"]),
            findings,
            arrays["thinning"],
        )


class Keep(Protocol):
    """Where what operations did is kept, by their number in the program."""

    def get(self, step: int) -> tuple[bytes, bytes] | None:
        """The step's cut and its changes to the stock, if it has been cut from the same stock before."""

    def put(self, step: int, cut: bytes, changes: bytes) -> None:
        """Keeps them."""


@dataclass(frozen=True)
class Simulated:
    """The result of cutting: the `last` stock with the `cuts` that its tags stand for, the stock `after`
    every step, what every step did, `move_of_tag` (pieces,) the move behind a tag, removed `volume` (n,) mm³
    per move, `traces` (n,) of the load by name, and findings."""

    last: Stock
    cuts: Cuts
    after: list[Snapshot]
    steps: list[StepCut]
    move_of_tag: NDArray[np.int32]
    volume: Floats
    traces: dict[str, NDArray[np.float32]]
    findings: list[Finding]

    @cached_property
    def skin(self) -> StockSurface:
        """The surface of the last stock."""
        return self._bricks.surface(self.last, self.cuts)

    def skin_after(self, step: int) -> StockSurface:
        """The stock's surface after a step, built when it is asked for: most are never looked at."""
        return self._bricks.surface(self.after[step].stock(), self.cuts)

    @cached_property
    def _bricks(self) -> KeptBricks:
        return KeptBricks(self.last.shape)

    def pieces(self, step: int) -> Floats:
        """The straight pieces (m, 6) of the tip that a step cut with, those of its `owner`."""
        first = sum(len(s.owner) for s in self.steps[:step])
        return self.cuts.table().pieces[first : first + len(self.steps[step].owner)]


def simulate(
    run: Run,
    stock: Stock,
    material: Material,
    progress: Progress,
    keep: Keep | None = None,
    nose: NoseSegments = (),
) -> Simulated:
    """Cuts a copy of `stock` with the motion of a program, step by step; steps that `keep` has are taken from
    there. The spindle's `nose` goes with every tool."""
    motion = run.motion
    snapshot = Snapshot.of(stock)
    cuts = Cuts()
    live: LiveStock | None = None
    after: list[Snapshot] = []
    steps: list[StepCut] = []
    owners: list[NDArray[np.int32]] = []
    volume = np.zeros(len(motion))
    traces = {name: np.zeros(len(motion), dtype=np.float32) for name in TRACES}
    findings: list[Finding] = []
    tag0 = 0
    for step in range(len(run.names)):
        rows = np.flatnonzero(run.step_of == step)
        own = run.rows(rows)
        strokes = [with_nose(s, nose, stock) for s in strokes_of(own.motion, run.tools)]
        for stroke in strokes:
            cuts.add(stroke.pieces, stroke.bodies)
        kept = keep.get(step) if keep is not None else None
        if kept is not None:
            cut, live = StepCut.from_bytes(kept[0]), None
            snapshot = snapshot.changed(kept[1])
        else:
            live = live if live is not None else LiveStock(snapshot)
            share = progress.stage(step / len(run.names), (step + 1) / len(run.names))
            was = Before(snapshot, cuts, [])
            cut = _cut_step(own, run.names[step], strokes, live.stock, material, tag0, share, was)
            before, snapshot = snapshot, live.snapshot()
            if keep is not None:
                keep.put(step, cut.to_bytes(), snapshot.changes(before))
        steps.append(cut)
        after.append(snapshot)
        owners.append(rows[cut.owner].astype(np.int32))
        tag0 += len(cut.owner)
        volume[rows] += cut.volume
        for key, values in cut.traces.items():
            traces[key][rows] = values
        findings += [replace(f, **run.moment(int(rows[f.move]))) for f in cut.findings]
    move_of_tag = np.concatenate(owners) if owners else np.zeros(0, dtype=np.int32)
    last = live.stock if live is not None else snapshot.stock()
    return Simulated(last, cuts.settled(), after, steps, move_of_tag, volume, traces, findings)


@dataclass(frozen=True)
class Stroke:
    """What one tool does in an operation: straight `pieces` (m, 6), or (m, 12) where its axis leans or turns,
    and the row (m,) of the moves each belongs to; what of the spindle's `nose` goes with it."""

    tool: Assembly
    pieces: Floats
    row: NDArray[np.int64]
    nose: NoseSegments = ()

    @property
    def bodies(self) -> Floats:
        """Tool and nose, see `tool_bodies`."""
        return tool_bodies(self.tool, self.nose)


def with_nose(stroke: Stroke, nose: NoseSegments, stock: Stock) -> Stroke:
    """A stroke with the spindle's nose, where this comes into the box of the stock at all."""
    if not nose or not len(stroke.pieces):
        return stroke
    low, high = stock.box
    gauge, poses = stroke.tool.gauge_length, stroke.pieces
    if poses.shape[1] == 6:
        reaches = min(poses[:, 2].min(), poses[:, 5].min()) + gauge < high[2]
    else:
        ends = np.vstack([poses[:, :3] + gauge * poses[:, 3:6], poses[:, 6:9] + gauge * poses[:, 9:12]])
        about = sum(length for length, _, _ in nose) + max(max(r0, r1) for _, r0, r1 in nose)
        reaches = bool(((ends > low - about) & (ends < high + about)).all(axis=1).any())
    return replace(stroke, nose=nose) if reaches else stroke


def strokes_of(motion: ProgramMotion, tools: dict[int, Assembly]) -> list[Stroke]:
    """The moves of an operation from tool to tool, in their order (the first may still be driven with the
    tool of the operation before); unknown tools cut nothing."""
    out = []
    changes = np.flatnonzero(np.diff(motion.tool)) + 1
    for mine in np.split(np.arange(len(motion)), changes):
        tool = tools.get(int(motion.tool[mine[0]])) if len(mine) else None
        if tool is not None:
            pieces, owner = motion.rows(mine).in_setup(ARC_MM, PART * tool.radius)
            out += [Stroke(tool, own, mine[owner[span]]) for own, span in by_axis(pieces)]
    return out


def _cut_step(
    run: Run,
    name: str,
    strokes: list[Stroke],
    work: Stock,
    material: Material,
    tag0: int,
    progress: Progress,
    was: Before,
) -> StepCut:
    """One operation's moves out of `work`, which `was` so before."""
    motion = run.motion
    owners: list[NDArray[np.int32]] = []
    thinned: list[NDArray[np.float32]] = []
    volume = np.zeros(len(motion))
    traces = {key: np.zeros(len(motion), dtype=np.float32) for key in TRACES}
    findings: list[Finding] = []
    tips: list[Floats] = []
    found: list[Load] = []
    for stroke in strokes:
        tool, pieces, row = stroke.tool, stroke.pieces, stroke.row
        removal = _cut_pieces(
            work, stroke, motion.rapid[row], tag0, lambda s: progress.step(s, f"cutting with '{name}'")
        )
        was.strokes.append((pieces, tag0, tool))
        tag0 += len(pieces)
        np.add.at(volume, row, removal.volume.sum(axis=1))
        findings += _contacts(motion, row, removal.overlap, name, was)
        load = loads(
            pieces,
            motion.rapid[row],
            motion.feed[row],
            motion.spindle[row],
            removal,
            work.cell,
            tool,
            material,
        )
        for key in TRACES:
            np.maximum.at(traces[key], row, getattr(load, key).astype(np.float32))
        tips.append(upright_pieces(pieces))
        found.append(load)
        thinned.append(load.thinning.astype(np.float32))
        owners.append(row.astype(np.int32))
    facts = LoadFacts(0.0, 0.0)
    if found:
        whole = Load(*(np.concatenate([getattr(one, f.name) for one in found]) for f in fields(Load)))
        facts = _load_facts(np.concatenate(tips), np.concatenate(owners), whole, run.times)
    return StepCut(
        np.concatenate(owners) if owners else np.zeros(0, dtype=np.int32),
        volume,
        traces,
        facts,
        findings,
        np.concatenate(thinned) if thinned else np.zeros(0, dtype=np.float32),
    )


def _cut_pieces(
    work: Stock, stroke: Stroke, rapid: NDArray[np.bool_], tag0: int, tick: Callable[[float], None]
) -> Removal:
    pieces, bodies = stroke.pieces, stroke.bodies
    parts = []
    for a in range(0, max(1, len(pieces)), 10_000):
        tick(a / max(1, len(pieces)))
        span = slice(a, a + 10_000)
        if pieces.shape[1] == 6:
            parts.append(work.cut(pieces[span], bodies, rapid[span], tag0 + a))
        else:
            parts += _cut_leaning(work, pieces[span], bodies, rapid[span], tag0 + a)
    return Removal(*(np.concatenate([getattr(p, f) for p in parts]) for f in Removal.__dataclass_fields__))


def _cut_leaning(
    work: Stock, poses: Floats, bodies: Floats, rapid: NDArray[np.bool_], tag0: int
) -> list[Removal]:
    """As `Stock.cut`, with a little play for all that must not touch: a swept body that leans leaves up to
    some µm of what it should take, which the next pass would seem to run into."""
    parts = []
    borders = [0, *(np.flatnonzero(np.diff(rapid)) + 1).tolist(), len(poses)]
    for first, last in pairwise(borders):
        if first < last:
            own, fast = poses[first:last].copy(), bool(rapid[first])
            if fast:
                own[:, :3] += LEAVES_MM * own[:, 3:6]
                own[:, 6:9] += LEAVES_MM * own[:, 9:]
            slim = slimmed(bodies, LEAVES_MM, fast)
            parts.append(work.cut(own, slim, rapid[first:last], tag0 + first))
    return parts


def slimmed(bodies: Floats, play: float, cutter: bool) -> Floats:
    """Bodies (b, 6: kind, z0, z1, r0, r1, role) with shank, holder and nose, and where asked the `cutter`,
    thinner by `play` mm all round."""
    out = bodies.copy()
    mine = np.flatnonzero(cutter | (out[:, 5] != CUTTING))
    frustum = mine[out[mine, 0] == FRUSTUM]
    out[frustum, 3:5] = np.maximum(out[frustum, 3:5] - play, np.minimum(out[frustum, 3:5], 0.5 * play))
    rounded = mine[out[mine, 0] != FRUSTUM]
    out[rounded, 4] -= play  # the corner, or the ball: its middle comes down with its radius
    return out


def _load_facts(tips: Floats, row: NDArray[np.int32], load: Load, times: Floats) -> LoadFacts:
    """The facts of all pieces (m, 6) of an operation, of whatever tool direction."""
    length = np.linalg.norm(tips[:, 3:] - tips[:, :3], axis=1)
    total = np.zeros(len(times))
    np.add.at(total, row, length)
    return summary(load, times[row] * length / np.maximum(total[row], 1e-12), length)


def _contacts(
    motion: ProgramMotion, row: NDArray[np.int64], overlap: Floats, name: str, was: Before
) -> list[Finding]:
    """One finding per kind of contact: its first move, how many moves, and the deepest overlap."""
    findings = []
    tool = was.strokes[-1][2]
    rapid = motion.rapid[row]
    cases = (
        (
            "rapid",
            0,
            rapid,
            f"Tool {tool.number} moves at rapid through stock",
            "Raise the retract or the feed height.",
        ),
        (
            "shank",
            SHANK,
            None,
            f"The shank of tool {tool.number} cuts into stock",
            "Use a tool with longer flutes or cut shallower.",
        ),
        (
            "holder",
            HOLDER,
            None,
            f"The holder of tool {tool.number} cuts into stock",
            "Increase the stick-out or cut shallower.",
        ),
        (
            "spindle_nose",
            NOSE,
            None,
            f"The spindle nose over tool {tool.number} cuts into stock",
            "Increase the stick-out or cut shallower.",
        ),
    )
    for kind, role, mask, words, remedy in cases:
        depth = overlap[:, role] if mask is None else np.where(mask, overlap[:, role], 0.0)
        hit = np.flatnonzero(depth > CONTACT_MM)
        if not len(hit):
            continue
        i = int(row[hit[0]])
        moves = len(np.unique(row[hit]))
        deepest = float(depth.max())
        if kind == "holder":
            deepest = max(deepest, holder_depth(was, hit, int(np.argmax(depth))))
        x, y, z = (float(v) for v in motion.places[i])
        findings.append(
            Finding(
                "stop",
                kind,
                f"{words} in '{name}' ({moves} move{'s' if moves > 1 else ''}, up to {deepest:.3f} mm).",
                remedy,
                operation=name,
                move=i,
                place=(x, y, z),
                measure=deepest,
                limit=CONTACT_MM,
                bodies=(kind.replace("_", " ") if mask is None else "cutter", "stock"),
            )
        )
    return findings
