"""Finds the strategies: every module below this package that has a STRATEGY."""

from __future__ import annotations

import importlib
import pkgutil
from functools import cache

import fenrik.core.strategies as package
from fenrik.core.errors import DocumentError
from fenrik.core.strategies.base import Strategy


@cache
def strategies() -> dict[str, Strategy]:
    """All strategies by id, in alphabetical order."""
    found: dict[str, Strategy] = {}
    for module in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
        strategy = getattr(importlib.import_module(module.name), "STRATEGY", None)
        if isinstance(strategy, Strategy):
            found[strategy.id] = strategy
    return dict(sorted(found.items()))


def strategy(strategy_id: str, where: str = "") -> Strategy:
    """One strategy. Raises DocumentError naming the value and the choices."""
    known = strategies()
    if strategy_id not in known:
        raise DocumentError(
            f"The strategy '{strategy_id}' does not exist.",
            remedy=f"Use one of: {', '.join(known)}.",
            where=where,
        )
    return known[strategy_id]
