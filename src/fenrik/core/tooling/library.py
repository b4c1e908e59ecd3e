"""The starting library of tools."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files

from fenrik.core.tooling.assembly import Assembly


@cache
def starting_library() -> list[Assembly]:
    """About twenty assemblies to begin with; numbers are suggestions for the magazine."""
    raw = tomllib.loads(files("fenrik.core.tooling").joinpath("library.toml").read_text("utf-8"))
    return [Assembly(**row) for row in raw["tools"]]
