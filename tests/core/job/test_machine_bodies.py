"""Bodies of the machine in the proof of a whole program: a wall beside the work at a known distance from the
head, a finger that goes with the head, what is kept, and what is asked."""

from __future__ import annotations

import json
import shutil

import numpy as np
import pytest
import trimesh

from fenrik.core.binary import unpack
from fenrik.core.job.cutting.proofs import kept_moves, motion_key
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.library import machines
from fenrik.core.machines.shapes import solid_of
from tests.conftest import ROOT
from tests.examples import example, prover_of

pytestmark = pytest.mark.xdist_group("machine_bodies")  # proved once, in one process
STORE = MemoryStore()
HEAD_HALF = 140.0
"""Half the width of the head of the column mill along X."""


def document(more=(), **proof):
    """The bracket on a machine of its own that has further bodies."""
    data = example("bearing_bracket")
    own = json.loads(machines()["column_mill_500"].model_dump_json())
    own["id"], own["name"] = "own_mill", "Own mill"
    own["bodies"] += list(more)
    data["machines"] = [own]
    data["setups"][0]["machine"] = "own_mill"
    data["proof"] = {"cell_mm": 1.5, **proof}
    return data


def found(data, store=STORE):
    """The findings about bodies, and the prover."""
    mine = prover_of(data, store)
    proof = mine.prove(mine.job.effective_releases()[0])
    return [f for f in proof.facts["findings"] if f["kind"] in ("collision", "near_miss")], mine, proof


def moves_of(proof):
    """The moves of a proof in full precision."""
    return kept_moves(STORE, proof.key)


def apart_of(proof):
    """How far the nearest bodies are apart at the moments of a proof's motion."""
    return unpack(STORE.get(motion_key(proof.key)))[1]["apart"]


def wall(x):
    """A wall on the table whose side lies at X of the table, taller than anything."""
    return {
        "kind": "box",
        "joint": "X",
        "role": "guard",
        "low": [x, -150.0, -20.0],
        "high": [x + 10.0, 150.0, 900.0],
    }


@pytest.fixture(scope="module")
def clean():
    """Nothing found, and how far out in X the spindle goes over the table, by operation."""
    findings, mine, proof = found(document())
    assert findings == []
    posted = mine.post(mine.job.effective_releases()[0])
    run = posted.run(mine.job.tools)
    table_x = mine.paths.setups.clamped(posted.setup).table_from_setup[0]
    out = {
        name: float(run.motion.places[run.step_of == step][:, 0].max() + table_x)
        for step, name in enumerate(run.names)
    }
    return out, proof


def test_a_wall_at_a_known_distance_of_the_head_is_passed_that_closely(clean):
    out, _ = clean
    farthest = max(out.values())
    findings, _, proof = found(document([wall(farthest + HEAD_HALF + 1.3)]))
    assert findings
    told = min(findings, key=lambda f: f["measure"])
    assert (told["kind"], told["severity"]) == ("near_miss", "caution")
    assert told["measure"] == pytest.approx(1.3, abs=0.06)
    assert told["limit"] == 2.0
    assert set(told["bodies"]) == {"head", "guard on X"}
    assert "1.3" in told["words"]
    # at the moments of the picture they are never nearer, and nearer with the wall than without
    seen = apart_of(proof)
    assert 1.3 - 0.06 <= seen.min() <= 100.0
    before = apart_of(clean[1])
    assert len(seen) == len(before)
    assert (seen <= before + 1e-6).all() and (seen < before - 1.0).any()
    near = {name for name, x in out.items() if farthest - x < 0.65}
    assert near <= {f["operation"] for f in findings} <= {n for n, x in out.items() if farthest - x < 0.75}


def test_a_wall_in_the_way_stops_every_operation_that_runs_into_it_at_the_moment(clean):
    out, _ = clean
    farthest = max(out.values())
    side = farthest + HEAD_HALF - 4.0
    findings, _, proof = found(document([wall(side)]))
    into = {name for name, x in out.items() if x + HEAD_HALF > side + 0.02}
    stops = [f for f in findings if f["kind"] == "collision"]
    assert {f["operation"] for f in stops} == into
    assert all(f["severity"] == "stop" and f["remedy"] for f in stops)
    moves = moves_of(proof)
    for f in stops:
        # it is told in the move in which the spindle first comes so far
        begin, took = moves["begin"][f["move"]], moves["time"][f["move"]]
        assert begin - 1e-6 <= f["time_s"] <= begin + took + 1e-6
        first = _first_beyond(moves, proof.facts, f["operation"], side - HEAD_HALF, out)
        assert f["move"] == first
    assert proof.stops()


def _first_beyond(moves, facts, operation, x, out):
    names = [o["name"] for o in facts["operations"]]
    rows = np.flatnonzero(moves["step"] == names.index(operation))
    shift = max(out.values()) - moves["move_tip"][:, 0].max()
    beyond = moves["move_tip"][rows, 0] + shift > x - 0.02
    return int(rows[np.argmax(beyond)])


def test_what_is_asked_can_be_switched(clean):
    farthest = max(clean[0].values())
    bodies = [wall(farthest + HEAD_HALF + 1.3)]
    assert found(document(bodies, near_mm=1.0))[0] == []
    assert found(document(bodies, bodies="none"))[0] == []
    off = [["guard on X", "head"], ["head", "guard"]]
    assert found(document(bodies, bodies_off=off))[0] == []


def test_a_change_of_the_machine_looks_at_its_bodies_anew_and_at_nothing_else(clean):
    found(document([wall(500.0)]))
    before = dict(STORE.computed)
    steps = len(clean[0])
    found(document([wall(501.0)]))
    after = {kind: n - before.get(kind, 0) for kind, n in STORE.computed.items()}
    assert after["bodies"] == steps
    assert not after.get("cut")
    assert not after.get("path")


def test_a_change_of_one_operation_looks_at_its_own_moves(clean):
    data = document([wall(500.0)])
    found(data)
    before = STORE.computed["bodies"]
    data["setups"][0]["operations"][-1]["heights"] = {"clearance": {"offset": 9.0}}
    findings, _, _ = found(data)
    assert findings == []
    assert STORE.computed["bodies"] - before <= 2


def finger(z):
    """A finger beside the tool that goes with the head, its end `z` mm over the gauge line."""
    return {"kind": "box", "joint": "Z", "role": "head", "low": [48.0, -3.0, z], "high": [54.0, 3.0, 95.0]}


def finger_while_roughing(*before):
    """What is found of the stock while the bracket is roughed, after other operations or none, with a finger
    that comes 0.4 mm under the top of the raw stock then."""

    def program(*more):
        data = document(more)
        operations = data["setups"][0]["operations"]
        data["setups"][0]["operations"] = [*before, operations[0]]
        return data, operations[0]

    data, roughing = program()
    _, mine, proof = found(data)
    moves = moves_of(proof)
    lowest = float(moves["move_tip"][moves["step"] == len(before)][:, 2].min())
    gauge = next(t.gauge_length for t in mine.job.tools if t.number == roughing["tool"])
    top = mine.paths.setups.clamped(mine.job.setups[0]).stock_high[2]
    findings, _, _ = found(program(finger(top - 0.4 - lowest - gauge))[0])
    return [f for f in findings if f["operation"] == roughing["name"] and "stock" in f["bodies"]]


def test_what_cannot_cut_is_held_against_the_stock_as_it_stands_before_an_operation():
    """Roughing first, the finger meets the raw stock; after its top was faced off by 1.5 mm it passes 1.1 mm
    over what is left."""
    (met,) = finger_while_roughing()
    assert met["kind"] == "collision"
    assert set(met["bodies"]) == {"head", "stock"}
    (passed,) = finger_while_roughing({"name": "Face", "strategy": "facing", "tool": 3})
    assert passed["kind"] == "near_miss"
    assert passed["measure"] == pytest.approx(1.1, abs=0.06)


def test_a_head_that_comes_too_near_is_mended_by_the_stick_out_that_is_offered(clean):
    """A post on the table stands 1 mm higher than the head comes down: the tool is told to stick out longer,
    by so much that the head passes over it, and with that the program is clean."""
    data = document()
    _, mine, proof = found(data)
    setup = data["setups"][0]
    tool = next(t for t in data["tools"] if t["number"] == setup["operations"][0]["tool"])
    gauge = tool["stick_out"] + sum(h["length"] for h in tool["holder"])
    clamped = mine.paths.setups.clamped(mine.job.setups[0])
    moves = moves_of(proof)
    rows = moves["step"] == 0
    lowest = float(moves["move_tip"][rows][:, 2].min()) + clamped.table_from_setup[2]
    bottom = 91.0 + lowest + gauge  # the head's underside is 91 mm over the gauge line
    reach = float(np.abs(moves["move_tip"][:, 0]).max()) + 70.0  # beside the spindle nose
    post = {
        "kind": "box",
        "joint": "X",
        "role": "guard",
        "low": [reach, -40.0, 0.0],
        "high": [reach + 15.0, 40.0, bottom + 1.0],
    }
    findings, _, _ = found(document([post]))
    stop = next(
        f for f in findings if f["kind"] == "collision" and f["operation"] == "Rough outside and pockets"
    )
    assert stop["mend"] is not None
    assert stop["mend"]["tool"]["stick_out"] == tool["stick_out"] + 5.0
    mended = document([post])
    next(t for t in mended["tools"] if t["number"] == tool["number"])["stick_out"] += 5.0
    after, _, _ = found(mended)
    assert "Rough outside and pockets" not in {f["operation"] for f in after if f["kind"] == "collision"}


def test_the_pairs_are_listed_with_what_goes_with_the_tool_first(clean):
    pairs = clean[1].facts["bodies"]
    names = {(p["first"], p["second"]): p["asked"] for p in pairs}
    assert names["head", "table"] and names["holder", "bed"] and names["head", "stock"]
    assert not {("holder", "stock"), ("spindle nose", "stock")} & set(names)  # the proof of cutting has them
    _, _, proof = found(document(bodies_off=[["table", "head"]]))
    again = {(p["first"], p["second"]): p["asked"] for p in proof.facts["bodies"]}
    assert again["head", "table"] is False


def test_a_body_of_a_file_is_held_clear_as_one_given_by_numbers(clean, tmp_path):
    """The same wall from an STL file; another content under the same name asks for another proof."""
    farthest = max(clean[0].values())
    box = wall(farthest + HEAD_HALF + 1.3)
    numbers, _, _ = found(document([box]))
    models = tmp_path / "models"
    models.mkdir()
    shutil.copy(ROOT / "examples" / "models" / "bearing_bracket.step", models)
    named = {"kind": "file", "joint": "X", "role": "guard", "file": "models/wall.stl"}
    told = []
    for shift in (0.0, 40.0):
        mesh = trimesh.creation.box(bounds=[box["low"], box["high"]])
        mesh.apply_translation([shift, 0.0, 0.0])
        mesh.export(models / "wall.stl")
        mine = Prover(open_job(job_from_data(document([named])), tmp_path, STORE))
        facts = mine.prove(mine.job.effective_releases()[0]).facts
        told.append([f for f in facts["findings"] if f["kind"] == "near_miss"])
    measured = [{(f["operation"], round(f["measure"], 3)) for f in fs} for fs in (numbers, told[0])]
    assert measured[0] == measured[1]
    assert told[1] == []


def test_two_bodies_of_one_file_keep_their_own_scale(clean, tmp_path):
    """A post from a file beside the same file drawn ten times as large: neither takes the other's shape."""
    mesh = trimesh.creation.box(bounds=[[10.0, 10.0, 0.0], [11.0, 11.0, 1.0]])
    models = tmp_path / "models"
    models.mkdir()
    shutil.copy(ROOT / "examples" / "models" / "bearing_bracket.step", models)
    mesh.export(models / "post.stl")
    named = [
        {"kind": "file", "joint": "X", "role": role, "file": "models/post.stl", "scale": scale}
        for role, scale in (("guard", 1.0), ("link", 10.0))
    ]
    paths = open_job(job_from_data(document(named)), tmp_path, STORE)
    machine = paths.setups.machine(paths.job.setups[0])
    files = paths.setups.machine_files(machine)
    high = [solid_of(body, files).bounds[1].tolist() for body in machine.bodies if body.kind == "file"]
    assert high == [pytest.approx([11.0, 11.0, 1.0]), pytest.approx([110.0, 110.0, 10.0])]


def test_the_magazine_arm_takes_its_room_where_a_tool_is_changed_and_nowhere_else():
    """A room about the place over the table where tools are changed: what stands as high there is met, at the
    change and at no other time."""
    own = json.loads(machines()["column_mill_500"].model_dump_json())
    top = next(j["high"] for j in own["joints"] if j["name"] == "Z")
    room = {"role": "changer", "kind": "box", "low": [-300, -150, top - 300.0], "high": [0, 150, top + 20.0]}
    _, _, proof = found(document([room]))
    pairs = {(p["first"], p["second"]) for p in proof.facts["bodies"]}
    assert ("magazine arm", "stock") in pairs and ("magazine arm", "table") in pairs
    assert not {p for p in pairs if "magazine arm" in p and set(p) & {"head", "column", "holder"}}
    assert not [f for f in proof.facts["findings"] if f["kind"] in ("collision", "near_miss")]
    # the room reaches down to the work: every change of the tool meets it, the moves between do not
    low = room | {"low": [-300, -150, 80.0]}
    met, _, proof = found(document([low]))
    assert met and all("magazine arm" in f["bodies"] for f in met)
    assert {f["kind"] for f in met} == {"collision"}
    assert all("at the change of the tool" in f["words"] for f in met)
    moves, begins = moves_of(proof), []
    for name in {f["operation"] for f in met}:
        step = [o["name"] for o in proof.facts["operations"]].index(name)
        begins.append(int(np.flatnonzero(moves["step"] == step)[0]))
    assert {f["move"] for f in met} == set(begins)
    # and it can be switched off as any pair
    quiet = document([low], bodies_off=[["magazine arm", "stock"], ["magazine arm", "table"]])
    assert found(quiet)[0] == []
