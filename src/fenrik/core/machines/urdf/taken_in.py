"""A machine of the shop's own from URDF, with what a description does not say set to usual values."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

from pydantic import ValidationError

from fenrik.core.errors import InputError
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.urdf.reading import from_urdf
from fenrik.core.model.part_model import TriangleMesh

DEFAULTS = {
    "table": [500.0, 500.0],
    "feed_max_mm_min": 10000.0,
    "spindle_rpm": [50.0, 12000.0],
    "spindle_power_kw": 10.0,
    "tool_change_s": 5.0,
    "junction_mm": 0.02,
}
"""What a description by others does not say; it is told, to be set by hand."""


@dataclass(frozen=True)
class TakenIn:
    """A machine from a description: the `files` that its bodies name with their bytes, and the fields that
    the description left `open`, set to usual values."""

    machine: Machine
    files: dict[str, bytes]
    open: list[str]


def taken_in(text: str, name: str, meshes: Mapping[str, TriangleMesh]) -> TakenIn:
    """The machine of a description, whose files get names that begin with its `name`. Raises InputError."""
    data, files = from_urdf(text, meshes)
    plain = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_") or "machine"
    missing = [key for key in DEFAULTS if key not in data]
    data = {"id": plain, "name": name, **DEFAULTS, **data}
    data["bodies"] = [
        body | ({"file": f"{plain}_{body['file']}"} if body["kind"] == "file" else {})
        for body in data["bodies"]
    ]
    try:
        made = Machine.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise InputError(f"The description makes no machine: {where}: {first['msg']}.") from error
    return TakenIn(made, {f"{plain}_{file}": content for file, content in files.items()}, missing)


def meshes_named(text: str) -> list[str]:
    """The files that a description names for its meshes, without their folders, each once."""
    found = re.findall(r'filename="([^"]+)"', text)
    return list(dict.fromkeys(name.replace("\\", "/").rsplit("/", 1)[-1] for name in found))
