"""What the control of an arm makes of its program's text, and where that is not the program."""

from __future__ import annotations

from fenrik.core.job.programs.text_findings import MOST, difference_findings
from fenrik.core.machines.on_machine import OnMachine
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.arms.compare import compare_arm
from fenrik.core.posting.arms.dialect import ArmDialect
from fenrik.core.posting.arms.reader import ArmReader
from fenrik.core.posting.compare import Comparison
from fenrik.core.posting.program import Program
from fenrik.core.proof.finding import Finding


def read_arm(
    program: Program, files: list[tuple[str, str]], on: OnMachine, dialect: ArmDialect
) -> tuple[ProgramMotion, Comparison, list[Finding]]:
    """The motion of an arm's text, the step of each move, and what a control would object to."""
    reader = ArmReader(on.machine, on.setup_from_work)
    motion = reader.read(files)
    comparison = compare_arm(program.steps, reader, on.work_from_setup, dialect)
    findings = difference_findings(comparison)
    findings += [
        Finding("stop", "controller", f"Line {line} {words}.", remedy, line=line)
        for line, words, remedy in reader.findings[:MOST]
    ]
    names = [s.name for s in program.steps]
    worst: dict[str, list[int]] = {}
    for move in reader.out_of_reach:
        worst.setdefault(names[comparison.step_of[move]], []).append(move)
    for name, moves in worst.items():
        x, y, z = reader.out_of_reach[moves[0]].tolist()
        findings.append(
            Finding(
                "stop",
                "reach",
                f"The arm does not get to {len(moves)} of the places that it is sent to in '{name}', first"
                f" ({x:.1f}, {y:.1f}, {z:.1f}).",
                "Turn the table, let the spin be searched, or place the part elsewhere on the table.",
                move=moves[0],
                line=reader.told[moves[0]].line,
                operation=name,
                place=(x, y, z),
            )
        )
    return motion, comparison, findings
