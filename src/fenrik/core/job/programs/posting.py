"""From operations to a program's text and what that text means: ordered, written, read back, compared."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import replace
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import DocumentError, PostError
from fenrik.core.job.document.job import OperationDoc, ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.arm_texts import read_arm
from fenrik.core.job.programs.elsewhere import read_elsewhere
from fenrik.core.job.programs.on_arm import on_arm
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.programs.sequence import sequence
from fenrik.core.job.programs.text_findings import MOST, difference_findings
from fenrik.core.job.programs.turning_to import on_sides
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.time import move_times
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.arms.dialect import ArmDialect
from fenrik.core.posting.arms.writer import write_arm
from fenrik.core.posting.compare import Comparison, compare
from fenrik.core.posting.corrections import correction_findings
from fenrik.core.posting.program import Program, Step
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.posting.writing.dialect import AnyDialect, Dialect, dialect, dialects
from fenrik.core.posting.writing.writer import write
from fenrik.core.progress import SILENT, Progress
from fenrik.core.proof.finding import Finding
from fenrik.core.tolerances import PECK_CLEARANCE

Floats = NDArray[np.float64]
TOOL_CHANGE_OVER_STOCK = 100.0
KEPT = 2
"""So many programs of a job are kept: the one that is proved, and the one that cut the stock before it."""
_POSTED: WeakKeyDictionary[Paths, OrderedDict[str, Posted]] = WeakKeyDictionary()


def operations_of(setup: SetupDoc, release: ReleaseDoc) -> list[OperationDoc]:
    """The release's operations of a setup in the order of the plan; none of a program from elsewhere."""
    if release.file is not None:
        return []
    wanted = release.operations
    return [o for o in setup.operations if (o.enabled if wanted is None else o.name in wanted)]


def post(paths: Paths, release: ReleaseDoc, progress: Progress = SILENT) -> Posted:
    """Plans what is missing, orders it, writes the program, reads it back and compares. Raises DocumentError
    when there is nothing to write, PostError when the text cannot be read.

    The programs written last are kept as long as `paths`: the setups of a release, and those that go on with
    its stock, ask for the same one."""
    job = paths.job
    where = f"releases[{job.releases.index(release)}]" if release in job.releases else "releases"
    if release.file is not None:
        return read_elsewhere(paths, release, where, _change_height(paths, job.setup(release.setup)))
    kept, key = _POSTED.setdefault(paths, OrderedDict()), release.model_dump_json()
    if key not in kept:
        kept[key] = _post(paths, release, where, progress)
        while len(kept) > KEPT:
            kept.popitem(last=False)
    kept.move_to_end(key)
    return kept[key]


def _post(paths: Paths, release: ReleaseDoc, where: str, progress: Progress) -> Posted:
    job = paths.job
    main = job.setup(release.setup)
    machine = paths.setups.machine(main)
    words = release.options.on(dialect(release.dialect, paths.workspace.files.path, f"{where}.dialect"))
    _fits(release, machine, words, where)
    made = _steps(paths, release, where, progress)
    fast = _rapid_feed(paths, release, made, f"{where}.options.rapid_feed_mm_min")
    order = sequence(paths, release, made)
    steps = order.steps
    ordered = on_arm(paths, steps) if isinstance(words, ArmDialect) else on_sides(paths, steps, words)
    program = Program(
        release.comment or job.name,
        release.program_number,
        paths.workspace.part().name,
        ", ".join(release.setups),
        main.zero.words(),
        main.work_offset,
        [step for _, _, step in ordered],
        _change_height(paths, main),
        fast,
        isinstance(words, ArmDialect) or words.holes == "canned",
        release.options.between == "home",
    )
    on, worn = paths.setups.on_machine(main), None
    if isinstance(words, ArmDialect):
        files = write_arm(program, words, release.name)
        text = "".join(own for _, own in files)
        motion, comparison, findings = read_arm(program, files, on, words)
    else:
        text = write(program, words)
        motion, comparison, findings = _read(program, text, words)
        files = [(f"{release.name}.{words.extension}", text)]
        if release.split == "tool":
            files, more = _by_tool(program, words, release.name)
            findings += more
        worn = _worn(program, text, words, release.options.wear_mm)
    times = move_times(motion, machine, on, {t.number: t.gauge_length for t in job.tools})
    changed = np.concatenate([[True], motion.tool[1:] != motion.tool[:-1]])[: len(motion)]
    begin = np.concatenate([[0.0], np.cumsum(times)[:-1]])[: len(motion)]
    begin = begin + np.cumsum(changed) * machine.tool_change_s
    return Posted(
        release,
        [s for s, _, _ in ordered],
        [o for _, o, _ in ordered],
        program,
        words,
        text,
        files,
        motion,
        comparison,
        findings,
        times,
        begin,
        float(begin[-1] + times[-1]) if len(motion) else 0.0,
        order.tool_changes,
        order.saves_s,
        worn,
    )


def _setups(paths: Paths, release: ReleaseDoc) -> list[SetupDoc]:
    return [paths.job.setup(name) for name in release.setups]


def _change_height(paths: Paths, setup: SetupDoc) -> float:
    return float(paths.setups.clamped(setup).stock_high[2]) + TOOL_CHANGE_OVER_STOCK


def _steps(
    paths: Paths, release: ReleaseDoc, where: str, progress: Progress
) -> list[tuple[SetupDoc, OperationDoc, Step]]:
    """Every operation that cuts anything, as a step."""
    wanted = [(s, o) for s in _setups(paths, release) for o in operations_of(s, release)]
    if not wanted:
        raise DocumentError(
            f"Release '{release.name}' has no operation.",
            remedy="Add one or switch one on.",
            where=f"{where}.operations",
        )
    out: list[tuple[SetupDoc, OperationDoc, Step]] = []
    for i, (setup, operation) in enumerate(wanted):
        path = paths.path(setup, operation, progress.stage(i / len(wanted), (i + 1) / len(wanted)))
        if len(path) < 2:
            continue
        r = paths.tasks.task(setup, operation)
        step = Step(
            operation.name,
            r.tool,
            path,
            r.spindle_rpm,
            operation.spindle == "clockwise",
            operation.coolant if release.options.coolant == "planned" else "off",
            setup.work_offset,
            _change_height(paths, setup),
        )
        for once in paths.setups.repetitions(setup, operation):
            if once.turn is None:
                out.append((setup, operation, step))
            else:
                name = once.named(step.name)
                turned = replace(step, name=name, turned=once.turn, frame=once.frame)
                out.append((setup, operation, turned))
    idle = [name for name in release.setups if not any(s.name == name for s, _, _ in out)]
    if idle:
        whose = f"of release '{release.name}'" if len(release.setups) == 1 else f"of setup '{idle[0]}'"
        raise DocumentError(
            f"None of the operations {whose} has anything to cut.",
            remedy="Check stock, heights and borders.",
            where=f"{where}.operations",
        )
    return out


def _read(program: Program, text: str, words: Dialect) -> tuple[ProgramMotion, Comparison, list[Finding]]:
    """What a control makes of the text, and where that is not the program."""
    reader = Reader(program.change_heights(), PECK_CLEARANCE, program.registers(), program.control())
    motion = reader.read(text)
    comparison = compare(program.planned(), reader.programmed, words.resolution_mm, program.diameters)
    findings = difference_findings(comparison, lambda move: int(np.searchsorted(reader.row, move)))
    findings += [
        Finding("stop", "controller", f"Line {line} {words_}.", "Correct the dialect.", line=line)
        for line, words_ in reader.findings[:MOST]
    ]
    wanted = list(program.change_heights())
    if reader.work_offsets != wanted:
        findings.append(
            Finding("stop", "controller", f"The text selects {reader.work_offsets}, the setups are {wanted}.")
        )
    findings += correction_findings(program, motion, reader.spans, words.resolution_mm)
    return motion, replace(comparison, step_of=comparison.step_of[reader.row]), findings


def _worn(
    program: Program, text: str, words: Dialect, wear: float
) -> tuple[ProgramMotion, NDArray[np.int32]] | None:
    """The motion of a text whose control knows that the tools with a corrected radius are worn by so many mm;
    None where nothing is corrected."""
    registers = {number: value - wear for number, value in program.registers().items()}
    if not registers or wear == 0.0:
        return None
    reader = Reader(program.change_heights(), PECK_CLEARANCE, registers, program.control())
    try:
        motion = reader.read(text)
    except PostError as error:
        raise PostError(
            f"With tools worn by {wear:g} mm: {error.what}",
            remedy="Give less wear under the release's options, or 0 for none.",
        ) from error
    comparison = compare(program.planned(), reader.programmed, words.resolution_mm, program.diameters)
    return motion, comparison.step_of[reader.row]


def _by_tool(program: Program, words: Dialect, name: str) -> tuple[list[tuple[str, str]], list[Finding]]:
    """One file for each stretch with one tool, numbered on, each read back for itself."""
    files: list[tuple[str, str]] = []
    findings: list[Finding] = []
    stretches: list[list[Step]] = []
    for step in program.steps:
        if stretches and stretches[-1][-1].tool.number == step.tool.number:
            stretches[-1].append(step)
        else:
            stretches.append([step])
    for i, steps in enumerate(stretches):
        one = replace(
            program,
            number=program.number + i,
            steps=steps,
            work_offset=program.offset_of(steps[0]),
            tool_change_z=program.change_z_of(steps[0]),
        )
        text = write(one, words)
        findings += [replace(f, move=-1) for f in _read(one, text, words)[2]]
        files.append((f"{name}_{i + 1}_T{steps[0].tool.number}.{words.extension}", text))
    return files, findings


def _fits(release: ReleaseDoc, machine: Machine, words: AnyDialect, where: str) -> None:
    """Refuses a dialect that is not for the machine, and what an arm's program has not."""
    arm = isinstance(words, ArmDialect)
    if arm != machine.is_arm:
        able = [d.id for d in dialects().values() if isinstance(d, ArmDialect) == machine.is_arm]
        whose = "an arm" if machine.is_arm else "no arm"
        raise DocumentError(
            f"The dialect '{words.id}' cannot say what moves: '{machine.name}' is {whose}.",
            remedy=f"Use {' or '.join(able)}.",
            where=f"{where}.dialect",
        )
    if arm and release.split != "none":
        raise DocumentError(
            f"Release '{release.name}' is split by tool; an arm's program is split by its lines.",
            remedy="Do not split it.",
            where=f"{where}.split",
        )
    if arm and release.options.rapid_feed_mm_min is not None:
        raise DocumentError(
            "An arm's program goes at rapid as quick as its joints can; it has no feed for that.",
            remedy="Leave the feed of rapids open.",
            where=f"{where}.options.rapid_feed_mm_min",
        )


def _rapid_feed(
    paths: Paths, release: ReleaseDoc, made: list[tuple[SetupDoc, OperationDoc, Step]], where: str
) -> float | None:
    """The feed of rapids; raises DocumentError where work is done at it, since both could not be told
    apart."""
    feed = release.options.rapid_feed_mm_min
    if feed is None:
        return None
    most = max(max(r.feed, r.entry_feed) for r in (paths.tasks.task(s, o) for s, o, _ in made))
    if feed <= most + 1.0:
        raise DocumentError(
            f"Rapids at {feed:g} mm/min are no faster than the work, which goes at up to {most:g} mm/min.",
            remedy="Give a higher feed for rapids, or leave it open.",
            where=where,
        )
    return feed
