"""In which order the operations of several setups run in one program."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby

MOST_STATES = 200_000
"""So many states of all setups together are looked through for the fewest changes; beyond that the next best
is taken."""
State = tuple[int, ...]


def as_planned(tools: Sequence[Sequence[int]]) -> list[tuple[int, int]]:
    """Setup after setup: pairs of setup and place in it."""
    return [(s, i) for s, own in enumerate(tools) for i in range(len(own))]


def fewest_changes(tools: Sequence[Sequence[int]]) -> list[tuple[int, int]]:
    """An order (pairs of setup and place in it) with the fewest tool changes that keeps each setup's own;
    `tools[s][i]` is the tool of operation i of setup s.

    Whatever can run with the tool in the spindle runs at once, which never costs a change later; over the
    choice of the next tool a search by breadth finds the fewest (the shortest common supersequence of the
    setups' tools, Maier 1978).
    """
    runs = [[(tool, len(list(group))) for tool, group in groupby(own)] for own in tools]
    chosen = _search(runs) or _greedy(runs)
    order: list[tuple[int, int]] = []
    at, done = [0] * len(runs), [0] * len(runs)
    for tool in chosen:
        for s, own in enumerate(runs):
            if at[s] < len(own) and own[at[s]][0] == tool:
                order += [(s, done[s] + i) for i in range(own[at[s]][1])]
                done[s] += own[at[s]][1]
                at[s] += 1
    # the next best can be worse than no search at all
    return min(order, as_planned(tools), key=lambda o: changes(o, tools))


def changes(order: Sequence[tuple[int, int]], tools: Sequence[Sequence[int]]) -> int:
    """How often the tool is changed, the first one counted."""
    sequence = [tools[s][i] for s, i in order]
    return sum(1 for a, b in zip([None, *sequence], sequence, strict=False) if a != b)


def _taken(state: State, tool: int, runs: list[list[tuple[int, int]]]) -> State:
    """The state after everything that can run with a tool has run; neighbouring runs of a setup have
    different tools."""
    return tuple(at + (at < len(own) and own[at][0] == tool) for at, own in zip(state, runs, strict=True))


def _search(runs: list[list[tuple[int, int]]]) -> list[int] | None:
    start, end = tuple(0 for _ in runs), tuple(len(own) for own in runs)
    came: dict[State, tuple[State, int] | None] = {start: None}
    front = [start]
    while front and end not in came:
        following: list[State] = []
        for state in front:
            for tool in sorted({own[at][0] for at, own in zip(state, runs, strict=True) if at < len(own)}):
                state_after = _taken(state, tool, runs)
                if state_after not in came:
                    came[state_after] = (state, tool)
                    following.append(state_after)
        if len(came) > MOST_STATES:
            return None
        front = following
    tools: list[int] = []
    step = came[end]
    while step is not None:
        tools.insert(0, step[1])
        step = came[step[0]]
    return tools


def _greedy(runs: list[list[tuple[int, int]]]) -> list[int]:
    """Always the tool that most setups wait for."""
    state, end = tuple(0 for _ in runs), tuple(len(own) for own in runs)
    out: list[int] = []
    while state != end:
        waiting = [own[at][0] for at, own in zip(state, runs, strict=True) if at < len(own)]
        tool = max(sorted(set(waiting)), key=waiting.count)
        out.append(tool)
        state = _taken(state, tool, runs)
    return out
