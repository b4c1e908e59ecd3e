"""Findings: what the proof or a check reports."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal

Severity = Literal["stop", "caution", "note"]


@dataclass(frozen=True)
class Finding:
    """Something to know before a program runs. Lengths mm, time s from the program's start.

    `operation` is its name ("" when it belongs to none), `move` the index into the program's motion
    (-1: none), `line` the line of the text, `place` program coordinates, `measure` and `limit` the
    number found and the number allowed; `bodies` are the two that meet: cutter, shank or holder, and stock,
    part or fixture, or bodies of the machine; `offer` is a change that was found to mend it: fields to set of
    the operation's `tool`, of its `parameters`, or of the setup's `placement`.
    """

    severity: Severity
    kind: str
    words: str
    remedy: str = ""
    setup: str = ""
    operation: str = ""
    move: int = -1
    line: int = -1
    time_s: float = 0.0
    place: tuple[float, float, float] | None = None
    measure: float | None = None
    limit: float | None = None
    bodies: tuple[str, str] | None = None
    offer: dict[str, dict[str, float]] | None = None

    def as_dict(self) -> dict[str, Any]:
        """Plain data."""
        return asdict(self)
