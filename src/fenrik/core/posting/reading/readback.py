"""Reads a program's text as a controller would (ISO 6983-1) and tells the motion it means.

A stand-in for a controller: it knows the standard's words and modal groups and nothing of the path
or the writer. Unknown words are errors, not guesses.
"""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from fenrik.core.errors import PostError
from fenrik.core.motion.moves import Motion, Moves
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.reading.arc_centres import centre_of
from fenrik.core.posting.reading.blocks import Block, read_block
from fenrik.core.posting.reading.cycles import PECKING, TAPPING, legs_of
from fenrik.core.posting.reading.driven import Span, driven
from fenrik.core.posting.reading.rotary_blocks import tilts_or_turns
from fenrik.core.posting.reading.rotary_control import RotaryControl
from fenrik.core.posting.reading.subprograms import executed


class Reader:
    """Interprets one program. `tool_change_z` mm is where a tool change leaves the tip, the same in all work
    offsets or one height for each.

    `control` is there for machines with rotary joints: then heights follow from the machine. `registers` are
    the corrections mm that the control holds for cutter radius compensation, by their number D.

    `foreign` text came from elsewhere: one that does not end is read to its last line, with a finding.
    Optional blocks (/) are executed, as with the switch off.

    After `read`, `programmed` is the motion as the text gives it, `row` (n,) the move there of each that is
    driven, `spans` the first and last driven move of every stretch with compensation. `work_offsets` lists
    the offsets used, `findings` what a controller would object to without stopping (such as feed with the
    spindle at rest), as (line, words).
    """

    def __init__(
        self,
        tool_change_z: float | dict[str, float],
        peck_clearance: float = 0.5,
        registers: dict[int, float] | None = None,
        control: RotaryControl | None = None,
        foreign: bool = False,
    ) -> None:
        self.foreign = foreign
        self.control = control
        self.registers = registers or {}
        self.correction: tuple[int, int, int] | None = None
        self._spans: list[Span] = []
        self.heights = tool_change_z if isinstance(tool_change_z, dict) else {}
        self.tool_change_z = (
            next(iter(tool_change_z.values())) if isinstance(tool_change_z, dict) else tool_change_z
        )
        self.peck_clearance = peck_clearance
        self.offset, self.up = 0, True
        self.cycle = 80
        self.cycle_values: dict[str, float] = {}
        self.to_initial, self.initial = True, self.tool_change_z
        self.dwells: dict[int, float] = {}
        machine = None if control is None else control.on.machine
        self.without_y = machine is not None and "Y" not in machine.linear
        self.diameters = machine is not None and machine.diameters
        self.position: list[float | None] = [None, self._y_unknown, self.tool_change_z]
        self.motion = 0
        self.plane = 17
        self.scale = 1.0
        self.absolute = True
        self.feed: float | None = None
        self.inverse = self.per_turn = False
        self.speed = 0.0
        self.sense = 0
        self.tool = 0
        self.next_tool = 0
        self.length_offset = 0
        self.ended = False
        self.work_offsets: list[str] = []
        self.findings: list[tuple[int, str]] = []
        self.rows: list[tuple[float, ...]] = []

    def read(self, text: str) -> ProgramMotion:
        """The motion of the whole text. Raises PostError naming line, word and what is wrong with it."""
        last = 0
        for line in executed(text):
            if self.ended:
                if line.raw.strip() not in ("", "%"):
                    raise Block(line.number, line.raw).wrong("stands after the end of the program")
                continue
            last, control = line.number, self.control
            block = read_block(line.number, line.raw, control is not None, self._turning_letters)
            if block is not None:
                self._act(block)
        if not self.ended and not self.foreign:
            raise PostError("The program has no end (M2 or M30).", remedy="Correct the dialect's end.")
        if not self.ended:
            self.findings.append((last, "is the last line, and no M2 or M30 ends the program"))
        self.programmed = self._table()
        done = driven(self.programmed, self._spans, self.registers)
        self.row, self.spans = done.row, done.spans
        return done.motion

    def _table(self) -> ProgramMotion:
        """The moves that the text gives."""
        columns = np.array(self.rows, dtype=np.float64).reshape(-1, 16).T
        kind = np.where(columns[6] > 0, Motion.RAPID, Motion.FEED).astype(np.int8)
        turn, plane = columns[7].astype(np.int8), columns[14].astype(np.int8)
        begin, tip, centre = (np.ascontiguousarray(columns[a:b].T) for a, b in ((0, 3), (3, 6), (8, 10)))
        moves = Moves(tip, kind, turn, plane, centre, columns[10].copy(), begin=begin)
        turning = None
        if self.control is not None:
            moves, turning = self.control.placed(moves)
        tool, line, offset = (columns[k].astype(np.int32) for k in (11, 13, 15))
        return ProgramMotion(moves, tool, columns[12].copy(), line, self._dwell_of(len(tip)), offset, turning)

    def _dwell_of(self, count: int) -> np.ndarray:
        out = np.zeros(count)
        for row, seconds in self.dwells.items():
            out[row] = seconds
        return out

    @property
    def _y_unknown(self) -> float | None:
        """The coordinate Y before any was given: where there is no joint Y it is 0."""
        return 0.0 if self.without_y else None

    def along(self, letter: str, value: float) -> float:
        """A coordinate mm of a word: half of it where X is written as a diameter."""
        return value * (0.5 * self.scale if self.diameters and letter == "X" else self.scale)

    def _act(self, block: Block) -> None:
        if self.without_y and "Y" in block.values:
            raise block.wrong("uses the address Y, and the machine has no such joint")
        if "D" in block.values and block.codes.get("radius compensation") not in (41, 42):
            raise block.wrong("uses the address D without G41 or G42")
        if self.correction is not None:
            self._check_corrected(block)
        if "units" in block.codes:
            self.scale = 25.4 if block.codes["units"] == 20 else 1.0
        self.plane = int(block.codes.get("plane", self.plane))
        if "distance" in block.codes:
            self.absolute = block.codes["distance"] == 90
        if "offset" in block.codes:
            self._take_offset(int(block.codes["offset"]))
        if block.codes.get("once") == 4:
            self._dwell(block)
        if "feed" in block.codes:
            self.inverse, self.per_turn, self.feed = (
                block.codes["feed"] == 93,
                block.codes["feed"] == 95,
                None,
            )
        if "F" in block.values:
            self.feed = block.values["F"] if self.inverse else block.values["F"] * self.scale
        if "S" in block.values:
            self.speed = block.values["S"]
        if "T" in block.values:
            self.next_tool = int(block.values["T"])
        # a control changes the tool before it takes the length, and both before the block's way
        if 6 in block.m_codes:
            self._change_tool()
        if "length" in block.codes:
            self._take_length(block, block.codes["length"])
        for code in block.m_codes:
            if code in (3, 4):
                self.sense = 1 if code == 3 else -1
            elif code in (10, 11) and self.control is not None:
                self.control.clamped = code == 10
        self._go(block)
        # what stops acts after the block's way
        if {5, 19} & set(block.m_codes):
            self.sense = 0
        if any(code in (2, 30) for code in block.m_codes):
            self.ended = True

    def _dwell(self, block: Block) -> None:
        """Waits so many seconds, given as P, X or F; the other words of the block are none of a way."""
        given = [block.values.pop(letter) for letter in ("P", "X", "F") if letter in block.values]
        if len(given) != 1 or not self.rows:
            raise block.wrong("is a dwell without one of P, X and F, or before any move")
        self.dwells[len(self.rows) - 1] = self.dwells.get(len(self.rows) - 1, 0.0) + given[0]

    def _go(self, block: Block) -> None:
        """The block's way: rotary joints, cycles, moves, the reference point."""
        if "return" in block.codes:
            self.to_initial = block.codes["return"] == 98
        if block.codes.get("once") == 28:
            self._to_reference(block)
            return
        if self.control is not None and tilts_or_turns(self, self.control, block):
            return
        self._take_cycle(block)
        if block.gives("QL") and self.cycle == 80:
            letter = "Q" if "Q" in block.values else "L"
            raise block.wrong(f"uses the address {letter}, which only a cycle has")
        if self.cycle != 80:
            if block.gives("XYZ") or "cycle" in block.codes:
                self._holes(block)
        elif block.gives("XYZ") or (self.motion in (2, 3) and block.gives("IJKR")):
            self._move(block)
        if "radius compensation" in block.codes:
            self._switch(block, int(block.codes["radius compensation"]))

    def _to_reference(self, block: Block) -> None:
        """Over a place between to the machine's reference point in the joints that are named; in Z that is
        the upper end, in X and Y no coordinate is known there."""
        letters = [a for a in "XYZ" if a in block.values]
        if (
            not letters
            or set(block.values) - {"N", *letters}
            or self.cycle != 80
            or self.correction is not None
        ):
            raise block.wrong("names no joint, or does more than go to the reference point (G28)")
        was, self.motion = self.motion, 0
        known = all(self.position["XYZ".index(a)] is not None for a in letters)
        between = {a: block.values[a] for a in letters}
        still = not self.absolute and not any(between.values())
        if not still:
            if not known:
                raise block.wrong("goes over a place between from an unknown place (G28)")
            self._move(replace(block, values=between, codes={}))
        if "Z" in letters:
            self._go_home(block, seen=True)
        if {"X", "Y"} & set(letters):
            if not self.up:
                raise block.wrong(
                    "goes to the reference point in X or Y with the tool down (G28); name Z first"
                )
            self.position[0], self.position[1] = None, self._y_unknown
        self.motion = was

    def _holes(self, block: Block) -> None:
        """The holes of a block of an active cycle: one, or as many as K or L say, each a step further under
        G91; none for 0, which only sets the cycle's numbers."""
        times = int(block.values.get("K", block.values.get("L", 1.0)))
        self._take_depths(block)
        if not block.gives("XYZ") and not block.gives("KL"):
            return
        for _ in range(times):
            self._drill(block)

    def _take_depths(self, block: Block) -> None:
        """Bottom and level R of the cycle as coordinates mm: under G91 R counts from the initial level and Z
        from R."""
        kept = self.cycle_values
        kept |= {a: block.values[a] * self.scale for a in "Q" if a in block.values}
        kept |= {a: block.values[a] for a in "P" if a in block.values}
        if "R" in block.values:
            kept["R"] = block.values["R"] * self.scale + (0.0 if self.absolute else self.initial)
        if "Z" in block.values:
            if not self.absolute and "R" not in kept:
                raise block.wrong("gives Z by a step from R, and no R was given")
            kept["Z"] = block.values["Z"] * self.scale + (0.0 if self.absolute else kept["R"])

    def _check_corrected(self, block: Block) -> None:
        """What a control does not do while it corrects the radius."""
        wrong = set(block.codes) & {"plane", "units", "offset", "cycle", "length", "distance"}
        if (
            wrong
            or block.codes.get("once") == 53
            or {2, 6, 30} & set(block.m_codes)
            or block.codes.get("motion") == 0
        ):
            raise block.wrong("does what a control cannot do while it corrects the radius (G41, G42)")

    def _switch(self, block: Block, code: int) -> None:
        """Compensation of the radius on or off, with the straight move of the same block."""
        straight = self.motion == 1 and block.gives("XY")
        if code == 40:
            if self.correction is not None:
                if not straight:
                    raise block.wrong("ends the correction of the radius without a straight way")
                first, side, register = self.correction
                self._spans.append(Span(first, len(self.rows) - 1, side, register))
                self.correction = None
            return
        if self.correction is not None or not straight or self.plane != 17:
            raise block.wrong("begins the correction of the radius without a straight way in G17")
        if "D" not in block.values or int(block.values["D"]) not in self.registers:
            raise block.wrong("corrects the radius from a register D that holds nothing")
        self.correction = (len(self.rows) - 1, 1 if code == 41 else -1, int(block.values["D"]))

    def _take_length(self, block: Block, code: float) -> None:
        """The tool's length corrected along Z (G43), with its point kept where joints turn (G43.4), or
        neither (G49)."""
        control = self.control
        self.length_offset = 0 if code == 49 else int(block.values.get("H", 0))
        if control is None or control.point == (code == 43.4):
            return
        if any(v is None for v in self.position) or not control.known() or control.plane is not None:
            raise block.wrong("keeps the tool's point where the machine's position is not known")
        here = np.array(self.position, dtype=np.float64)
        moved = control.keep_point(here) if code == 43.4 else control.free_point(here)
        self.position = [float(v) for v in moved]

    def _take_offset(self, code: int) -> None:
        """Another work offset: other coordinates for the same place, which is known at the machine's upper
        end only."""
        name = f"G{code}"
        if name not in self.work_offsets:
            self.work_offsets.append(name)
        if self.offset != code:
            self.tool_change_z = self.heights.get(name, self.tool_change_z)
            if self.control is not None:
                self.control.offset = code
            self.position = [None, self._y_unknown, self._upper_end() if self.up else None]
            self.offset = code

    def _take_cycle(self, block: Block) -> None:
        """The motion group: straight moves and arcs end a cycle, a cycle's own numbers stay until it ends."""
        if "motion" in block.codes:
            self.motion, self.cycle = int(block.codes["motion"]), 80
        code = block.codes.get("cycle")
        if code is None:
            return
        if code != 80:
            if self.cycle == 80 and self.position[2] is not None:
                self.initial = self.position[2]
            if self.plane != 17:
                raise block.wrong("begins a cycle outside the plane G17")
            self.cycle_values = {}
        self.cycle = int(code)

    def _drill(self, block: Block) -> None:
        """One hole of the active cycle, as the moves that it stands for."""
        kept = self.cycle_values
        for needed in "ZR" + ("Q" if self.cycle in PECKING else ""):
            if needed not in kept:
                raise block.wrong(f"is a cycle without {needed}")
        bottom, level, peck = kept["Z"], kept["R"], kept.get("Q", 0.0)
        if bottom >= level or (self.cycle in PECKING and peck <= 0):
            raise block.wrong("is a cycle whose Z is not below R, or whose Q is not over 0")
        if self.position[0] is None or self.position[1] is None or self.position[2] is None:
            raise block.wrong("is a cycle from an unknown place")
        here_x, here_y = self.position[0], self.position[1]
        x, y = (
            here if a not in block.values else block.values[a] * self.scale + (0.0 if self.absolute else here)
            for a, here in (("X", here_x), ("Y", here_y))
        )
        here = self.position[2]
        if here < level:
            go_up = [self.position[0], self.position[1], level]
            self._straight(block, go_up, True)
        self._straight(block, [x, y, max(here, level)], True)
        self._straight(block, [x, y, level], True)
        if self.cycle in TAPPING and self.sense != TAPPING[self.cycle]:
            self.findings.append(
                (block.number, f"taps by G{self.cycle} with the spindle turning the other way")
            )
        for leg in legs_of(self.cycle, level, bottom, peck, kept.get("P", 0.0), self.peck_clearance):
            self._straight(block, [x, y, leg.z], leg.rapid)
            if leg.dwell:
                self.dwells[len(self.rows) - 1] = leg.dwell
        self._straight(block, [x, y, max(level, self.initial) if self.to_initial else level], True)

    def _straight(self, block: Block, end: list[float], rapid: bool) -> None:
        """A straight move of a cycle; none where the tool is there already."""
        start = [float(v) for v in self.position if v is not None]
        if max(abs(a - b) for a, b in zip(start, end, strict=True)) < 1e-9:
            return
        self.motion = 0 if rapid else 1
        self.check_state(block, end[2] != start[2])
        feed = 0.0 if rapid else float(self.feed or 0.0) * (self.speed if self.per_turn else 1.0)
        self._add(self.row_of(start, end, block, feed))
        self.position, self.up = list(end), False

    def _add(self, row: tuple[float, ...], aside: bool = False) -> None:
        self.rows.append(row)
        if self.control is not None:
            self.control.moved(aside=aside)

    def _upper_end(self) -> float:
        """The coordinate Z of the tip at the machine's upper end."""
        return self.tool_change_z if self.control is None else self.control.home()

    def _change_tool(self) -> None:
        self.tool, self.length_offset, self.sense = self.next_tool, 0, 0
        if self.control is not None:
            self.control.tool = self.tool
            if self.control.point:  # where the tool is now, no block said
                self.control.point, self.position = False, [None, self._y_unknown, None]
        self.position[2], self.up = self._upper_end(), True

    @property
    def _turning_letters(self) -> list[str]:
        return [] if self.control is None else self.control.letters

    def row_of(
        self,
        start: list[float],
        end: list[float],
        block: Block,
        feed: float = 0.0,
        turn: int = 0,
        centre: tuple[float, float] = (math.nan, math.nan),
    ) -> tuple[float, ...]:
        """A move as it is kept, in the present state: at rapid unless the motion is one at feed."""
        spindle = self.speed * self.sense
        shape = (float(self.motion == 0), turn, *centre, feed)
        return (*start, *end, *shape, self.tool, spindle, block.number, self.plane - 17, self.offset)

    def _move(self, block: Block) -> None:
        if block.codes.get("once") == 53:
            if set(block.values) - {"N", "Z"} or self.motion != 0 or block.values.get("Z") != 0.0:
                raise block.wrong("moves in machine coordinates other than Z to its upper end")
            self._go_home(block)
            return
        start = list(self.position)
        end: list[float | None] = list(start)
        for axis, letter in enumerate("XYZ"):
            if letter not in block.values:
                continue
            value = self.along(letter, block.values[letter])
            here = start[axis]
            if not self.absolute:
                if here is None:
                    raise block.wrong(f"moves {letter} by a step from an unknown place")
                value += here
            end[axis] = value
        if self.motion == 0 and (start[0] is None or start[1] is None):
            self._first(block, end)
            return
        if any(v is None for v in (*start, *end)):
            raise block.wrong("moves at feed from an unknown place")
        if self.inverse and self.motion != 0:
            if "F" not in block.values:
                raise block.wrong("has no F, which every block has under G93")
            if self.motion != 1:
                raise block.wrong("is an arc under G93")
        if self.per_turn and self.motion != 0 and self.speed <= 0:
            raise block.wrong("moves by a feed per turn (G95) and no speed S was given")
        self.check_state(block, "Z" in block.values)
        a = [float(v) for v in start if v is not None]
        b = [float(v) for v in end if v is not None]
        turn, centre = 0, (math.nan, math.nan)
        if self.motion in (2, 3):
            turn = 1 if self.motion == 3 else -1
            centre = centre_of(block, self.plane, self.scale, a, b, turn)
        feed = 0.0 if self.motion == 0 else float(self.feed or 0.0)
        if self.inverse:
            feed *= math.dist(a, b)
        feed *= self.speed if self.per_turn else 1.0
        self._add(self.row_of(a, b, block, feed, turn, centre))
        self.position, self.up = list(b), False

    def _first(self, block: Block, end: list[float | None]) -> None:
        """The first positioning comes from wherever the machine stood. A descent in the same block is driven
        over the place that it ends at, and told: nobody knows what stands on the way."""
        top = self.position[2]
        self.position = end
        if end[2] is None or top is None or end[2] >= top - 1e-9 or end[0] is None or end[1] is None:
            return
        self.check_state(block, True)
        self.findings.append(
            (
                block.number,
                f"comes down to Z {end[2]:.3f} in one move with X and Y, from a place that is not known",
            )
        )
        self._add(self.row_of([end[0], end[1], top], [end[0], end[1], end[2]], block))
        self.up = False

    def _go_home(self, block: Block, seen: bool = False) -> None:
        """Z to the machine's upper end; the way up is a move of its own where rotary joints count on it, or
        (`seen`) where the text names it."""
        control = self.control
        if control is not None and (control.plane is not None or control.point):
            raise block.wrong(
                "goes to the machine's upper end in a tilted plane or with the tool's point kept"
            )
        top = self._upper_end()
        if (seen and all(v is not None for v in self.position)) or (
            control is not None and all(v is not None for v in self.position) and control.known()
        ):
            start = [float(v) for v in self.position if v is not None]
            if abs(start[2] - top) > 1e-9:
                self._add(self.row_of(start, [start[0], start[1], top], block), aside=True)
        self.position[2], self.up = top, True

    def check_state(self, block: Block, height: bool) -> None:
        """Raises PostError on a move at feed without a feed; notes a spindle at rest and, where the move has
        a `height`, a length offset that is not the tool's."""
        if self.motion != 0 and not self.feed:
            raise block.wrong("moves at feed, but no feed was given")
        if self.motion != 0 and (self.sense == 0 or self.speed <= 0):
            self.findings.append((block.number, "moves at feed with the spindle at rest"))
        if height and self.tool and self.length_offset != self.tool:
            self.findings.append(
                (block.number, f"moves Z without the length offset H{self.tool} of tool {self.tool}")
            )
