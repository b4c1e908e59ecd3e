"""The blocks of a text in the order in which a control executes them: the main program, and the subprograms
that it calls (M98 P L, M99)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from fenrik.core.errors import PostError

_NAME = re.compile(r"\s*[O:](\d{1,8})\b")
_CALL = re.compile(r"M\s*98\b")
_BACK = re.compile(r"M\s*99\b")
_ANY = re.compile(r"M\s*9[89]\b", re.IGNORECASE)
_WHICH = re.compile(r"P\s*(\d{1,8})\b")
_TIMES = re.compile(r"[LK]\s*(\d{1,4})\b")
DEEPEST, MOST_BLOCKS = 8, 2_000_000
"""Calls within calls, and blocks executed, at most."""


@dataclass(frozen=True)
class Line:
    """A line of the text: its number from 1, and what stands on it; `skippable` where it begins with the
    sign of optional blocks."""

    number: int
    raw: str


def lines_of(text: str) -> tuple[list[Line], dict[int, list[Line]]]:
    """The main program's lines and those of the programs that follow it, by their numbers O. What follows the
    first end of a program belongs to the next that is named."""
    programs: list[tuple[int | None, list[Line]]] = [(None, [])]
    for number, raw in enumerate(text.splitlines(), 1):
        named = _NAME.match(raw)
        if named and any(line.raw.strip(" %\t") for line in programs[-1][1]):
            programs.append((int(named.group(1)), []))
        elif named and programs[-1][0] is None:
            programs[-1] = (int(named.group(1)), programs[-1][1])
        programs[-1][1].append(Line(number, _plain(raw)))
    return programs[0][1], {n: lines for n, lines in programs[1:] if n is not None}


def _plain(raw: str) -> str:
    """A line without the sign of optional blocks, which are executed."""
    return re.sub(r"^\s*/\d?\s*", "", raw) if raw.lstrip().startswith("/") else raw


def executed(text: str) -> Iterator[Line]:
    """The lines in the order of execution, calls resolved. Raises PostError for a call of a program that the
    text does not hold, for calls that go too deep or never end."""
    if not _ANY.search(text):  # most programs call none
        for number, raw in enumerate(text.splitlines(), 1):
            yield Line(number, _plain(raw))
        return
    main, others = lines_of(text)
    for count, line in enumerate(_walk(main, others, 0), 1):
        if count > MOST_BLOCKS:
            raise _error(line, f"is the block after {MOST_BLOCKS} executed ones: the program does not end")
        yield line


def _walk(lines: list[Line], others: dict[int, list[Line]], depth: int) -> Iterator[Line]:
    for line in lines:
        code = re.sub(r"\([^()]*\)", " ", line.raw).split(";")[0].upper()
        if _BACK.search(code):
            if depth == 0:
                raise _error(line, "would begin the main program again, for ever (M99)")
            yield Line(line.number, _BACK.sub("", line.raw))
            return
        if not _CALL.search(code):
            yield line
            continue
        which, times = _WHICH.search(code), _TIMES.search(code)
        if which is None or int(which.group(1)) not in others:
            name = "a program without P" if which is None else f"the program O{which.group(1)}"
            raise _error(line, f"calls {name}, which this text does not hold (M98)")
        if depth + 1 > DEEPEST:
            raise _error(line, f"calls more than {DEEPEST} programs within each other (M98)")
        for _ in range(int(times.group(1)) if times else 1):
            yield from _walk(others[int(which.group(1))], others, depth + 1)


def _error(line: Line, what: str) -> PostError:
    return PostError(f"Line {line.number} '{line.raw.strip()}' {what}.", remedy="Correct the program.")
