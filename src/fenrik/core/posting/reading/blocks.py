"""One block of a program as its words (ISO 6983-1): coordinates and other addresses, G codes by modal group,
M codes. What the standard or this control does not know is an error, not a guess."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from fenrik.core.errors import PostError
from fenrik.core.posting.reading.cycles import KNOWN, REFUSED

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
_ROTARY_CODES = (43.4, 53.1, 68.2, 69)
"""Codes of a control with rotary joints."""
_M_CODES = {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 19, 30}
_ADDRESSES = "NOXYZIJKLRFSTHPQD"
_WITH_REASON: dict[float, str] = {
    30: "goes to a second reference point, which this control does not have (G30)",
    92: "sets the coordinates by where the tool stands, which the proof cannot know (G92)",
    96: "keeps the cutting speed constant, which is a lathe's way of turning (G96)",
    **REFUSED,
}
"""Codes that a control may know and this one refuses, and why."""


@dataclass(frozen=True)
class Block:
    """A line of the text: `values` by their letter, as written, `codes` the G codes by modal group, `m_codes`
    the M codes in their order."""

    number: int
    raw: str
    values: dict[str, float] = field(default_factory=dict)
    codes: dict[str, float] = field(default_factory=dict)
    m_codes: list[int] = field(default_factory=list)

    def wrong(self, what: str) -> PostError:
        """The error that says what is wrong with this block."""
        return PostError(
            f"Line {self.number} '{self.raw.strip()}' {what}.", remedy="Correct the dialect or the program."
        )

    def gives(self, letters: str) -> bool:
        """Whether one of the letters is among its addresses."""
        return any(a in self.values for a in letters)


def read_block(number: int, raw: str, rotary: bool, letters: list[str]) -> Block | None:
    """The block of a line, None of an empty one. `rotary` controls know the codes of rotary joints, whose
    addresses are `letters`. Raises PostError naming line, word and what is wrong with it."""
    block = Block(number, raw)
    line = _COMMENT.sub(" ", raw) if "(" in raw else raw
    line = line.split(";")[0].strip().upper()
    if line in ("", "%"):
        return None
    plain = _PLAIN_MOVE.fullmatch(line)
    if plain is not None:
        code, *numbers = plain.groups()
        given = {a: float(v) for a, v in zip("XYZIJKRF", numbers, strict=True) if v is not None}
        return Block(number, raw, given, {} if code is None else {"motion": int(code)})
    if "(" in line or ")" in line:
        raise block.wrong("has a comment that does not close")
    words = _WORD.findall(line)
    if not _WORDS_ONLY.fullmatch(line):
        raise block.wrong("holds something that is no word of letter and number")
    for letter, value in words:
        if letter == "G":
            _take_g(block, value, rotary)
        elif letter == "M":
            _take_m(block, value)
        elif letter in block.values:
            raise block.wrong(f"gives {letter} twice")
        elif letter not in _ADDRESSES and letter not in letters:
            raise block.wrong(f"uses the address {letter}, which this controller does not know")
        else:
            block.values[letter] = float(value)
    return block


def _take_g(block: Block, value: str, rotary: bool) -> None:
    code = float(value)
    group = _GROUP_OF.get(code)
    if code in _WITH_REASON:
        raise block.wrong(_WITH_REASON[code])
    if group is None or (not rotary and code in _ROTARY_CODES):
        raise block.wrong(f"uses G{value}, which this controller does not know")
    if group in block.codes:
        raise block.wrong(f"gives two codes of the group '{group}'")
    block.codes[group] = code if code != int(code) else int(code)


def _take_m(block: Block, value: str) -> None:
    code = float(value)
    if code == 60:
        raise block.wrong("changes the pallet, and with it the work (M60)")
    if code not in _M_CODES:
        raise block.wrong(f"uses M{value}, which this controller does not know")
    block.m_codes.append(int(code))
