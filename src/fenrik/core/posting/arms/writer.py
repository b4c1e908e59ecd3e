"""Writes the program of an arm: joint moves, straight moves with the table's angle on every line, tool and
object frames by ISO 9787, split into files that the first calls."""

from __future__ import annotations

import warnings

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from fenrik.core.machines.arm import JOINTS
from fenrik.core.posting.arms.dialect import ArmDialect
from fenrik.core.posting.arms.moves import POINTED, ArmMoves, tool_frame
from fenrik.core.posting.program import Program, Step

Floats = NDArray[np.float64]
ROOM = 6
"""Lines kept for what ends a file."""


def write_arm(program: Program, dialect: ArmDialect, name: str) -> list[tuple[str, str]]:
    """The names and texts of the files of a program, lines ended by newline; the first is the one to run."""
    w = _Writer(program, dialect)
    start, body, end = w.start(name), w.body(), w.end()
    most = dialect.most_lines - ROOM
    if len(start) + len(body) + len(end) <= most:
        return [_file(name, dialect, start + body + end)]
    head = len(dialect.render(dialect.templates.section, name=name))
    pieces = [body[i : i + most - head] for i in range(0, len(body), most - head)]
    names = [f"{name}_{i + 1}" for i in range(len(pieces))]
    files = [_file(name, dialect, [*start, *(f"CALL {n}" for n in names), *end])]
    for own, lines in zip(names, pieces, strict=True):
        first = dialect.render(dialect.templates.section, name=own)
        files.append(_file(own, dialect, [*first, *lines, "END"]))
    return files


def _file(name: str, dialect: ArmDialect, lines: list[str]) -> tuple[str, str]:
    return f"{name}.{dialect.extension}", "\n".join(lines) + "\n"


class _Writer:
    def __init__(self, program: Program, dialect: ArmDialect) -> None:
        self.program, self.dialect = program, dialect
        side = program.steps[0].side
        assert side is not None
        self.on = side.on
        joints = self.on.machine.in_chain
        self.arm = [j.name for j in joints[-JOINTS:]]
        self.table = [j.name for j in joints[:-JOINTS]]

    def start(self, name: str) -> list[str]:
        """What stands before the motion, with the object frame on the table."""
        p = self.program
        table = f" ON {self.table[0]}" if self.table else ""
        frame = self._frame(self.on.work_from_setup)
        return self.dialect.render(
            self.dialect.templates.start,
            name=name,
            job=p.name,
            part=p.part,
            setup=p.setup,
            zero=p.zero,
            machine=self.on.machine.name,
            object=f"OBJECT{table}{frame}",
        )

    def body(self) -> list[str]:
        """The steps."""
        out: list[str] = []
        tool: int | None = None
        spindle: tuple[float, bool] | None = None
        coolant = "off"
        t = self.dialect.templates
        for step in self.program.steps:
            assert step.arm is not None
            first, inside = self._lines(step.arm)
            if tool != step.tool.number:
                if tool is not None:
                    out += self.dialect.render(t.tool_end)
                frame = self._frame(tool_frame(self.on.machine, step.tool.gauge_length))
                out += [first]
                out += self.dialect.render(
                    t.tool, tool=step.tool, frame=f"TOOL {step.tool.number}{frame}", **self._spindle(step)
                )
            else:
                out += [first]
                if spindle != (step.spindle_rpm, step.clockwise):
                    out.append(self._spindle(step)["spindle"])
            if self.dialect.comments == "all":
                out += self.dialect.render(t.operation, operation=step.name)
            if step.coolant != coolant:
                out.append("COOLANT OFF" if step.coolant == "off" else "COOLANT ON")
            coolant = step.coolant
            out += inside
            tool, spindle = step.tool.number, (step.spindle_rpm, step.clockwise)
        return out

    def end(self) -> list[str]:
        """What stands after it."""
        return self.dialect.render(self.dialect.templates.end)

    def _spindle(self, step: Step) -> dict[str, str]:
        return {"spindle": f"SPINDLE {step.spindle_rpm:.0f} {'RIGHT' if step.clockwise else 'LEFT'}"}

    def _frame(self, matrix: Floats) -> str:
        d = self.dialect
        places = [f"{a} {d.number(v, d.decimals)}" for a, v in zip("XYZ", matrix[:3, 3], strict=True)]
        return " " + " ".join([*places, self._turned(matrix[None, :3, :3])[0]])

    def _turned(self, rotations: Floats) -> list[str]:
        d = self.dialect
        turn = Rotation.from_matrix(rotations)
        words: tuple[str, ...] = ("A", "B", "C")
        if d.orientation == "quaternion":  # the scalar first
            values, words = np.roll(turn.as_quat(canonical=True), 1, axis=1), ("Q1", "Q2", "Q3", "Q4")
        else:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")  # where B is a right angle: one of the others is zero
                values = turn.as_euler("xyz", degrees=True)
        return [
            " ".join(f"{w} {d.number(v, d.angle_decimals)}" for w, v in zip(words, row, strict=True))
            for row in values
        ]

    def _lines(self, moves: ArmMoves) -> tuple[str, list[str]]:
        """The way home, which comes before the tool is changed, and all that follows."""
        d = self.dialect
        turned = self._turned(moves.frames @ POINTED)
        out = []
        for i in range(len(moves)):
            if moves.by_joints[i]:
                values = zip([*self.table, *self.arm], moves.joints[i], strict=True)
                words = {name: f"{name} {d.number(v, d.angle_decimals)}" for name, v in values}
                out.append(" ".join(["JOINTS", *(words[n] for n in (*self.arm, *self.table))]))
                continue
            words_of = [f"{a} {d.number(v, d.decimals)}" for a, v in zip("XYZ", moves.tips[i], strict=True)]
            words_of.append(turned[i])
            words_of += [f"{n} {d.number(float(moves.table[i]), d.angle_decimals)}" for n in self.table]
            out.append(" ".join(["STRAIGHT", *words_of, self._feed(bool(moves.rapid[i]), moves.feed[i])]))
            if moves.dwell[i] > 0.0:
                out.append(f"WAIT {moves.dwell[i]:.2f}")
        return out[0], out[1:]

    def _feed(self, rapid: bool, feed: float) -> str:
        d = self.dialect
        if rapid:
            return "RAPID"
        if d.feed_unit == "mm_s":
            return f"V {d.number(feed / 60.0, d.feed_decimals + 2)}"
        return f"F {d.number(feed, d.feed_decimals)}"
