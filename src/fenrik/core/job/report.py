"""What a run leaves behind: programs, tools.json, report.json, setup sheets."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

from fenrik.core.job.cutting.proofs import Proof
from fenrik.core.job.document.job import Job, ReleaseDoc, SetupDoc
from fenrik.core.job.papers import setup_sheet
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proving.proving import Prover
from fenrik.core.machines.machine import LINEAR, Machine
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.progress import SILENT, Progress


def run_job(paths: Paths, out: Path, progress: Progress = SILENT) -> dict[str, Any]:
    """Computes, proves and posts every release of a job into folder `out`; returns the report.

    Everything is computed before the first file is written. Raises FenrikError.
    """
    prover = Prover(paths)
    releases = paths.job.effective_releases()
    results: list[tuple[ReleaseDoc, Proof]] = []
    for i, release in enumerate(releases):
        stage = progress.stage(i / max(1, len(releases)), (i + 1) / max(1, len(releases)))
        results += [(release, proof) for proof in prover.prove_whole(release, stage)]
    report = job_report(paths, results)
    out.mkdir(parents=True, exist_ok=True)
    for release, proof in results:
        for name, text in proof.facts["files"]:
            (out / name).write_text(text, "utf-8", newline="\n")
        (out / sheet_name(release, proof)).write_text(setup_sheet(paths, release, proof), "utf-8")
    (out / "tools.json").write_text(json.dumps(tools_list(paths.job), indent=1) + "\n", "utf-8")
    (out / "report.json").write_text(json.dumps(report, indent=1) + "\n", "utf-8")
    return report


def sheet_name(release: ReleaseDoc, proof: Proof) -> str:
    """The file of a setup sheet; with several setups in a program each has its own."""
    setup = re.sub(r"[^A-Za-z0-9]+", "_", proof.facts["setup"]).strip("_").lower()
    return f"{release.name}.setup.html" if len(release.setups) == 1 else f"{release.name}.{setup}.setup.html"


def tools_list(job: Job) -> list[dict[str, Any]]:
    """The job's tools for tools.json, mm."""
    return [t.facts() for t in sorted(job.tools, key=lambda t: t.number)]


def machine_facts(machine: Machine) -> dict[str, Any]:
    """A machine as plain numbers for other provers: mm, degrees, 4 x 4 matrices as lists of rows. `frame` is
    a mount in machine coordinates with all joints at zero; a joint moves its children along its axis, or
    turns them right-handed about it through its point. `interface` is an arm's mechanical interface, as the
    mounts are."""
    names = ("name", "letter", "kind", "axis", "point", "parent", "low", "high")
    return {
        "id": machine.id,
        "joints": [{n: getattr(j, n) for n in names} for j in machine.joints],
        "work": {"joint": machine.work.joint, "frame": machine.work.frame.tolist()},
        "tool": {"joint": machine.tool.joint, "frame": machine.tool.frame.tolist()},
        **({"diameters": True} if machine.diameters else {}),
        **({"interface": machine.interface.tolist()} if machine.is_arm else {}),
    }


def _program_zero(setup: SetupDoc, on: OnMachine) -> dict[str, list[float]]:
    """What the control holds as work offset: values of X, Y and Z, 0 where there is no such joint; nothing on
    an arm, whose program says where its object is."""
    machine = on.machine
    if machine.is_arm:
        return {}
    values = {letter: float(on.zero[machine.place(letter)]) for letter in machine.linear}
    return {setup.work_offset: [values.get(letter, 0.0) for letter in LINEAR]}


def job_report(paths: Paths, results: list[tuple[ReleaseDoc, Proof]]) -> dict[str, Any]:
    """The report of a job: per setup frame, stock, operations, deviation; all findings."""
    setups = []
    for setup in paths.job.setups:
        clamped, on = paths.setups.clamped(setup), paths.setups.on_machine(setup)
        mine = [(p, r) for p, r in results if r.facts["setup"] == setup.name]
        setups.append(
            {
                "name": setup.name,
                "setup_from_part": clamped.setup_from_part.tolist(),
                "stock": {"min": clamped.stock_low.tolist(), "max": clamped.stock_high.tolist()},
                "part": {"min": clamped.part_low.tolist(), "max": clamped.part_high.tolist()},
                "work_offset": setup.work_offset,
                "machine": machine_facts(paths.setups.machine(setup)),
                "table_from_setup": clamped.table_from_setup.tolist(),
                "work_from_setup": on.work_from_setup.tolist(),
                "sides": [
                    {
                        "name": s.name,
                        "setup_from_side": paths.setups.seen(setup, s.name).setup_from_side.tolist(),
                    }
                    for s in setup.sides
                ],
                "program_zero": _program_zero(setup, on),
                "operations": [o for _, r in mine for o in r.facts["operations"]],
                "programs": [r.facts["file"] for _, r in mine],
                "time_s": sum(r.facts["time_s"] for _, r in mine),
                "deviation": mine[-1][1].facts["deviation"] if mine else None,
            }
        )
    findings = [f for _, r in results for f in r.facts["findings"]]
    measured = [r.facts["deviation"] for _, r in results]
    return {
        "job": paths.job.name,
        "part": paths.workspace.part().summary(),
        "setups": setups,
        "releases": [
            {
                "name": p.name,
                "file": r.facts["file"],
                "setup": r.facts["setup"],
                "files": [name for name, _ in r.facts["files"]],
                "tool_changes": r.facts["tool_changes"],
                "order_saves_s": r.facts["order_saves_s"],
                "dialect": r.facts["dialect"],
                "setups": p.setups,
                "tilted": r.facts["tilted"],
                "moving": r.facts["moving"],
                "feed": r.facts["feed"],
                "operations": [o["name"] for o in r.facts["operations"]],
                "time_s": r.facts["time_s"],
            }
            for p, r in results
        ],
        "deviation": {
            "max_overcut_mm": max((d["max_overcut_mm"] for d in measured), default=0.0),
            "max_leftover_mm": max((d["max_leftover_mm"] for d in measured), default=0.0),
            "share_within_tolerance": min((d["share_within_tolerance"] for d in measured), default=0.0),
            "share_of_reachable": min((d["share_of_reachable"] for d in measured), default=0.0),
            "tolerance_mm": paths.job.proof.tolerance_mm,
        },
        "findings": findings,
        "stops": sum(f["severity"] == "stop" for f in findings),
    }
