"""Questions about a job whose answers take computing: each a function of a desk and its arguments.

They are answered in processes of their own (`jobs.asking`), never in the web server. An answer is plain data
or a packed blob. Nothing here reads a model file, but for the meshes of a machine's description, or cuts a
stock: what is not computed yet is told as such.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

import numpy as np

from fenrik.app.descriptions import urdf_in, urdf_out
from fenrik.app.desk import Desk
from fenrik.app.states import recorded_state, side_state
from fenrik.core.binary import pack
from fenrik.core.errors import NotFound
from fenrik.core.features.bosses import Boss, find_bosses
from fenrik.core.features.feature import features_alike
from fenrik.core.features.holes import alike
from fenrik.core.features.way_up import ways_up
from fenrik.core.job.cutting.proofs import Arrays, kept_proof
from fenrik.core.job.document.job import SetupDoc
from fenrik.core.job.document.reading import job_data, parse_job
from fenrik.core.job.papers import setup_sheet
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.proposing.clampings import propose_clampings
from fenrik.core.job.proposing.holes import propose_every_hole, propose_holes
from fenrik.core.job.proposing.proved import proposal_key
from fenrik.core.job.proposing.recipes import uses_of
from fenrik.core.job.proposing.sides import propose_sides
from fenrik.core.job.proposing.whole_part import propose_features, propose_part
from fenrik.core.job.workspace.files import check_files, files_of
from fenrik.core.machines.solids import machine_solids
from fenrik.core.model.measure import Pick, measure
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import joined_meshes
from fenrik.core.motion.notes import to_plain
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.pictures.drawing import of_part
from fenrik.core.setups.side import SideDoc
from fenrik.core.stock.heightmap import pieces_of
from fenrik.core.stock.surface import StockSurface


def _state(desk: Desk, order: dict[str, Any]) -> Any:
    return recorded_state(lambda store: desk.paths(order, store), desk.store)


def _document(desk: Desk, order: dict[str, Any]) -> Any:
    """A document's text as a job: its plain data and the files that it names, all names checked."""
    job = parse_job(order["text"], order["name"])
    check_files(job)
    return {"document": job_data(job), "files": list(dict.fromkeys(name for name, _ in files_of(job)))}


def _faces(desk: Desk, order: dict[str, Any]) -> Any:
    part = desk.paths(order).workspace.part()
    return {"faces": [asdict(f) for f in part.faces], "edges": [asdict(e) for e in part.edges]}


def _scene(desk: Desk, order: dict[str, Any]) -> bytes:
    part = desk.paths(order).workspace.part()
    ids = part.mesh.face_ids
    by_face = np.argsort(ids, kind="stable")
    counts = np.array([len(line) for line in part.edge_lines], dtype=np.int32)
    points = np.concatenate(part.edge_lines) if part.edge_lines else np.zeros((0, 3))
    arrays = {
        "vertices": part.mesh.vertices.astype(np.float32),
        "triangles": part.mesh.triangles[by_face],
        "face_starts": np.searchsorted(ids[by_face], np.arange(1, len(part.faces) + 2)).astype(np.int32),
        "edge_points": points.astype(np.float32),
        "edge_counts": counts,
    }
    return pack({"name": part.name}, arrays)


def _ways_up(desk: Desk, order: dict[str, Any]) -> Any:
    workspace = desk.paths(order).workspace
    holes, features = workspace.holes(), workspace.features()
    return [asdict(way) for way in ways_up(workspace.part(), holes, features)]


def _sides_needed(desk: Desk, order: dict[str, Any]) -> Any:
    paths = desk.paths(order)
    setup = _setup(paths, order["setup"])
    sides = propose_sides(paths, setup)
    clampings = propose_clampings(paths, setup, sides)
    return {"sides": [asdict(s) for s in sides], "clampings": [asdict(c) for c in clampings]}


def _try_side(desk: Desk, order: dict[str, Any]) -> Any:
    paths = desk.paths(order)
    side = SideDoc.model_validate(order["side"])
    return side_state(paths, _setup(paths, order["setup"]), side, "").model_dump(mode="json")


def _picture(desk: Desk, order: dict[str, Any]) -> bytes:
    return of_part(desk.paths(order).workspace.part(), 320, 200)


def _holes(desk: Desk, order: dict[str, Any]) -> Any:
    out, paths = [], desk.paths(order)
    for group in alike(paths.workspace.holes()):
        one = group[0]
        known = uses_of(paths.job, one)
        out.append(
            {
                "words": one.words(),
                "diameter": one.diameter,
                "count": len(group),
                "faces": [h.faces for h in group],
                "mouths": [h.mouth for h in group],
                "axis": one.axis,
                "entries": one.entries,
                "uses": [{k: getattr(u, k) for k in ("purpose", "name", "words", "table")} for u in known],
            }
        )
    return out


def _bosses(desk: Desk, order: dict[str, Any]) -> Any:
    groups: dict[tuple[float, ...], list[Boss]] = {}
    for boss in find_bosses(desk.paths(order).workspace.part()):
        key = (round(boss.diameter, 3), *(round(float(v), 4) + 0.0 for v in boss.axis))
        groups.setdefault(key, []).append(boss)
    return [
        {
            "kind": "boss",
            "words": g[0].words(),
            "count": len(g),
            "axis": g[0].axis.tolist(),
            "faces": [b.faces for b in g],
        }
        for g in groups.values()
    ]


def _features(desk: Desk, order: dict[str, Any]) -> Any:
    return [
        {
            "kind": g[0].kind,
            "words": g[0].words(),
            "count": len(g),
            "axis": g[0].axis,
            "faces": [f.faces for f in g],
        }
        for g in features_alike(desk.paths(order).workspace.features())
    ]


def _setup(paths: Paths, index: int) -> SetupDoc:
    if not 0 <= index < len(paths.job.setups):
        raise NotFound(f"The job has no setup {index + 1}.", remedy="Choose a setup of this job.")
    return paths.job.setups[index]


def _values(desk: Desk, order: dict[str, Any]) -> Any:
    """Every number of an operation with nothing left open, and where the proposed ones come from."""
    paths = desk.paths(order)
    setup, number = _setup(paths, order["setup"]), order["operation"]
    if not 0 <= number < len(setup.operations):
        raise NotFound(f"'{setup.name}' has no operation {number + 1}.", remedy="Choose one of this setup.")
    resolved = paths.tasks.task(setup, setup.operations[number])
    return {
        "strategy": resolved.operation.strategy,
        "derived": resolved.plain_derived(),
        "parameters": resolved.parameters.model_dump(mode="json"),
    }


def _stock_shape(desk: Desk, order: dict[str, Any]) -> bytes:
    paths = desk.paths(order)
    setup = _setup(paths, order["setup"])
    known = paths.setups.stock_shape(setup) == order["shape"]
    return _triangles(paths.setups.clamped(setup).stock_mesh if known else None, "stock")


def _fixture_shape(desk: Desk, order: dict[str, Any]) -> bytes:
    paths = desk.paths(order)
    setup = _setup(paths, order["setup"])
    known = paths.setups.fixture_shape(setup) == order["shape"]
    return _triangles(paths.setups.clamped(setup).fixture if known else None, "fixture")


def _machine_shape(desk: Desk, order: dict[str, Any]) -> bytes:
    """All bodies of a setup's machine in one blob: whose triangles are whose is in the head."""
    paths = desk.paths(order)
    setup = _setup(paths, order["setup"])
    if paths.setups.machine_shape(setup) != order["shape"]:
        raise NotFound("The machine has changed meanwhile.", remedy="Reload the page.")
    machine = paths.setups.machine(setup)
    solids = machine_solids(machine, paths.setups.machine_files(machine))
    meshes = [joined_meshes(s.parts) for s in solids]
    head = [
        {
            "name": solid.name,
            "joint": solid.joint,
            "role": solid.role,
            "vertices": len(mesh.vertices),
            "triangles": len(mesh.triangles),
        }
        for solid, mesh in zip(solids, meshes, strict=True)
    ]
    return pack(
        {"bodies": head},
        {
            "vertices": np.concatenate([m.vertices for m in meshes]).astype(np.float32),
            "triangles": np.concatenate([m.triangles for m in meshes]),
        },
    )


def _triangles(mesh: TriangleMesh | None, what: str) -> bytes:
    if mesh is None:
        raise NotFound(f"The {what} has changed meanwhile.", remedy="Reload the page.")
    return pack({}, {"vertices": mesh.vertices.astype(np.float32), "triangles": mesh.triangles})


def _plan_holes(desk: Desk, order: dict[str, Any]) -> Any:
    paths = desk.paths(order)
    setup, faces = _setup(paths, order["setup"]), order["faces"]
    found = [h for h in paths.workspace.holes() if not faces or set(h.faces) & set(faces)]
    if not found:
        raise NotFound("No hole is picked.", remedy="Pick a hole's wall.")
    if faces:
        return propose_holes(paths, setup, found, order["purpose"], order["use"]).plain()
    return propose_every_hole(paths, setup, found).plain()


def _plan_part(desk: Desk, order: dict[str, Any]) -> Any:
    paths = desk.paths(order)
    setup, faces = _setup(paths, order["setup"]), order["faces"]
    if faces is None:
        kept = paths.store.get(proposal_key(paths.job, setup))
        return json.loads(kept) if kept is not None else propose_part(paths, setup).plain()
    chosen = [f for f in paths.workspace.features() if set(f.faces) & set(faces)]
    own = [f for f in chosen if not f.floor or f.floor in faces] or chosen
    if not own:
        raise NotFound("No feature has these faces.", remedy="Pick a floor or a wall of one.")
    return propose_features(paths, setup, own).plain()


def _measure(desk: Desk, order: dict[str, Any]) -> Any:
    picks = [Pick(tuple(p["point"]), p["face"]) for p in order["picks"]]
    return measure(desk.paths(order).workspace.part(), picks)


def _path(desk: Desk, order: dict[str, Any]) -> bytes:
    blob = desk.store.get(order["key"])
    if blob is None:
        raise NotFound("The path has not been computed yet.", remedy="Compute the plan.")
    path = Toolpath.from_bytes(blob)
    if len(path) < 2:
        none: Arrays = {"pieces": np.zeros((0, 6), np.float32), "kind": np.zeros(0, np.int8)}
        none["feed"] = np.zeros(0, np.float32)
        return pack({"moves": len(path)}, none)
    pieces, owner = pieces_of(path)
    head: dict[str, Any] = {
        "moves": len(path),
        "cutting_length_mm": path.cutting_length(),
        "notes": [to_plain(n) for n in path.notes],
    }
    arrays: Arrays = {
        "pieces": pieces.astype(np.float32),
        "kind": path.kind[1:][owner],
        "feed": path.feed[1:][owner].astype(np.float32),
    }
    return pack(head, arrays)


def _moment(desk: Desk, order: dict[str, Any]) -> bytes:
    return _skin(desk.replay(order["key"]).surface(order["moment"]), {"moment": order["moment"]})


def _after(desk: Desk, order: dict[str, Any]) -> bytes:
    return _skin(desk.replay(order["key"]).surface_after(order["step"]), {"step": order["step"]})


def _skin(skin: StockSurface, head: dict[str, Any]) -> bytes:
    return pack(head, {"vertices": skin.vertices.astype(np.float32), "quads": skin.quads})


def _sheet(desk: Desk, order: dict[str, Any]) -> Any:
    paths = desk.paths(order)
    release = next(r for r in paths.job.effective_releases() if r.name == order["release"])
    sheets = []
    for key in order["keys"]:
        proof = kept_proof(desk.store, key)
        if proof is None:
            raise NotFound("The release has not been proved yet.", remedy="Prove it.")
        sheets.append(setup_sheet(paths, release, proof, order["revision"]))
    return {"sheet": "\n".join(sheets), "release": release.model_dump(mode="json")}


QUESTIONS: dict[str, Callable[[Desk, dict[str, Any]], Any]] = {
    "state": _state,
    "document": _document,
    "faces": _faces,
    "scene": _scene,
    "picture": _picture,
    "ways_up": _ways_up,
    "sides_needed": _sides_needed,
    "try_side": _try_side,
    "holes": _holes,
    "bosses": _bosses,
    "features": _features,
    "values": _values,
    "stock_shape": _stock_shape,
    "fixture_shape": _fixture_shape,
    "machine_shape": _machine_shape,
    "urdf_in": urdf_in,
    "urdf_out": urdf_out,
    "plan_holes": _plan_holes,
    "plan_part": _plan_part,
    "measure": _measure,
    "path": _path,
    "moment": _moment,
    "after": _after,
    "sheet": _sheet,
}
