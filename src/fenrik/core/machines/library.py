"""The small library of invented three-axis machines."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files

from pydantic import BaseModel, ConfigDict

from fenrik.core.errors import DocumentError

Range = tuple[float, float]
Triple = tuple[float, float, float]


class Machine(BaseModel):
    """A three-axis mill. Travels `x`, `y` are those of the spindle's middle over the table's middle,
    `z` those of the gauge line over the table's top, mm; `junction_mm` is how far the controller may
    round a corner."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    id: str
    name: str
    x: Range
    y: Range
    z: Range
    table: tuple[float, float]
    rapid_mm_min: Triple
    feed_max_mm_min: float
    acceleration_m_s2: Triple
    spindle_rpm: Range
    spindle_power_kw: float
    tool_change_s: float
    junction_mm: float


@cache
def machines() -> dict[str, Machine]:
    """All machines by id."""
    raw = tomllib.loads(files("fenrik.core.machines").joinpath("machines.toml").read_text("utf-8"))
    return {key: Machine(id=key, **value) for key, value in raw.items()}


def machine(machine_id: str, where: str = "") -> Machine:
    """One machine. Raises DocumentError naming the value and the choices."""
    known = machines()
    if machine_id not in known:
        raise DocumentError(
            f"The machine '{machine_id}' is not in the library.",
            remedy=f"Use one of: {', '.join(known)}.",
            where=where,
        )
    return known[machine_id]
