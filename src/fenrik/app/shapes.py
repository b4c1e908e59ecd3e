"""The shapes of answers: what a page or another program is told about a job, its part and its proofs."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict

from fenrik.core.job.document.recipe_data import PartRecipe, Recipe
from fenrik.core.job.programs.posted import Scheduled
from fenrik.core.machines.machine import Machine
from fenrik.core.model.bodies import Body
from fenrik.core.proof.numbers import LoadFacts, ProofDeviation
from fenrik.core.setups.held_in import Fixture
from fenrik.core.strategies.base import Target
from fenrik.core.tooling.assembly import Assembly, Kind
from fenrik.core.tooling.materials import Material

Vec3 = tuple[float, float, float]
Matrix = list[list[float]]


class Shape(BaseModel):
    """Base of all: what is not described does not go out."""

    model_config = ConfigDict(extra="forbid")


class Offered(Shape):
    """A change to an operation that failed with which it would work, or the bodies of a file to choose
    from."""

    solids: list[Body] | None = None
    tool_at_most: float | None = None
    set: dict[str, Any] | None = None
    parameters: dict[str, Any] | None = None


class Fault(Shape):
    """What is wrong, what to do, and the place in the document; `rule` is what a value there must be."""

    model_config = ConfigDict(extra="ignore")

    code: str
    what: str
    remedy: str = ""
    where: str = ""
    rule: str | None = None
    offer: Offered | None = None


class Box(Shape):
    """Lowest and highest corner, mm."""

    min: Vec3
    max: Vec3


class StockState(Box):
    """A stock's box and a name for its shape, none for a box."""

    shape: str | None


class SideState(Shape):
    """A side, why the machine cannot reach it (empty where it can), and where its rotary joints stand there,
    degrees, coming from zero."""

    name: str
    setup_from_side: Matrix
    out_of_reach: str
    joints: dict[str, float] = {}


class SafeBodyState(Shape):
    """The cylinder about all that turns over which the way from side to side goes, setup frame, mm; `top` is
    the height of the tip there."""

    low: Vec3
    high: Vec3
    radius: float
    top: float


class OperationState(Shape):
    """What a row of the plan shows: `new` was never computed, `stale` with other inputs; `error` says why an
    operation failed."""

    name: str
    state: Literal["ready", "new", "stale", "failed"]
    key: str | None = None
    error: Fault | None = None
    spindle_rpm: float
    feed_mm_min: float


class SetupState(Shape):
    """A setup as it stands: frames and boxes where it is ready, else why not. `copies` are where every part
    of an array lies from the first, `moved` how the part was turned from the setup before."""

    name: str
    state: Literal["ready", "wrong", "waits"]
    error: Fault | None = None
    setup_from_part: Matrix | None = None
    stock: StockState | None = None
    safe_body: SafeBodyState | None = None
    fixture: str | None = None
    machine: str | None = None
    part: Box | None = None
    table_from_setup: Vec3 | None = None
    copies: list[Vec3] | None = None
    moved: str | None = None
    sides: list[SideState] | None = None
    operations: list[OperationState]


class ReleaseState(Shape):
    """What of a release runs in one of its setups; `index` is the release's place in the document, `file`
    that of a program from elsewhere; where it is proved, how many stops and cautions were found."""

    name: str
    index: int
    setup: str
    dialect: str
    file: str | None = None
    state: Literal["ready", "stale", "wrong"]
    key: str | None = None
    error: Fault | None = None
    stops: int | None = None
    cautions: int | None = None


class Problem(Shape):
    """Something wrong or doubtful with a model."""

    severity: str
    what: str
    remedy: str


class PartState(Shape):
    """The part as it was read, or why it was not."""

    state: Literal["missing", "unread", "ready"]
    error: Fault | None = None
    key: str | None = None
    name: str | None = None
    kind: str | None = None
    solids: int | None = None
    solid: int | None = None
    faces: int | None = None
    edges: int | None = None
    volume_mm3: float | None = None
    area_mm2: float | None = None
    min: Vec3 | None = None
    max: Vec3 | None = None
    size: Vec3 | None = None
    file_unit: str | None = None
    problems: list[Problem] | None = None
    bodies: list[Body] | None = None


class JobState(Shape):
    """What of a job is computed, stale, missing or failing."""

    part: PartState
    setups: list[SetupState]
    releases: list[ReleaseState]


class Face(Shape):
    """Facts of a face, part frame, mm."""

    id: int
    kind: str
    area: float
    low: Vec3
    high: Vec3
    normal: Vec3 | None
    origin: Vec3 | None
    axis: Vec3 | None
    radius: float | None
    hollow: bool | None


class Edge(Shape):
    """Facts of an edge, part frame, mm; `faces` meet in it."""

    id: int
    kind: str
    length: float
    faces: list[int]
    start: Vec3
    end: Vec3
    centre: Vec3 | None
    axis: Vec3 | None
    radius: float | None


class PartFaces(Shape):
    """All faces and edges of a part."""

    faces: list[Face]
    edges: list[Edge]


class Derived(Shape):
    """A number, its unit, where it comes from, how it was worked out, and what it would be without the limit
    of the machine that holds it."""

    value: float
    unit: str
    origin: str
    formula: str
    beyond: float | None = None


class OperationValues(Shape):
    """An operation with nothing left open: its strategy and parameters, and what was proposed with the
    reasons."""

    strategy: str
    derived: dict[str, Derived]
    parameters: dict[str, Any]


class Measured(Shape):
    """A row of what was measured."""

    label: str
    value: float
    unit: str


class Mend(Shape):
    """Fields of an operation, of its parameters, of its tool or of the setup's placement to set, so that a
    finding should go."""

    operation: dict[str, float] | None = None
    parameters: dict[str, float] | None = None
    tool: dict[str, float] | None = None
    placement: dict[str, float] | None = None


class FindingRow(Shape):
    """Something to know before a program runs; see `proof.finding.Finding`."""

    severity: Literal["stop", "caution", "note"]
    kind: str
    words: str
    remedy: str
    setup: str
    operation: str
    move: int
    line: int
    time_s: float
    place: Vec3 | None
    measure: float | None
    limit: float | None
    bodies: tuple[str, str] | None = None
    mend: Mend | None = None


class BodyPair(Shape):
    """Two bodies of the machine, or of what it holds, that move against each other, and whether the proof
    looks at them."""

    first: str
    second: str
    asked: bool


class OperationFacts(Shape):
    """What a proof says of one step: an operation, or one time of one that is done again with the work turned
    on."""

    name: str
    operation: str = ""
    strategy: str
    tool: int
    moves: int
    cutting_length_mm: float
    rapid_length_mm: float
    time_s: float
    removed_mm3: float
    compute_s: float
    spindle_rpm: float
    feed_mm_min: float
    held: str
    load: LoadFacts
    adapted_saves_s: float


class SideFacts(Shape):
    """What a program does from a side, none for the setup's own: how many operations, how often the machine
    turns to it, the time with the ways, s, and where its rotary joints stand, degrees."""

    name: str | None
    operations: int
    turns: int
    time_s: float
    joints: dict[str, float]


class ReplayFacts(Shape):
    """What a replay stands on: the stock's box and the keys of what was kept."""

    low: Vec3
    high: Vec3
    is_box: bool
    raw: str
    cuts: list[str]
    tools: dict[str, Assembly]


class ProofFacts(Shape):
    """The facts of a proved release in one of its setups. `files` are names and texts as they are handed out;
    `registers` what the control's registers D are to hold, by tool number, mm; `program` are the steps of all
    setups in their order, `operations` those of this one."""

    setup: str
    release: str
    file: str
    dialect: str
    tilted: str
    moving: str
    feed: str
    zero: str
    text: str
    files: list[tuple[str, str]]
    setups: list[str]
    tool_changes: int
    order_saves_s: float
    registers: dict[str, float]
    cell_mm: float
    time_s: float
    stock_volume_mm3: float
    removed_mm3: float
    operations: list[OperationFacts]
    sides: list[SideFacts] = []
    program: list[Scheduled]
    replay: ReplayFacts
    deviation: ProofDeviation
    bodies: list[BodyPair] = []
    findings: list[FindingRow]


class KeptProof(Shape):
    """What the proof of a kept release said."""

    setup: str
    file: str
    dialect: str
    zero: str
    time_s: float
    removed_mm3: float
    deviation: ProofDeviation
    findings: list[FindingRow]
    operations: list[OperationFacts]
    cell_mm: float


class DialectInfo(Shape):
    """A dialect of the library: what it `drives`, a mill or an arm, and how it writes `arcs`, if it does."""

    id: str
    name: str
    drives: str
    units: str
    extension: str
    arcs: str | None


class StrategyInfo(Shape):
    """A strategy: with which kinds of tools, on what it works, whether the tool's axis moves, whether it
    finishes, its parameters as JSON Schema."""

    id: str
    title: str
    summary: str
    kinds: list[Kind]
    target: Target
    axis: Literal["fixed", "moving"]
    finishes: bool
    parameters: dict[str, Any]


class Library(Shape):
    """All that ships with Fenrik and can be chosen. `recipe_choices` is what a recipe's fields may hold, by
    field."""

    machines: list[Machine]
    fixtures: list[Fixture]
    materials: list[Material]
    tools: list[Assembly]
    dialects: list[DialectInfo]
    recipes: list[Recipe]
    recipe_choices: dict[str, list[str]]
    part_recipes: list[PartRecipe]
    strategies: list[StrategyInfo]
