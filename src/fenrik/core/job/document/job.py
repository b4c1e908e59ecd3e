"""The job document: one readable file that holds a whole job. Lengths mm, angles degrees in names that say
so."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import Discriminator, Field, Tag, ValidationInfo, field_validator, model_validator

from fenrik.core.job.document.picks import AreaDoc, Boundary, HolePick, LinePick, Name, WallPick
from fenrik.core.job.document.recipe_data import PartRecipe, Recipe
from fenrik.core.job.document.repeats import RepeatDoc
from fenrik.core.machines.library import machines
from fenrik.core.machines.machine import Machine
from fenrik.core.posting.writing.options import PostOptions
from fenrik.core.setups.between import BetweenSides
from fenrik.core.setups.held_in import Fixture, HeldIn
from fenrik.core.setups.pieces import LoosePiece
from fenrik.core.setups.round_stock import RoundStock
from fenrik.core.setups.setup import BoxStock, CarriedStock, PartArray, Placement, SolidStock, Up, Zero
from fenrik.core.setups.side import SideDoc
from fenrik.core.strategies.registry import strategies
from fenrik.core.strict import Strict
from fenrik.core.tooling.assembly import Assembly

VERSION = 2


class PartDoc(Strict):
    """The model file and how it is taken. `file` is relative to the document."""

    file: Annotated[str, Field(min_length=1, description="STEP or STL file, relative to this document.")]
    solid: (
        Annotated[int, Field(ge=1, description="Which solid, from 1, where the file holds several.")] | None
    ) = None
    scale: Annotated[float, Field(gt=0, le=10000, description="All lengths are multiplied by this.")] = 1.0
    heal: Annotated[bool, Field(description="Sew loose faces and repair an invalid solid.")] = False
    round_facets: Annotated[
        bool, Field(description="Take facets of an STL file that lie on a cylinder, cone or sphere for it.")
    ] = True


class Height(Strict):
    """A height of the tip: a distance over a reference, mm."""

    over: Literal["stock_top", "stock_bottom", "part_top", "part_bottom", "zero"] = "stock_top"
    offset: float = 0.0


class HeightsDoc(Strict):
    """Heights of an operation. `feed` is the distance over the stock at which rapid turns to feed."""

    clearance: Height = Height(over="stock_top", offset=10.0)
    retract: Height = Height(over="stock_top", offset=2.0)
    feed: Annotated[float, Field(gt=0, le=500)] = 1.0
    bottom: Height = Height(over="part_bottom", offset=0.0)


class ArmDoc(Strict):
    """How an arm holds the tool of an operation; of no use on other machines."""

    search: Annotated[
        Literal["spin", "table", "none"],
        Field(
            description="What is left to a search over the whole path, which keeps one posture of the arm "
            "where it can: the spin about the tool, the table's angle, or neither."
        ),
    ] = "spin"
    table_deg: Annotated[
        float, Field(ge=-3600, le=3600, description="The table's angle, where it is held.")
    ] = 0.0
    spin_deg: Annotated[
        float,
        Field(
            ge=-360,
            le=360,
            description="The turn of the spindle about the tool's axis, where it is held; at 0 the spindle "
            "hangs as the arm carries it towards the table.",
        ),
    ] = 0.0


class OperationDoc(Strict):
    """One strategy applied to some geometry with one tool. Speed and feeds left open are proposed."""

    name: Name
    strategy: str
    tool: Annotated[int, Field(ge=1, description="Number of a tool of this job.")]
    side: Annotated[
        Name | None, Field(description="The side from which it works; open: the setup's own.")
    ] = None
    enabled: bool = True
    spindle_rpm: Annotated[float, Field(gt=0, le=200000)] | None = None
    spindle: Literal["clockwise", "counter_clockwise"] = "clockwise"
    feed_mm_min: Annotated[float, Field(gt=0, le=200000)] | None = None
    entry_feed_mm_min: Annotated[float, Field(gt=0, le=200000)] | None = None
    coolant: Literal["off", "flood", "mist"] = "flood"
    tolerance_mm: Annotated[
        float, Field(ge=0.002, le=1, description="Chord tolerance of path and mesh together.")
    ] = 0.01
    boldness: Annotated[
        float, Field(ge=0, le=1, description="Proposals from 0, cautious, to 1, bold; 0.5 is the middle.")
    ] = 0.5
    feed_follows: Annotated[
        Literal["plan", "engagement"],
        Field(
            description="One feed as planned, or along the path the feed that keeps the chip as thick as "
            "planned at the measured engagement."
        ),
    ] = "plan"
    when_short: Annotated[
        Literal["trim", "raise", "leave"],
        Field(
            description="Where shank or holder would touch part or stock: leave moves out, lift them, or "
            "keep them."
        ),
    ] = "trim"
    heights: HeightsDoc = HeightsDoc()
    arm: ArmDoc = ArmDoc()
    keep_in: list[Boundary] = []
    keep_out: list[Boundary] = []
    faces: Annotated[
        list[Annotated[int, Field(ge=1)]],
        Field(description="Faces that a surface strategy finishes: it cuts where the tool touches them."),
    ] = []
    holes: Annotated[list[HolePick], Field(description="Round holes, for strategies that make them.")] = []
    walls: Annotated[list[WallPick], Field(description="Walls, for strategies that follow them.")] = []
    lines: Annotated[list[LinePick], Field(description="Lines, for strategies that engrave them.")] = []
    parameters: dict[str, Any] = {}
    unconfirmed: Annotated[
        str,
        Field(
            max_length=200,
            description="What its holes may be for that the model does not show, such as 'thread M8'; "
            "proposals write it, and it stays until somebody confirms or declines it.",
        ),
    ] = ""
    notes: Annotated[str, Field(max_length=2000)] = ""

    @field_validator("strategy")
    @classmethod
    def _known(cls, value: str) -> str:
        if value not in strategies():
            raise ValueError(f"no such strategy; use one of: {', '.join(strategies())}")
        return value

    @field_validator("parameters")
    @classmethod
    def _typed(cls, value: dict[str, Any], info: ValidationInfo) -> dict[str, Any]:
        name = info.data.get("strategy")
        if name in strategies():
            model = strategies()[name].parameters(**value)
            return model.model_dump(exclude_unset=True)
        return value


def _stock_kind(value: Any) -> str:
    """ "box" where the document leaves the kind open."""
    return str(value.get("kind", "box")) if isinstance(value, dict) else str(getattr(value, "kind", "box"))


StockDoc = Annotated[
    Annotated[BoxStock, Tag("box")]
    | Annotated[RoundStock, Tag("round")]
    | Annotated[SolidStock, Tag("solid")]
    | Annotated[CarriedStock, Tag("carried")],
    Discriminator(_stock_kind),
]


class SetupDoc(Strict):
    """A part clamped on a machine: up, stock, zero, offset, and the operations in order."""

    name: Name
    up: Up = Up(axis="+z")
    turn_deg: Annotated[float, Field(ge=-360, le=360, description="Turn about the up direction.")] = 0.0
    machine: str = "column_mill_500"
    material: str = "aluminium_wrought"
    stock: StockDoc = BoxStock()
    array: PartArray | None = None
    held_in: Annotated[
        HeldIn | None,
        Field(
            description="A fixture of the job that holds it: then that, not `placement`, says where it is."
        ),
    ] = None
    fixture: Annotated[
        list[LoosePiece], Field(max_length=100, description="Further pieces that hold this stock alone.")
    ] = []
    zero: Zero = Zero()
    work_offset: Literal["G54", "G55", "G56", "G57", "G58", "G59"] = "G54"
    placement: Placement = Placement()
    areas: list[AreaDoc] = []
    sides: Annotated[
        list[SideDoc], Field(max_length=100, description="Further directions from which it is worked.")
    ] = []
    between_sides: BetweenSides = BetweenSides()
    operations: Annotated[list[OperationDoc], Field(max_length=4000)] = []
    repeats: list[RepeatDoc] = []

    @model_validator(mode="after")
    def _names(self) -> SetupDoc:
        _unique([o.name for o in self.operations], "operation")
        _unique([f.name for f in self.fixture], "piece of the fixture")
        _unique([a.name for a in self.areas], "area")
        _unique([r.name for r in self.repeats], "repeat")
        _unique([s.name for s in self.sides], "side")
        for operation in self.operations:
            if operation.side is not None and operation.side not in {s.name for s in self.sides}:
                raise ValueError(
                    f"operation '{operation.name}' works from the side '{operation.side}', which the setup "
                    f"does not have; its sides are {', '.join(s.name for s in self.sides) or 'none yet'}"
                )
        known, areas = {o.name for o in self.operations}, {a.name for a in self.areas}
        for operation in self.operations:
            for boundary in (*operation.keep_in, *operation.keep_out):
                if boundary.area is not None and boundary.area not in areas:
                    raise ValueError(
                        f"operation '{operation.name}' uses the area '{boundary.area}', which the setup "
                        f"does not have; its areas are {', '.join(sorted(areas)) or 'none'}"
                    )
        repeated = [name for r in self.repeats for name in r.operations]
        for name in repeated:
            if name not in known:
                raise ValueError(f"a repeat names the operation '{name}', which the setup does not have")
        _unique(repeated, "repeated operation")
        return self

    def repeat_of(self, operation: OperationDoc) -> RepeatDoc | None:
        """The repeat that makes an operation again, if there is one."""
        return next((r for r in self.repeats if operation.name in r.operations), None)

    def turns_of(self, operation: OperationDoc) -> list[float]:
        """How far the joint that carries the work is turned on for each time that an operation is done; none
        of one that is done once, or in other places of its side."""
        repeat = self.repeat_of(operation)
        return [] if repeat is None else repeat.turns()

    def plain(self, boundaries: list[Boundary]) -> list[Boundary]:
        """Boundaries with named areas put in by what they are."""
        known = {a.name: a.of for a in self.areas}
        out: list[Boundary] = []
        for b in boundaries:
            if b.area is None:
                out.append(b)
            else:
                out += [own.model_copy(update={"offset": own.offset + b.offset}) for own in known[b.area]]
        return out


class ProofDoc(Strict):
    """How finely the proof looks: cell of the stock model (open: from the part's size) and the half band
    of "on size", mm; and which bodies of the machine it looks at."""

    cell_mm: Annotated[float, Field(ge=0.02, le=5)] | None = None
    tolerance_mm: Annotated[float, Field(gt=0, le=10)] = 0.05
    near_mm: Annotated[
        float, Field(ge=0, le=50, description="Bodies that pass each other nearer than this get a caution.")
    ] = 2.0
    bodies: Annotated[
        Literal["machine", "all", "none"],
        Field(
            description="Which pairs of bodies are looked at: what the proof of cutting does not look at, "
            "those of tool and fixture too, or none."
        ),
    ] = "machine"
    bodies_off: Annotated[
        list[tuple[str, str]], Field(max_length=200, description="Pairs of bodies that are not looked at.")
    ] = []


class ReleaseDoc(Strict):
    """A program: which setup, which operations (open: all that are switched on), in which dialect.

    `also` are further setups on work offsets of their own that run in the same program, each with all that is
    switched on in it: setup after setup, or in the order with the fewest tool changes. Split by tool, every
    tool gives a file."""

    name: Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[A-Za-z0-9][A-Za-z0-9_.-]*$")]
    setup: str
    also: list[str] = []
    operations: list[str] | None = None
    file: Annotated[
        str | None,
        Field(
            min_length=1,
            description="A program that came from elsewhere, relative to this document: it is read and "
            "proved in place of one that Fenrik writes.",
        ),
    ] = None
    order: Literal["planned", "fewest_changes"] = "planned"
    split: Literal["none", "tool"] = "none"
    dialect: str = "plain_iso"
    program_number: Annotated[int, Field(ge=1, le=9999)] = 1
    comment: Annotated[str, Field(max_length=60)] = ""
    options: PostOptions = PostOptions()
    notes: Annotated[str, Field(max_length=2000)] = ""

    @property
    def setups(self) -> list[str]:
        """Names of the setups that run in it."""
        return [self.setup, *self.also]


class Job(Strict):
    """A whole job."""

    fenrik: Annotated[Literal[2], Field(description="Version of the document.")] = 2
    name: Name
    units: Annotated[Literal["mm", "inch"], Field(description="Display only; the document is in mm.")] = "mm"
    part: PartDoc | None = None
    tools: Annotated[list[Assembly], Field(max_length=1000)] = []
    setups: Annotated[list[SetupDoc], Field(max_length=100)] = []
    machines: Annotated[
        list[Machine],
        Field(
            max_length=20, description="The shop's own machines; they go before those that ship with Fenrik."
        ),
    ] = []
    fixtures: Annotated[
        list[Fixture], Field(max_length=50, description="Fixtures that setups are held in, by their names.")
    ] = []
    proof: ProofDoc = ProofDoc()
    releases: Annotated[list[ReleaseDoc], Field(max_length=200)] = []
    recipes: Annotated[
        list[Recipe],
        Field(description="The job's own recipes for holes; they go before those that ship with Fenrik."),
    ] = []
    part_recipes: Annotated[
        list[PartRecipe], Field(description="The job's own recipes for features and whole parts, likewise.")
    ] = []
    notes: Annotated[str, Field(max_length=4000)] = ""

    @model_validator(mode="after")
    def _references(self) -> Job:
        numbers = [t.number for t in self.tools]
        _unique([str(n) for n in numbers], "tool number")
        _unique([s.name for s in self.setups], "setup")
        _unique([m.id for m in self.machines], "machine")
        _unique([f.name for f in self.fixtures], "fixture")
        _unique([r.name for r in self.releases], "release")
        _unique([*(r.name for r in self.recipes), *(r.name for r in self.part_recipes)], "recipe")
        fixtures = [f.name for f in self.fixtures]
        for setup in self.setups:
            if setup.held_in is not None and setup.held_in.fixture not in fixtures:
                raise ValueError(
                    f"setup '{setup.name}' is held in the fixture '{setup.held_in.fixture}', which the job "
                    f"does not have; its fixtures are {', '.join(fixtures) or 'none yet'}"
                )
            for operation in setup.operations:
                if operation.tool not in numbers:
                    raise ValueError(
                        f"operation '{operation.name}' uses tool {operation.tool}, which the job does not "
                        f"have; its tools are {', '.join(map(str, numbers)) or 'none'}"
                    )
        for i, setup in enumerate(self.setups):
            if isinstance(setup.stock, CarriedStock):
                self._check_carried(setup, setup.stock.setup, self.setups[:i])
        for release in self.releases:
            self._check_release(release)
        return self

    def _check_carried(self, setup: SetupDoc, name: str, earlier: list[SetupDoc]) -> None:
        source = next((s for s in earlier if s.name == name), None)
        if source is None:
            raise ValueError(
                f"setup '{setup.name}' takes its stock from the setup '{name}', which is none before it;"
                f" use one of: {', '.join(s.name for s in earlier) or 'none, give a box or a solid'}"
            )
        if source.array is not None:
            raise ValueError(
                f"setup '{setup.name}' takes its stock from '{name}', which makes several parts in one blank;"
                " give a box or a solid, or do without the array there"
            )

    def _check_release(self, release: ReleaseDoc) -> None:
        setup = next((s for s in self.setups if s.name == release.setup), None)
        if setup is None:
            raise ValueError(
                f"release '{release.name}' names the setup '{release.setup}', which does not exist;"
                f" use one of: {', '.join(s.name for s in self.setups) or 'none yet'}"
            )
        if release.file is not None and (release.also or release.operations or release.split != "none"):
            raise ValueError(
                f"release '{release.name}' proves the program '{release.file}'; it takes no operations, no "
                "further setups and no split"
            )
        if release.also:
            self._check_together(release)
        known = {o.name for o in setup.operations}
        for name in release.operations or []:
            if name not in known:
                raise ValueError(
                    f"release '{release.name}' names the operation '{name}', which setup '{setup.name}' "
                    "does not have"
                )

    def _check_together(self, release: ReleaseDoc) -> None:
        """Several setups in one program: known, none twice, on one machine, each on an offset of its own."""
        known = {s.name: s for s in self.setups}
        for name in release.also:
            if name not in known:
                raise ValueError(
                    f"release '{release.name}' names the setup '{name}', which does not exist; use one of: "
                    f"{', '.join(known)}"
                )
        _unique(release.setups, f"setup of release '{release.name}'")
        own = [known[name] for name in release.setups]
        if len({s.machine for s in own}) > 1:
            raise ValueError(
                f"the setups of release '{release.name}' are on different machines; give each its own release"
            )
        for i, a in enumerate(own):
            for b in own[i + 1 :]:
                if a.work_offset == b.work_offset:
                    raise ValueError(
                        f"the setups '{a.name}' and '{b.name}' of release '{release.name}' both use "
                        f"{a.work_offset}; give each its own work offset"
                    )
        if release.operations is not None:
            raise ValueError(
                f"release '{release.name}' runs several setups and chooses operations; switch operations "
                "off in their setups"
            )

    def tool(self, number: int) -> Assembly:
        """The tool with this number, which the document has made sure exists."""
        return next(t for t in self.tools if t.number == number)

    def setup(self, name: str) -> SetupDoc:
        """The setup of this name, which the document has made sure exists."""
        return next(s for s in self.setups if s.name == name)

    def effective_releases(self) -> list[ReleaseDoc]:
        """The releases, or one per setup with operations where none is given."""
        if self.releases:
            return list(self.releases)
        out = []
        for i, setup in enumerate(s for s in self.setups if any(o.enabled for o in s.operations)):
            slug = re.sub(r"[^A-Za-z0-9]+", "_", f"{self.name}_{setup.name}").strip("_").lower()[:60]
            name, number = slug or f"program_{i + 1}", i + 1
            words = self._dialect_of(setup)
            out.append(ReleaseDoc(name=name, setup=setup.name, program_number=number, dialect=words))
        return out

    def _dialect_of(self, setup: SetupDoc) -> str:
        """The dialect that is taken where none is given."""
        own = {m.id: m for m in self.machines}
        machine = own.get(setup.machine) or machines().get(setup.machine)
        return "plain_arm" if machine is not None and machine.is_arm else "plain_iso"


def _unique(names: list[str], what: str) -> None:
    seen: set[str] = set()
    for name in names:
        if name in seen:
            raise ValueError(f"the {what} '{name}' is used twice; give each its own")
        seen.add(name)
