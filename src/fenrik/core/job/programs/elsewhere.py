"""A program that came from elsewhere: its text read as a control does, in steps from tool to tool.

There is no plan to hold it against. What can be asked of a text without one is asked: does a control run it,
do its tools exist, does it use the setup's work offset; the proof cuts the setup's stock with it as with any
other."""

from __future__ import annotations

import re

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import DocumentError
from fenrik.core.job.document.job import ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.programs.text_findings import MOST
from fenrik.core.machines.time import move_times
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.motion.toolpath import no_path
from fenrik.core.posting.compare import Comparison
from fenrik.core.posting.program import Program, Step
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.posting.writing.dialect import Dialect, dialects
from fenrik.core.proof.finding import Finding, Severity
from fenrik.core.tolerances import PECK_CLEARANCE
from fenrik.core.tooling.assembly import Assembly

MAX_BYTES = 50_000_000
"""Longest text that is taken."""
_CORRECTED = re.compile(r"G4[12](?!\d)", re.IGNORECASE)


def program_text(content: bytes, name: str) -> str:
    """The text of a program file. Raises DocumentError for what is none."""
    if not content.strip():
        raise DocumentError(f"The program '{name}' is empty.", remedy="Choose the file again.")
    if len(content) > MAX_BYTES:
        raise DocumentError(
            f"The program '{name}' has {len(content) / 1e6:.0f} MB; at most {MAX_BYTES / 1e6:.0f} MB are "
            "taken.",
            remedy="Split it by tool.",
        )
    if b"\0" in content:
        raise DocumentError(
            f"'{name}' is no text but a binary file.", remedy="Give the program as plain ISO 6983 text."
        )
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        return content.decode("latin-1")  # comments in a code page of the shop


def read_elsewhere(paths: Paths, release: ReleaseDoc, where: str, change_z: float) -> Posted:
    """The program of a release's `file`, as it runs in its setup. Raises DocumentError for a machine, tool or
    file that does not do, PostError for a text that no control would run."""
    assert release.file is not None
    setup = paths.job.setup(release.setup)
    machine, on = paths.setups.machine(setup), paths.setups.on_machine(setup)
    place = f"{where}.file"
    if machine.rotary or machine.is_arm:
        raise DocumentError(
            f"Programs from elsewhere are read for machines that move X, Y and Z; '{machine.name}' turns "
            f"{', '.join(j.letter or j.name for j in machine.rotary) or 'an arm'} as well.",
            remedy="Prove it in a setup on a machine without rotary joints.",
            where=place,
        )
    try:
        text = program_text(paths.workspace.files.path(release.file, place).read_bytes(), release.file)
    except DocumentError as error:
        error.where = error.where or place
        raise
    tools = {t.number: t for t in paths.job.tools}
    corrected = _CORRECTED.search(re.sub(r"\([^)]*\)|;.*", "", text)) is not None
    registers = {n: t.radius for n, t in tools.items()} if corrected else {}
    reader = Reader({setup.work_offset: change_z}, PECK_CLEARANCE, registers, foreign=True)
    motion = reader.read(text)
    steps, step_of = _steps(motion, tools, setup, release.file, place)
    program = Program(
        release.comment or paths.job.name,
        release.program_number,
        paths.workspace.part().name,
        setup.name,
        setup.zero.words(),
        setup.work_offset,
        steps,
        change_z,
    )
    times = move_times(motion, machine, on, {t.number: t.gauge_length for t in paths.job.tools})
    begin = np.concatenate([[0.0], np.cumsum(times)[:-1]]) + (step_of + 1) * machine.tool_change_s
    return Posted(
        release,
        [setup] * len(steps),
        [],
        program,
        _words(release.file),
        text,
        [(release.file, text)],
        motion,
        Comparison(step_of, []),
        _findings(reader, motion, setup, registers),
        times,
        begin,
        float(begin[-1] + times[-1]),
        len(steps),
        0.0,
    )


def _steps(
    motion: ProgramMotion, tools: dict[int, Assembly], setup: SetupDoc, name: str, where: str
) -> tuple[list[Step], NDArray[np.int32]]:
    """A step for each stretch with one tool, and the step (n,) of every move. Moves before the first tool
    belong to it: they cut nothing. Raises DocumentError for tools that the job does not have."""
    used = [int(n) for n in np.unique(motion.tool) if n != 0]
    missing = [n for n in used if n not in tools]
    if missing or not used:
        known = ", ".join(f"T{n}" for n in sorted(tools)) or "none"
        what = (
            f"uses T{', T'.join(map(str, missing))}, which the job does not have"
            if missing
            else "calls no tool"
        )
        raise DocumentError(
            f"The program '{name}' {what}; the job's tools are {known}.",
            remedy="Add tools with these numbers at the station Tools."
            if missing
            else "Call one with T and M6.",
            where=where,
        )
    own = motion.tool.copy()
    own[: int(np.argmax(own != 0))] = own[own != 0][0]
    change = np.concatenate([[True], own[1:] != own[:-1]])
    step_of = (np.cumsum(change) - 1).astype(np.int32)
    names: dict[str, int] = {}
    steps = []
    for row in np.flatnonzero(change):
        tool, mine = tools[int(own[row])], step_of == step_of[row]
        title = tool.name
        count = names[title] = names.get(title, 0) + 1
        speed = float(np.abs(motion.spindle[mine]).max(initial=0.0))
        steps.append(
            Step(
                title if count == 1 else f"{title}, time {count}",
                tool,
                no_path(),
                speed,
                bool((motion.spindle[mine] >= 0).all()),
                "",
                setup.work_offset,
            )
        )
    return steps, step_of


def _findings(
    reader: Reader, motion: ProgramMotion, setup: SetupDoc, registers: dict[int, float]
) -> list[Finding]:
    """What a control would object to, and what is taken for granted of a text that nobody here wrote."""
    found = []
    for line, words in reader.findings[:MOST]:
        row = int(np.searchsorted(motion.line, line))
        # that it has no end, which is told last, is no fault of a way
        ends = not reader.ended and (line, words) == reader.findings[-1]
        severity: Severity = "caution" if ends else "stop"
        kind, what = ("elsewhere" if ends else "controller"), f"Line {line} {words}."
        move = row if row < len(motion) else -1
        found.append(Finding(severity, kind, what, "Correct the program.", move=move, line=line))
    others = [o for o in reader.work_offsets if o != setup.work_offset]
    if others:
        found.append(
            Finding(
                "stop",
                "controller",
                f"The text selects {', '.join(others)}; the setup's work offset is {setup.work_offset}.",
                "Set the setup's work offset to that of the program.",
            )
        )
    elif not reader.work_offsets:
        words = f"The text selects no work offset; its coordinates are taken in {setup.work_offset}."
        found.append(Finding("caution", "elsewhere", words, f"Write {setup.work_offset} at its start."))
    if registers:
        words = (
            "The program corrects the cutter's radius; each register D is taken to hold the radius of the "
            "tool of its number."
        )
        found.append(Finding("note", "elsewhere", words, "Set the control's registers like that."))
    return found


def _words(file: str) -> Dialect:
    """The plain dialect by another name: nothing is written in it."""
    plain = dialects()["plain_iso"]
    assert isinstance(plain, Dialect)
    extension = file.rpartition(".")[2] if "." in file else "nc"
    return plain.model_copy(update={"id": "elsewhere", "name": "from elsewhere", "extension": extension})
