"""Bounds on what a job document may hold, looked at before anything is made of it.

A document may come from a stranger. What is refused here is refused in time that grows with its length only,
so that no document occupies a reader for long, and none holds what a database or a JSON text cannot.
"""

from __future__ import annotations

import json
import math
from typing import Any

import yaml

from fenrik.core.errors import DocumentError

MAX_JSON_CHARACTERS = 8_000_000
MAX_YAML_CHARACTERS = 2_000_000
"""YAML takes about ten times as long to read as JSON."""
MAX_EXACT_CHARACTERS = 100_000
"""Of a text so short the place of a fault is looked for with the slower reader."""
MAX_DEPTH = 24
MAX_VALUES = 250_000
MAX_TEXT = 20_000
MAX_NUMBER = 10**15
"""Beyond about nine times this, whole numbers are not the same in every program that reads JSON."""

_Loader: type = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


def bounded_data(text: str, name: str) -> Any:
    """The plain data in YAML or JSON text. Raises DocumentError, also for a text that is too long or nested
    too deeply."""
    if text.lstrip()[:1] in ("{", "["):
        _check_length(text, name, MAX_JSON_CHARACTERS, "JSON")
        try:
            return json.loads(text)
        except RecursionError as error:
            raise _too_deep(name) from error
        except ValueError:
            pass  # YAML takes braces too, and says better what is wrong
    _check_length(text, name, MAX_YAML_CHARACTERS, "YAML")
    try:
        _check_events(text, name)
        return yaml.load(text, Loader=_Loader)  # a safe loader
    except yaml.YAMLError as error:
        error = _exact(text, error)
        mark = getattr(error, "problem_mark", None)
        at = f" in line {mark.line + 1}, column {mark.column + 1}" if mark else ""
        raise DocumentError(
            f"'{name}' is not readable YAML{at}: {getattr(error, 'problem', None) or error}.",
            remedy="Correct the text there.",
        ) from error
    except (ValueError, OverflowError) as error:  # a date or a number that cannot be
        raise DocumentError(
            f"'{name}' holds a value that cannot be read: {error}.", remedy="Correct it."
        ) from error


def _exact(text: str, error: yaml.YAMLError) -> yaml.YAMLError:
    """The fault as the slower reader tells it, whose places are those of the fault itself; the fast one's are
    after it."""
    if len(text) <= MAX_EXACT_CHARACTERS:
        try:
            for _ in yaml.parse(text, Loader=yaml.SafeLoader):
                pass
        except yaml.YAMLError as exact:
            return exact
    return error


def _check_length(text: str, name: str, most: int, kind: str) -> None:
    if len(text) > most:
        raise DocumentError(
            f"'{name}' has {len(text):,} characters; as {kind} at most {most:,} are taken.",
            remedy="Is it a job document? Split the job, or give it as JSON.",
        )


def _check_events(text: str, name: str) -> None:
    """Goes through YAML without building anything: its depth, and its size with every reference written
    out."""
    count, sizes = 0, dict[str, int]()  # of what an anchor stands for, once it is complete
    opened: list[tuple[str | None, int]] = []
    for event in yaml.parse(text, Loader=_Loader):
        if isinstance(event, yaml.AliasEvent):
            if event.anchor not in sizes:
                raise DocumentError(
                    f"'{name}' refers to '*{event.anchor}' in line {_line(event)}, which is not complete "
                    "there.",
                    remedy="Write the value out.",
                )
            count += sizes[event.anchor]
        elif isinstance(event, (yaml.MappingStartEvent, yaml.SequenceStartEvent)):
            opened.append((event.anchor, count))
            if len(opened) > MAX_DEPTH:
                raise _too_deep(name)
        elif isinstance(event, (yaml.MappingEndEvent, yaml.SequenceEndEvent)):
            anchor, before = opened.pop()
            if anchor is not None:
                sizes[anchor] = count - before
        elif isinstance(event, yaml.ScalarEvent):
            count += 1
            if event.anchor is not None:
                sizes[event.anchor] = 1
        if count > 2 * MAX_VALUES:
            raise _too_many(name)


def _line(event: yaml.Event) -> int:
    return 0 if event.start_mark is None else event.start_mark.line + 1


def check_bounds(data: Any, name: str = "document") -> None:
    """Makes sure that plain data can be kept: not nested too deeply, not too many values, texts that can be
    stored, numbers that are numbers. Raises DocumentError with the path of the fault."""
    count = 0
    waiting: list[tuple[Any, int, tuple[Any, ...]]] = [(data, 0, ())]
    while waiting:
        value, depth, place = waiting.pop()
        count += 1
        if count > MAX_VALUES:
            raise _too_many(name)
        if isinstance(value, (dict, list, tuple)):
            if depth >= MAX_DEPTH:
                raise _too_deep(name)
            named = value.items() if isinstance(value, dict) else enumerate(value)
            for key, inner in named:
                if isinstance(key, str):
                    _check_text(key, place)
                waiting.append((inner, depth + 1, (*place, key)))
        else:
            _check_value(value, place)


def _check_value(value: Any, place: tuple[Any, ...]) -> None:
    if isinstance(value, str):
        _check_text(value, place)
    elif isinstance(value, (int, float)) and not isinstance(value, bool):
        if isinstance(value, float) and not math.isfinite(value):
            raise DocumentError(
                f"The value is {value}, which is no number.", remedy="Give a number.", where=_words(place)
            )
        if abs(value) > MAX_NUMBER:
            shown = f"{value:.3g}" if abs(value) < 10**300 else "more than 1e+300"
            raise DocumentError(f"The number is {shown}.", remedy="Use a smaller one.", where=_words(place))


def _check_text(text: str, place: tuple[Any, ...]) -> None:
    where = _words(place)
    if len(text) > MAX_TEXT:
        raise DocumentError(
            f"The text has {len(text):,} characters; at most {MAX_TEXT:,} are taken.",
            remedy="Shorten it.",
            where=where,
        )
    fault = text_fault(text)
    if fault:
        raise DocumentError(f"The text {text[:40]!r} holds {fault}.", remedy="Take it out.", where=where)


def text_fault(text: str) -> str:
    """What keeps a text from being stored: empty where nothing does."""
    if "\0" in text:
        return "the character NUL"
    if any(0xD800 <= ord(c) < 0xE000 for c in text):
        return "half of a character (a lone surrogate)"
    return ""


def _words(place: tuple[Any, ...]) -> str:
    out = ""
    for step in place:
        out += f"[{step}]" if isinstance(step, int) else f"{'.' if out else ''}{str(step)[:40]}"
    return out[:200]


def _too_deep(name: str) -> DocumentError:
    return DocumentError(
        f"'{name}' is nested more than {MAX_DEPTH} levels deep.", remedy="It is no job document."
    )


def _too_many(name: str) -> DocumentError:
    return DocumentError(f"'{name}' holds more than {MAX_VALUES:,} values.", remedy="Split the job.")
