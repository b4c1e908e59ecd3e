"""Recipes as data: the conditions under which they are for holes or features, and the operations that they
lead to."""

from __future__ import annotations

import tomllib
from functools import cache
from importlib.resources import files
from typing import Annotated, Any, Literal, get_args

from pydantic import Field, field_validator, model_validator

from fenrik.core.features.feature import Kind
from fenrik.core.features.hole_use import Purpose
from fenrik.core.features.holes import Hole, Shape
from fenrik.core.strategies.registry import strategies
from fenrik.core.strict import Strict

HOLES = "recipes of holes"
"""The step of a part's recipe that stands for what the recipes of its holes lead to."""
Words = Annotated[str, Field(min_length=1, max_length=80)]


def _known(strategy: str, parameters: dict[str, Any]) -> None:
    """Raises ValueError for a strategy that does not exist or parameters that it does not take."""
    if strategy not in strategies():
        raise ValueError(f"no such strategy '{strategy}'; use one of: {', '.join(strategies())}")
    strategies()[strategy].parameters(**parameters)


class RecipeStep(Strict):
    """One operation of a recipe for holes: its strategy, parameters, and the tool, sized by the narrowest
    diameter ("hole"), the widest ("mouth") or the thread, less `under` mm."""

    name: Words
    strategy: str = "drilling"
    parameters: dict[str, Any] = {}
    tool: Literal["spot", "drill", "reamer", "tap", "end mill", "mill"]
    size: Literal["hole", "mouth", "thread"] = "hole"
    under: Annotated[float, Field(ge=0, le=50)] = 0.0

    @model_validator(mode="after")
    def _runs(self) -> RecipeStep:
        _known(self.strategy, self.parameters)
        return self


class Recipe(Strict):
    """How holes are made: conditions (purposes, shapes, depth in diameters), and what is done where they
    hold."""

    name: Words
    purposes: Annotated[list[Purpose], Field(min_length=1)]
    shapes: list[Shape] | None = None
    deeper_than: Annotated[float, Field(ge=0)] = 0.0
    no_deeper_than: Annotated[float, Field(gt=0)] = 1e9
    steps: Annotated[list[RecipeStep], Field(min_length=1, max_length=20)]

    def holds(self, hole: Hole, purpose: Purpose) -> bool:
        """Whether the recipe is for such a hole."""
        deep = hole.depth / hole.diameter
        shape = self.shapes is None or hole.shape in self.shapes
        return purpose in self.purposes and shape and self.deeper_than < deep <= self.no_deeper_than


When = Literal[
    "stock over the top",
    "something to clear",
    "narrow corners",
    "slots",
    "floors",
    "floors with narrow corners",
    "walls",
    "walls with narrow corners",
    "curved faces",
    "steep curved faces",
    "flat curved faces",
    "chamfers",
]


class PartStep(Strict):
    """One operation of a recipe for features: `when` it is needed, its tool (the clearing mill; the finishing
    mill, which goes into the corners; the mill for walls, which is the clearing one where that passes by
    corners; the mills that go round in narrow slots, an operation each; a ball; a chamfer cutter), and what
    it works on. `full_flutes` steps down by the flutes' length; `rest_of_walls` tells a profile that the mill
    for walls went along them before. The strategy "recipes of holes" stands for the operations of the
    holes."""

    name: Words
    strategy: str
    when: When | None = None
    tool: Literal["clearing", "finishing", "walls", "slots", "ball", "chamfer"] = "clearing"
    works_on: Literal["everything", "ground", "walls", "curved faces", "chamfers"] = "everything"
    full_flutes: bool = False
    rest_of_walls: bool = False
    parameters: dict[str, Any] = {}

    @model_validator(mode="after")
    def _runs(self) -> PartStep:
        if self.strategy != HOLES:
            _known(self.strategy, self.parameters)
        return self


class PartRecipe(Strict):
    """How features are made, in order; `kinds` are those that it is for (none: all, and whole parts)."""

    name: Words
    kinds: list[Kind] = []
    steps: Annotated[list[PartStep], Field(min_length=1, max_length=30)]

    @field_validator("steps")
    @classmethod
    def _holes_once(cls, steps: list[PartStep]) -> list[PartStep]:
        if sum(s.strategy == HOLES for s in steps) > 1:
            raise ValueError(f"the step '{HOLES}' is used twice")
        return steps


def choices() -> dict[str, list[str]]:
    """What may stand in a recipe's fields that have a choice, by field; `tool` of features as `part_tool`."""

    def of(model: type[Strict], name: str) -> list[str]:
        return list(get_args(model.model_fields[name].annotation))

    return {
        "purposes": list(get_args(Purpose)),
        "shapes": list(get_args(Shape)),
        "kinds": list(get_args(Kind)),
        "when": list(get_args(When)),
        "tool": of(RecipeStep, "tool"),
        "size": of(RecipeStep, "size"),
        "part_tool": of(PartStep, "tool"),
        "works_on": of(PartStep, "works_on"),
    }


@cache
def shipped() -> tuple[list[Recipe], list[PartRecipe]]:
    """The recipes that ship with Fenrik, for holes and for features, in their order."""
    data = tomllib.loads(files("fenrik.core.job.document").joinpath("recipes.toml").read_text("utf-8"))
    return [Recipe(**r) for r in data["recipe"]], [PartRecipe(**r) for r in data["part_recipe"]]
