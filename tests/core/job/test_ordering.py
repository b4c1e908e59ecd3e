"""The order of several setups in one program, against every order that there is."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.job.programs import ordering
from fenrik.core.job.programs.ordering import as_planned, changes, fewest_changes

FEW = st.lists(st.lists(st.integers(1, 4), min_size=1, max_size=4), min_size=1, max_size=3)
MANY = st.lists(st.lists(st.integers(1, 6), max_size=12), min_size=1, max_size=6)


def interleaved(tools):
    """Every way to run all operations that keeps the order of each setup."""

    def go(at):
        if all(i == len(own) for i, own in zip(at, tools, strict=True)):
            yield []
        for s, own in enumerate(tools):
            if at[s] < len(own):
                after = tuple(i + (k == s) for k, i in enumerate(at))
                for rest in go(after):
                    yield [(s, at[s]), *rest]

    return go(tuple(0 for _ in tools))


def is_whole(order, tools):
    """Whether every operation runs once, each setup's in its own order."""
    return sorted(order) == as_planned(tools) and all(
        [i for s, i in order if s == setup] == list(range(len(own))) for setup, own in enumerate(tools)
    )


@settings(max_examples=60, deadline=None)
@given(FEW)
def test_no_order_changes_the_tool_less_often(tools):
    order = fewest_changes(tools)
    assert is_whole(order, tools)
    assert changes(order, tools) == min(changes(other, tools) for other in interleaved(tools))


@settings(max_examples=100, deadline=None)
@given(MANY)
def test_each_setup_keeps_its_own_order_and_nothing_is_lost(tools):
    order = fewest_changes(tools)
    assert is_whole(order, tools)
    assert changes(order, tools) <= changes(as_planned(tools), tools)


@settings(max_examples=60, deadline=None)
@given(MANY)
def test_where_there_are_too_many_orders_the_next_best_is_whole_too(tools):
    most, ordering.MOST_STATES = ordering.MOST_STATES, 1
    try:
        order = fewest_changes(tools)
    finally:
        ordering.MOST_STATES = most
    assert is_whole(order, tools)
    assert changes(order, tools) <= changes(as_planned(tools), tools)


@pytest.mark.parametrize(
    ("tools", "wanted"),
    [
        ([[1, 2], [1, 2]], 2),  # the same tools: no change more than for one setup
        ([[1, 2, 3], [3, 2, 1]], 5),  # the other way round: one tool is shared
        ([[1], [2], [3]], 3),
        ([[1, 1, 2, 2], [2, 2]], 2),
        ([[]], 0),
    ],
)
def test_worked_examples(tools, wanted):
    assert changes(fewest_changes(tools), tools) == wanted


def test_the_first_tool_counts_as_a_change():
    assert changes([(0, 0), (0, 1), (0, 2)], [[5, 5, 7]]) == 2


def test_operations_that_follow_one_another_with_a_tool_stay_together():
    tools = [[1, 1, 2], [1, 2, 2]]
    order = fewest_changes(tools)
    sequence = [tools[s][i] for s, i in order]
    assert sequence == sorted(sequence)


def test_as_planned_is_setup_after_setup():
    assert as_planned([[4, 5], [], [6]]) == [(0, 0), (0, 1), (2, 0)]
