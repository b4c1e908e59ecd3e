"""A program's text with what it means when it is read back."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenrik.core.job.document.job import OperationDoc, ReleaseDoc, SetupDoc
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.arms.dialect import ArmDialect
from fenrik.core.posting.compare import Comparison
from fenrik.core.posting.program import Program
from fenrik.core.posting.writing.dialect import AnyDialect
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.run import Run
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Scheduled:
    """A step of a whole program: its name, tool, setup and work offset, and when it begins and ends, s."""

    name: str
    tool: int
    setup: str
    offset: str
    begin_s: float
    end_s: float


@dataclass(frozen=True)
class Posted:
    """A program's text with what it means when read back, or the share of it that runs in one setup.

    `setups` and `operations` belong to the program's steps (a program from elsewhere has no operations);
    `times` and `begin` (n,) s say how long each move takes and when it begins, `time_s` how long the whole
    program takes. `files` are names and texts as they are handed out."""

    release: ReleaseDoc
    setups: list[SetupDoc]
    operations: list[OperationDoc]
    program: Program
    dialect: AnyDialect
    text: str
    files: list[tuple[str, str]]
    motion: ProgramMotion
    comparison: Comparison
    findings: list[Finding]
    times: Floats
    begin: Floats
    time_s: float
    tool_changes: int
    order_saves_s: float
    worn: tuple[ProgramMotion, NDArray[np.int32]] | None = None
    """The motion with worn tools, where the control corrects the radius, and the step (n,) of its moves."""
    whole: list[Scheduled] | None = None
    """The steps of the whole program, of a part of it."""

    @property
    def file_name(self) -> str:
        """What its file is called."""
        return self.release.file or f"{self.release.name}.{self.dialect.extension}"

    @property
    def setup(self) -> SetupDoc:
        """The setup of the first step; of a part that of all."""
        return self.setups[0]

    @property
    def moves_axis(self) -> bool:
        """Whether the tool's axis moves in any of its steps."""
        return any(s.side is not None and s.side.moving is not None for s in self.program.steps)

    @property
    def ways_of_writing(self) -> dict[str, str]:
        """How the text says sides, a moving axis and its feed, in the dialect's own words: `tilted`, `moving`
        and `feed`."""
        words = self.dialect
        if isinstance(words, ArmDialect):
            return {"tilted": "machine", "moving": "arm", "feed": "per_minute"}
        moving, feed = (words.moving, words.feed_moving) if self.moves_axis else ("none", "per_minute")
        return {"tilted": words.tilted, "moving": moving, "feed": feed}

    def checked(self) -> ProgramMotion:
        """The motion with moves at the feed of rapids taken for rapids, which must not meet material."""
        fast = self.program.rapid_feed
        if fast is None:
            return self.motion
        moves = self.motion.moves
        kind = np.where(np.abs(moves.feed - fast) < 0.5, Motion.RAPID, moves.kind).astype(np.int8)
        return replace(self.motion, moves=replace(moves, kind=kind))

    def run(self, tools: list[Assembly]) -> Run:
        """The program as it runs, rapids at their feed taken for rapids."""
        names, known = [s.name for s in self.program.steps], {t.number: t for t in tools}
        return Run(self.checked(), self.comparison.step_of, names, known, self.begin, self.times)

    def schedule(self) -> list[Scheduled]:
        """The steps of the whole program in their order."""
        if self.whole is not None:
            return self.whole
        out = []
        for i, (setup, step) in enumerate(zip(self.setups, self.program.steps, strict=True)):
            mine = np.flatnonzero(self.comparison.step_of == i)
            if len(mine):
                first, last = int(mine[0]), int(mine[-1])
                begin, end = float(self.begin[first]), float(self.begin[last] + self.times[last])
                offset = self.program.offset_of(step)
                out.append(Scheduled(step.name, step.tool.number, setup.name, offset, begin, end))
        return out

    def part(self, setup: str) -> Posted:
        """What of it runs in one setup, with the findings of the whole text."""
        mine = [i for i, s in enumerate(self.setups) if s.name == setup]
        if len(mine) == len(self.setups):
            return self
        number = np.full(len(self.setups), -1, dtype=np.int32)
        number[mine] = np.arange(len(mine))
        rows = np.flatnonzero(number[self.comparison.step_of] >= 0)
        worn = self.worn
        if worn is not None:
            those = np.flatnonzero(number[worn[1]] >= 0)
            worn = (worn[0].rows(those), number[worn[1][those]])
        first = np.searchsorted(rows, np.arange(len(self.motion)))  # where a move of the whole is among these
        kept = [
            replace(f, move=int(first[f.move]) if f.move in rows else -1) if f.move >= 0 else f
            for f in self.findings
        ]
        return replace(
            self,
            setups=[self.setups[i] for i in mine],
            operations=[self.operations[i] for i in mine],
            program=replace(self.program, steps=[self.program.steps[i] for i in mine]),
            motion=self.motion.rows(rows),
            comparison=Comparison(number[self.comparison.step_of[rows]], self.comparison.differences),
            findings=kept,
            times=self.times[rows],
            begin=self.begin[rows],
            worn=worn,
            whole=self.schedule(),
        )
