"""An operation resolved once: what is open gets proposals, and only what shapes a path changes its key."""

import pytest

from fenrik.core.errors import ComputeError
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import MODELS, make_tool

FACE = {"name": "Face", "strategy": "facing", "tool": 1}
ROUGH = {"name": "Rough", "strategy": "level_roughing", "tool": 1, "parameters": {"step_down": 5.0}}


def opened(*operations, tool=None, **setup):
    data = {
        "fenrik": 2,
        "name": "tasks",
        "part": {"file": "plate_a.step"},
        "tools": [(tool or make_tool("flat", 8)).model_dump(mode="json")],
        "setups": [{"name": "Top", "operations": list(operations), **setup}],
    }
    return open_job(job_from_data(data), MODELS, MemoryStore())


def keys(*operations, **more):
    """Keys of track and path of the last operation."""
    paths = opened(*operations, **more)
    setup = paths.job.setups[0]
    last = setup.operations[-1]
    return paths.keys.track(setup, last), paths.keys.path(setup, last)


def test_what_is_given_stays_and_what_is_open_is_proposed_with_its_formula():
    paths = opened({**FACE, "feed_mm_min": 500.0})
    task = paths.tasks.task(paths.job.setups[0], paths.job.setups[0].operations[0])
    assert task.feed == 500.0 and task.derived["feed_mm_min"].origin == "given"
    assert task.entry_feed == 200.0  # two fifths of the feed
    assert task.derived["spindle_rpm"].value == task.spindle_rpm
    assert "n = 1000 vc" in task.derived["spindle_rpm"].formula


def test_a_task_is_resolved_once():
    paths = opened(FACE)
    setup = paths.job.setups[0]
    assert paths.tasks.task(setup, setup.operations[0]) is paths.tasks.task(setup, setup.operations[0])


@pytest.mark.parametrize("change", [{"name": "Other"}, {"notes": "look"}, {"coolant": "mist"}])
def test_words_and_coolant_change_no_key(change):
    assert keys(FACE) == keys({**FACE, **change})


@pytest.mark.parametrize(
    "change",
    [
        {"parameters": {"stepover": 2.0}},
        {"tolerance_mm": 0.02},
        {"spindle": "counter_clockwise"},
        {"feed_mm_min": 333.0},
        {"keep_in": [{"polygon": [[0, 0], [9, 0], [9, 9]]}]},
        {"heights": {"feed": 3.5}},
    ],
)
def test_what_shapes_the_track_changes_both_keys(change):
    (track, path), (other, further) = keys(FACE), keys({**FACE, **change})
    assert track != other and path != further


def test_a_longer_stick_out_changes_the_path_and_not_the_track():
    """With the numbers given: a slender tool is proposed a lower feed."""
    numbers = {"spindle_rpm": 6000.0, "feed_mm_min": 500.0, "entry_feed_mm_min": 200.0}
    given = {**FACE, **numbers, "parameters": {"stepover": 4.0, "step_down": 1.0}}
    short, long = make_tool("flat", 8), make_tool("flat", 8, stick_out=80.0)
    (track, path), (other, further) = keys(given, tool=short), keys(given, tool=long)
    assert track == other and path != further
    assert keys(FACE, tool=short)[0] != keys(FACE, tool=long)[0]


def test_when_shank_or_holder_touch_matters_for_the_path_only():
    (track, path), (other, further) = keys(FACE), keys({**FACE, "when_short": "leave"})
    assert track == other and path != further


def test_a_change_before_it_changes_a_key_and_a_switched_off_one_does_not():
    plain = keys(ROUGH, FACE)
    assert keys({**ROUGH, "parameters": {"step_down": 4.0}}, FACE) != plain
    assert keys({**ROUGH, "enabled": False}, FACE) == keys(FACE)
    assert keys({**ROUGH, "name": "First"}, FACE) == plain


def test_another_stock_and_another_way_up_change_a_key():
    box = {"kind": "box", "allowance": {"z_high": 4.0}}
    assert keys(FACE, stock=box) != keys(FACE)
    assert keys(FACE, up={"axis": "-z"}) != keys(FACE)
    assert keys(FACE, work_offset="G57") == keys(FACE)


def test_a_wrong_kind_of_tool_is_refused_with_the_place_and_the_kinds_that_do():
    paths = opened({**FACE, "strategy": "tapping", "holes": [{"at": [0, 0], "diameter": 5, "depth": 4}]})
    setup = paths.job.setups[0]
    with pytest.raises(ComputeError, match="does not work with") as met:
        paths.path(setup, setup.operations[0])
    assert met.value.where == "setups[0].operations[0]" and "Choose a" in met.value.remedy


def test_heights_are_those_of_the_side_that_is_worked():
    sides = [{"name": "Front", "up": {"axis": "-y"}}]
    paths = opened(FACE, {**FACE, "name": "Front face", "side": "Front"}, sides=sides)
    setup = paths.job.setups[0]
    top, front = (paths.tasks.heights(paths.tasks.task(setup, o)) for o in setup.operations)
    seen = paths.setups.seen(setup, "Front")
    assert front.clearance == pytest.approx(seen.stock_high[2] + 10.0)
    assert top.clearance == pytest.approx(paths.setups.clamped(setup).stock_high[2] + 10.0)
    assert abs(top.clearance - front.clearance) > 1.0
