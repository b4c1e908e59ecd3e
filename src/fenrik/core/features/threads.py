"""Screw threads by their names: ISO metric (ISO 261, ISO 724) and unified inch (ASME B1.1); dimensions by ISO
68-1."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from fenrik.core.errors import ComputeError
from fenrik.core.features.hole_use import COARSE, INCH, major

HEIGHT = math.sqrt(3.0) / 2.0
"""Height H of the sharp 60° triangle over the pitch."""
_METRIC = re.compile(r"M(\d+(?:\.\d+)?)(?:\s*[xX]\s*(\d+(?:\.\d+)?))?")
_UNIFIED = re.compile(r"(#\d+|\d+(?:[ -]\d+)?(?:/\d+)?)\s*-\s*(\d+)(?:\s*UN\w*)?")


@dataclass(frozen=True)
class Thread:
    """A 60° thread: its name, nominal (major) diameter and pitch mm."""

    name: str
    major: float
    pitch: float

    @property
    def pitch_diameter(self) -> float:
        """d - 0.649519 P (ISO 724)."""
        return self.major - 0.75 * HEIGHT * self.pitch

    @property
    def minor(self) -> float:
        """Of the internal thread, D - 1.082532 P (ISO 724)."""
        return self.major - 1.25 * HEIGHT * self.pitch

    @property
    def root(self) -> float:
        """Of the external thread with its rounded root, d - 1.226869 P (ISO 724)."""
        return self.major - 17.0 / 12.0 * HEIGHT * self.pitch

    @property
    def tapping_drill(self) -> float:
        """d - P, which ISO 2306 rounds."""
        return self.major - self.pitch


def thread(name: str) -> Thread:
    """The thread of a name: "M8", "M8 x 1", "1/4-20", "#10-32", "1-8 UNC". Raises ComputeError for other
    text, and where neither name nor table gives the pitch."""
    text = name.strip()
    if found := _METRIC.fullmatch(text):
        nominal = f"M{float(found[1]):g}"
        pitch = float(found[2]) if found[2] else COARSE.get(nominal)
        if pitch is None:
            raise ComputeError(
                f"The coarse pitch of {nominal} is in no table here.",
                remedy=f"Give it, as in '{nominal} x 1.5'.",
            )
        return _checked(Thread(text, float(found[1]), pitch))
    if found := _UNIFIED.fullmatch(text):
        size = found[1].replace("-", " ")
        whole, _, part = size.partition(" ")
        diameter = major(whole) + (major(part) if part else 0.0)
        return _checked(Thread(text, diameter, INCH / int(found[2])))
    raise ComputeError(
        f"'{name}' names no thread.", remedy="Write it like M8, M8 x 1, 1/4-20, #10-32 or 1-8 UNC."
    )


def _checked(found: Thread) -> Thread:
    if found.pitch <= 0 or found.minor <= 0:
        raise ComputeError(
            f"The thread '{found.name}' has no core: its pitch of {found.pitch:g} mm is too coarse for "
            f"{found.major:g} mm.",
            remedy="Check diameter and pitch.",
        )
    return found
