"""Any moment of a program: the stock is that of a fresh run to it, whichever way one came there."""

import shutil

import numpy as np
import pytest
import trimesh

from fenrik.core.job.cutting.replaying import replay_of
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.model.reading import read_model
from fenrik.core.proof.replay import Replay, Strokes
from fenrik.core.stock.cuts import Cuts
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.keeping import LiveStock, Snapshot
from fenrik.core.stock.surface import surface
from tests.conftest import MODELS, make_tool

LOW, HIGH = np.zeros(3), np.array([50.0, 40.0, 20.0])
TOOLS = [make_tool("flat", 8), make_tool("ball", 6)]


def program():
    """Level passes of a flat mill, then short moves of a ball over a wave."""
    rough = [
        (a, y, z, b, y, z)
        for z in (17.0, 14.0, 11.0)
        for y in np.arange(2.0, 40.0, 5.0)
        for a, b in ((-5.0, 25.0), (25.0, 55.0))
    ]
    x = np.linspace(0, 50, 101)
    fine = []
    for y in np.arange(1.0, 39.0, 1.5):
        track = np.column_stack([x, np.full_like(x, y), 9 + 1.5 * np.sin(x / 5 + y / 7)])
        fine.append(np.hstack([track[:-1], track[1:]]))
    return [np.array(rough), np.concatenate(fine)]


@pytest.fixture(scope="module")
def replay() -> Replay:
    raw = Snapshot.of(Stock.of_box(LOW, HIGH, 0.5))
    live, after, steps, clock, tag = LiveStock(raw), [], [], 0.0, 0
    for number, pieces in enumerate(program()):
        live.stock.cut(pieces, tool_bodies(TOOLS[number]), np.zeros(len(pieces), dtype=bool), tag)
        after.append(live.snapshot())
        ends = clock + 0.01 * np.arange(1, len(pieces) + 1)
        steps.append(Strokes(pieces, ends, np.full(len(pieces), number, dtype=np.int32)))
        clock, tag = float(ends[-1]), tag + len(pieces)
    return Replay(raw, after, steps, [tool_bodies(t) for t in TOOLS])


def fresh(moment: float) -> tuple[Stock, Cuts]:
    """A run of its own to a moment, piece by piece."""
    stock, cuts, clock, tag = Stock.of_box(LOW, HIGH, 0.5), Cuts(), 0.0, 0
    for number, pieces in enumerate(program()):
        cuts.add(pieces, tool_bodies(TOOLS[number]))
        for piece in pieces:
            share = min(1.0, (moment - clock) / 0.01)
            if share > 1e-7:
                part = np.concatenate([piece[:3], piece[:3] + share * (piece[3:] - piece[:3])])
                stock.cut(part[None, :], tool_bodies(TOOLS[number]), np.array([False]), tag)
            clock, tag = clock + 0.01, tag + 1
    return stock, cuts


def test_random_jumps_give_the_stock_and_the_surface_of_a_fresh_run(replay):
    end = float(replay.ends_at[-1])
    for moment in (end, 0.0, 0.3 * end, 5.0037, 0.1183, end, 0.31 * end):
        stock, cuts = fresh(moment)
        assert replay.stock(moment).volumes() == pytest.approx(stock.volumes(), rel=1e-12)
        shown, whole = replay.surface(moment), surface(stock, cuts)
        assert np.array_equal(shown.quads, whole.quads)
        assert shown.vertices == pytest.approx(whole.vertices, abs=1e-6)


def test_going_back_and_forth_changes_nothing(replay):
    moments = np.random.default_rng(4).uniform(0, float(replay.ends_at[-1]), 12)
    first = [replay.surface(m) for m in moments]
    for m, seen in reversed(list(zip(moments, first, strict=True))):
        again = replay.surface(m)
        assert np.array_equal(again.vertices, seen.vertices)
        assert np.array_equal(again.quads, seen.quads)


@pytest.mark.parametrize("kind", ["box", "solid"])
def test_a_proved_program_is_replayed_to_the_volumes_of_its_proof(kind, tmp_path):
    shutil.copy(MODELS / "plate_a.step", tmp_path)
    stock = {"kind": "box"}
    if kind == "solid":  # a block with a bore, delivered as a mesh
        low, high = read_model(MODELS / "plate_a.step").mesh.bounds
        block = trimesh.creation.box(bounds=[low - 1.0, high + 1.0])
        bore = trimesh.creation.cylinder(4.0, 200.0).apply_translation((low + high) / 2)
        trimesh.boolean.difference([block, bore], engine="manifold").export(tmp_path / "blank.stl")
        stock = {"kind": "solid", "file": "blank.stl"}
    operation = {"name": "op", "strategy": "level_roughing", "tool": 1, "parameters": {"step_down": 6.0}}
    document = {
        "fenrik": 1,
        "name": "replay",
        "part": {"file": "plate_a.step"},
        "tools": [make_tool("flat", 10).model_dump()],
        "setups": [{"name": "Top", "stock": stock, "operations": [operation]}],
        "proof": {"cell_mm": 0.8},
    }
    store = MemoryStore()
    prover = Prover(open_job(job_from_data(document), tmp_path, store))
    proof = prover.prove(prover.job.effective_releases()[0])
    facts = proof.facts
    player = replay_of(proof.key, store)
    before, whole = facts["stock_volume_mm3"], facts["time_s"]
    assert player.volume(0.0) == pytest.approx(before)
    assert player.volume(whole) == pytest.approx(before - facts["removed_mm3"], rel=1e-6)
    assert before > player.volume(0.5 * whole) > player.volume(whole)
    assert len(player.surface(0.5 * whole).quads) > 1000
