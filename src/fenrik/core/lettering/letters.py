"""Text as single lines, for engraving: the letters that ship with Fenrik, placed, turned and sized."""

from __future__ import annotations

import math
import tomllib
from functools import cache
from importlib.resources import files
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import DocumentError

Floats = NDArray[np.float64]
CAPITAL = 10.0
"""Height of capitals in the units of the letters."""
LINE = 16.0
"""From line to line in the same units (ISO 3098, from memory)."""


@cache
def _font() -> dict[str, Any]:
    text = files("fenrik.core.lettering").joinpath("letters.toml").read_text("utf-8")
    return tomllib.loads(text)


def lettering(
    text: str,
    height: float,
    at: tuple[float, float] = (0.0, 0.0),
    angle_deg: float = 0.0,
    align: Literal["left", "middle", "right"] = "left",
    chord: float = 0.002,
) -> list[Floats]:
    """Strokes (n, 2) mm of a text whose capitals are `height` mm high. `at` is the foot of its first line at
    the side that `align` says, `angle_deg` turns it about that, counter-clockwise; arcs are chords within
    `chord` mm. Raises DocumentError naming a character that there is no letter for."""
    scale = height / CAPITAL
    out: list[Floats] = []
    for row, line in enumerate(text.split("\n")):
        strokes, width = _line(line, chord / scale)
        x = {"left": 0.0, "middle": -0.5 * width, "right": -width}[align]
        out += [s + np.array([x, -LINE * row]) for s in strokes]
    turn = math.radians(angle_deg)
    c, s = math.cos(turn), math.sin(turn)
    return [scale * stroke @ np.array([[c, s], [-s, c]]) + at for stroke in out]


def _line(text: str, chord: float) -> tuple[list[Floats], float]:
    """The strokes of a line from x 0 on, and its width."""
    font, x, out = _font(), 0.0, []
    for letter in text:
        if letter == " ":
            x += font["space"] - font["gap"]
            continue
        glyph = font["glyphs"].get(letter)
        if glyph is None:
            raise DocumentError(
                f"There is no letter for '{letter}' in the text '{text}'.",
                remedy="Use letters from A to z, figures, Ä Ö Ü ä ö ü Ø ° × and the usual signs.",
            )
        strokes = [_stroke(s, chord) for s in glyph]
        whole = np.vstack(strokes)
        out += [s + np.array([x - whole[:, 0].min(), 0.0]) for s in strokes]
        x += float(np.ptp(whole[:, 0])) + font["gap"]
    return out, max(0.0, x - font["gap"])


def _stroke(text: str, chord: float) -> Floats:
    points: list[tuple[float, float]] = []
    for token in text.split():
        values = [float(v) for v in token.lstrip("~").split(",")]
        if not token.startswith("~"):
            points.append((values[0], values[1]))
            continue
        cx, cy, degrees = values
        x, y = points[-1]
        r, start = math.hypot(x - cx, y - cy), math.atan2(y - cy, x - cx)
        step = 2.0 * math.acos(max(0.5, 1.0 - chord / r))
        count = max(2, math.ceil(abs(math.radians(degrees)) / step))
        for k in range(1, count + 1):
            a = start + math.radians(degrees) * k / count
            points.append((cx + r * math.cos(a), cy + r * math.sin(a)))
    return np.array(points)
