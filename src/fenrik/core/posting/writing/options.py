"""How a release wants its text, as far as that differs from its dialect."""

from __future__ import annotations

from typing import Annotated, Any, Literal, TypeVar, cast

from pydantic import Field

from fenrik.core.posting.arms.dialect import ArmDialect
from fenrik.core.posting.writing.dialect import Dialect
from fenrik.core.strict import Strict

D = TypeVar("D", bound=Dialect | ArmDialect)


def option(meaning: str, **bounds: Any) -> Any:
    """An option that is open, as the dialect says, unless it is given."""
    return Field(default=None, description=meaning, **bounds)


class PostOptions(Strict):
    """What a release asks for; what is left open is as the dialect says."""

    line_numbers: Literal["all", "tool", "none"] | None = option("Which blocks have a number N.")
    line_number_start: int | None = option("The first number.", ge=0, le=99999)
    line_number_step: int | None = option("From one number to the next.", ge=1, le=10000)
    word_spacing: bool | None = option("A space between words.")
    comments: Literal["all", "tools", "none"] | None = option("Which comments are written.")
    arcs: Literal["centre", "radius"] | None = option("Arcs by their centre (I J K) or by their radius (R).")
    circles: Literal["whole", "halves"] | None = option("Full circles in one block or in two.")
    holes: Literal["canned", "moves"] | None = option("Holes as canned cycles or as plain moves.")
    optional_stop: bool | None = option("M1 before every tool change but the first.")
    preload: bool | None = option("The next tool is called up (T) while one works.")
    restart: bool | None = option(
        "Every tool begins with the whole modal state, so that the program may begin there."
    )
    rapid_feed_mm_min: Annotated[float, Field(gt=0, le=200000)] | None = Field(
        default=None,
        description="Rapids within a tool's work are driven straight at this feed (G1), for machines whose "
        "G0 is not straight.",
    )
    coolant: Literal["planned", "off"] = Field(default="planned", description="Off: for a dry run.")
    between: Literal["clearance", "home"] = Field(
        default="clearance",
        description="Between operations of one tool: over the clearance height, or by way of the upper end "
        "of Z.",
    )
    wear_mm: Annotated[float, Field(ge=0, le=1)] = Field(
        default=0.05,
        description="Work whose radius the control corrects is proved once more with tools worn by this; "
        "0: it is not.",
    )

    def on(self, dialect: D) -> D:
        """The dialect with these options in place of its own."""
        own = set(type(dialect).model_fields) & set(PostOptions.model_fields) - {"coolant"}
        given = {name: getattr(self, name) for name in own if getattr(self, name) is not None}
        return cast(D, dialect.model_copy(update=given))
