"""In which order the operations of several setups, or of the sides of one, run in one program."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import groupby

MOST_STATES = 200_000
"""So many states of all setups together are looked through for the fewest changes; beyond that the next best
is taken."""
BEAM = 64
"""So many orders are followed side by side for the sides of a setup."""
WORK = 160_000
"""Fewer are where there are so many operations that these would take longer than a second."""
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


@dataclass(frozen=True)
class Pauses:
    """What stands still between the operations of a setup with sides: `tools` and `sides` (numbers) of each,
    seconds of a tool change, and of the way from side to side, (k, k)."""

    tools: Sequence[int]
    sides: Sequence[int]
    change_s: float
    turn_s: Sequence[Sequence[float]]

    def between(self, before: int | None, after: int) -> float:
        """Seconds from one operation to the next."""
        if before is None:
            return self.change_s
        changed = self.change_s if self.tools[before] != self.tools[after] else 0.0
        return changed + self.turn_s[self.sides[before]][self.sides[after]]

    def total(self, order: Sequence[int]) -> float:
        """Seconds of a whole order."""
        return sum(self.between(a, b) for a, b in zip([None, *order], order, strict=False))


def shortest_pauses(pauses: Pauses, needs: Sequence[set[int]]) -> list[int]:
    """An order of the operations of a setup with little time between them, tool changes and ways from side to
    side together, in which each comes after all that it `needs`; never a longer one than as planned.

    A beam search over what can come next; the orders that stand at the same are followed once.
    """
    count = len(needs)
    states: list[tuple[float, tuple[int, ...], frozenset[int]]] = [(0.0, (), frozenset())]
    width = max(1, min(BEAM, WORK // max(1, count * count)))
    for _ in range(count):
        reached: dict[tuple[frozenset[int], int], tuple[float, tuple[int, ...], frozenset[int]]] = {}
        for cost, order, done in states:
            last = order[-1] if order else None
            for nxt in range(count):
                if nxt in done or not needs[nxt] <= done:
                    continue
                more = cost + pauses.between(last, nxt)
                key = (done | {nxt}, nxt)
                if key not in reached or more < reached[key][0] - 1e-9:
                    reached[key] = (more, (*order, nxt), key[0])
        states = sorted(reached.values(), key=lambda s: (s[0], s[1]))[:width]
    planned = list(range(count))
    return min(list(states[0][1]) if states else planned, planned, key=pauses.total)
