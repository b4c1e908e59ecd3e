"""Units at the edges: numbers with units and arithmetic, millimetre and inch.

Inside the core a length is always a float in millimetres.
"""

from __future__ import annotations

import ast
import operator
import re
from collections.abc import Callable

from fenrik.core.errors import InputError

INCH_MM = 25.4
"""Exact by definition since 1959 (international yard and pound agreement)."""

_FACTORS = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": INCH_MM, '"': INCH_MM, "um": 1e-3, "µm": 1e-3}
_OPS: dict[type, Callable[[float, float], float]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
}
_UNIT = re.compile(r"(?<![A-Za-zµ])(mm|cm|m|in|um|µm|\")(?![A-Za-zµ])")


def parse_length(text: str | float | int, default_unit: str = "mm") -> float:
    """Length in mm from text such as ``12.5``, ``3/8in``, ``2*6+0.5`` or ``1in + 2mm``.

    A term without a unit takes `default_unit` ("mm" or "in") when no unit stands anywhere in the
    text; a bare factor ("2*6mm") stays a factor. Raises InputError naming the text.
    """
    if isinstance(text, (int, float)):
        return float(text) * _FACTORS[default_unit]
    source = text.strip().replace(",", ".")
    has_unit = bool(_UNIT.search(source))
    python = _UNIT.sub(lambda m: f"*{_FACTORS[m.group(1)]!r}", source)
    try:
        value = _evaluate(ast.parse(python, mode="eval").body)
    except (SyntaxError, ValueError, ZeroDivisionError, RecursionError) as error:
        raise InputError(
            f"'{text}' is not a length.",
            remedy="Write a number, with a unit or arithmetic if you like: 3/8in, 2*6+0.5.",
        ) from error
    return value if has_unit else value * _FACTORS[default_unit]


def _evaluate(node: ast.expr) -> float:
    if (
        isinstance(node, ast.Constant)
        and isinstance(node.value, (int, float))
        and not isinstance(node.value, bool)
    ):
        return float(node.value)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.USub, ast.UAdd)):
        value = _evaluate(node.operand)
        return -value if isinstance(node.op, ast.USub) else value
    if isinstance(node, ast.BinOp) and type(node.op) in _OPS:
        return _OPS[type(node.op)](_evaluate(node.left), _evaluate(node.right))
    raise ValueError("not arithmetic")


def format_length(value_mm: float, unit: str = "mm") -> str:
    """A length for people: three decimals in mm, four in inch, no trailing zeros beyond one."""
    digits = 3 if unit == "mm" else 4
    text = f"{value_mm / _FACTORS[unit]:.{digits}f}".rstrip("0")
    return text + "0" if text.endswith(".") else text
