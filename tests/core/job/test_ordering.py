"""The order of several setups in one program, against every order that there is."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fenrik.core.job.programs import ordering
from fenrik.core.job.programs.ordering import Pauses, as_planned, changes, fewest_changes, shortest_pauses

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


def keeping(needs):
    """Every order in which each operation comes after what it needs."""

    def go(done):
        if len(done) == len(needs):
            yield list(done)
        for i, own in enumerate(needs):
            if i not in done and own <= set(done):
                yield from go((*done, i))

    return go(())


@st.composite
def sided(draw, most):
    """Tools and sides of operations, and earlier ones that each needs."""
    count = draw(st.integers(1, most))
    numbers = st.lists(st.integers(0, 2), min_size=count, max_size=count)
    tools, sides = draw(numbers), draw(numbers)
    needs = [set(draw(st.lists(st.integers(0, i - 1), max_size=2))) if i else set() for i in range(count)]
    turns = [[0.0, 4.0, 7.0], [4.0, 0.0, 5.0], [7.0, 5.0, 0.0]]
    return Pauses(tools, sides, draw(st.sampled_from([0.0, 3.0, 20.0])), turns), needs


@settings(max_examples=120, deadline=None)
@given(sided(6))
def test_no_order_of_sides_stands_still_for_less_time(case):
    pauses, needs = case
    order = shortest_pauses(pauses, needs)
    assert pauses.total(order) == pytest.approx(min(pauses.total(o) for o in keeping(needs)))


@settings(max_examples=60, deadline=None)
@given(sided(30))
def test_what_an_operation_needs_stays_before_it(case):
    pauses, needs = case
    order = shortest_pauses(pauses, needs)
    assert sorted(order) == list(range(len(needs)))
    assert all(order.index(before) < order.index(i) for i, own in enumerate(needs) for before in own)
    assert pauses.total(order) <= pauses.total(list(range(len(needs))))


def test_two_sides_with_two_tools_each_turn_once():
    # a tool change takes longer than turning: drill both sides, then tap both
    slow = Pauses([1, 2, 1, 2], [0, 0, 1, 1], 10.0, [[0.0, 1.0], [1.0, 0.0]])
    assert shortest_pauses(slow, [set(), {0}, set(), {2}]) in ([0, 2, 3, 1], [2, 0, 1, 3])
    # where turning takes longer, side after side
    quick = Pauses([1, 2, 1, 2], [0, 0, 1, 1], 1.0, [[0.0, 10.0], [10.0, 0.0]])
    sides = [quick.sides[i] for i in shortest_pauses(quick, [set(), {0}, set(), {2}])]
    assert sides in ([0, 0, 1, 1], [1, 1, 0, 0])
