"""A plan of sixty operations in three setups: what a change makes be computed again, counted."""

import pytest

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import make_tool
from tests.core.test_holes import cylinder, drilled

DRILL = make_tool("drill", 4.0, number=1, point_deg=118.0, flute_length=30.0, stick_out=50.0)
SETUPS, EACH = 3, 20


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    return drilled(tmp_path_factory.mktemp("block"), [cylinder(30, 20, 0, 3, 20)])


def sixty():
    """Twenty holes in each of three setups, one operation a hole."""
    setups = []
    for s, axis in enumerate(("+z", "-z", "+y")):
        operations = [
            {
                "name": f"Hole {i}",
                "strategy": "drilling",
                "tool": 1,
                "parameters": {"cycle": "drill"},
                "holes": [
                    {
                        "at": [-24.0 + 5 * (i % 10), -4.0 + 8 * (i // 10)],
                        "top": -1.0,
                        "diameter": 4.0,
                        "depth": 3.0,
                    }
                ],
            }
            for i in range(EACH)
        ]
        setups.append({"name": f"Setup {s}", "up": {"axis": axis}, "operations": operations})
    return {
        "fenrik": 1,
        "name": "sixty",
        "part": {"file": "block.step"},
        "tools": [DRILL.model_dump(mode="json")],
        "setups": setups,
    }


@pytest.fixture(scope="module")
def counted(block):
    """Computes whatever of a document is not known yet; returns which (setup, operation) that were."""
    store = MemoryStore()

    def compute(document):
        plan = open_job(job_from_data(document), block.parent, store)
        made = []
        own = plan._computed

        def noted(task, inputs, progress):
            setup, operation = task.setup, task.operation
            made.append((plan.job.setups.index(setup), setup.operations.index(operation)))
            return own(task, inputs, progress)

        plan._computed = noted
        for setup in plan.job.setups:
            for operation in setup.operations:
                if operation.enabled:
                    plan.path(setup, operation)
        return made

    assert len(compute(sixty())) == SETUPS * EACH
    return compute


def test_nothing_is_computed_twice(counted):
    assert counted(sixty()) == []


@pytest.mark.parametrize("key", ["name", "notes", "coolant", "spindle_rpm"])
def test_what_does_not_shape_a_path_computes_none(counted, key):
    document = sixty()
    value = {"name": "Another", "notes": "for the night", "coolant": "mist", "spindle_rpm": 1234.0}[key]
    document["setups"][1]["operations"][4] |= {key: value, "feed_mm_min": 200.0, "entry_feed_mm_min": 80.0}
    known = sixty()
    known["setups"][1]["operations"][4] |= {"feed_mm_min": 200.0, "entry_feed_mm_min": 80.0}
    counted(known)
    assert counted(document) == []


@pytest.mark.parametrize(("setup", "place"), [(0, 19), (1, 7), (2, 0)])
def test_a_change_computes_the_operation_and_what_cuts_after_it_in_its_setup(counted, setup, place):
    document = sixty()
    document["setups"][setup]["operations"][place]["holes"][0]["depth"] = 4.5
    assert counted(document) == [(setup, i) for i in range(place, EACH)]


def test_offset_and_place_of_a_setup_compute_none(counted):
    document = sixty()
    document["tools"][0]["name"] = "Another drill"
    document["setups"][0] |= {"work_offset": "G57", "placement": {"x": 50.0}}
    assert counted(document) == []


def test_one_more_at_the_end_computes_one(counted):
    document = sixty()
    more = {**document["setups"][1]["operations"][3], "name": "One more"}
    document["setups"][1]["operations"].append({**more, "holes": [{**more["holes"][0], "at": [0.0, 12.0]}]})
    assert counted(document) == [(1, EACH)]


@pytest.mark.parametrize("key", ["feed_mm_min", "entry_feed_mm_min"])
def test_a_feed_computes_its_operation_alone(counted, key):
    """What cuts after it stands on the ground that it leaves, which a feed does not change."""
    document = sixty()
    document["setups"][1]["operations"][6] |= {key: 123.0}
    assert counted(document) == [(1, 6)]
