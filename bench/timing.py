"""Best of repeats, and a row of the table with its bar."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

T = TypeVar("T")


@dataclass(frozen=True)
class Row:
    """What was measured, the baseline of the same run, their ratio and the bar it has to keep."""

    what: str
    value: str
    baseline: str
    ratio: float
    least: float | None = None
    most: float | None = None

    @property
    def kept(self) -> bool:
        """Whether the bar is kept."""
        low = self.least is None or self.ratio >= self.least
        return low and (self.most is None or self.ratio <= self.most)

    @property
    def bar(self) -> str:
        """The bar in words."""
        if self.least is not None:
            return f">= {self.least:g}"
        return f"<= {self.most:g}" if self.most is not None else ""


def best(work: Callable[[], object], repeats: int = 3) -> float:
    """Shortest time s of several runs, after one that compiles and warms up."""
    return best_on(lambda _: work(), lambda: None, repeats)


def best_on(
    work: Callable[[T], object],
    fresh: Callable[[], T],
    repeats: int = 3,
    clock: Callable[[], float] = time.perf_counter,
) -> float:
    """As `best` for work that changes what it is given: each run gets a fresh one, which is not timed. With
    `time.process_time` as the clock it is processor time."""
    times = []
    for turn in range(repeats + 1):
        given = fresh()
        started = clock()
        work(given)
        if turn > 0:
            times.append(clock() - started)
    return min(times)


def best_of_each(
    works: list[tuple[Callable[[T], object], Callable[[], T]]],
    repeats: int = 7,
    clock: Callable[[], float] = time.perf_counter,
) -> list[float]:
    """As `best_on` for several works that are compared, in turns: what disturbs the machine meets all of
    them."""
    times: list[list[float]] = [[] for _ in works]
    for turn in range(repeats + 1):
        for (work, fresh), mine in zip(works, times, strict=True):
            given = fresh()
            started = clock()
            work(given)
            if turn > 0:
                mine.append(clock() - started)
    return [min(mine) for mine in times]
