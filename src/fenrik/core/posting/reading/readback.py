"""Reads a program's text as a controller would (ISO 6983-1) and tells the motion it means.

A stand-in for a controller: it knows the standard's words and modal groups and nothing of the path
or the writer. Unknown words are errors, not guesses.
"""

from __future__ import annotations

import math
import re

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import PostError
from fenrik.core.motion.moves import Motion, Moves
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.reading.cycles import KNOWN, PECKING, REFUSED, TAPPING, legs_of
from fenrik.core.posting.reading.driven import Span, driven
from fenrik.core.posting.reading.rotary_control import SQUARE_DEG, RotaryControl
from fenrik.core.posting.reading.subprograms import executed

_WORD = re.compile(r"([A-Z])\s*([+-]?(?:\d+\.?\d*|\.\d+))")
_WORDS_ONLY = re.compile(r"(?:[A-Z]\s*[+-]?(?:\d+\.?\d*|\.\d+)\s*)+")
_COMMENT = re.compile(r"\([^()]*\)")
_NUMBER = r"([+-]?(?:\d+\.?\d*|\.\d+)) ?"
_PLAIN_MOVE = re.compile(r"(?:N\d+ ?)?(?:G0?([0-3]) ?)?" + "".join(f"(?:{a}{_NUMBER})?" for a in "XYZIJKRF"))
"""Most blocks: at most a code of motion, then addresses in their usual order."""
_GROUPS: dict[str, set[float]] = {
    "motion": {0, 1, 2, 3},
    "plane": {17, 18, 19},
    "units": {20, 21},
    "distance": {90, 91},
    "feed": {93, 94, 95},
    "exact stop": {61, 64},
    "speed": {97},
    "radius compensation": {40, 41, 42},
    "length": {43, 43.4, 49},
    "cycle": {*KNOWN},
    "return": {98, 99},
    "offset": {54, 55, 56, 57, 58, 59},
    "tilted plane": {68.2, 69},
    "once": {4, 9, 28, 53, 53.1},
}
_GROUP_OF = {code: group for group, codes in _GROUPS.items() for code in codes}
_PLANES = {17: (0, 1, "I", "J"), 18: (2, 0, "K", "I"), 19: (1, 2, "J", "K")}
"""Per plane its first and second axis and the words of the centre along them (ISO 6983-1)."""
_M_CODES = {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 19, 30}
_WITH_REASON: dict[float, str] = {
    30: "goes to a second reference point, which this control does not have (G30)",
    92: "sets the coordinates by where the tool stands, which the proof cannot know (G92)",
    96: "keeps the cutting speed constant, which is a lathe's way of turning (G96)",
    **REFUSED,
}
"""Codes that a control may know and this one refuses, and why."""
ARC_TOLERANCE_MM = 0.01
"""Difference between an arc's start and end radius that a controller still takes."""


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
        self._rows: list[tuple[float, ...]] = []

    def read(self, text: str) -> ProgramMotion:
        """The motion of the whole text. Raises PostError naming line, word and what is wrong with it."""
        last = 0
        for line in executed(text):
            if self.ended:
                if line.raw.strip() not in ("", "%"):
                    raise self._error(line.number, line.raw, "stands after the end of the program")
                continue
            self._block(last := line.number, line.raw)
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
        columns = np.array(self._rows, dtype=np.float64).reshape(-1, 16).T
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

    def _error(self, number: int, raw: str, what: str) -> PostError:
        return PostError(
            f"Line {number} '{raw.strip()}' {what}.", remedy="Correct the dialect or the program."
        )

    def _block(self, number: int, raw: str) -> None:
        line = _COMMENT.sub(" ", raw) if "(" in raw else raw
        line = line.split(";")[0].strip().upper()
        if line in ("", "%"):
            return
        plain = _PLAIN_MOVE.fullmatch(line)
        if plain is not None:
            code, *numbers = plain.groups()
            given = {a: float(v) for a, v in zip("XYZIJKRF", numbers, strict=True) if v is not None}
            self._act(number, raw, given, {} if code is None else {"motion": int(code)}, [])
            return
        if "(" in line or ")" in line:
            raise self._error(number, raw, "has a comment that does not close")
        words = _WORD.findall(line)
        if not _WORDS_ONLY.fullmatch(line):
            raise self._error(number, raw, "holds something that is no word of letter and number")
        values: dict[str, float] = {}
        g_codes: dict[str, float] = {}
        m_codes: list[int] = []
        for letter, value in words:
            if letter == "G":
                self._take_g(number, raw, value, g_codes)
            elif letter == "M":
                code = float(value)
                if code == 60:
                    raise self._error(number, raw, "changes the pallet, and with it the work (M60)")
                if code not in _M_CODES:
                    raise self._error(number, raw, f"uses M{value}, which this controller does not know")
                m_codes.append(int(code))
            elif letter in values:
                raise self._error(number, raw, f"gives {letter} twice")
            elif letter not in "NOXYZIJKLRFSTHPQD" and letter not in self._turning_letters:
                raise self._error(
                    number, raw, f"uses the address {letter}, which this controller does not know"
                )
            else:
                values[letter] = float(value)
        self._act(number, raw, values, g_codes, m_codes)

    @property
    def _y_unknown(self) -> float | None:
        """The coordinate Y before any was given: where there is no joint Y it is 0."""
        return 0.0 if self.without_y else None

    def _along(self, letter: str, value: float) -> float:
        """A coordinate mm of a word: half of it where X is written as a diameter."""
        return value * (0.5 * self.scale if self.diameters and letter == "X" else self.scale)

    def _take_g(self, number: int, raw: str, value: str, g_codes: dict[str, float]) -> None:
        code = float(value)
        group = _GROUP_OF.get(code)
        if code in _WITH_REASON:
            raise self._error(number, raw, _WITH_REASON[code])
        if group is None or (self.control is None and code in (43.4, 53.1, 68.2, 69)):
            raise self._error(number, raw, f"uses G{value}, which this controller does not know")
        if group in g_codes:
            raise self._error(number, raw, f"gives two codes of the group '{group}'")
        g_codes[group] = code if code != int(code) else int(code)

    def _act(
        self, number: int, raw: str, values: dict[str, float], g_codes: dict[str, float], m_codes: list[int]
    ) -> None:
        if self.without_y and "Y" in values:
            raise self._error(number, raw, "uses the address Y, and the machine has no such joint")
        if "D" in values and g_codes.get("radius compensation") not in (41, 42):
            raise self._error(number, raw, "uses the address D without G41 or G42")
        if self.correction is not None:
            self._check_corrected(number, raw, g_codes, m_codes)
        if "units" in g_codes:
            self.scale = 25.4 if g_codes["units"] == 20 else 1.0
        self.plane = int(g_codes.get("plane", self.plane))
        if "distance" in g_codes:
            self.absolute = g_codes["distance"] == 90
        if "offset" in g_codes:
            self._take_offset(int(g_codes["offset"]))
        if g_codes.get("once") == 4:
            self._dwell(number, raw, values)
        if "feed" in g_codes:
            self.inverse, self.per_turn, self.feed = g_codes["feed"] == 93, g_codes["feed"] == 95, None
        if "F" in values:
            self.feed = values["F"] if self.inverse else values["F"] * self.scale
        if "S" in values:
            self.speed = values["S"]
        if "T" in values:
            self.next_tool = int(values["T"])
        # a control changes the tool before it takes the length, and both before the block's way
        if 6 in m_codes:
            self._change_tool()
        if "length" in g_codes:
            self._take_length(number, raw, g_codes["length"], values)
        for code in m_codes:
            if code in (3, 4):
                self.sense = 1 if code == 3 else -1
        self._go(number, raw, values, g_codes)
        # what stops acts after the block's way
        if {5, 19} & set(m_codes):
            self.sense = 0
        if any(code in (2, 30) for code in m_codes):
            self.ended = True

    def _dwell(self, number: int, raw: str, values: dict[str, float]) -> None:
        """Waits so many seconds, given as P, X or F; the other words of the block are none of a way."""
        given = [values.pop(letter) for letter in ("P", "X", "F") if letter in values]
        if len(given) != 1 or not self._rows:
            raise self._error(number, raw, "is a dwell without one of P, X and F, or before any move")
        self.dwells[len(self._rows) - 1] = self.dwells.get(len(self._rows) - 1, 0.0) + given[0]

    def _go(self, number: int, raw: str, values: dict[str, float], g_codes: dict[str, float]) -> None:
        """The block's way: rotary joints, cycles, moves, the reference point."""
        if "return" in g_codes:
            self.to_initial = g_codes["return"] == 98
        if g_codes.get("once") == 28:
            self._to_reference(number, raw, values)
            return
        if self.control is not None and self._tilts_or_turns(number, raw, values, g_codes):
            return
        self._take_cycle(number, raw, values, g_codes)
        if ("Q" in values or "L" in values) and self.cycle == 80:
            letter = "Q" if "Q" in values else "L"
            raise self._error(number, raw, f"uses the address {letter}, which only a cycle has")
        if self.cycle != 80:
            if any(a in values for a in "XYZ") or "cycle" in g_codes:
                self._holes(number, raw, values)
        elif any(a in values for a in "XYZ") or (self.motion in (2, 3) and any(a in values for a in "IJKR")):
            self._move(number, raw, values, g_codes)
        if "radius compensation" in g_codes:
            self._switch(number, raw, int(g_codes["radius compensation"]), values)

    def _to_reference(self, number: int, raw: str, values: dict[str, float]) -> None:
        """Over a place between to the machine's reference point in the joints that are named; in Z that is
        the upper end, in X and Y no coordinate is known there."""
        letters = [a for a in "XYZ" if a in values]
        if not letters or set(values) - {"N", *letters} or self.cycle != 80 or self.correction is not None:
            raise self._error(
                number, raw, "names no joint, or does more than go to the reference point (G28)"
            )
        was, self.motion = self.motion, 0
        known = all(self.position["XYZ".index(a)] is not None for a in letters)
        between = {a: values[a] for a in letters}
        still = not self.absolute and not any(between.values())
        if not still:
            if not known:
                raise self._error(number, raw, "goes over a place between from an unknown place (G28)")
            self._move(number, raw, between, {})
        if "Z" in letters:
            self._go_home(number, raw, seen=True)
        if {"X", "Y"} & set(letters):
            if not self.up:
                raise self._error(
                    number,
                    raw,
                    "goes to the reference point in X or Y with the tool down (G28); name Z first",
                )
            self.position[0], self.position[1] = None, self._y_unknown
        self.motion = was

    def _holes(self, number: int, raw: str, values: dict[str, float]) -> None:
        """The holes of a block of an active cycle: one, or as many as K or L say, each a step further under
        G91; none for 0, which only sets the cycle's numbers."""
        times = int(values.get("K", values.get("L", 1.0)))
        self._take_depths(number, raw, values)
        if not any(a in values for a in "XYZ") and "K" not in values and "L" not in values:
            return
        for _ in range(times):
            self._drill(number, raw, values)

    def _take_depths(self, number: int, raw: str, values: dict[str, float]) -> None:
        """Bottom and level R of the cycle as coordinates mm: under G91 R counts from the initial level and Z
        from R."""
        kept = self.cycle_values
        kept |= {a: values[a] * self.scale for a in "Q" if a in values}
        kept |= {a: values[a] for a in "P" if a in values}
        if "R" in values:
            kept["R"] = values["R"] * self.scale + (0.0 if self.absolute else self.initial)
        if "Z" in values:
            if not self.absolute and "R" not in kept:
                raise self._error(number, raw, "gives Z by a step from R, and no R was given")
            kept["Z"] = values["Z"] * self.scale + (0.0 if self.absolute else kept["R"])

    def _check_corrected(self, number: int, raw: str, g_codes: dict[str, float], m_codes: list[int]) -> None:
        """What a control does not do while it corrects the radius."""
        wrong = set(g_codes) & {"plane", "units", "offset", "cycle", "length", "distance"}
        if wrong or g_codes.get("once") == 53 or {2, 6, 30} & set(m_codes) or g_codes.get("motion") == 0:
            raise self._error(
                number, raw, "does what a control cannot do while it corrects the radius (G41, G42)"
            )

    def _switch(self, number: int, raw: str, code: int, values: dict[str, float]) -> None:
        """Compensation of the radius on or off, with the straight move of the same block."""
        straight = self.motion == 1 and ("X" in values or "Y" in values)
        if code == 40:
            if self.correction is not None:
                if not straight:
                    raise self._error(number, raw, "ends the correction of the radius without a straight way")
                first, side, register = self.correction
                self._spans.append(Span(first, len(self._rows) - 1, side, register))
                self.correction = None
            return
        if self.correction is not None or not straight or self.plane != 17:
            raise self._error(
                number, raw, "begins the correction of the radius without a straight way in G17"
            )
        if "D" not in values or int(values["D"]) not in self.registers:
            raise self._error(number, raw, "corrects the radius from a register D that holds nothing")
        self.correction = (len(self._rows) - 1, 1 if code == 41 else -1, int(values["D"]))

    def _take_length(self, number: int, raw: str, code: float, values: dict[str, float]) -> None:
        """The tool's length corrected along Z (G43), with its point kept where joints turn (G43.4), or
        neither (G49)."""
        control = self.control
        self.length_offset = 0 if code == 49 else int(values.get("H", 0))
        if control is None or control.point == (code == 43.4):
            return
        if any(v is None for v in self.position) or not control.known() or control.plane is not None:
            raise self._error(number, raw, "keeps the tool's point where the machine's position is not known")
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

    def _take_cycle(self, number: int, raw: str, values: dict[str, float], g_codes: dict[str, float]) -> None:
        """The motion group: straight moves and arcs end a cycle, a cycle's own numbers stay until it ends."""
        if "motion" in g_codes:
            self.motion, self.cycle = int(g_codes["motion"]), 80
        code = g_codes.get("cycle")
        if code is None:
            return
        if code != 80:
            if self.cycle == 80 and self.position[2] is not None:
                self.initial = self.position[2]
            if self.plane != 17:
                raise self._error(number, raw, "begins a cycle outside the plane G17")
            self.cycle_values = {}
        self.cycle = int(code)

    def _drill(self, number: int, raw: str, values: dict[str, float]) -> None:
        """One hole of the active cycle, as the moves that it stands for."""
        kept = self.cycle_values
        for needed in "ZR" + ("Q" if self.cycle in PECKING else ""):
            if needed not in kept:
                raise self._error(number, raw, f"is a cycle without {needed}")
        bottom, level, peck = kept["Z"], kept["R"], kept.get("Q", 0.0)
        if bottom >= level or (self.cycle in PECKING and peck <= 0):
            raise self._error(number, raw, "is a cycle whose Z is not below R, or whose Q is not over 0")
        if self.position[0] is None or self.position[1] is None or self.position[2] is None:
            raise self._error(number, raw, "is a cycle from an unknown place")
        here_x, here_y = self.position[0], self.position[1]
        x, y = (
            here if a not in values else values[a] * self.scale + (0.0 if self.absolute else here)
            for a, here in (("X", here_x), ("Y", here_y))
        )
        here = self.position[2]
        if here < level:
            go_up = [self.position[0], self.position[1], level]
            self._straight(number, raw, go_up, True)
        self._straight(number, raw, [x, y, max(here, level)], True)
        self._straight(number, raw, [x, y, level], True)
        if self.cycle in TAPPING and self.sense != TAPPING[self.cycle]:
            self.findings.append((number, f"taps by G{self.cycle} with the spindle turning the other way"))
        for leg in legs_of(self.cycle, level, bottom, peck, kept.get("P", 0.0), self.peck_clearance):
            self._straight(number, raw, [x, y, leg.z], leg.rapid)
            if leg.dwell:
                self.dwells[len(self._rows) - 1] = leg.dwell
        self._straight(number, raw, [x, y, max(level, self.initial) if self.to_initial else level], True)

    def _straight(self, number: int, raw: str, end: list[float], rapid: bool) -> None:
        """A straight move of a cycle; none where the tool is there already."""
        start = [float(v) for v in self.position if v is not None]
        if max(abs(a - b) for a, b in zip(start, end, strict=True)) < 1e-9:
            return
        self.motion = 0 if rapid else 1
        self._check_state(number, raw, end[2] != start[2])
        feed = 0.0 if rapid else float(self.feed or 0.0) * (self.speed if self.per_turn else 1.0)
        self._add(self._row(start, end, number, feed))
        self.position, self.up = list(end), False

    def _add(self, row: tuple[float, ...], aside: bool = False) -> None:
        self._rows.append(row)
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

    def _tilts_or_turns(
        self, number: int, raw: str, values: dict[str, float], g_codes: dict[str, float]
    ) -> bool:
        """Rotary joints, the tilted plane and the tool's point kept. Whether the block does nothing else."""
        control = self.control
        assert control is not None
        code, once = g_codes.get("tilted plane"), g_codes.get("once")
        given = {letter: values[letter] for letter in control.letters if letter in values}
        places = any(a in values for a in "XYZ")
        # while a lathe works, a block of C alone is a way round the spindle's axis
        round_axis = bool(given) and control.on.machine.is_lathe and not self.up
        turns = given and (places or control.point or round_axis)
        if not (code or once) and (turns or (control.point and places)):
            self._drive(number, raw, given, values, g_codes)
            return True
        if not (code or given or once == 53.1):
            return False
        if (given and (code or once)) or self.cycle != 80 or self.correction is not None:
            raise self._error(number, raw, "does more at once than a control can")
        if once == 53.1:
            if control.plane is None:
                raise self._error(number, raw, "sets the tool square to a tilted plane that is not there")
            off = control.off_square()
            if off > SQUARE_DEG:
                self.findings.append(
                    (number, f"turns the tool by {off:.3f}° that no rotary word told before")
                )
        elif code == 68.2:
            self._tilt(number, raw, values)
        elif code == 69:
            if control.plane is not None:
                here = np.array([math.nan if v is None else v for v in self.position])
                self.position = [float(v) for v in control.out_of_plane(here)]
                control.plane = None
        else:
            self._turn(number, raw, given, values, g_codes)
        return True

    def _tilt(self, number: int, raw: str, values: dict[str, float]) -> None:
        control = self.control
        assert control is not None
        if any(v is None for v in self.position) or not control.known():
            raise self._error(number, raw, "tilts the plane while the machine's position is not known")
        if control.plane is not None:
            raise self._error(number, raw, "tilts a plane that is tilted already")
        words = np.array(self.position, dtype=np.float64)
        origin = np.array([values.get(a, 0.0) * self.scale for a in "XYZ"])
        control.tilt(origin, np.array([values.get(a, 0.0) for a in "IJK"]))
        self.position = [float(v) for v in control.into_plane(words)]

    def _drive(
        self,
        number: int,
        raw: str,
        given: dict[str, float],
        values: dict[str, float],
        g_codes: dict[str, float],
    ) -> None:
        """A move on which rotary joints turn as well, or with the tool's point kept."""
        control = self.control
        assert control is not None
        self.motion = int(g_codes.get("motion", self.motion))
        if self.motion not in (0, 1) or self.cycle != 80 or self.correction is not None:
            raise self._error(number, raw, "turns rotary joints on an arc, in a cycle or with G41 or G42")
        if control.plane is not None or not self.absolute:
            raise self._error(number, raw, "turns rotary joints in a tilted plane or by steps (G91)")
        if any(v is None for v in self.position) or not control.known():
            raise self._error(number, raw, "turns rotary joints while it moves from an unknown place")
        if self.inverse and self.motion == 1 and "F" not in values:
            raise self._error(number, raw, "has no F, which every block has under G93")
        self._check_state(number, raw, "Z" in values)
        start = [float(v) for v in self.position if v is not None]
        end = [
            self._along(a, values[a]) if a in values else here for a, here in zip("XYZ", start, strict=True)
        ]
        feed = 0.0 if self.motion == 0 else float(self.feed or 0.0)
        control.drive(given, (np.array(start), np.array(end)), feed, self.inverse)
        self._rows.append(self._row(start, end, number, feed))
        self.position, self.up = list(end), False

    def _turn(
        self,
        number: int,
        raw: str,
        given: dict[str, float],
        values: dict[str, float],
        g_codes: dict[str, float],
    ) -> None:
        control = self.control
        assert control is not None
        self.motion = int(g_codes.get("motion", self.motion))
        if self.motion != 0 or any(a in values for a in "XYZIJKR"):
            raise self._error(
                number, raw, "turns rotary joints on the way of a cut, or together with X, Y or Z"
            )
        if control.plane is not None:
            raise self._error(number, raw, "turns rotary joints in a tilted plane")
        if not self.absolute:
            raise self._error(number, raw, "turns rotary joints by steps (G91)")
        known = all(v is not None for v in self.position)
        words: NDArray[np.float64] | None = np.array(self.position, dtype=np.float64) if known else None
        if control.turn(given, words):
            here = [float(v) for v in self.position if v is not None]
            self._rows.append(self._row(here, here, number))

    def _row(
        self,
        start: list[float],
        end: list[float],
        number: int,
        feed: float = 0.0,
        turn: int = 0,
        centre: tuple[float, float] = (math.nan, math.nan),
    ) -> tuple[float, ...]:
        """A move as it is kept, in the present state: at rapid unless the motion is one at feed."""
        spindle = self.speed * self.sense
        shape = (float(self.motion == 0), turn, *centre, feed)
        return (*start, *end, *shape, self.tool, spindle, number, self.plane - 17, self.offset)

    def _move(self, number: int, raw: str, values: dict[str, float], g_codes: dict[str, float]) -> None:
        if g_codes.get("once") == 53:
            if set(values) - {"N", "Z"} or self.motion != 0 or values.get("Z") != 0.0:
                raise self._error(number, raw, "moves in machine coordinates other than Z to its upper end")
            self._go_home(number, raw)
            return
        start = list(self.position)
        end: list[float | None] = list(start)
        for axis, letter in enumerate("XYZ"):
            if letter not in values:
                continue
            value = self._along(letter, values[letter])
            here = start[axis]
            if not self.absolute:
                if here is None:
                    raise self._error(number, raw, f"moves {letter} by a step from an unknown place")
                value += here
            end[axis] = value
        if self.motion == 0 and (start[0] is None or start[1] is None):
            self._first(number, raw, end)
            return
        if any(v is None for v in (*start, *end)):
            raise self._error(number, raw, "moves at feed from an unknown place")
        if self.inverse and self.motion != 0:
            if "F" not in values:
                raise self._error(number, raw, "has no F, which every block has under G93")
            if self.motion != 1:
                raise self._error(number, raw, "is an arc under G93")
        if self.per_turn and self.motion != 0 and self.speed <= 0:
            raise self._error(number, raw, "moves by a feed per turn (G95) and no speed S was given")
        self._check_state(number, raw, "Z" in values)
        a = [float(v) for v in start if v is not None]
        b = [float(v) for v in end if v is not None]
        turn, centre = 0, (math.nan, math.nan)
        if self.motion in (2, 3):
            turn = 1 if self.motion == 3 else -1
            centre = self._centre(number, raw, values, a, b, turn)
        feed = 0.0 if self.motion == 0 else float(self.feed or 0.0)
        if self.inverse:
            feed *= math.dist(a, b)
        feed *= self.speed if self.per_turn else 1.0
        self._add(self._row(a, b, number, feed, turn, centre))
        self.position, self.up = list(b), False

    def _first(self, number: int, raw: str, end: list[float | None]) -> None:
        """The first positioning comes from wherever the machine stood. A descent in the same block is driven
        over the place that it ends at, and told: nobody knows what stands on the way."""
        top = self.position[2]
        self.position = end
        if end[2] is None or top is None or end[2] >= top - 1e-9 or end[0] is None or end[1] is None:
            return
        self._check_state(number, raw, True)
        self.findings.append(
            (number, f"comes down to Z {end[2]:.3f} in one move with X and Y, from a place that is not known")
        )
        self._add(self._row([end[0], end[1], top], [end[0], end[1], end[2]], number))
        self.up = False

    def _go_home(self, number: int, raw: str, seen: bool = False) -> None:
        """Z to the machine's upper end; the way up is a move of its own where rotary joints count on it, or
        (`seen`) where the text names it."""
        control = self.control
        if control is not None and (control.plane is not None or control.point):
            raise self._error(
                number, raw, "goes to the machine's upper end in a tilted plane or with the tool's point kept"
            )
        top = self._upper_end()
        if (seen and all(v is not None for v in self.position)) or (
            control is not None and all(v is not None for v in self.position) and control.known()
        ):
            start = [float(v) for v in self.position if v is not None]
            if abs(start[2] - top) > 1e-9:
                self._add(self._row(start, [start[0], start[1], top], number), aside=True)
        self.position[2], self.up = top, True

    def _check_state(self, number: int, raw: str, height: bool) -> None:
        if self.motion != 0 and not self.feed:
            raise self._error(number, raw, "moves at feed, but no feed was given")
        if self.motion != 0 and (self.sense == 0 or self.speed <= 0):
            self.findings.append((number, "moves at feed with the spindle at rest"))
        if height and self.tool and self.length_offset != self.tool:
            self.findings.append(
                (number, f"moves Z without the length offset H{self.tool} of tool {self.tool}")
            )

    def _centre(
        self, number: int, raw: str, values: dict[str, float], a: list[float], b: list[float], turn: int
    ) -> tuple[float, float]:
        """The arc's centre along the first and second axis of the plane."""
        first, second, *letters = _PLANES[self.plane]
        foreign = next((c for c in "IJK" if c in values and c not in letters), None)
        if foreign is not None:
            raise self._error(number, raw, f"gives {foreign}, which no arc in the plane G{self.plane} has")
        p, q = (a[first], a[second]), (b[first], b[second])
        if "R" in values:
            if any(c in values for c in letters):
                raise self._error(number, raw, "gives both a radius and a centre")
            return self._centre_by_radius(number, raw, values["R"] * self.scale, p, q, turn)
        if not any(c in values for c in letters):
            raise self._error(number, raw, "is an arc without centre or radius")
        x, y = (at + values.get(c, 0.0) * self.scale for at, c in zip(p, letters, strict=True))
        r0, r1 = math.dist(p, (x, y)), math.dist(q, (x, y))
        if r0 <= 0 or abs(r0 - r1) > ARC_TOLERANCE_MM:
            raise self._error(
                number, raw, f"is an arc whose start and end radius differ by {abs(r0 - r1):.4f} mm"
            )
        return x, y

    def _centre_by_radius(
        self, number: int, raw: str, radius: float, a: tuple[float, float], b: tuple[float, float], turn: int
    ) -> tuple[float, float]:
        dx, dy = b[0] - a[0], b[1] - a[1]
        chord = math.hypot(dx, dy)
        if chord == 0.0:
            raise self._error(number, raw, "is a full circle by radius, which has no centre")
        if chord / 2 > abs(radius) + ARC_TOLERANCE_MM:
            raise self._error(
                number, raw, f"is an arc of radius {abs(radius):.4f} mm over a chord of {chord:.4f} mm"
            )
        away = math.sqrt(max(0.0, radius * radius - chord * chord / 4))
        side = turn * (
            1.0 if radius > 0 else -1.0
        )  # the short arc counter-clockwise has its centre on the left
        return (
            0.5 * (a[0] + b[0]) - side * away * dy / chord,
            0.5 * (a[1] + b[1]) + side * away * dx / chord,
        )
