"""The small library of work materials, by ISO 513 group."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files

from fenrik.core.errors import DocumentError
from fenrik.core.strict import Strict


class Material(Strict):
    """A work material: cutting speed `vc` m/min and feed per tooth as a share of the diameter (both
    for solid carbide), Kienzle's kc1.1 N/mm² and exponent mc, with where the values come from."""

    id: str
    name: str
    group: str
    hardness_hb: float
    vc: float
    fz_share: float
    kc11: float
    mc: float
    step_down_share: float
    source: str


@cache
def materials() -> dict[str, Material]:
    """All materials by id."""
    raw = tomllib.loads(files("fenrik.core.tooling").joinpath("materials.toml").read_text("utf-8"))
    return {key: Material(id=key, **value) for key, value in raw.items()}


def material(material_id: str, where: str = "") -> Material:
    """One material. Raises DocumentError naming the value and the choices."""
    known = materials()
    if material_id not in known:
        raise DocumentError(
            f"The material '{material_id}' is not in the library.",
            remedy=f"Use one of: {', '.join(known)}.",
            where=where,
        )
    return known[material_id]
