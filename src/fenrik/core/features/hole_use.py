"""What a hole of a diameter is usually for, by published tables, and how it is made.

Tables (see `tables/`, with their licence): tapping-drill sizes (the shop's first choice of ISO 2306 and ASME
B1.1), clearance holes (ISO 273 and inch fasteners). Reamed sizes and the size beyond which a hole is milled
are common practice, no source.
"""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass
from fractions import Fraction
from functools import cache
from importlib.resources import files
from typing import Literal

INCH = 25.4
MILLED_OVER_MM = 25.4
"""Holes wider than this are milled, not drilled (common practice, no source)."""
REAMED_MM = (3, 4, 5, 6, 8, 10, 12, 14, 15, 16, 18, 20, 22, 24, 25)
REAMED_INCH = (0.125, 0.1875, 0.25, 0.3125, 0.375, 0.5, 0.625, 0.75)
"""Sizes that stand for a fit (common practice, no source: 3/8 in is reamed)."""
NEAR_MM = 0.02
"""Models and tables round their sizes: 5.11 stands for #7, which is 0.201 in."""

PLAIN, OTHER_SYSTEM = 10.0, 20.0
"""Ranks: of a plain hole, and what is added to threads and fasteners of the other system of units."""
COLUMNS = {"fine": "Close", "medium": "Normal", "coarse": "Loose"}
"""Columns of the table of clearance holes by the standard's names of the series."""

Purpose = Literal["thread", "clearance", "fit", "plain", "milled"]


@dataclass(frozen=True)
class Use:
    """A use of a hole: its purpose, the thread or fastener, its pitch mm (threads), and the words that say
    why."""

    purpose: Purpose
    name: str
    words: str
    table: str
    pitch: float | None = None


def uses(diameter: float, through: bool = True, headed: bool = False, inch: bool = False) -> list[Use]:
    """What a hole of this diameter mm may be for, the likeliest first; one is always a plain hole.

    A through hole on a clearance size is first of all one: a thread is not in the model. A blind hole is no
    clearance hole; one with a counterbore or countersink (`headed`) takes a screw's head, so that clearance
    and a plain hole come before all else. Fine threads, and those of the system that the job is not written
    in (`inch` tells which it is), come after the plain hole: they are made where they are asked for.
    """
    if diameter > MILLED_OVER_MM + NEAR_MM:
        words = f"wider than {MILLED_OVER_MM:g} mm: milled, not drilled"
        return [Use("milled", "", words, "common practice")]
    found: list[tuple[float, Use]] = []
    for size, name, pitch, rank in _tapping():
        if abs(size - diameter) <= NEAR_MM:
            words = f"{_mm(size)} is the tapping drill of {name}"
            source = source_of("tap_hole_sizes", "ISO_2306" if size == ISO_2306.get(name) else "Soft")
            rank += 0.0 if _is_inch(name) == inch else OTHER_SYSTEM
            found.append((rank, Use("thread", name, words, source, pitch)))
    for size, name, fit, rank in _clearance():
        if through and abs(size - diameter) <= NEAR_MM:
            words = f"{_mm(size)} clears {name}, {fit} series"
            column = "ISO_273" if name in ISO_273 else COLUMNS[fit]
            rank += 0.0 if _is_inch(name) == inch else OTHER_SYSTEM
            found.append((rank, Use("clearance", name, words, source_of("clearance_hole_sizes", column))))
    for size, own in (*((v, False) for v in REAMED_MM), *((v * INCH, True) for v in REAMED_INCH)):
        if abs(size - diameter) <= NEAR_MM:
            words = f"{_mm(size)} is a usual size of a reamed fit"
            rank = 1.5 if own == inch else OTHER_SYSTEM
            found.append((rank, Use("fit", _mm(size), words, "common practice, no source")))
    words = "drilled to size" if found else "no table knows this size as anything but a drilled hole"
    found.append((PLAIN, Use("plain", "", words, "no table")))
    last = ("thread", "fit") if headed else ()
    found.sort(key=lambda row: (row[1].purpose in last, row[0]))
    return [use for _, use in found]


def shown_by_model(use: Use) -> bool:
    """Whether a model shows all of a use: it shows neither threads nor fits."""
    return use.purpose not in ("thread", "fit")


def _is_inch(name: str) -> bool:
    return not name.startswith("M")


def _mm(value: float) -> str:
    return f"{value:.3f}".rstrip("0").rstrip(".")


def drill_size(text: str) -> float:
    """Diameter mm of a drill by millimetres, inch fraction ("13/64", "1 1/8"), number ("#7") or letter ("F").

    Raises KeyError for a number or letter that does not exist, ValueError for other text.
    """
    text = text.strip()
    if text.startswith("#") or text.isalpha():
        return _numbered()[text.upper()] * INCH
    if "/" in text or " " in text:
        return float(sum(Fraction(part) for part in re.split(r"[ -]", text))) * INCH
    return float(text)


def source_of(table: str, column: str) -> str:
    """Where a column of a table comes from, as `tables/sources.csv` tells."""
    return next(source for name, mine, source in _sources() if (name, mine) == (table, column))


@cache
def _sources() -> tuple[tuple[str, str, str], ...]:
    return tuple((table, column, source) for table, column, source in _rows("sources.csv"))


def _rows(name: str) -> list[list[str]]:
    text = files("fenrik.core.features").joinpath("tables", name).read_text("utf-8")
    return [[cell.strip() for cell in row] for row in csv.reader(text.splitlines())][1:]


@cache
def _numbered() -> dict[str, float]:
    """Inch sizes of numbered and lettered drills."""
    return {name.upper(): float(size) for name, size in _rows("drill_sizes.csv") if not _is_fraction(name)}


def _is_fraction(name: str) -> bool:
    return "/" in name


COARSE = {
    "M1.6": 0.35, "M2": 0.4, "M2.5": 0.45, "M3": 0.5, "M3.5": 0.6, "M4": 0.7, "M5": 0.8, "M6": 1.0, "M7": 1.0,
    "M8": 1.25, "M9": 1.25, "M10": 1.5, "M11": 1.5, "M12": 1.75, "M14": 2.0, "M16": 2.0, "M18": 2.5,
    "M20": 2.5, "M22": 2.5,
}  # fmt: skip
"""Coarse pitches of ISO 261 (from memory, checked against the table of tapping drills)."""
ISO_2306 = {"M12": 10.2, "M14": 12.0, "M22": 19.5}
"""Where the standard (from memory) differs from the table."""
ISO_273 = {"M12": (13.0, 13.5, 14.5), "M14": (15.0, 15.5, 16.5), "M16": (17.0, 17.5, 18.5)}
"""Fine, medium and coarse clearance holes of ISO 273 (from memory) where the table has others."""
SECOND_CHOICE = ("M3.5", "M7", "M9", "M11", "M14", "M18", "M22")
"""Diameters that ISO 261 puts after the first choice (from memory)."""
UNIFIED_COARSE = {
    "#1": 64, "#2": 56, "#3": 48, "#4": 40, "#5": 40, "#6": 32, "#8": 32, "#10": 24, "#12": 24, "1/4": 20,
    "5/16": 18, "3/8": 16, "7/16": 14, "1/2": 13, "9/16": 12, "5/8": 11, "3/4": 10, "7/8": 9, "1": 8,
}  # fmt: skip
"""Threads an inch of the coarse unified series, ASME B1.1 (from memory, checked against the same table)."""


def major(thread: str) -> float:
    """Major diameter mm of a thread by its size ("M8", "#10", "3/8", "1"); numbers are 0.060 + 0.013 n in
    (ASME B1.1)."""
    if thread.startswith("M"):
        return float(thread[1:])
    if thread.startswith("#"):
        return (0.060 + 0.013 * int(thread[1:])) * INCH
    return float(Fraction(thread)) * INCH


@cache
def _tapping() -> tuple[tuple[float, str, float, float], ...]:
    """(diameter mm, thread, pitch mm, rank) of the tapping drills for three quarters of the thread. Rows of
    the table that are narrower than the thread's own minor diameter (D - 1.0825 P, ISO 724), such as M22's,
    are left out."""
    out = []
    for thread, soft, _ in _rows("tap_hole_sizes.csv"):
        nominal, pitch = thread.rsplit("-", 1)
        if nominal.startswith("M"):
            coarse = COARSE.get(nominal) == float(pitch)
            name = nominal if coarse else f"{nominal} x {float(pitch):g}"
            rank = PLAIN + 2.0 if not coarse else 1.8 if nominal in SECOND_CHOICE else 0.0
            out.append((drill_size(soft), name, float(pitch), rank))
            if coarse and nominal in ISO_2306:
                out.append((ISO_2306[nominal], name, float(pitch), rank))
        else:
            coarse = UNIFIED_COARSE.get(nominal) == int(pitch)
            out.append(
                (drill_size(soft), f"{nominal}-{pitch}", INCH / int(pitch), 0.5 if coarse else PLAIN + 2.5)
            )
    depth = {name: 1.0825 * pitch for _, name, pitch, _ in out}
    return tuple(r for r in out if r[0] >= major(re.split(r" x |-", r[1])[0]) - depth[r[1]])


@cache
def _clearance() -> tuple[tuple[float, str, str, float], ...]:
    """(diameter mm, fastener, series, rank)."""
    out = []
    for size, *values in _rows("clearance_hole_sizes.csv"):
        metric = size.startswith("M")
        own = ISO_273.get(size)
        for i, (value, fit) in enumerate(zip(values, ("fine", "medium", "coarse"), strict=True)):
            inches = not metric and "/" not in value and not value.startswith("#") and not value.isalpha()
            diameter = float(value) * INCH if inches and " " not in value else drill_size(value)
            rank = (-1.0 if fit == "medium" else -0.5) + (1.0 if size in SECOND_CHOICE else 0.0)
            out.append((diameter if own is None else own[i], size, fit, rank))
    return tuple(out)
