"""The machines that ship with Fenrik, all invented, as TOML: one file for each kind."""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from functools import cache
from importlib.resources import files

from fenrik.core.errors import DocumentError
from fenrik.core.machines.machine import Machine


@cache
def machines() -> dict[str, Machine]:
    """All machines by id, those with fewer joints first."""
    found: list[Machine] = []
    for file in sorted(files(__name__).iterdir(), key=lambda f: f.name):
        if file.name.endswith(".toml"):
            raw = tomllib.loads(file.read_text("utf-8"))
            found += [Machine(id=key, **value) for key, value in raw.items()]
    return {m.id: m for m in sorted(found, key=lambda m: len(m.joints))}


def machine(machine_id: str, where: str = "", own: Sequence[str] = ()) -> Machine:
    """One machine. Raises DocumentError naming the value and the choices, a job's `own` among them."""
    known = machines()
    if machine_id not in known:
        raise DocumentError(
            f"The machine '{machine_id}' is not in the library.",
            remedy=f"Use one of: {', '.join([*own, *known])}.",
            where=where,
        )
    return known[machine_id]
