"""Which tools a plan takes: the job's own first, the library's in the job's units, made up for the depth at
last, and said so."""

from types import SimpleNamespace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.job.proposing.recipes import Proposal
from fenrik.core.job.proposing.tool_choice import INCH_SIZE, LONGEST_FLUTES, NECK, ToolChoice
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
        assert tool.flute_length <= LONGEST_FLUTES * tool.diameter + 0.1
        assert tool.stick_out >= min(deep, tool.flute_length)


@pytest.mark.parametrize("units", ["mm", "inch"])
def test_the_library_is_looked_through_in_the_jobs_units(units):
    assert is_inch(choice(units=units).mill(13.0, 5.0)) == (units == "inch")


def test_flutes_shorter_than_the_depth_are_made_up_and_beyond_five_diameters_the_neck_is_relieved():
    mine = make_tool("flat", 10.0, number=3, flute_length=20.0)
    deep = choice(mine).mill(most=12.0, deep=40.0)
    assert (deep.diameter, deep.flute_length) == (10.0, 42.0)
    assert deep.shank_diameter == mine.shank_diameter
    assert "flutes 42" in deep.name
    deeper = choice(mine).mill(most=12.0, deep=70.0)
    assert deeper.flute_length == LONGEST_FLUTES * 10.0
    assert deeper.shank_diameter == pytest.approx(NECK * 10.0)
    assert "relieved neck" in deeper.name
    assert deeper.stick_out >= 75.0


def face(number, low, high, **more):
    return SimpleNamespace(id=number, low=low, high=high, **more)


def test_a_pointed_cutter_is_wide_enough_for_the_chamfer():
    tool = choice().point([face(1, -3.0, 0.0), face(2, -1.0, 0.0)])
    assert tool.kind == "chamfer" and tool.point_deg == 90.0
    assert tool.radius >= 3.0 + 0.5 + 0.5 * tool.tip_diameter


def test_a_ball_turns_in_the_smallest_hollow():
    hollows = [SimpleNamespace(id=1, hollow=True, radius=4.0), SimpleNamespace(id=2, hollow=True, radius=2.5)]
    seen = [face(1, -5.0, 0.0), face(2, -5.0, 0.0)]
    assert choice(faces=hollows).ball(seen, widest=20.0, deep=5.0).radius <= 0.9 * 2.5
    assert choice(faces=hollows).ball(seen[:1], widest=20.0, deep=5.0).radius > 0.9 * 2.5
    round_outside = [SimpleNamespace(id=1, hollow=False, radius=1.0)]
    assert choice(faces=round_outside).ball(seen[:1], widest=20.0, deep=5.0).radius > 1.0


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
