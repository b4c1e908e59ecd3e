"""Machines of a shop's own in the job document, and speeds that the machine's limits hold."""

import copy

import pytest

from fenrik.core.errors import DocumentError, FenrikError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.machines.library import machine
from tests.conftest import MODELS, make_tool


def own(**changes):
    """A column mill under the shop's own name; with joints of its own it has no bodies."""
    data = machine("column_mill_500").model_dump(mode="json")
    if "joints" in changes:
        data["bodies"] = []
    return data | {"id": "our_mill", "name": "Our mill"} | changes


def job(machines, chosen="our_mill", sides=(), **operation):
    face = {"name": "Face", "strategy": "facing", "tool": 1, **operation}
    setup = {
        "name": "Top",
        "machine": chosen,
        "operations": [face],
        "placement": {"z": 60.0},
        "sides": list(sides),
    }
    return job_from_data(
        {
            "fenrik": 2,
            "name": "own",
            "part": {"file": "plate_a.step"},
            "machines": machines,
            "tools": [make_tool("flat", 8).model_dump(mode="json")],
            "setups": [setup],
            "proof": {"cell_mm": 1.0},
        }
    )


def test_a_job_runs_on_a_machine_of_its_own():
    made = job([own()])
    paths = open_job(made, MODELS, MemoryStore())
    assert paths.setups.machine(made.setups[0]).name == "Our mill"
    proof = Prover(paths).prove(made.effective_releases()[0])
    assert proof.stops() == []


def test_its_own_limits_count():
    """The same program on the same machine with a shorter X runs beyond its end."""
    joints = [j | ({"low": -20.0, "high": 20.0} if j["letter"] == "X" else {}) for j in own()["joints"]]
    made = job([own(joints=joints)])
    proof = Prover(open_job(made, MODELS, MemoryStore())).prove(made.effective_releases()[0])
    assert {f["kind"] for f in proof.stops()} == {"travel"}


def test_a_machine_that_is_not_there_is_named_with_all_choices():
    made = job([own()], chosen="their_mill")
    with pytest.raises(DocumentError, match="'their_mill' is not in the library") as met:
        open_job(made, MODELS, MemoryStore()).setups.machine(made.setups[0])
    assert "our_mill" in met.value.remedy and "column_mill_500" in met.value.remedy
    assert met.value.where == "setups[0].machine"


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (lambda js: [j for j in js if j["letter"] != "Y"], "no linear joint Y"),
        (lambda js: [j | {"axis": [1, 0, 0]} if j["letter"] == "Y" else j for j in js], "do not span space"),
    ],
)
def test_what_cannot_be_driven_by_x_y_and_z_is_refused_with_its_reason(change, why):
    given = own()
    known = {j["name"] for j in change(given["joints"])}
    joints = [j | {"parent": j["parent"] if j["parent"] in known else None} for j in change(given["joints"])]
    mounts = {m: given[m] | ({} if given[m]["joint"] in known else {"joint": None}) for m in ("work", "tool")}
    made = job([own(joints=joints, **mounts)])
    with pytest.raises(DocumentError, match=why):
        open_job(made, MODELS, MemoryStore()).setups.machine(made.setups[0])


def test_an_arm_that_the_closed_form_does_not_take_is_refused_with_its_reason():
    turns = [
        {"name": f"J{i}", "kind": "rotary", "axis": [0, i % 2, 1 - i % 2], "speed": 9000, "acceleration": 500}
        | ({"parent": f"J{i - 1}"} if i > 1 else {})
        for i in range(1, 7)
    ]
    arm = own(joints=turns, work={"joint": None}, tool={"joint": "J6", "at": [0, 0, 900]})
    made = job([arm])
    with pytest.raises(DocumentError, match="third axis is not parallel to its second"):
        open_job(made, MODELS, MemoryStore()).setups.machine(made.setups[0])


def test_two_machines_of_one_id_are_refused():
    with pytest.raises(DocumentError, match="our_mill"):
        job([own(), own()])


def test_a_proposed_speed_that_the_machine_holds_is_told_with_what_it_would_be():
    """n = 1000 vc / (pi D): a small cutter in aluminium wants more than a slow spindle gives."""
    made = job([own(spindle_rpm=[50.0, 2000.0])])
    proof = Prover(open_job(made, MODELS, MemoryStore())).prove(made.effective_releases()[0])
    (held,) = [f for f in proof.facts["findings"] if f["kind"] == "spindle_held"]
    assert held["severity"] == "note" and held["measure"] == 2000.0 and held["limit"] > 2000.0
    assert "highest speed, 2000 1/min" in held["words"]


def test_a_given_speed_beyond_the_spindle_stops():
    made = job([own(spindle_rpm=[50.0, 2000.0])], spindle_rpm=2500.0)
    proof = Prover(open_job(made, MODELS, MemoryStore())).prove(made.effective_releases()[0])
    assert "spindle" in {f["kind"] for f in proof.stops()}


def _places(value, at=()):
    yield at
    inner = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, below in inner:
        yield from _places(below, (*at, key))


def _changed(value, at, new):
    if not at:
        return new
    out = copy.deepcopy(value)
    inner = out
    for key in at[:-1]:
        inner = inner[key]
    inner[at[-1]] = new
    return out


ODD = (
    None,
    0,
    -1,
    1e15,
    -1e15,
    1e-300,
    "X",
    "",
    [],
    {},
    [0, 0, 0],
    [1, 1, 1],
    True,
    "rotary",
    "linear",
    360.0,
)


@pytest.mark.parametrize("base", ["column_mill_500", "tilting_table_320"])
def test_an_odd_machine_is_taken_or_refused_with_words(base):
    """Every value of a machine in turn made odd: no other error than one in words, whatever is asked of
    it."""
    given, store = machine(base).model_dump(mode="json") | {"id": "our_mill"}, MemoryStore()
    sides = [{"name": "Front", "up": {"axis": "-y"}}]
    taken = 0
    for at in _places(given):
        for new in ODD:
            try:
                made = job([_changed(given, at, new)], side="Front", sides=sides)
                setups = open_job(made, MODELS, store).setups
                on = setups.on_machine(made.setups[0])
                on.machine.why_not(
                    on.work_from_setup[:3, :3] @ setups.seen(made.setups[0], "Front").setup_from_side[:3, 2]
                )
            except FenrikError as error:
                assert error.what
            else:
                taken += 1
    assert taken > 100


@pytest.mark.parametrize(
    ("ends", "words"), [({"low": None}, "has one end"), ({"low": -9000.0}, "within ±3600°")]
)
def test_ends_of_a_rotary_joint_are_two_and_within_ten_turns(ends, words):
    given = machine("tilting_table_320").model_dump(mode="json") | {"id": "our_mill"}
    joints = [j | (ends if j["letter"] == "A" else {}) for j in given["joints"]]
    with pytest.raises(DocumentError, match=words):
        job([given | {"joints": joints}])
