"""How a control of an arm is written to, as data."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from fenrik.core.posting.writing.templates import lines_of, taken, without_minus_zero
from fenrik.core.strict import Strict


class ArmTemplates(Strict):
    """Pieces of text around the motion."""

    start: str
    tool: str
    tool_end: str
    operation: str
    end: str
    section: str
    """What every file but the first begins with."""


class ArmDialect(Strict):
    """How numbers, orientations, speeds and the fixed pieces of an arm's program are written."""

    drives: Literal["arm"]
    id: str
    name: str
    extension: str = "txt"
    decimals: Annotated[int, Field(ge=2, le=6)] = 3
    angle_decimals: Annotated[int, Field(ge=3, le=7)] = 4
    """Of joints, angles and quaternions."""
    feed_decimals: Annotated[int, Field(ge=0, le=4)] = 1
    feed_unit: Literal["mm_min", "mm_s"] = "mm_min"
    """Speeds as F in mm/min, or V in mm/s."""
    orientation: Literal["angles", "quaternion"] = "angles"
    """A tool's directions as A, B, C about the fixed X, Y and Z (ISO 9787), or as a quaternion Q1 to Q4."""
    most_lines: Annotated[int, Field(ge=20, le=1_000_000)] = 5000
    """A file holds no more; a longer program is several, called by the first."""
    comments: Literal["all", "tools", "none"] = "all"
    comment_open: str = "; "
    comment_characters: str
    templates: ArmTemplates

    @property
    def resolution_mm(self) -> float:
        """The smallest step of a written coordinate, mm."""
        return float(10.0**-self.decimals)

    @property
    def resolution_deg(self) -> float:
        """The smallest step of a written joint angle, degrees."""
        return float(10.0**-self.angle_decimals)

    @property
    def resolution_lean(self) -> float:
        """By how much a written direction may be off, rad."""
        step = 10.0**-self.angle_decimals
        return float(2.0 * step if self.orientation == "quaternion" else 2.0 * step / 57.3)

    def number(self, value: float, decimals: int) -> str:
        """A number with so many decimals and no minus zero."""
        return without_minus_zero(f"{value:.{decimals}f}")

    def comment(self, text: object) -> str:
        """A comment with only the characters the control takes; nothing where none are wanted."""
        if self.comments == "none":
            return ""
        return f"{self.comment_open}{taken(text, self.comment_characters)}"

    def render(self, template: str, **values: Any) -> list[str]:
        """As that of other dialects."""
        return lines_of(self.id, self.templates.model_dump(), template, {"comment": self.comment, **values})
