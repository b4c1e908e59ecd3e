"""What a proof hands on: its facts as plain data, its motion and stocks as arrays."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.proving.evidence import Evidence
from fenrik.core.job.proving.leads import in_leads_alone
from fenrik.core.job.proving.mending import mend_of
from fenrik.core.machines.changing import SHARES, way_to_change
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.machines.time import move_times
from fenrik.core.motion.pieces import upright_pieces
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.proof.adapting import adapted_pieces, parts_of_moves
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.run import Run
from fenrik.core.proof.simulate import PART

ORDER = {"stop": 0, "caution": 1, "note": 2}
ROUNDED_S = 1e-3
"""How far times that are added up may lie beside each other."""
STRAIGHT_MM = 0.02
"""How far the straight pieces of a replay may lie beside its arcs."""


def facts_of(paths: Paths, evidence: Evidence, findings: list[Finding]) -> dict[str, Any]:
    """The facts of a proof, see `cutting.proofs.Proof`."""
    posted, stock, setup = evidence.posted, evidence.cutting.stock, evidence.posted.setup
    located = [_located(f, setup.name, evidence.run) for f in findings]
    return {
        "setup": setup.name,
        "release": posted.release.name,
        "file": posted.file_name,
        "dialect": posted.dialect.id,
        **posted.ways_of_writing,
        "zero": setup.zero.words(),
        "text": posted.text,
        "files": [[name, text] for name, text in posted.files],
        "setups": posted.release.setups,
        "tool_changes": posted.tool_changes,
        "order_saves_s": posted.order_saves_s,
        "registers": {str(n): v for n, v in posted.program.registers().items()},
        "cell_mm": stock.cell,
        "time_s": posted.time_s,
        "stock_volume_mm3": stock.volume(),
        "removed_mm3": float(evidence.cutting.done.volume.sum()),
        "operations": [_operation(paths, evidence, i) for i in range(len(evidence.worked))],
        "sides": _sides(posted),
        "program": [asdict(s) for s in posted.schedule()],
        "replay": {
            "low": evidence.clamped.stock_low.tolist(),
            "high": evidence.clamped.stock_high.tolist(),
            "is_box": stock.is_box,
            "raw": evidence.cutting.keep.raw,
            "cuts": evidence.cutting.keep.keys,
            "tools": {str(t.number): t.model_dump() for t in evidence.tools},
        },
        "deviation": asdict(evidence.deviation.facts)
        | asdict(evidence.left)
        | {"worst": [asdict(w) for w in evidence.worst]},
        "bodies": evidence.bodies.pairs,
        "findings": _findings(evidence, located),
    }


def _sides(posted: Posted) -> list[dict[str, Any]]:
    """The sides from which the program works, in its order, each with where the rotary joints stand, how
    often the machine turns to it, and the time of its operations with the ways to them; none where it is
    one."""
    out: dict[str | None, dict[str, Any]] = {}
    last: str | None = None
    times = {(s.setup, s.name): s.end_s - s.begin_s for s in posted.schedule()}
    for setup, operation, step in zip(posted.setups, posted.operations, posted.program.steps, strict=False):
        side = operation.side
        row = out.setdefault(side, {"name": side, "operations": 0, "turns": 0, "time_s": 0.0, "joints": {}})
        row["operations"] += 1
        row["turns"] += not row["turns"] or side != last
        row["time_s"] += times.get((setup.name, step.name), 0.0)
        if step.side is not None and step.side.moving is None:
            letters = [j.letter or j.name for j in step.side.on.machine.rotary]
            row["joints"] = dict(zip(letters, step.side.angles.tolist(), strict=True))
        last = side
    return list(out.values()) if len(out) > 1 else []


def _findings(evidence: Evidence, located: list[Finding]) -> list[dict[str, Any]]:
    """The findings as plain data, the gravest first, each with what would mend it where that is simple."""
    worked = {w.name: w for w in evidence.worked if w.task is not None}
    rows = sorted((f.as_dict() for f in located), key=lambda f: (ORDER[f["severity"]], f["time_s"]))
    # a step is one time of its operation where that is done again with the work turned on
    whose = {s.name: w.name for s, w in zip(evidence.posted.program.steps, evidence.worked, strict=True)}
    for row in rows:
        row["operation"] = whose.get(row["operation"], row["operation"])
        setup = evidence.posted.setup
        place = (setup.held_in.on_table if setup.held_in else setup.placement).model_dump()
        own = worked.get(row["operation"])
        if own is not None and own.task is not None and row["severity"] != "note":
            lead = getattr(own.task.parameters, "lead_share", None)
            if lead is not None and row["kind"] == "travel" and not in_leads_alone(evidence, row):
                lead = None
            row["mend"] = mend_of(row, own.tool, own.task.feed, lead, place)
        elif row["kind"] == "standing":
            row["mend"] = mend_of(row, None, None, placement=place)
        del row["offer"]  # what mends it has it
    return rows


def last_stock(evidence: Evidence) -> dict[str, NDArray[Any]]:
    """The surface of the last stock with its deviation."""
    surface = evidence.deviation.surface
    return {
        "vertices": surface.vertices.astype(np.float32),
        "quads": surface.quads,
        "deviation": evidence.deviation.at_vertices.astype(np.float32),
    }


def motion_arrays(run: Run, traces: dict[str, NDArray[np.float32]], on: OnMachine) -> dict[str, NDArray[Any]]:
    """The motion as straight pieces with the time at which each ends, for replay, with the values of all
    joints there, and the ways to where the tool is changed."""
    motion, begin, times = run.motion, run.begin, run.times
    poses, owner = motion.in_setup(STRAIGHT_MM)
    pieces = upright_pieces(poses)
    length = np.linalg.norm(pieces[:, 3:] - pieces[:, :3], axis=1)
    total = np.zeros(len(motion))
    np.add.at(total, owner, length)
    first = np.searchsorted(owner, np.arange(len(motion)))
    way = np.cumsum(length)
    before = way[first] - length[first]
    share = (way - before[owner]) / np.maximum(total[owner], 1e-12)
    return {
        "pieces": pieces.astype(np.float32),
        **_joints(run, on, owner),
        **({} if poses.shape[1] == 6 else {"axes": poses[:, [3, 4, 5, 9, 10, 11]].astype(np.float32)}),
        "owner": owner.astype(np.int32),
        "ends_at": (begin[owner] + share * times[owner]).astype(np.float32),
        "rapid": motion.rapid[owner].astype(np.uint8),
        "step": run.step_of[owner].astype(np.int32),
        "tool": motion.tool[owner].astype(np.int32),
        "feed": motion.feed[owner].astype(np.float32),
        "line": motion.line[owner].astype(np.int32),
        **{name: values[owner] for name, values in traces.items()},
    }


def _joints(run: Run, on: OnMachine, owner: NDArray[np.int32]) -> dict[str, NDArray[Any]]:
    """Joint values (m, k) at the end of every piece, whose moves are `owner` (m,); the seconds of
    the rows of every change of the tool (8c,) and the joint values (8c, k) there, see `way_to_change`."""
    turning = run.motion.turning
    if turning is not None and turning.turns.all():  # as an arm's do
        ends = turning.joints[:, turning.joints.shape[1] // 2 :]
        return {"joints": ends.astype(np.float32)} if len(ends) == len(owner) else {}
    lengths = {number: tool.gauge_length for number, tool in run.tools.items()}
    begins, ends = on.driven(run.motion, lengths, STRAIGHT_MM)[:2]
    if len(ends) != len(owner):
        return {}
    number = run.motion.tool
    changed = np.flatnonzero(np.concatenate([[True], number[1:] != number[:-1]])[: len(number)])
    first = np.searchsorted(owner, changed)
    ways = [way_to_change(on.machine, ends[i - 1] if i else None, begins[i]) for i in first]
    until = run.begin[changed]
    return {
        "joints": ends.astype(np.float32),
        "change_at": (until[:, None] - on.machine.tool_change_s * (1.0 - SHARES)).ravel().astype(np.float32),
        "change_joints": np.array(ways).reshape(-1, ends.shape[1]).astype(np.float32),
    }


def _located(finding: Finding, setup: str, run: Run) -> Finding:
    """The finding with its setup, its operation and its time filled in."""
    move = finding.move
    if not 0 <= move < len(run):
        return replace(finding, setup=setup)
    name = finding.operation or run.names[int(run.step_of[move])]
    begin, before = float(run.begin[move]), float(run.begin[move - 1] + run.times[move - 1]) if move else 0.0
    time = min(max(finding.time_s, begin), begin + float(run.times[move]))
    if 0.0 < finding.time_s < begin and finding.time_s > before - ROUNDED_S:
        time = finding.time_s  # at the change of the tool before the move
    return replace(finding, setup=setup, operation=name, time_s=time)


def _operation(paths: Paths, evidence: Evidence, step: int) -> dict[str, Any]:
    """Lengths, times and loads of one operation."""
    run, worked, cut = evidence.run, evidence.worked[step], evidence.cutting.done
    task = worked.task
    lengths = _lengths(evidence.posted.motion)
    rows = run.step_of == step
    feeding = rows & ~run.motion.rapid
    return {
        "name": evidence.posted.program.steps[step].name,
        "operation": worked.name,
        "strategy": "" if task is None else task.strategy.id,
        "tool": worked.tool.number,
        "moves": int(rows.sum()),
        "cutting_length_mm": float(lengths[feeding].sum()),
        "rapid_length_mm": float(lengths[rows & run.motion.rapid].sum()),
        "time_s": float(run.times[rows].sum()),
        "removed_mm3": float(cut.volume[rows].sum()),
        "compute_s": 0.0 if task is None else paths.compute_seconds(task.setup, task.operation),
        "spindle_rpm": evidence.posted.program.steps[step].spindle_rpm,
        "feed_mm_min": float(run.motion.feed[feeding].max(initial=0.0)) if task is None else task.feed,
        "held": evidence.posted.program.steps[step].held,
        "load": cut.steps[step].facts.known(),
        "adapted_saves_s": _adapted_saves(paths, evidence, step, feeding),
    }


def _lengths(motion: ProgramMotion) -> NDArray[np.float64]:
    """How far (n,) mm the tip goes on the part in every move."""
    out = motion.moves.lengths()
    turning = motion.turning
    if turning is not None and len(turning.owner):
        way = np.linalg.norm(turning.poses[:, 6:9] - turning.poses[:, :3], axis=1)
        out = np.where(turning.turns, np.bincount(turning.owner, way, minlength=len(out)), out)
    return out


def _adapted_saves(paths: Paths, evidence: Evidence, step: int, feeding: NDArray[np.bool_]) -> float:
    """Seconds that feeds adapted to the measured chips would save on the machine; 0 where they are adapted
    already."""
    task, motion, cut = evidence.worked[step].task, evidence.run.motion, evidence.cutting.done
    if task is None or task.operation.feed_follows != "plan" or not len(cut.steps[step].owner):
        return 0.0
    if motion.turning is not None and motion.turning.owner.size:
        return 0.0  # moves of rotary joints lie between
    row = np.flatnonzero(evidence.run.step_of == step)[cut.steps[step].owner]
    feed = motion.feed[row]
    # entries and plunges have feeds of their own
    mine = feeding[row] & (np.abs(feed - task.feed) < 1.0)
    thinning = cut.steps[step].thinning.astype(np.float64)
    wanted = paths.planned_thinning(task, thinning[mine])
    pieces = cut.pieces(step)
    part = parts_of_moves(pieces, row, PART * task.tool.radius)
    faster = adapted_pieces(feed, mine, thinning, part, wanted, task.feed_limit)
    whole = motion.in_pieces(pieces, row)
    before, after = (float(move_times(whole.with_feed(f), evidence.on.machine).sum()) for f in (feed, faster))
    return before - after
