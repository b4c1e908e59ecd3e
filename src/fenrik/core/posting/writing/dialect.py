"""Dialects: a controller's way of writing a program, as TOML data with sandboxed Jinja2 templates."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from fenrik.core.errors import DocumentError
from fenrik.core.posting.arms.dialect import ArmDialect
from fenrik.core.posting.writing.templates import lines_of, taken, without_minus_zero
from fenrik.core.strict import Strict

MAX_CHARACTERS = 100_000
"""Most characters of a dialect's file."""


class Templates(Strict):
    """Pieces of text around the motion."""

    start: str
    tool: str
    tool_end: str
    operation: str
    end: str
    restart: str = "{{ units_word }} G90 G17 G40 G49 G80 G94"


class Dialect(Strict):
    """How numbers, arcs, line numbers, comments and the fixed pieces of a program are written."""

    drives: Literal["mill"] = "mill"
    id: str
    name: str
    extension: str = "nc"
    units: Literal["mm", "inch"] = "mm"
    decimals: Annotated[int, Field(ge=2, le=6)] = 3
    feed_decimals: Annotated[int, Field(ge=0, le=4)] = 1
    trailing_zeros: bool = True
    word_spacing: bool = True
    line_numbers: Literal["all", "tool", "none"] = "none"
    line_number_start: Annotated[int, Field(ge=0)] = 10
    line_number_step: Annotated[int, Field(ge=1)] = 10
    arcs: Literal["centre", "radius"] = "centre"
    circles: Literal["whole", "halves"] = "whole"
    holes: Literal["canned", "moves"] = "canned"
    tilted: Literal["plane", "machine", "none"] = "machine"
    """How a side is written on a machine with rotary joints: as a tilted plane with coordinates of its own,
    in coordinates worked out for the machine's rotary position, or not at all: it has no rotary words."""
    moving: Literal["none", "tool_point", "machine"] = "none"
    """How moves are written on which rotary joints turn: not at all, the tip's place with the control keeping
    the tool's point (G43.4), or coordinates worked out for the machine's joints with the tool's length."""
    feed_moving: Literal["per_minute", "inverse_time"] = "per_minute"
    """The feed of such moves: a minute along the written coordinates (G94), or one over the minutes that a
    block takes (G93)."""
    inverse_decimals: Annotated[int, Field(ge=1, le=5)] = 4
    """Of a feed that is one over minutes."""
    angle_decimals: Annotated[int, Field(ge=3, le=5)] = 3
    """Not fewer than three: the comparison holds the tool to its side within that."""
    clamp: str = "M10"
    unclamp: str = "M11"
    """What puts the brakes of rotary joints on and off, where there are any (ISO 6983-1, from memory)."""
    comments: Literal["all", "tools", "none"] = "all"
    optional_stop: bool = False
    preload: bool = False
    restart: bool = False
    comment_open: str = "("
    comment_close: str = ")"
    comment_characters: str
    templates: Templates
    coolant: dict[str, str]

    @property
    def scale(self) -> float:
        """Output units per mm."""
        return 1.0 / 25.4 if self.units == "inch" else 1.0

    @property
    def resolution_mm(self) -> float:
        """The smallest step of an output coordinate, mm."""
        return float(10.0**-self.decimals / self.scale)

    def number(self, value: float, decimals: int | None = None) -> str:
        """A number as this dialect writes it, with a decimal point and no minus zero."""
        digits = self.decimals if decimals is None else decimals
        text = f"{value:.{digits}f}"
        if not self.trailing_zeros and "." in text:
            text = text.rstrip("0")
        elif "." not in text:
            text += "."
        return without_minus_zero(text)

    def angle(self, degrees: float) -> str:
        """An angle as this dialect writes it."""
        return self.number(round(degrees, self.angle_decimals) + 0.0, self.angle_decimals)

    def comment(self, text: object) -> str:
        """A comment with only the characters the controller takes; nothing where none are wanted."""
        if self.comments == "none":
            return ""
        return f"{self.comment_open}{taken(text, self.comment_characters)}{self.comment_close}"

    def render(self, template: str, **values: Any) -> list[str]:
        """The non-empty lines of a template. Raises PostError naming the dialect, the template, its line and
        the fault."""
        return lines_of(self.id, self.templates.model_dump(), template, {"comment": self.comment, **values})


AnyDialect = Dialect | ArmDialect


def load_dialect(text: str, dialect_id: str) -> AnyDialect:
    """A dialect from TOML text, of an arm where it says that it `drives` one. Raises DocumentError naming the
    fault."""
    if len(text) > MAX_CHARACTERS:
        raise DocumentError(
            f"The dialect '{dialect_id}' has {len(text)} characters; at most {MAX_CHARACTERS} are taken.",
            remedy="Shorten it.",
        )
    try:
        raw = tomllib.loads(text)
        return (ArmDialect if raw.get("drives") == "arm" else Dialect)(id=dialect_id, **raw)
    except ValidationError as error:
        first = error.errors(include_input=False, include_url=False)[0]
        field = ".".join(map(str, first["loc"]))
        raise DocumentError(
            f"The dialect '{dialect_id}' is wrong at '{field}': {first['msg']}.",
            remedy="Correct the dialect's file.",
        ) from error
    except (tomllib.TOMLDecodeError, TypeError, RecursionError) as error:
        words = str(error) if isinstance(error, tomllib.TOMLDecodeError) else "it holds something else"
        raise DocumentError(
            f"The dialect '{dialect_id}' is no readable TOML: {words[:200]}.",
            remedy="Correct the dialect's file.",
        ) from error


@cache
def dialects() -> dict[str, AnyDialect]:
    """The dialects that ship with Fenrik, by id."""
    found = {}
    for entry in sorted(
        files("fenrik.core.posting.writing").joinpath("dialects").iterdir(), key=lambda e: e.name
    ):
        if entry.name.endswith(".toml"):
            name = entry.name.removesuffix(".toml")
            found[name] = load_dialect(entry.read_text("utf-8"), name)
    return found


def moving_dialects(way: str | None = None) -> list[str]:
    """The shipped dialects that can write moves on which rotary joints turn, in one way or any."""
    mine = [d for d in dialects().values() if isinstance(d, Dialect) and d.moving != "none"]
    return [d.id for d in mine if way in (None, d.moving)]


def dialect(dialect_id: str, find: Callable[[str, str], Path] | None = None, where: str = "") -> AnyDialect:
    """A shipped dialect, or one from a TOML file of the job, which `find` gives for its name and `where`.

    Raises DocumentError naming the value and the choices.
    """
    known = dialects()
    if dialect_id in known:
        return known[dialect_id]
    if dialect_id.endswith(".toml") and find is not None:
        path = find(dialect_id, where)
        with path.open("rb") as file:
            content = file.read(4 * MAX_CHARACTERS + 1)
        try:
            return load_dialect(content.decode("utf-8"), dialect_id)
        except UnicodeDecodeError as error:
            raise DocumentError(
                f"The dialect '{dialect_id}' is not UTF-8 text.", remedy="Save it as UTF-8.", where=where
            ) from error
    raise DocumentError(
        f"The dialect '{dialect_id}' does not exist.",
        remedy=f"Use one of {', '.join(known)}, or a TOML file beside the document.",
        where=where,
    )
