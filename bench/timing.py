"""Best of repeats."""

from __future__ import annotations

import time
from collections.abc import Callable


def best(work: Callable[[], object], repeats: int = 3) -> float:
    """Shortest time s of several runs, after one that compiles and warms up."""
    work()
    times = []
    for _ in range(repeats):
        started = time.perf_counter()
        work()
        times.append(time.perf_counter() - started)
    return min(times)
