"""Shared pieces: models, small meshes, tools, a database cluster."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import trimesh

from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.tooling.assembly import Assembly, HolderSegment
from fenrik.postgres import Cluster

ROOT = Path(__file__).resolve().parents[1]
MODELS = ROOT / "examples" / "models"
NASTY = Path(__file__).parent / "data"


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Tests on a database and those in the browser stay together on one process each; the slow ones begin
    first. There is a process more than cores: these two wait for others much of their time."""
    for item in items:
        folder = item.path.parent.name
        if folder in ("app", "browser"):
            item.add_marker(pytest.mark.xdist_group(folder))
    items.sort(key=_late)


def _late(item: pytest.Item) -> int:
    """Later for tests that take less: the browser, those on a database, what takes longest of the others."""
    folder = item.path.parent.name
    if folder in ("browser", "app"):
        return 0 if folder == "browser" else 1
    return 2 if "nozzle_mould" in item.nodeid or item.path.stem == "test_manifold" else 3


def mesh_of(body: trimesh.Trimesh) -> TriangleMesh:
    """A trimesh body as a mesh of the core, one face."""
    ids = np.ones(len(body.faces), dtype=np.int32)
    return TriangleMesh(np.array(body.vertices, dtype=np.float64), np.array(body.faces, dtype=np.int32), ids)


def make_tool(kind: str, diameter: float, corner: float = 0.0, number: int = 1, **more: object) -> Assembly:
    """An assembly with a plain holder."""
    values: dict[str, object] = {
        "number": number,
        "name": f"{kind} {diameter}",
        "kind": kind,
        "diameter": diameter,
        "corner_radius": diameter / 2 if kind == "ball" else corner,
        "flute_length": 3 * diameter,
        "shank_diameter": diameter,
        "stick_out": 5 * diameter,
        "holder": [HolderSegment(length=30, diameter_low=30, diameter_high=40)],
    }
    return Assembly(**{**values, **more})


@pytest.fixture(scope="session")
def cluster() -> Iterator[Cluster]:
    """A PostgreSQL cluster of the tests' own; it ends with the process that runs them, however that ends."""
    with tempfile.TemporaryDirectory(prefix="fenrik-test-") as folder:
        Path(folder).chmod(0o755)
        own = Cluster(Path(folder) / "postgres")
        own.start()
        try:
            yield own
        finally:
            own.stop()


@pytest.fixture(scope="session")
def cluster_url(cluster: Cluster) -> str:
    """A migrated database on the tests' cluster."""
    from fenrik.app.database import migrate, wait_for

    url = cluster.address("fenrik_test")
    wait_for(url)
    migrate(url)
    return url
