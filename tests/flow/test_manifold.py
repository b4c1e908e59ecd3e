"""The valve manifold of the shop: two clampings on the tilting table, proved; the part on other machines."""

from __future__ import annotations

import re

import numpy as np
import pytest

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.papers import setup_sheet
from fenrik.core.job.proposing.sides import propose_sides
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import ROOT
from tests.examples import example, prover_of

pytestmark = pytest.mark.xdist_group("manifold")  # proved once, in one process
STORE = MemoryStore()
UP = {"Front": (0, -1, 0), "Back": (0, 1, 0), "Left": (-1, 0, 0), "Right": (1, 0, 0)}
TOP = 0
"""The setup with the sides."""


def manifold(**changes):
    """The document of the example with `changes` of its first setup."""
    data = example("valve_manifold")
    data["setups"][TOP] |= changes
    return data


@pytest.fixture(scope="module")
def proved():
    """The prover and the proofs of both releases."""
    mine = prover_of(manifold(), STORE)
    return mine, [mine.prove(r) for r in mine.job.releases]


def test_both_clampings_are_proved_without_a_stop(proved):
    for proof in proved[1]:
        assert proof.stops() == []
        assert proof.facts["deviation"]["max_overcut_mm"] < 0.005


def test_after_the_second_clamping_all_that_a_tool_reaches_is_on_size(proved):
    deviation = proved[1][1].facts["deviation"]
    assert deviation["share_of_reachable"] > 0.999
    assert deviation["share_within_tolerance"] > 0.999


def test_every_hole_of_the_drawing_is_made_in_the_first_clamping(proved):
    """Twenty holes as drawn: four in the top and two at compound angles, ten in front, one behind, two to the
    left, one to the right."""
    mine, (top, _) = proved
    made: dict[str | None, set[int]] = {}
    for operation in mine.job.setups[TOP].operations:
        if operation.enabled:
            for pick in operation.holes:
                made.setdefault(operation.side, set()).add(pick.face)
    counts = {side: len(faces) for side, faces in made.items()}
    drawn = {None: 4, "Front": 10, "Back": 1, "Left": 2, "Right": 1, "Oil bore right": 1, "Oil bore left": 1}
    assert counts == drawn
    share = {f["face"]: f["share_on_size"] for f in top.facts["deviation"]["by_face"]}
    walls = [h.faces[0] for h in mine.paths.workspace.holes()]
    assert len(walls) == 20 and all(share[face] > 0.95 for face in walls)


def test_threads_are_tapped_and_the_fit_is_reamed(proved):
    operations = proved[0].job.setups[TOP].operations
    tapped = [len(o.holes) for o in operations if o.strategy == "tapping" and o.enabled]
    assert sorted(tapped) == [2, 4, 8]
    assert [o.parameters["cycle"] for o in operations if o.name.startswith("Ream")] == ["ream"]
    assert not [o for o in operations if o.unconfirmed]


def test_the_machine_stands_for_every_side_as_worked_out_by_hand(proved):
    """At A -90 and C 0 the tool looks at the back, +Y; C goes the way that the tool goes about the work, so
    that for a side towards some angle from X it is that angle less 90 degrees. The oil bores lean by 30 and
    35 degrees, which is what A has to lean."""
    sides = {s["name"]: s["joints"] for s in proved[1][0].facts["sides"]}
    assert sides[None] == {"A": 0.0, "C": 0.0}
    for name, (x, y, _) in UP.items():
        assert sides[name]["A"] == pytest.approx(-90.0)
        towards = np.degrees(np.arctan2(y, x))
        off = (sides[name]["C"] - (towards - 90.0) + 180.0) % 360.0 - 180.0
        assert off == pytest.approx(0.0, abs=1e-6)
    leans = [abs(sides[f"Oil bore {n}"]["A"]) for n in ("left", "right")]
    assert sorted(leans) == pytest.approx([30.0, 35.0])


def test_times_are_told_by_side_and_add_up(proved):
    facts = proved[1][0].facts
    told = sum(s["time_s"] for s in facts["sides"])
    changes = facts["tool_changes"] * 4.0
    assert told <= facts["time_s"] <= told + changes + 1.0
    assert sum(s["operations"] for s in facts["sides"]) == len(facts["operations"])


def test_the_setup_sheet_has_a_row_and_a_picture_for_every_side(proved):
    mine, (top, _) = proved
    sheet = setup_sheet(mine.paths, mine.job.releases[0], top)
    rows = re.search(r"<h2>Sides</h2>(.*?)</table>", sheet, re.S).group(1)
    for name in ("From above", "Front", "Left", "Back", "Right", "Oil bore right", "Oil bore left"):
        assert f"<td>{name}</td>" in rows
    assert rows.count("data:image/png") == 7 and "A -90.000°" in rows


def test_little_time_between_operations_keeps_what_each_needs(proved):
    """The order with fewer tool changes and index moves makes the same part."""
    data = manifold()
    data["releases"][0]["order"] = "fewest_changes"
    mine = prover_of(data, STORE)
    other, planned = mine.prove(mine.job.releases[0]), proved[1][0]
    assert other.stops() == [] and other.facts["time_s"] < planned.facts["time_s"]
    assert other.facts["removed_mm3"] == pytest.approx(planned.facts["removed_mm3"], rel=1e-4)
    assert other.facts["tool_changes"] < planned.facts["tool_changes"]


def test_a_restart_at_a_tool_says_how_the_machine_stands():
    """Every tool of the program with restarts begins with its rotary words."""
    data = manifold()
    own = data["setups"][TOP]["operations"]
    data["setups"][TOP]["operations"] = [o for o in own if o["name"].startswith(("Spot Ø4.2", "Drill Ø4.2"))]
    data["releases"] = [{"name": "front", "setup": "Top", "options": {"restart": True}}]
    mine = prover_of(data, STORE)
    proof = mine.prove(mine.job.releases[0])
    blocks = re.split(r"(?m)^(?:N\d+ )?T\d+ M6", proof.facts["text"])[1:]
    assert len(blocks) == 2 and all(re.search(r"G0 A-90\.000 C-?180\.000", b) for b in blocks)
    assert [f for f in proof.facts["findings"] if f["kind"] == "difference"] == []


DRILLED = ("Spot", "Drill")


def on(machine, **changes):
    """The prover of what is drilled in the first clamping, on another machine."""
    data = manifold(machine=machine, **changes)
    setup = data["setups"][TOP]
    setup["operations"] = [o for o in setup["operations"] if o["name"].startswith(DRILLED)]
    data["setups"], data["releases"] = [setup], []
    return prover_of(data, STORE)


def test_on_the_fork_head_the_tool_turns_to_the_same_sides():
    on_riser = {"fixture": "Vice 110", "on_table": {"y": -42.0, "z": 300.0}}
    mine = on("fork_head_1500", held_in=on_riser)
    proof = mine.prove(mine.job.effective_releases()[0])
    assert proof.stops() == []
    sides = {s["name"]: s["joints"]["A"] for s in proof.facts["sides"]}
    assert all(abs(sides[name]) == pytest.approx(90.0) for name in UP)


def test_a_rotary_on_a_column_mill_reaches_fewer_sides_and_says_which():
    data = manifold(machine="column_mill_500_rotary", sides=[], operations=[])
    data["setups"], data["releases"] = data["setups"][:1], []
    paths = open_job(job_from_data(data), ROOT / "examples", STORE)
    found = propose_sides(paths, paths.job.setups[TOP])
    assert [s.name for s in found if not s.why] == ["Side -y", "Side +y"]
    refused = {s.name: s.why for s in found if s.why}
    assert set(refused) == {"Side -x", "Side +x", "Side -z", "Bore 29", "Bore 40"}
    assert all("the machine has A" in refused[n] for n in ("Side -x", "Side +x", "Bore 29", "Bore 40"))
    assert "another clamping" in refused["Side -z"]
