"""Which tools a plan takes: the job's own first, the library's in the job's units, made up for the depth at
last, and said so."""

from types import SimpleNamespace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.job.proposing.recipes import Proposal
from fenrik.core.job.proposing.tool_choice import INCH_SIZE, LONGEST_REACH, NECK, STIFF, ToolChoice
from fenrik.core.tooling.library import starting_library
from tests.conftest import make_tool


def choice(*tools, units="mm", faces=()):
    job = SimpleNamespace(tools=list(tools), units=units)
    return ToolChoice(job, SimpleNamespace(faces=list(faces)), Proposal("Whole part"))


def is_inch(tool):
    return abs(tool.diameter / INCH_SIZE - round(tool.diameter / INCH_SIZE)) < 1e-6


def test_a_tool_of_the_job_is_taken_before_the_library():
    mine = make_tool("flat", 7.3, number=3)
    assert choice(mine).mill(most=12.0, deep=5.0) == mine


def test_the_widest_that_fits_is_taken_and_among_those_one_that_reaches_the_depth():
    thin, wide = make_tool("flat", 8.0, number=1), make_tool("flat", 16.0, number=2)
    assert choice(thin, wide).mill(most=20.0, deep=10.0) == wide
    assert choice(thin, wide).mill(most=10.0, deep=10.0) == thin
    short = make_tool("flat", 16.0, number=4, flute_length=6.0)
    assert choice(thin, short).mill(most=20.0, deep=20.0) == thin


@settings(max_examples=60, deadline=None)
@given(st.floats(3.0, 40.0), st.floats(1.0, 120.0), st.sampled_from(["mm", "inch"]))
def test_a_mill_is_never_wider_than_asked_and_its_flutes_never_longer_than_a_mill_has(most, deep, units):
    tool = choice(units=units).mill(most, deep)
    assert tool.kind == "flat"
    smallest = min(t.diameter for t in starting_library() if t.kind == "flat")
    assert tool.diameter <= max(most, smallest) + 1e-6
    library = {t.name for t in starting_library()}
    if tool.name not in library:
        assert tool.stick_out <= max(LONGEST_REACH * tool.diameter, tool.flute_length + 8.0) + 0.1
        assert tool.stick_out >= min(deep, LONGEST_REACH * tool.diameter) - 0.1
        assert tool.shank_diameter < tool.diameter


@pytest.mark.parametrize("units", ["mm", "inch"])
def test_the_library_is_looked_through_in_the_jobs_units(units):
    assert is_inch(choice(units=units).mill(13.0, 5.0)) == (units == "inch")


def test_a_depth_beyond_the_flutes_asks_for_a_neck_and_an_end_short_of_it_is_told():
    mine = make_tool("flat", 10.0, number=3, flute_length=20.0, stick_out=30.0)
    chooser = choice(mine)
    deep = chooser.mill(most=12.0, deep=40.0)
    assert (deep.diameter, deep.flute_length, deep.stick_out) == (10.0, 20.0, 45.0)
    assert deep.shank_diameter == pytest.approx(NECK * 10.0) and "neck to 45" in deep.name
    assert chooser.out.words == []
    deeper = chooser.mill(most=12.0, deep=100.0)
    assert deeper.stick_out == LONGEST_REACH * 10.0
    assert any("20.0 mm short of the depth of 100.0 mm" in words for words in chooser.out.words)


def test_a_short_mill_goes_first_and_a_longer_wider_one_only_where_depth_asks_for_it():
    short, long = choice().pair(most=12.0, deep=70.0, widest=20.0)
    assert short.stick_out <= STIFF * short.diameter
    assert long is not None and long.stick_out >= 70.0 and long.diameter > short.diameter
    only, none = choice().pair(most=12.0, deep=20.0, widest=20.0)
    assert none is None and only.flute_length >= 20.0
    necked, none = choice().pair(most=12.0, deep=36.0, widest=20.0)
    assert none is None and necked.stick_out >= 36.0 and necked.stick_out <= STIFF * necked.diameter


def face(number, low, high, **more):
    return SimpleNamespace(id=number, low=low, high=high, **more)


def test_a_pointed_cutter_is_wide_enough_for_the_chamfer():
    tool = choice().point([face(1, -3.0, 0.0), face(2, -1.0, 0.0)])
    assert tool.kind == "chamfer" and tool.point_deg == 90.0
    assert tool.radius >= 3.0 + 0.5 + 0.5 * tool.tip_diameter


def test_balls_come_the_widest_first_and_the_jobs_own_before_the_librarys():
    sizes = [t.diameter for t in choice().balls(most=6.0)]
    assert sizes == sorted(sizes, reverse=True) and sizes[0] <= 12.0 and len(sizes) > 2
    mine = make_tool("ball", 5.0, number=3)
    assert choice(mine).balls(most=6.0) == [mine]
    assert len(choice().balls(most=0.1)) == 1  # the smallest there is


# taken into the job ------------------------------------------------------------------------------


def test_a_tool_that_the_job_has_under_another_number_is_that_one():
    mine = make_tool("flat", 8.0, number=9)
    chooser = choice(mine)
    assert chooser.taken(mine.model_copy(update={"number": 2})) == mine
    assert (chooser.out.tools, chooser.out.words) == ([], [])


def test_a_tool_of_the_library_gets_a_free_number_and_a_word():
    shelf = starting_library()[0]
    chooser = choice(make_tool("flat", 8.0, number=shelf.number))
    new = chooser.taken(shelf)
    assert new.number != shelf.number
    assert chooser.out.tools == [new]
    assert chooser.out.words == [f"T{new.number} {new.name} comes from the library."]
    assert chooser.taken(shelf) == new  # once is enough
    assert len(chooser.out.tools) == 1


def test_a_made_up_tool_is_told_as_such():
    mine = make_tool("flat", 10.0, number=3, flute_length=20.0)
    chooser = choice(mine)
    new = chooser.taken(chooser.mill(most=12.0, deep=40.0))
    assert chooser.out.words == [
        f"T{new.number} {new.name} was made up for the depth: check its lengths and holder."
    ]
