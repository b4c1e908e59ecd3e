"""Templates of dialects: Jinja2 in a sandbox that is held to time and size.

A dialect is data that may come from a stranger. Its templates get no more than they need: the values that
they are given, a few filters, no attributes but plain ones, and a budget of loop turns and characters that is
counted while they run.
"""

from __future__ import annotations

import re
import traceback
from collections.abc import Iterable
from functools import lru_cache
from typing import Any

from jinja2 import Environment, StrictUndefined, Template, TemplateError, TemplateSyntaxError, nodes
from jinja2.exceptions import SecurityError
from jinja2.ext import Extension
from jinja2.sandbox import ImmutableSandboxedEnvironment
from jinja2.visitor import NodeTransformer

from fenrik.core.errors import PostError

MAX_TURNS = 20_000
"""Most turns of all loops and calls of macros of one rendering together."""
MAX_CHARACTERS = 200_000
"""Most characters that one rendering may give, and the longest text in between."""
MAX_SOURCE = 20_000
"""Most characters of a template."""
MAX_NUMBER = 1e15
WIDE = re.compile(r"%[^a-zA-Z%]*(\d{3}|\*)")
"""A format with a width or a precision of three digits, or one that is taken from the values."""
FILTERS = (
    "abs", "capitalize", "count", "default", "first", "float", "int", "last", "length", "list", "lower",
    "max", "min", "reverse", "sort", "string", "sum", "title", "trim", "unique", "upper",
)  # fmt: skip
ATTRIBUTES = frozenset(
    {"upper", "lower", "strip", "startswith", "endswith", "items", "keys", "values", "get"}
)
"""Of methods those that may be called; fields of plain values are open."""


class BudgetExceeded(SecurityError):
    """A template that runs for ever or writes without end."""


class _Budget:
    """What one rendering may still spend."""

    def __init__(self) -> None:
        self.turns = 0

    def __call__(self) -> str:
        self.turns += 1
        if self.turns > MAX_TURNS:
            raise BudgetExceeded(f"its loops turn more than {MAX_TURNS} times")
        return ""


class _Counting(Extension):
    """Counts every turn of a loop and every call of a macro."""

    def __init__(self, environment: Environment) -> None:
        super().__init__(environment)

    def counted(self, tree: nodes.Template) -> nodes.Template:
        """The tree with a count at the head of every body that can run more than once, and with texts joined
        by what looks at their length."""
        tree = _Joining().visit(tree)
        repeated: list[Any] = [
            n for kind in (nodes.For, nodes.Macro, nodes.CallBlock) for n in tree.find_all(kind)
        ]
        for node in repeated:
            call = nodes.Call(nodes.Name("_turn", "load"), [], [], None, None)
            node.body.insert(0, nodes.Output([call], lineno=node.lineno))
            call.set_lineno(node.lineno)
        return tree


class _Joining(NodeTransformer):
    """Makes calls of `_joined` of all `a ~ b`."""

    def visit_Concat(self, node: nodes.Concat) -> nodes.Node:
        self.generic_visit(node)
        call = nodes.Call(nodes.Name("_joined", "load"), node.nodes, [], None, None, lineno=node.lineno)
        call.set_lineno(node.lineno)
        return call


class _Sandbox(ImmutableSandboxedEnvironment):
    """The sandbox with bounds on arithmetic and texts."""

    intercepted_binops = frozenset({"+", "-", "*", "/", "//", "%", "**"})

    def __init__(self) -> None:
        super().__init__(undefined=StrictUndefined, autoescape=False, extensions=[_Counting])
        self.filters = {name: self.filters[name] for name in FILTERS}
        self.filters |= {"join": _join, "replace": _replace, "round": _round}
        self.globals.clear()
        self.globals |= {"range": _range, "_joined": lambda *texts: _join(texts)}

    def _parse(self, source: str, name: str | None, filename: str | None) -> nodes.Template:
        tree = super()._parse(source, name, filename)
        for forbidden in (nodes.Import, nodes.FromImport, nodes.Include, nodes.Extends):
            found = tree.find(forbidden)
            if found is not None:
                raise TemplateSyntaxError(
                    f"'{forbidden.__name__.lower()}' is not taken here", found.lineno, name, filename
                )
        counting = self.extensions[_Counting.identifier]
        assert isinstance(counting, _Counting)
        return counting.counted(tree)

    def is_safe_attribute(self, obj: Any, attr: str, value: Any) -> bool:
        return super().is_safe_attribute(obj, attr, value) and (not callable(value) or attr in ATTRIBUTES)

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        for value in (left, right):
            if isinstance(value, (int, float)) and abs(value) > MAX_NUMBER:
                raise BudgetExceeded(f"it calculates with numbers over {MAX_NUMBER:g}")
        if operator == "%" and isinstance(left, str):
            if WIDE.search(left):
                raise BudgetExceeded("its format is wider than 99 characters")
        elif operator in ("*", "%") and not all(isinstance(v, (int, float)) for v in (left, right)):
            raise SecurityError(f"'{operator}' is for numbers only")
        if operator == "**" and isinstance(right, (int, float)) and abs(right) > 16:
            raise BudgetExceeded("it raises to a power over 16")
        result = super().call_binop(context, operator, left, right)
        if isinstance(result, str) and len(result) > MAX_CHARACTERS:
            raise BudgetExceeded(f"it writes more than {MAX_CHARACTERS} characters")
        return result


def _range(*numbers: int) -> range:
    out = range(*numbers)
    if len(out) > MAX_TURNS:
        raise BudgetExceeded(f"'range' would turn {len(out)} times, at most {MAX_TURNS} are allowed")
    return out


def _join(texts: Iterable[Any], between: str = "") -> str:
    out, size = [], 0
    for text in map(str, texts):
        size += len(text) + len(between)
        if size > MAX_CHARACTERS:
            raise BudgetExceeded(f"it joins more than {MAX_CHARACTERS} characters")
        out.append(text)
    return between.join(out)


def _replace(text: Any, old: str, new: str) -> str:
    whole = str(text)
    if len(whole) + whole.count(old) * len(new) > MAX_CHARACTERS:
        raise BudgetExceeded(f"it writes more than {MAX_CHARACTERS} characters")
    return whole.replace(old, new)


def _round(value: float, decimals: int = 0) -> float:
    if not -15 <= decimals <= 15:
        raise BudgetExceeded("it rounds to more than 15 decimals")
    return float(round(float(value), decimals))


_ENVIRONMENT = _Sandbox()


class TemplateFault(Exception):
    """What is wrong in a template, and in which line of it (from 1; 0 where no line is known)."""

    def __init__(self, words: str, line: int = 0) -> None:
        self.words, self.line = words, line
        super().__init__(words)


def compiled(source: str) -> Template:
    """The template of a source. Raises TemplateFault."""
    if len(source) > MAX_SOURCE:
        raise TemplateFault(f"it has {len(source)} characters, at most {MAX_SOURCE} are taken")
    try:
        return _ENVIRONMENT.from_string(source)
    except TemplateSyntaxError as error:
        raise TemplateFault(error.message or "it cannot be read", error.lineno) from error
    except (RecursionError, MemoryError, OverflowError, SyntaxError, ValueError) as error:
        raise TemplateFault("it is nested too deeply or cannot be compiled") from error


def rendered(template: Template, values: dict[str, Any]) -> str:
    """What a template writes with some values, within its budget. Raises TemplateFault for whatever goes
    wrong in it."""
    out, size = [], 0
    try:
        for piece in template.generate(**values, _turn=_Budget()):
            out.append(piece)
            size += len(piece)
            if size > MAX_CHARACTERS:
                raise BudgetExceeded(f"it writes more than {MAX_CHARACTERS} characters")
    except TemplateError as error:
        raise TemplateFault(str(error.message or type(error).__name__), _line(error)) from error
    except (ArithmeticError, TypeError, ValueError, LookupError, AttributeError, RecursionError) as error:
        words = "it calls itself without end" if isinstance(error, RecursionError) else str(error)
        raise TemplateFault(words or type(error).__name__, _line(error)) from error
    return "".join(out)


def taken(text: object, characters: str) -> str:
    """A comment's text with only the characters that a control takes."""
    return "".join(c if c in characters else "?" for c in str(text).replace("\n", " "))


def without_minus_zero(number: str) -> str:
    """A written number, without the sign where it is zero."""
    return number[1:] if number.startswith("-") and not number.strip("-0.") else number


def lines_of(dialect_id: str, named: dict[str, str], template: str, values: dict[str, Any]) -> list[str]:
    """The non-empty lines of a template of a dialect, one of those it has `named`. Raises PostError naming
    the dialect, the template, its line and the fault."""
    try:
        text = rendered(_compiled(template), values)
    except TemplateFault as fault:
        name = next((k for k, v in named.items() if v == template), "")
        place = f"line {fault.line} of its template" if fault.line else "its template"
        raise PostError(
            f"The dialect '{dialect_id}' fails in {place} '{name}': {fault.words}.",
            remedy="Correct the template in the dialect's file.",
        ) from fault
    return [line.strip() for line in text.splitlines() if line.strip()]


@lru_cache(256)
def _compiled(source: str) -> Template:
    return compiled(source)


def _line(error: BaseException) -> int:
    """The line of the template in which an error came up: Jinja2 rewrites its tracebacks to the template's
    lines."""
    lines = [f.lineno for f in traceback.extract_tb(error.__traceback__) if f.filename == "<template>"]
    return lines[-1] or 0 if lines else 0
