"""A few things made lately, kept in memory because making them takes long."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import Generic, TypeVar

Thing = TypeVar("Thing")


class Recent(Generic[Thing]):
    """The last `most` things by key. Safe for threads; each is made once, others wait for it."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._things: OrderedDict[str, Thing] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: str, make: Callable[[], Thing]) -> Thing:
        """The thing under a key, made now if it is not there."""
        with self._lock:
            if key not in self._things:
                self._things[key] = make()
                while len(self._things) > self._most:
                    self._things.popitem(last=False)
            self._things.move_to_end(key)
            return self._things[key]
