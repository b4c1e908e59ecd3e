"""Routes of what the view shows: the part, paths, proofs, proposals. Answers are computed elsewhere and
passed on as they are."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Request, Response
from pydantic import BaseModel, Field

from fenrik.app.shapes import Measured, OperationValues, PartFaces, ProofFacts, SideState, Vec3
from fenrik.core.errors import NotFound
from fenrik.core.features.hole_use import Purpose
from fenrik.core.features.sides_needed import SideNeeded
from fenrik.core.features.way_up import WayUp
from fenrik.core.job.cutting.proofs import motion_key, stock_key
from fenrik.core.job.document.job import OperationDoc
from fenrik.core.job.proposing.clampings import Clamping
from fenrik.core.setups.side import SideDoc
from fenrik.core.tooling.assembly import Assembly
from fenrik.web.deps import JSON, Coordinate, FaceId, Key, Number, Service, as_it_lies, data, packed

router = APIRouter(tags=["views"])
Index = Annotated[int, Path(ge=0, le=1000)]
Place = Annotated[int, Path(ge=0, le=4000)]
Shape = Annotated[str, Path(max_length=100)]


class PickBody(BaseModel):
    """A picked point of the part (part frame) and its face."""

    point: tuple[Coordinate, Coordinate, Coordinate]
    face: FaceId


class Needed(BaseModel):
    """Sides that a setup needs, and further clampings for those that it does not reach."""

    sides: list[SideNeeded]
    clampings: list[Clamping]


class UseAnswer(BaseModel):
    """A use of a hole: its purpose, and why, and by which table."""

    purpose: str
    name: str
    words: str
    table: str


class HoleGroup(BaseModel):
    """Holes that are alike: how many, in words, a face and the mouth of each (part frame), the directions
    from which a tool comes into them, and their uses, likeliest first."""

    words: str
    diameter: float
    count: int
    faces: list[list[int]]
    mouths: list[Vec3]
    axis: Vec3
    entries: list[Vec3]
    uses: list[UseAnswer]


class HoleOrder(BaseModel):
    """Which holes (by a face of each; none: every one seen from above) are to be made in which setup, and
    what for (open: by the tables); `use` names the thread or fastener."""

    setup: Annotated[int, Field(ge=0, le=1000)]
    faces: Annotated[list[FaceId], Field(max_length=10_000)]
    purpose: Purpose | None = None
    use: Annotated[str | None, Field(max_length=40)] = None


class PartOrder(BaseModel):
    """The setup from which a part is to be planned: the whole, or the features that have one of these
    faces."""

    setup: Annotated[int, Field(ge=0, le=1000)]
    faces: Annotated[list[FaceId], Field(max_length=10_000)] | None = None


class FeatureGroup(BaseModel):
    """Features that are made alike: what they are, in words, and the faces of each."""

    kind: str
    words: str
    count: int
    axis: Vec3
    faces: list[list[int]]


class HolePlan(BaseModel):
    """Tools that are new to the job, operations, and words about them."""

    recipe: str
    tools: list[Assembly]
    operations: list[OperationDoc]
    words: list[str]


@router.get("/jobs/{job_id}/part/faces", response_model=PartFaces)
def part_faces(jobs: Service, job_id: Number, request: Request) -> Response:
    """Facts of all faces and edges."""
    return as_it_lies(request, jobs.answers.of_part("faces", jobs.asked(job_id)), JSON, immutable=False)


@router.get("/jobs/{job_id}/part/scene/{key}", response_class=Response)
def part_scene(jobs: Service, job_id: Number, key: Key, request: Request) -> Response:
    """Triangles ordered by face, edges as polylines. Part frame, mm. `key` is the part's in the job's
    state."""
    return as_it_lies(request, jobs.answers.of_part("scene", jobs.asked(job_id)))


@router.get("/jobs/{job_id}/part/picture/{key}", response_class=Response)
def part_picture(jobs: Service, job_id: Number, key: Key, request: Request) -> Response:
    """A small shaded picture of the part (PNG, opaque where the part is). `key` is the part's in the job's
    state."""
    return as_it_lies(request, jobs.answers.of_part("picture", jobs.asked(job_id)), "image/png")


@router.get("/jobs/{job_id}/setups/{index}/operations/{operation}/values", response_model=OperationValues)
def operation_values(jobs: Service, job_id: Number, index: Index, operation: Place) -> Response:
    """Speeds, feeds and parameters of an operation, and where each comes from."""
    return data(jobs.answers.ask("values", jobs.asked(job_id), setup=index, operation=operation))


@router.get("/jobs/{job_id}/setups/{index}/stock/{shape}", response_class=Response)
def stock_shape(jobs: Service, job_id: Number, index: Index, shape: Shape) -> Response:
    """The triangles of a stock that is no box, in the setup frame, mm. `shape` is its name in the job's
    state."""
    return packed(jobs.answers.ask("stock_shape", jobs.asked(job_id), setup=index, shape=shape))


@router.get("/jobs/{job_id}/setups/{index}/fixture/{shape}", response_class=Response)
def fixture_shape(jobs: Service, job_id: Number, index: Index, shape: Shape) -> Response:
    """The triangles of a setup's fixture, in the setup frame, mm. `shape` is its name in the job's state."""
    return packed(jobs.answers.ask("fixture_shape", jobs.asked(job_id), setup=index, shape=shape))


@router.get("/jobs/{job_id}/setups/{index}/machine/{shape}", response_class=Response)
def machine_shape(jobs: Service, job_id: Number, index: Index, shape: Shape) -> Response:
    """The triangles of the bodies of a setup's machine with all joints at zero, in machine coordinates, mm,
    body after body. `shape` is its name in the job's state."""
    return packed(jobs.answers.ask("machine_shape", jobs.asked(job_id), setup=index, shape=shape))


@router.get("/jobs/{job_id}/holes", response_model=list[HoleGroup])
def holes(jobs: Service, job_id: Number, request: Request) -> Response:
    """The part's round holes in groups of alike ones."""
    return as_it_lies(request, jobs.answers.of_part("holes", jobs.asked(job_id)), JSON, immutable=False)


@router.get("/jobs/{job_id}/bosses", response_model=list[FeatureGroup])
def bosses(jobs: Service, job_id: Number, request: Request) -> Response:
    """The part's round bosses, those of one diameter and direction together."""
    return as_it_lies(request, jobs.answers.of_part("bosses", jobs.asked(job_id)), JSON, immutable=False)


@router.get("/jobs/{job_id}/features", response_model=list[FeatureGroup])
def features(jobs: Service, job_id: Number, request: Request) -> Response:
    """The part's pockets, slots, bosses, tops and broken edges in groups of alike ones."""
    return as_it_lies(request, jobs.answers.of_part("features", jobs.asked(job_id)), JSON, immutable=False)


@router.get("/jobs/{job_id}/ways-up", response_model=list[WayUp])
def ways_up(jobs: Service, job_id: Number, request: Request) -> Response:
    """The part's ways up, the best one first."""
    return as_it_lies(request, jobs.answers.of_part("ways_up", jobs.asked(job_id)), JSON, immutable=False)


@router.get("/jobs/{job_id}/setups/{index}/sides-needed", response_model=Needed)
def sides_needed(jobs: Service, job_id: Number, index: Index) -> Response:
    """The sides that a setup needs besides those that it has, the one that adds most first, those that its
    machine cannot reach last; and the fewest clampings that reach these."""
    return data(jobs.answers.ask("sides_needed", jobs.asked(job_id), setup=index))


@router.post("/jobs/{job_id}/setups/{index}/sides/tried", response_model=SideState)
def tried_side(jobs: Service, job_id: Number, index: Index, side: SideDoc) -> Response:
    """How a side that a setup might get would stand, and what the machine lacks to it; nothing is changed."""
    body = side.model_dump(mode="json")
    return data(jobs.answers.ask("try_side", jobs.asked(job_id), setup=index, side=body))


@router.post("/jobs/{job_id}/holes/plan", response_model=HolePlan)
def plan_holes(jobs: Service, job_id: Number, order: HoleOrder) -> Response:
    """Operations and tools that a recipe proposes for holes; nothing is changed."""
    return data(jobs.answers.ask("plan_holes", jobs.asked(job_id), **order.model_dump(mode="json")))


@router.post("/jobs/{job_id}/plan/proposed", response_model=HolePlan)
def plan_part(jobs: Service, job_id: Number, order: PartOrder) -> Response:
    """Operations and tools for all that is seen from a setup, nothing is changed: as a run of "whole" has
    computed and proved them for this document, else as they are chosen at once, not computed."""
    return data(jobs.answers.ask("plan_part", jobs.asked(job_id), **order.model_dump(mode="json")))


@router.post("/jobs/{job_id}/measure", response_model=list[Measured])
def measure_picks(
    jobs: Service, job_id: Number, picks: Annotated[list[PickBody], Field(min_length=1, max_length=2)]
) -> Response:
    """Measures one or two picks."""
    plain = [p.model_dump() for p in picks]
    return data(jobs.answers.ask("measure", jobs.asked(job_id), picks=plain))


@router.get("/paths/{key}", response_class=Response)
def path(jobs: Service, key: Key, request: Request) -> Response:
    """A toolpath as straight pieces. Setup frame, mm."""
    return as_it_lies(request, jobs.answers.seen_path(key))


@router.get("/proofs/{key}/facts", response_model=ProofFacts)
def proof_facts(jobs: Service, key: Key, request: Request) -> Response:
    """Operations, times, deviation and findings of a proved release."""
    return as_it_lies(request, jobs.answers.result(key), JSON)


@router.get("/proofs/{key}/motion", response_class=Response)
def proof_motion(jobs: Service, key: Key, request: Request) -> Response:
    """The posted motion as straight pieces with the time at which each ends."""
    return as_it_lies(request, jobs.answers.result(motion_key(key)))


@router.get("/proofs/{key}/stock/{step}", response_class=Response)
def proof_stock(
    jobs: Service, key: Key, step: Annotated[int, Path(ge=0, le=100_000)], request: Request
) -> Response:
    """The stock's surface after a step; the last one with its deviation."""
    steps = len(jobs.answers.proof(key).facts["operations"])
    if step >= steps:
        raise NotFound(f"The release has no step {step}.", remedy=f"It has steps 0 to {steps - 1}.")
    if step == steps - 1:
        return as_it_lies(request, jobs.answers.result(stock_key(key)))
    return packed(jobs.answers.ask("after", key=key, step=step))


@router.get("/proofs/{key}/at/{moment}", response_class=Response)
def stock_at(
    jobs: Service, key: Key, moment: Annotated[float, Path(ge=0, le=1e8, allow_inf_nan=False)]
) -> Response:
    """The stock's surface at a moment s of the program, as the proof cut it."""
    jobs.answers.result(key)
    return packed(jobs.answers.ask("moment", key=key, moment=moment))
