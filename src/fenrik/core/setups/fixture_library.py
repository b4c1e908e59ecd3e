"""The fixtures that ship with Fenrik, all invented."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files

from fenrik.core.setups.held_in import Fixture


@cache
def fixtures() -> list[Fixture]:
    """Vices and plates to begin with."""
    raw = tomllib.loads(files("fenrik.core.setups").joinpath("fixtures.toml").read_text("utf-8"))
    return [Fixture(**row) for row in raw["fixtures"]]
