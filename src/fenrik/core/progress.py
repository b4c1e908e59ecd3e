"""Progress and cancelling as one small callback object."""

from __future__ import annotations

from collections.abc import Callable

from fenrik.core.errors import Cancelled


class Progress:
    """Reports how far a computation is and stops it on request.

    `report(fraction, words)` receives a fraction in 0..1 and what is being done; `cancelled()` is
    asked at every step. `part(low, high)` gives a view on a share of the whole, so that a step
    need not know what runs before or after it.
    """

    def __init__(
        self,
        report: Callable[[float, str], None] | None = None,
        cancelled: Callable[[], bool] | None = None,
        low: float = 0.0,
        high: float = 1.0,
    ) -> None:
        self._report = report
        self._cancelled = cancelled
        self._low = low
        self._high = high

    def step(self, fraction: float, words: str = "") -> None:
        """Say how far it is (0..1). Raises Cancelled when the work was called off."""
        if self._cancelled is not None and self._cancelled():
            raise Cancelled()
        if self._report is not None:
            clipped = min(1.0, max(0.0, fraction))
            self._report(self._low + clipped * (self._high - self._low), words)

    def stage(self, low: float, high: float) -> Progress:
        """A progress that fills only the share low..high of this one."""
        span = self._high - self._low
        return Progress(self._report, self._cancelled, self._low + low * span, self._low + high * span)


SILENT = Progress()
