"""Single checks of a proof on evidence made for them: what is told, at which severity, with which remedy."""

from dataclasses import dataclass, field
from types import SimpleNamespace

import numpy as np
import pytest

from fenrik.core.errors import DocumentError
from fenrik.core.frames import rotation_up, transform
from fenrik.core.job.proving import checks
from fenrik.core.job.proving.gaps import blanks, gaps
from fenrik.core.job.proving.wear import worn
from fenrik.core.motion.notes import Empty, Missing, Narrow, Unreached
from fenrik.core.setups.setup import PartArray
from tests.conftest import make_tool


def evidence(**parts):
    return SimpleNamespace(**parts)


# room on the table ---------------------------------------------------------------------------


def on_table(name, at, size=(100.0, 80.0, 40.0)):
    """A blank whose lower corner stands at a place of the table."""
    return SimpleNamespace(name=name), SimpleNamespace(
        stock_low=np.zeros(3), stock_high=np.array(size), table_from_setup=np.array(at, dtype=float)
    )


def test_blanks_side_by_side_need_no_word():
    setups = [on_table("Top", (0, 0, 60)), on_table("Bottom", (100, 0, 60))]  # they touch
    assert blanks(evidence(release_setups=setups)) == []


def test_blanks_in_each_other_are_a_stop_that_says_by_how_much():
    setups = [on_table("Top", (0, 0, 60)), on_table("Bottom", (93.5, 10, 60))]
    (found,) = blanks(evidence(release_setups=setups))
    assert (found.severity, found.kind) == ("stop", "room")
    assert "'Top' and 'Bottom'" in found.words
    assert "6.5 mm" in found.words
    assert "Move one of them" in found.remedy


def test_blanks_over_one_another_are_not_in_each_other():
    setups = [on_table("Low", (0, 0, 0)), on_table("High", (0, 0, 40))]
    assert blanks(evidence(release_setups=setups)) == []


def test_every_two_of_three_are_looked_at():
    setups = [on_table(name, (x, 0, 60)) for name, x in (("A", 0), ("B", 90), ("C", 180))]
    assert [f.words.split("'")[1::2] for f in blanks(evidence(release_setups=setups))] == [
        ["A", "B"],
        ["B", "C"],
    ]


# gaps between parts --------------------------------------------------------------------------


def around(diameter, goes=True, **parameters):
    return SimpleNamespace(
        strategy=SimpleNamespace(goes_around=goes),
        tool=make_tool("flat", diameter),
        parameters=SimpleNamespace(**parameters),
    )


def of_array(array, *tasks):
    return evidence(posted=SimpleNamespace(setup=SimpleNamespace(array=array)), tasks=tasks)


def test_a_gap_that_the_slimmest_tool_passes_is_no_matter():
    array = PartArray(columns=2, rows=2, gap_x=12.0, gap_y=12.0)
    assert gaps(of_array(array, around(12.0), around(20.0))) == []


def test_allowance_on_both_sides_makes_the_way_wider():
    array = PartArray(columns=2, rows=1, gap_x=12.0)
    (found,) = gaps(of_array(array, around(12.0, allowance_radial=0.25)))
    assert (found.severity, found.kind) == ("caution", "gap")
    assert "along X" in found.words
    assert "12.5 mm" in found.words
    assert "at least 12.5 mm" in found.remedy


def test_each_direction_has_its_own_word_and_one_row_has_no_gap():
    array = PartArray(columns=3, rows=2, gap_x=5.0, gap_y=6.0)
    assert [f.words.split(" along ")[1][0] for f in gaps(of_array(array, around(10.0)))] == ["X", "Y"]
    single = PartArray(columns=3, rows=1, gap_x=50.0, gap_y=0.0)
    assert gaps(of_array(single, around(10.0))) == []


def test_tools_that_do_not_go_around_need_no_gap():
    array = PartArray(columns=2, rows=1, gap_x=3.0)
    assert gaps(of_array(array, around(10.0, goes=False))) == []
    assert gaps(of_array(None, around(10.0))) == []


# speeds that the machine holds -----------------------------------------------------------------


def turning(number, value, beyond, name="Rough"):
    speed = SimpleNamespace(value=value, beyond=beyond)
    tool = make_tool("flat", 2.0, number=number)
    return SimpleNamespace(derived={"spindle_rpm": speed}, tool=tool, operation=SimpleNamespace(name=name))


def test_a_speed_held_by_the_machine_is_told_once_for_a_tool():
    tasks = [turning(4, 12000.0, 31800.0), turning(4, 12000.0, 31800.0, "Finish"), turning(5, 900.0, None)]
    (found,) = checks.held_speeds(evidence(tasks=tasks))
    assert (found.severity, found.operation, found.measure, found.limit) == (
        "note",
        "Rough",
        12000.0,
        31800.0,
    )
    assert "T4 turns at the machine's highest speed, 12000 1/min" in found.words


def test_a_speed_below_the_machines_lowest_says_so():
    (found,) = checks.held_speeds(evidence(tasks=[turning(9, 50.0, 31.0)]))
    assert "lowest speed, 50 1/min" in found.words
    assert "would take 31." in found.words


# the order of a release ----------------------------------------------------------------------


@pytest.mark.parametrize(("saves", "count"), [(0.0, 0), (-1.0, 0), (84.4, 1)])
def test_an_order_is_noted_where_it_saves_time(saves, count):
    posted = SimpleNamespace(order_saves_s=saves, tool_changes=6, operations=[])
    found = checks.order(evidence(posted=posted))
    assert len(found) == count
    if count:
        assert found[0].words == "The order with the fewest tool changes, 6, saves 84 s of changing tools."


# notes of strategies -------------------------------------------------------------------------


@dataclass
class OneStep:
    name: str
    path: object
    side: object = None
    tool: object = field(default_factory=lambda: make_tool("flat", 8))


def noted(*notes, side=None, name="Clear"):
    step = OneStep(name, SimpleNamespace(notes=notes), side)
    return checks.notes(evidence(posted=SimpleNamespace(program=SimpleNamespace(steps=[step]))))


def test_a_kind_of_note_is_told_once_with_its_number():
    found = noted(Narrow((1.0, 2.0, -3.0), 0.4), Narrow((9.0, 2.0, -3.0), 0.2))
    assert len(found) == 1
    assert "leaves the ground at (1.00, 2.00)" in found[0].words
    assert found[0].words.endswith("So in 2 places.")
    assert found[0].operation == "Clear"
    assert found[0].place == (1.0, 2.0, -3.0)


def test_an_operation_that_cuts_nothing_is_told():
    (found,) = noted(Empty())
    assert found.severity == "note" and "cuts nothing" in found.words and found.remedy


def test_a_hole_that_is_not_made_stops():
    (found,) = noted(Missing((4.0, 5.0, -6.0), 4, 4, "Ø7, through", "holder", 62.0))
    assert found.severity == "stop" and "makes 0 of 4" in found.words and "62 mm" in found.remedy
    assert found.place == (4.0, 5.0, -6.0)


def test_kinds_are_told_each_with_its_own_remedy():
    found = noted(Narrow((0.0, 0.0, 0.0), 0.4), Unreached((5.0, 5.0, -2.0), 12.0))
    assert [f.kind for f in found] == ["narrow", "left"]
    assert all(f.remedy for f in found)


def test_a_place_of_a_side_is_told_in_the_setup():
    matrix = transform(rotation_up((0.0, -1.0, 0.0)).T, (10.0, 20.0, 30.0))
    (found,) = noted(Narrow((0.0, 0.0, -4.0), 0.4), side=SimpleNamespace(setup_from_side=matrix))
    # the side looks along -Y: four below its zero is four along +Y
    assert found.place == pytest.approx((10.0, 24.0, 30.0))


# wear ----------------------------------------------------------------------------------------


def test_a_worn_tool_is_smaller_by_twice_the_wear_and_nothing_else():
    tool = make_tool("flat", 10.0)
    smaller = worn(tool, 0.05)
    assert smaller.diameter == pytest.approx(9.9)
    assert smaller.model_dump(exclude={"diameter"}) == tool.model_dump(exclude={"diameter"})


def test_a_wear_that_leaves_no_tool_is_refused_with_tool_and_remedy():
    with pytest.raises(DocumentError) as refused:
        worn(make_tool("flat", 1.0, number=7), 0.6)
    assert "Tool 7" in refused.value.what
    assert "1 mm cannot be worn by 0.6 mm" in refused.value.what
    assert refused.value.where == "options.wear_mm"


def test_every_check_is_asked_once():
    assert len(set(checks.CHECKS)) == len(checks.CHECKS)
    own = {
        f for n, f in vars(checks).items() if callable(f) and getattr(f, "__module__", "") == checks.__name__
    }
    asked = {f for f in own if not f.__name__.startswith("_")}
    assert asked <= set(checks.CHECKS)
