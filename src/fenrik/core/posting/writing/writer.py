"""Writes a planned program as text in a dialect (ISO 6983-1 word-address code)."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import PostError
from fenrik.core.motion import planes
from fenrik.core.motion.moves import Moves
from fenrik.core.motion.toolpath import Cycle
from fenrik.core.posting.moving import block_feed
from fenrik.core.posting.program import TAPS, PlannedMoves, Program, SidePose, Step
from fenrik.core.posting.writing.dialect import Dialect

Floats = NDArray[np.float64]
_AXES = [tuple(row) for row in planes.AXES.tolist()]
FULL = 2 * math.pi - 1e-3
"""An arc that turns farther is a full circle."""
SPOT_MM = 1e-6
"""A tip that moves less stands."""
WIDEST_RADIUS_ARC = math.radians(90.0)
"""Arcs by radius are split beyond this: towards half a turn a rounded radius moves the arc's middle
by many times its own error (1 - 1/cos(sweep/2))."""


def write(program: Program, dialect: Dialect) -> str:
    """The program's text, lines ended by newline. Raises PostError when something cannot be written."""
    return _Writer(program, dialect).text()


class _Writer:
    def __init__(self, program: Program, dialect: Dialect) -> None:
        self.program, self.dialect = program, dialect
        self.lines: list[str] = []
        self.next_number = dialect.line_number_start
        self.modal: dict[str, str] = {}
        self.plane = 17  # as the start of every dialect says
        self.tilted = self.point = False
        side = program.steps[0].side if program.steps else None
        self.axes = list("XYZ") if side is None else side.on.machine.linear
        self.diameters = side is not None and side.on.machine.diameters

    def text(self) -> str:
        p, d = self.program, self.dialect
        self._template(
            d.templates.start,
            number=p.number,
            name=p.name,
            part=p.part,
            setup=p.setup,
            zero=p.zero,
            units_word=self.units_word,
        )
        tool: int | None = None
        for i, (step, moves) in enumerate(zip(p.steps, p.planned(), strict=True)):
            changes = tool != step.tool.number
            if moves.fresh and moves.frames:
                self._leave_side(moves.up_to)
            if changes:
                if tool is not None:
                    self._level_plane()
                    self._template(d.templates.tool_end)
                    if d.optional_stop:
                        self._line("M1")
                self._tool(step, first=tool is None)
                if d.preload:
                    self._preload(i)
            if d.comments == "all":
                self._template(d.templates.operation, operation=step.name)
            self._spindle(step, changes)
            if moves.fresh and not changes:
                self._level_plane()
                if not moves.frames:
                    self._line("G0 G53 Z0.")
                if moves.elsewhere:
                    self._line(p.offset_of(step))
            self._moves(step, moves)
            tool = step.tool.number
        self._level_plane()
        last = p.steps[-1].side if p.steps else None
        if last is not None:
            self._leave_side()
            self._rest(last)
        self._template(d.templates.end)
        return "\n".join(self.lines) + "\n"

    def _template(self, template: str, **values: object) -> None:
        for line in self.dialect.render(template, **values):
            self._line(line, spaced=False)

    @property
    def units_word(self) -> str:
        """The code of the dialect's unit."""
        return "G20" if self.dialect.units == "inch" else "G21"

    def _preload(self, i: int) -> None:
        """Calls up the tool after that of step i; after the last one the first, for the next part."""
        own = self.program.steps[i].tool.number
        order = [s.tool.number for s in (*self.program.steps[i:], *self.program.steps[:i])]
        if following := [n for n in order if n != own]:
            self._line(f"T{following[0]}")

    def _tool(self, step: Step, first: bool) -> None:
        number = ""
        if self.dialect.line_numbers == "tool":
            number = f"N{self.next_number} "
            self.next_number += self.dialect.line_number_step
        if self.dialect.restart and not first:
            for line in self.dialect.render(self.dialect.templates.restart, units_word=self.units_word):
                self._line(number + line, spaced=False)
                number = ""
        # whoever begins at this tool knows nothing of how the machine stands
        kept = ("A", "B", "C", "brake") if not self.dialect.restart else ()
        turned = {a: v for a, v in self.modal.items() if a in kept}
        self.modal = {"S": f"{step.spindle_rpm:.0f}", "M": "3" if step.clockwise else "4", **turned}
        self._template(
            self.dialect.templates.tool,
            tool=step.tool,
            N=number,
            work_offset=self.program.offset_of(step),
            rpm=f"{step.spindle_rpm:.0f}",
            spindle_word="M3" if step.clockwise else "M4",
        )

    def _spindle(self, step: Step, fresh: bool) -> None:
        """Speed, sense and coolant where they differ from the step before."""
        rpm, sense = f"{step.spindle_rpm:.0f}", "3" if step.clockwise else "4"
        if not fresh and (self.modal.get("S"), self.modal.get("M")) != (rpm, sense):
            self._line(f"S{rpm} M{sense}")
            self.modal |= {"S": rpm, "M": sense}
        if step.coolant not in self.dialect.coolant:
            raise PostError(
                f"The dialect '{self.dialect.id}' has no word for the coolant '{step.coolant}' of "
                f"'{step.name}'.",
                remedy=f"Use one of: {', '.join(self.dialect.coolant)}.",
            )
        word = self.dialect.coolant[step.coolant]
        if self.modal.get("coolant", self.dialect.coolant.get("off")) != word:
            self._line(word)
            self.modal["coolant"] = word

    def _moves(self, step: Step, planned: PlannedMoves) -> None:
        moves, start = planned.moves, 0
        if planned.fresh:
            # over the start at the height the tool change left, then down with the length offset
            way = 0 if planned.up_to is None else 1
            x, y, z = (self._word(a, v) for a, v in zip("XYZ", moves.tip[way + 1], strict=True))
            if step.side is not None:
                self._to_side(step.side, moves.tip[way].tolist())
                self.point = step.side.moving is not None and step.side.moving.point
                code, whole = ("G43.4", True) if self.point else ("G43", step.side.as_plane)
                self._line(f"{code} H{step.tool.number} {f'X{x} Y{y} ' if whole else ''}Z{z}")
            else:
                self._line(f"G0 X{x} Y{y}")
                self._line(f"G43 H{step.tool.number} Z{z}")
            self.modal |= {"G": "0", "X": x, "Y": y, "Z": z}
            start = way + 2
        if planned.moving is not None:
            self._poses(step, planned)
            return
        whole = self.dialect.holes == "canned"
        # a tap cannot be driven by plain moves: nothing would hold spindle and feed together
        canned = {c.first: c for c in planned.cycles if whole or c.kind in TAPS}
        behind = -1
        dwells = {} if whole else {int(i): float(s) for i, s in enumerate(planned.dwells()) if s}
        on = {c.first: f"{'G41' if c.side > 0 else 'G42'} D{step.tool.number}" for c in planned.compensated}
        off = {c.last: "G40" for c in planned.compensated}
        angles = moves.sweeps()
        columns = (moves.tip, moves.rapid, angles, moves.feed)
        for i, (end, rapid, angle, feed) in enumerate(zip(*(c.tolist() for c in columns), strict=True)):
            if i < start or i <= behind:
                continue
            if i in canned and i > 0:
                behind = canned[i].last
                self._cycle(canned[i], moves.tip[behind].tolist())
                continue
            self._end_cycle()
            if angle:
                self._arc(moves, i, angle)
            elif words := self._axes(end):
                switch = on.get(i) or off.get(i, "")
                self._emit("0" if rapid else "1", words, None if rapid else feed, switch=switch)
            if i in dwells:
                self._line(f"G4 P{dwells[i]:.2f}")
        self._end_cycle()

    def _poses(self, step: Step, planned: PlannedMoves) -> None:
        """Moves on which rotary joints turn as well, from the second pose on."""
        moving, moves = planned.moving, planned.moves
        assert moving is not None and step.side is not None
        letters = [j.letter for j in step.side.on.machine.rotary]
        ways = np.linalg.norm(np.diff(moving.tips, axis=0), axis=1).tolist()
        written = np.linalg.norm(np.diff(moves.tip[1:], axis=0), axis=1).tolist()
        decimals = self.dialect.inverse_decimals if moving.inverse else None
        columns = (moves.tip[2:].tolist(), moves.rapid[2:].tolist(), moves.feed[2:].tolist())
        if moving.inverse:
            self._line("G93")
        self.modal.pop("F", None)
        for i, (end, rapid, feed) in enumerate(zip(*columns, strict=True)):
            words = self._axes(end)
            for letter, angle in sorted(zip(letters, moving.angles[i + 1].tolist(), strict=True)):
                word = f"{letter}{self.dialect.angle(angle)}"
                if self.modal.get(letter) != word:
                    words.append(word)
                    self.modal[letter] = word
            if not words:
                continue
            if rapid:
                self._emit("0", words, None)
                continue
            if ways[i] < SPOT_MM:
                raise PostError(
                    f"'{step.name}' turns the tool on the spot at feed, which has no speed a minute.",
                    remedy="Turn it at rapid, or on the way.",
                )
            if moving.inverse:
                self.modal.pop("F", None)  # every block has its own
            block = block_feed(feed, ways[i], written[i], moving.inverse)
            self._emit("1", words, block, decimals=decimals)
        if moving.inverse:
            self._line("G94")
            self.modal.pop("F", None)

    def _to_side(self, side: SidePose, over: list[float]) -> None:
        """At the machine's upper end: the rotary joints, over the start, and the tilted plane where the
        dialect has one."""
        letters = [j.letter for j in side.on.machine.rotary]
        words = {a: f"{a}{self.dialect.angle(v)}" for a, v in zip(letters, side.angles.tolist(), strict=True)}
        brakes = any(j.clamps for j in side.on.machine.rotary)
        if changed := [w for a, w in sorted(words.items()) if self.modal.get(a) != w]:
            if brakes:
                self._brake(False)
            self._line(f"G0 {' '.join(changed)}")
        self.modal |= words
        if brakes:
            self._brake(side.moving is None)
        level = zip("XY", over, strict=False)
        words_of = [f"{a}{self._word(a, v)}" for a, v in level if a in self.axes]
        self._line(f"G0 {' '.join(words_of)}")
        if side.as_plane:
            origin = " ".join(
                f"{a}{self._coordinate(v)}" for a, v in zip("XYZ", side.setup_from_side[:3, 3], strict=True)
            )
            turned = zip("IJK", plane_angles(side.setup_from_side[:3, :3]), strict=True)
            self._line(f"G68.2 {origin} {' '.join(f'{a}{self.dialect.angle(v)}' for a, v in turned)}")
            self._line("G53.1")
            self.tilted = True

    def _rest(self, side: SidePose) -> None:
        """At the end of the program: the rotary joints of a mill back to zero, for whoever takes the work
        out."""
        machine = side.on.machine
        if machine.is_lathe:
            return
        words = [f"{j.letter}{self.dialect.angle(0.0)}" for j in machine.rotary]
        if turned := [w for w in sorted(words) if self.modal.get(w[0]) != w]:
            brakes = any(j.clamps for j in machine.rotary)
            if brakes:
                self._brake(False)
            self._line(f"G0 {' '.join(turned)}")
            if brakes:
                self._brake(True)

    def _brake(self, on: bool) -> None:
        """Puts the brakes of the rotary joints on or off, where they are not so already."""
        word = self.dialect.clamp if on else self.dialect.unclamp
        if self.modal.get("brake") != word:
            self._line(word)
            self.modal["brake"] = word

    def _leave_side(self, up_to: float | None = None) -> None:
        """Out of a tilted plane, or of keeping the tool's point, and up to a height, open: to the machine's
        upper end."""
        self._level_plane()
        if self.point:
            self._line("G49")
            self.point = False
        if self.tilted:
            self._line("G69")
            self.tilted = False
        self._line("G0 G53 Z0." if up_to is None else f"G0 Z{self._coordinate(up_to)}")

    def _cycle(self, cycle: Cycle, place: Sequence[float]) -> None:
        """A hole as a canned cycle that goes back to its retract height (G99) or to where it came from (G98);
        while nothing but the place changes, only that is written."""
        number, scale = self.dialect.number, self.dialect.scale
        x, y = (number(v * scale) for v in place[:2])
        code = {
            "drill": 81,
            "dwell": 82,
            "peck": 83,
            "chip_break": 73,
            "ream": 85,
            "bore": 89,
            "tap": 84,
            "tap_left": 74,
        }[cycle.kind]
        words = [f"Z{number(cycle.bottom * scale)}", f"R{number(cycle.retract * scale)}"]
        if cycle.peck:
            words.append(f"Q{number(cycle.peck * scale)}")
        if cycle.dwell:
            words.append(f"P{cycle.dwell:.2f}")
        words.append(f"F{number(cycle.feed * scale, self.dialect.feed_decimals)}")
        z = number(cycle.back * scale)
        codes = f"G{98 if cycle.back > cycle.retract else 99} G{code}"
        whole = " ".join([codes, *words, z])
        same = self.modal.get("cycle") == whole and self.modal["Z"] == z
        self._line(f"X{x} Y{y}" if same else f"{codes} X{x} Y{y} {' '.join(words)}")
        self.modal |= {"X": x, "Y": y, "Z": z, "cycle": whole, "F": words[-1][1:]}
        self.modal.pop("G", None)

    def _end_cycle(self) -> None:
        if self.modal.pop("cycle", None) is not None:
            self._line("G80")

    def _arc(self, moves: Moves, i: int, sweep: float) -> None:
        """A planned arc that turns by `sweep` rad: 2 pi for a full circle, which its rounded ends do not tell
        from none."""
        start, end, plane = self._here(), moves.tip[i].tolist(), int(moves.plane[i])
        turn, centre = int(moves.turn[i]), moves.centre[i].tolist()
        feed = float(moves.feed[i])
        pieces = 1
        if self.dialect.arcs == "radius":
            pieces = max(1, math.ceil(sweep / WIDEST_RADIUS_ARC))
        elif self.dialect.circles == "halves" and sweep > FULL:
            pieces = 2
        for k in range(1, pieces):
            upto = _on_arc(start, end, centre, turn * sweep, plane, k / pieces)
            self._one_arc(upto, centre, turn, plane, feed, sweep / pieces)
        self._one_arc(end, centre, turn, plane, feed, sweep / pieces)

    def _one_arc(
        self, end: list[float], centre: list[float], turn: int, plane: int, feed: float, sweep: float
    ) -> None:
        """An arc that turns by `sweep` rad."""
        scale, here = self.dialect.scale, self._here()
        first, second, square = _AXES[plane]
        words = self._axes(end)
        if sweep < math.pi and not any(w[0] != "XYZ"[square] for w in words):
            if words:  # only the way square to the plane moves on at this resolution
                self._emit("1", words, feed)
            return
        a = (here[first] * scale, here[second] * scale)
        middle = (centre[0] * scale, centre[1] * scale)
        if self.dialect.arcs == "radius":
            # the written ends have moved by rounding: the radius must still span their chord
            now = self._here()
            chord = math.dist(a, (now[first] * scale, now[second] * scale))
            radius = max(math.dist(a, middle), chord / 2)
            step = 10.0**-self.dialect.decimals
            text = self.dialect.number(max(round(radius / step), math.ceil(chord / 2 / step - 1e-9)) * step)
            words.append(f"R{text}" if sweep <= math.pi else f"R-{text}")
        else:
            offsets = zip(planes.LETTERS[plane], middle, a, strict=True)
            words += sorted(f"{letter}{self.dialect.number(m - v)}" for letter, m, v in offsets)
        self._emit("3" if turn > 0 else "2", words, feed, plane)

    def _here(self) -> tuple[float, float, float]:
        """The written position, mm."""
        modal, scale = self.modal, self.dialect.scale
        return float(modal["X"]) / scale, float(modal["Y"]) / scale, float(modal["Z"]) / scale

    def _level_plane(self) -> None:
        """Back to arcs in XY, so that a tool begins in the state that the start of the program gave."""
        if self.plane != 17:
            self._line("G17")
            self.plane = 17

    def _axes(self, end: Sequence[float]) -> list[str]:
        """Words of the axes whose written value changes; remembers them."""
        words, modal, number, scale = [], self.modal, self.dialect.number, self.dialect.scale
        for axis, value in zip("XYZ", end, strict=True):
            if axis not in self.axes:
                continue
            text = number(float(value) * (2.0 * scale if self.diameters and axis == "X" else scale))
            if modal.get(axis) != text:
                words.append(f"{axis}{text}")
                modal[axis] = text
        return words

    def _emit(
        self,
        code: str,
        words: list[str],
        feed: float | None,
        plane: int | None = None,
        switch: str = "",
        decimals: int | None = None,
    ) -> None:
        """A move; `switch` are words that put the correction of the radius on or off, `decimals` those of a
        feed that is one over minutes."""
        block = list(words)
        if self.modal.get("G") != code or switch:
            block.insert(0, f"G{code}")
            self.modal["G"] = code
        if switch:
            block.insert(0, switch)
        if plane is not None and self.plane != 17 + plane:
            self.plane = 17 + plane
            block.insert(0, f"G{self.plane}")
        if feed is not None:
            if decimals is None:
                text = self.dialect.number(feed * self.dialect.scale, self.dialect.feed_decimals)
            else:
                text = self.dialect.number(feed, decimals)
            if self.modal.get("F") != text:
                block.append(f"F{text}")
                self.modal["F"] = text
        self._line(" ".join(block))

    def _word(self, axis: str, value: float) -> str:
        """A coordinate along an axis: of X on a lathe the diameter."""
        return self._coordinate(2.0 * value if self.diameters and axis == "X" else value)

    def _coordinate(self, value: float) -> str:
        return self.dialect.number(value * self.dialect.scale)

    def _line(self, line: str, spaced: bool = True) -> None:
        if spaced and not self.dialect.word_spacing:
            line = line.replace(" ", "")
        numbered = self.dialect.line_numbers == "all" and not line.startswith(
            ("%", "O", self.dialect.comment_open)
        )
        if numbered:
            line = (
                f"N{self.next_number} {line}" if self.dialect.word_spacing else f"N{self.next_number}{line}"
            )
            self.next_number += self.dialect.line_number_step
        self.lines.append(line)


def plane_angles(rotation: Floats) -> tuple[float, float, float]:
    """Angles degrees about Z, the new X and the new Z that give a rotation (3, 3)."""
    lean = math.hypot(rotation[0, 2], rotation[1, 2])
    if lean < 1e-9:
        over = 1.0 if rotation[2, 2] > 0 else -1.0
        third = math.atan2(over * rotation[1, 0], rotation[0, 0])
        return 0.0, 0.0 if over > 0 else 180.0, math.degrees(third)
    first = math.atan2(rotation[0, 2], -rotation[1, 2])
    third = math.atan2(rotation[2, 0], rotation[2, 1])
    return math.degrees(first), math.degrees(math.atan2(lean, rotation[2, 2])), math.degrees(third)


def _on_arc(
    start: Sequence[float],
    end: Sequence[float],
    centre: Sequence[float],
    angle: float,
    plane: int,
    share: float,
) -> list[float]:
    one = (np.array([start]), np.array([end]), np.array([centre]), np.array([angle * share]))
    return list(planes.on_arcs(*one, np.array([plane], dtype=np.int8), np.array([share]))[0].tolist())
