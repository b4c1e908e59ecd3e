"""Routes of what the view shows: the part, paths, proofs, drawings; large arrays as binary."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from fastapi import APIRouter, Response
from pydantic import BaseModel

from fenrik.app.jobs import Jobs
from fenrik.core.binary import pack
from fenrik.core.errors import NotFound
from fenrik.core.features.bosses import Boss, find_bosses
from fenrik.core.features.feature import features_alike
from fenrik.core.features.hole_use import Purpose, uses
from fenrik.core.features.holes import alike
from fenrik.core.job.document import OperationDoc, SetupDoc
from fenrik.core.job.planning import Planner
from fenrik.core.job.recipes import propose_all, propose_operations
from fenrik.core.job.whole_part import propose_features, propose_part
from fenrik.core.model.measure import Pick, measure
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.paths.toolpath import Toolpath
from fenrik.core.proof.simulate import TRACES
from fenrik.core.stock.heightmap import pieces_of
from fenrik.core.tooling.assembly import Assembly
from fenrik.web.deps import Service, binary

router = APIRouter(tags=["views"])


class PickBody(BaseModel):
    """A picked point of the part (part frame) and its face."""

    point: tuple[float, float, float]
    face: int


def _part(jobs: Jobs, job_id: int) -> PartModel:
    with jobs.planner(job_id) as planner:
        return planner.part()


@router.get("/jobs/{job_id}/part/faces")
def part_faces(jobs: Service, job_id: int) -> dict[str, Any]:
    """Facts of all faces and edges."""
    part = _part(jobs, job_id)
    return {"faces": [asdict(f) for f in part.faces], "edges": [asdict(e) for e in part.edges]}


@router.get("/jobs/{job_id}/part/scene/{key}")
def part_scene(jobs: Service, job_id: int, key: str) -> Response:
    """Triangles ordered by face, edges as polylines. Part frame, mm."""
    blob = jobs.store.get(key)
    if blob is None:
        raise NotFound("The part has not been read yet.")
    part = PartModel.from_bytes(blob)
    order = np.argsort(part.mesh.face_ids, kind="stable")
    ids = part.mesh.face_ids[order]
    starts = np.searchsorted(ids, np.arange(1, len(part.faces) + 2))
    counts = np.array([len(line) for line in part.edge_lines], dtype=np.int32)
    points = np.concatenate(part.edge_lines) if part.edge_lines else np.zeros((0, 3))
    arrays = {
        "vertices": part.mesh.vertices.astype(np.float32),
        "triangles": part.mesh.triangles[order],
        "face_starts": starts.astype(np.int32),
        "edge_points": points.astype(np.float32),
        "edge_counts": counts,
    }
    return binary(pack({"name": part.name}, arrays))


@router.get("/jobs/{job_id}/setups/{index}/stock/{shape}")
def stock_shape(jobs: Service, job_id: int, index: int, shape: str) -> Response:
    """The triangles of a stock that is no box, in the setup frame, mm. `shape` is its name in the job's state."""
    with jobs.planner(job_id) as planner:
        setup = _setup(planner, index)
        mesh, known = planner.clamped(setup).stock_mesh, planner.stock_shape(setup)
    return _triangles(mesh if known == shape else None, "stock")


@router.get("/jobs/{job_id}/setups/{index}/fixture/{shape}")
def fixture_shape(jobs: Service, job_id: int, index: int, shape: str) -> Response:
    """The triangles of a setup's fixture, in the setup frame, mm. `shape` is its name in the job's state."""
    with jobs.planner(job_id) as planner:
        setup = _setup(planner, index)
        mesh, known = planner.clamped(setup).fixture, planner.fixture_shape(setup)
    return _triangles(mesh if known == shape else None, "fixture")


def _setup(planner: Planner, index: int) -> SetupDoc:
    if not 0 <= index < len(planner.job.setups):
        raise NotFound(f"The job has no setup {index + 1}.", remedy="Reload the page.")
    return planner.job.setups[index]


def _triangles(mesh: TriangleMesh | None, what: str) -> Response:
    if mesh is None:
        raise NotFound(f"The {what} has changed meanwhile.", remedy="Reload the page.")
    return binary(pack({}, {"vertices": mesh.vertices.astype(np.float32), "triangles": mesh.triangles}))


class UseAnswer(BaseModel):
    """A use of a hole: its purpose, and why, and by which table."""

    purpose: str
    name: str
    words: str
    table: str


class HoleGroup(BaseModel):
    """Holes that are alike: how many, in words, a face and the mouth of each (part frame), and their uses, likeliest
    first."""

    words: str
    diameter: float
    count: int
    faces: list[list[int]]
    mouths: list[list[float]]
    axis: list[float]
    uses: list[UseAnswer]


class HoleOrder(BaseModel):
    """Which holes (by a face of each; none: every one seen from above) are to be made in which setup, and what for (open:
    by the tables)."""

    setup: int
    faces: list[int]
    purpose: Purpose | None = None


class PartOrder(BaseModel):
    """The setup from which a part is to be planned: the whole, or the features that have one of these faces."""

    setup: int
    faces: list[int] | None = None


class FeatureGroup(BaseModel):
    """Features that are made alike: what they are, in words, and the faces of each."""

    kind: str
    words: str
    count: int
    axis: list[float]
    faces: list[list[int]]


class HolePlan(BaseModel):
    """Tools that are new to the job, operations, and words about them."""

    recipe: str
    tools: list[Assembly]
    operations: list[OperationDoc]
    words: list[str]


@router.get("/jobs/{job_id}/holes")
def holes(jobs: Service, job_id: int) -> list[HoleGroup]:
    """The part's round holes in groups of alike ones."""
    with jobs.planner(job_id) as planner:
        groups = alike(planner.holes())
    return [
        HoleGroup(
            words=g[0].words(), diameter=g[0].diameter, count=len(g), faces=[h.faces for h in g],
            mouths=[h.mouth for h in g], axis=g[0].axis,
            uses=[UseAnswer(**{k: vars(u)[k] for k in UseAnswer.model_fields}) for u in uses(g[0].diameter, g[0].through, g[0].headed)],
        )
        for g in groups
    ]  # fmt: skip


@router.get("/jobs/{job_id}/bosses")
def bosses(jobs: Service, job_id: int) -> list[FeatureGroup]:
    """The part's round bosses, those of one diameter and direction together."""
    groups: dict[tuple[float, ...], list[Boss]] = {}
    with jobs.planner(job_id) as planner:
        for boss in find_bosses(planner.part()):
            key = (round(boss.diameter, 3), *(round(float(v), 4) + 0.0 for v in boss.axis))
            groups.setdefault(key, []).append(boss)
    return [
        FeatureGroup(
            kind="boss", words=g[0].words(), count=len(g), axis=g[0].axis.tolist(), faces=[b.faces for b in g]
        )
        for g in groups.values()
    ]


@router.get("/jobs/{job_id}/features")
def features(jobs: Service, job_id: int) -> list[FeatureGroup]:
    """The part's pockets, slots, bosses, tops and broken edges in groups of alike ones."""
    with jobs.planner(job_id) as planner:
        groups = features_alike(planner.features())
    return [
        FeatureGroup(
            kind=g[0].kind, words=g[0].words(), count=len(g), axis=g[0].axis, faces=[f.faces for f in g]
        )
        for g in groups
    ]


@router.post("/jobs/{job_id}/holes/plan")
def plan_holes(jobs: Service, job_id: int, order: HoleOrder) -> HolePlan:
    """Operations and tools that a recipe proposes for holes; nothing is changed."""
    with jobs.planner(job_id) as planner:
        found = [h for h in planner.holes() if not order.faces or set(h.faces) & set(order.faces)]
        if not found or not 0 <= order.setup < len(planner.job.setups):
            raise NotFound("No hole is picked, or the setup does not exist.", remedy="Pick a hole's wall.")
        setup = planner.job.setups[order.setup]
        if order.faces:
            made = propose_operations(planner.job, setup, found, order.purpose)
        else:
            made = propose_all(planner.job, setup, alike(found), planner.clamped(setup))
    return HolePlan(recipe=made.recipe, tools=made.tools, operations=made.operations, words=made.words)


@router.post("/jobs/{job_id}/plan/proposed")
def plan_part(jobs: Service, job_id: int, order: PartOrder) -> HolePlan:
    """Operations and tools for all that is seen from a setup; nothing is changed."""
    with jobs.planner(job_id) as planner:
        if not 0 <= order.setup < len(planner.job.setups):
            raise NotFound("The setup does not exist.", remedy="Choose a setup of this job.")
        setup = planner.job.setups[order.setup]
        if order.faces is None:
            made = propose_part(planner, setup)
        else:
            chosen = [f for f in planner.features() if set(f.faces) & set(order.faces)]
            own = [f for f in chosen if not f.floor or f.floor in order.faces] or chosen
            if not own:
                raise NotFound("No feature has these faces.", remedy="Pick a floor or a wall of one.")
            made = propose_features(planner, setup, own)
    return HolePlan(recipe=made.recipe, tools=made.tools, operations=made.operations, words=made.words)


@router.post("/jobs/{job_id}/measure")
def measure_picks(jobs: Service, job_id: int, picks: list[PickBody]) -> list[dict[str, Any]]:
    """Measures one or two picks."""
    return measure(_part(jobs, job_id), [Pick(p.point, p.face) for p in picks])


@router.get("/paths/{key}")
def path(jobs: Service, key: str) -> Response:
    """A toolpath as straight pieces. Setup frame, mm."""
    blob = jobs.store.get(key)
    if blob is None:
        raise NotFound("The path has not been computed yet.", remedy="Compute the plan.")
    toolpath = Toolpath.from_bytes(blob)
    if len(toolpath) < 2:
        return binary(
            pack(
                {"moves": len(toolpath)},
                {"pieces": np.zeros((0, 6), np.float32), "kind": np.zeros(0, np.int8)},
            )
        )
    pieces, owner = pieces_of(toolpath)
    head = {"moves": len(toolpath), "cutting_length_mm": toolpath.cutting_length(), "notes": toolpath.notes}
    return binary(pack(head, {"pieces": pieces.astype(np.float32), "kind": toolpath.kind[1:][owner]}))


@router.get("/proofs/{key}/facts")
def proof_facts(jobs: Service, key: str) -> dict[str, Any]:
    """Operations, times, deviation and findings of a proved release."""
    return jobs.proof(key).facts


@router.get("/proofs/{key}/motion")
def proof_motion(jobs: Service, key: str) -> Response:
    """The posted motion as straight pieces with the time at which each ends."""
    proof = jobs.proof(key)
    names = ("pieces", "owner", "ends_at", "rapid", "step", "tool", "feed", "line", *TRACES)
    return binary(pack({"time_s": proof.facts["time_s"]}, {n: proof.arrays[n] for n in names}))


@router.get("/proofs/{key}/stock/{step}")
def proof_stock(jobs: Service, key: str, step: int) -> Response:
    """The stock's surface after a step; the last one with its deviation."""
    proof = jobs.proof(key)
    if f"vertices{step}" not in proof.arrays:
        raise NotFound(f"The release has no step {step}.")
    arrays = {"vertices": proof.arrays[f"vertices{step}"], "quads": proof.arrays[f"quads{step}"]}
    if f"vertices{step + 1}" not in proof.arrays:
        arrays["deviation"] = proof.arrays["deviation"]
    return binary(pack({"cell_mm": proof.facts["cell_mm"]}, arrays))


@router.get("/proofs/{key}/at/{moment}")
def stock_at(jobs: Service, key: str, moment: float) -> Response:
    """The stock's surface at a moment s of the program, as the proof cut it."""
    skin = jobs.replay(key).surface(moment)
    arrays = {"vertices": skin.vertices.astype(np.float32), "quads": skin.quads}
    return binary(pack({"moment": moment}, arrays))
