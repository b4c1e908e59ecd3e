"""Models are read and meshed once for all jobs of a test process: reading has tests of its own."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path

import pytest

from fenrik.core.job.workspace import workspace
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.model.reading import file_hash, read_model, working_mesh


@pytest.fixture(scope="session", autouse=True)
def shared_readings() -> Iterator[None]:
    """What is read is kept under the file's bytes and how it was asked for; stores still begin empty, so that
    what is computed is counted as ever."""
    models: dict[tuple[object, ...], PartModel] = {}
    meshes: dict[tuple[str, float], TriangleMesh] = {}

    def read(
        path: Path, name: str, solid: int | None, scale: float, heal: bool, round_facets: bool
    ) -> PartModel:
        key = (file_hash(path), name, solid, scale, heal, round_facets)
        if key not in models:
            models[key] = read_model(path, name, solid, scale, heal, round_facets)
        return models[key]

    def mesh(part: PartModel, deflection: float) -> TriangleMesh:
        if part.brep is None:
            return working_mesh(part, deflection)
        key = (hashlib.sha256(part.brep).hexdigest(), deflection)
        if key not in meshes:
            meshes[key] = working_mesh(part, deflection)
        return meshes[key]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(workspace, "read_model", read)
        patch.setattr(workspace, "working_mesh", mesh)
        yield
