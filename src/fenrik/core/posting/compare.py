"""Holds what the posted text means against what was planned, move by move."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.motion import planes
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.program import PlannedMoves

Floats = NDArray[np.float64]
DWELL_S = 0.006
"""Dwells are written in hundredths of a second."""
NEXT = 8
"""Planned poses among which a posted one is looked for before all that follow are."""
LEAN = 3e-5
"""Sine by which a tool may lean off its side: angles are written in thousandths of a degree, up to three of
them."""


@dataclass(frozen=True)
class Difference:
    """One place where text and plan differ: the move of the text (or -1), its line, how far, in words."""

    move: int
    line: int
    distance: float
    words: str


@dataclass(frozen=True)
class Comparison:
    """`step_of` (n,) gives the step of every posted move; `differences` is empty when text and plan
    agree within the output resolution."""

    step_of: NDArray[np.int32]
    differences: list[Difference]


def compare(
    planned: list[PlannedMoves], posted: ProgramMotion, resolution: float, diameters: bool = False
) -> Comparison:
    """Both sides as dense points of the same moves; moves shorter than the resolution do not count.

    Ends may differ by half the resolution per axis (rounding), arcs at quarter points by twice the
    resolution (their centre or radius is rounded as well), feeds by a twentieth of a per cent or one
    tenth of a mm/min, and where the axis moves by what rounding makes of a short way. With `diameters` X is
    written twice as finely.
    """
    per_axis = resolution * np.array([0.5 if diameters else 1.0, 1.0, 1.0])
    want = _flattened(planned, resolution, per_axis)
    aside = np.zeros(len(posted), dtype=np.bool_) if posted.turning is None else posted.turning.aside
    moved = (np.abs(posted.tip - posted.start) > 0.25 * per_axis).any(axis=1) & ~aside
    # after a tilted plane the place over the next start may be a rounding away from where the tool is already
    little = np.zeros(len(posted), dtype=np.bool_)
    if posted.turning is not None:
        little = posted.rapid & (np.abs(posted.tip - posted.start).max(axis=1) < 3.0 * resolution)
    keep = [int(k) for k in np.flatnonzero(moved | (posted.turn != 0))]
    step_of = np.zeros(len(posted), dtype=np.int32)
    differences: list[Difference] = []
    if _alike(want, posted, np.array(keep, dtype=np.int64), resolution):
        step_of[keep] = want.step
        return _placed(
            Comparison(np.maximum.accumulate(step_of).astype(np.int32), []), planned, posted, resolution
        )
    # arcs by radius may be written in pieces: walk both lists by end points
    j = 0
    for i in keep:
        while (
            j + 1 < len(want.end)
            and want.tiny[j]
            and np.abs(posted.tip[i] - want.end[j]).max() > want.slack[j]
        ):
            j += 1  # a move of about the resolution that rounding made vanish
        if j >= len(want.end):
            differences.append(_difference(posted, i, np.inf, "the text has moves that were not planned"))
            break
        off = float(np.abs(posted.tip[i] - want.end[j]).max())
        if little[i] and off > want.slack[j]:
            step_of[i] = want.step[j]
            continue
        step_of[i] = want.step[j]
        if want.offset[j] and want.offset[j] != posted.offset[i]:
            words = f"it runs on G{posted.offset[i]} instead of G{want.offset[j]}"
            differences.append(_difference(posted, i, np.inf, words))
            break
        if bool(want.rapid[j]) != bool(posted.rapid[i]):
            differences.append(_difference(posted, i, np.inf, "rapid and feed are exchanged"))
            break
        if off <= want.slack[j]:
            problem = _shape_problem(want, j, posted, i, resolution)
            if problem is not None:
                differences.append(problem)
            j += 1
        elif want.turn[j] != 0 and posted.turn[i] == want.turn[j] and posted.plane[i] == want.plane[j]:
            away = _off_circle(want, j, posted.tip[i])
            if away > 2 * resolution:
                differences.append(_difference(posted, i, float(away), "an arc leaves the planned one"))
                break
        else:
            differences.append(
                _difference(posted, i, off, f"the end differs from the planned one by {off:.4f} mm")
            )
            break
    while j < len(want.end) and want.tiny[j]:
        j += 1
    if not differences and j < len(want.end):
        differences.append(
            Difference(-1, -1, np.inf, f"{len(want.end) - j} planned moves are missing in the text")
        )
    filled = np.maximum.accumulate(step_of) if len(step_of) else step_of
    return _placed(Comparison(filled.astype(np.int32), differences), planned, posted, resolution)


def _placed(
    found: Comparison, planned: list[PlannedMoves], posted: ProgramMotion, resolution: float
) -> Comparison:
    """On machines with rotary joints: moves that are no path go with the step that they lead to, and the
    moves of every step must be where its side is, the tool leaning as it does there."""
    if posted.turning is None or not len(posted):
        return found
    turning, step_of = posted.turning, found.step_of.copy()
    for i in np.flatnonzero(turning.aside)[::-1]:
        step_of[i] = step_of[i + 1] if i + 1 < len(step_of) else step_of[i]
    differences = list(found.differences)
    reach = 1.0 + np.abs(posted.tip).max(axis=1)
    for step, moves in enumerate(planned):
        rows = np.flatnonzero((step_of == step) & ~posted.rapid)
        if not len(rows) or not moves.frames:
            continue
        if moves.moving is not None:
            differences += _off_poses(posted, rows, moves.moving.poses, resolution)[:1]
            continue
        want = moves.frames[1]
        off = np.linalg.norm(posted.places[rows] - apply(want.setup_from_rows, posted.tip[rows]), axis=1)
        lean = np.linalg.norm(
            np.array([turning.frames[f].axis for f in posted.moves.sides[rows]]) - want.axis, axis=1
        )
        bad = np.flatnonzero((off > resolution + LEAN * reach[rows]) | (lean > LEAN))
        if len(bad):
            i = int(rows[bad[0]])
            words = (
                f"the tip is {off[bad[0]]:.4f} mm from where the side has it, and the tool leans"
                f" {np.degrees(lean[bad[0]]):.3f}° off"
            )
            differences.append(_difference(posted, i, float(off[bad[0]]), words))
    return Comparison(step_of, differences)


def _off_poses(
    posted: ProgramMotion, rows: NDArray[np.int64], wanted: Floats, resolution: float
) -> list[Difference]:
    """Of moves at feed on which the axis turns, those that do not end at one of the planned poses (n, 6),
    each at the same as the move before or at a later one."""
    places, leans = posted.places[rows], posted.leans[rows]
    at = 0
    for row, place, lean in zip(rows.tolist(), places, leans, strict=True):
        slack = resolution + LEAN * (1.0 + float(np.abs(posted.tip[row]).max()))
        for ahead in (wanted[at : at + NEXT], wanted[at:]):
            off = np.linalg.norm(ahead[:, :3] - place, axis=1)
            away = np.linalg.norm(ahead[:, 3:] - lean, axis=1)
            hit = np.flatnonzero((off <= slack) & (away <= LEAN))
            if len(hit):
                break
        else:
            nearest = int(np.argmin(off + away))
            words = (
                f"the tool ends {off[nearest]:.4f} mm and {np.degrees(away[nearest]):.3f}° from the nearest "
                "pose that was planned"
            )
            return [_difference(posted, row, float(off[nearest]), words)]
        at += int(hit[0])
    return []


def _alike(want: _Wanted, posted: ProgramMotion, keep: NDArray[np.int64], resolution: float) -> bool:
    """Whether the posted moves `keep` are the planned ones one by one, by the same measures as the walk that
    names what differs."""
    if len(keep) == 0 or len(keep) != len(want.end):
        return False
    turn, plane, feed = posted.turn[keep], posted.plane[keep], posted.feed[keep]
    ends = (np.abs(posted.tip[keep] - want.end).max(axis=1) <= want.slack).all()
    dwell = posted.dwell[keep]
    kinds = (posted.rapid[keep] == want.rapid).all() and (turn == want.turn).all()
    feeds = (np.abs(feed - want.feed) <= want.feed_slack)[~want.rapid].all()
    offsets = ((want.offset == 0) | (posted.offset[keep] == want.offset)).all()
    if not (ends and kinds and feeds and offsets and np.abs(dwell - want.dwell).max() <= DWELL_S):
        return False
    arc = np.flatnonzero(turn)
    if len(arc) == 0:
        return True
    rows, plane, centre = keep[arc], plane[arc], posted.centre[keep[arc]]
    ends_of = (posted.start[rows], posted.tip[rows], centre)
    half = 0.5 * planes.sweeps(*ends_of, turn[arc], plane) * turn[arc]
    middle = planes.on_arcs(*ends_of, half, plane, np.full(len(arc), 0.5))
    off = np.abs(planes.radii(middle, want.centre[arc], plane) - want.radius[arc])
    return bool((plane == want.plane[arc]).all() and off.max() <= 2 * resolution)


def _difference(posted: ProgramMotion, i: int, distance: float, words: str) -> Difference:
    return Difference(int(i), int(posted.line[i]), distance, words)


@dataclass(frozen=True)
class _Wanted:
    end: Floats
    rapid: NDArray[np.bool_]
    turn: NDArray[np.int8]
    plane: NDArray[np.int8]
    centre: Floats
    radius: Floats
    feed: Floats
    step: NDArray[np.int32]
    offset: NDArray[np.int32]
    tiny: NDArray[np.bool_]
    slack: Floats
    dwell: Floats
    feed_slack: Floats


def _flattened(planned: list[PlannedMoves], resolution: float, per_axis: Floats) -> _Wanted:
    """All planned moves that are not null at the output resolution, `per_axis` (3,)."""
    step = np.repeat(np.arange(len(planned), dtype=np.int32), [len(m) for m in planned])
    columns = [
        np.concatenate([getattr(m.moves, c) for m in planned])
        for c in ("tip", "rapid", "turn", "plane", "centre", "feed")
    ]
    end, rapid, turn, plane, centre, feed = columns
    grid = np.round(end / per_axis)
    moved = np.ones(len(end), dtype=bool)
    moved[1:] = (grid[1:] != grid[:-1]).any(axis=1)
    large = _large(end, centre, turn, plane)
    moved |= large
    for n, i in enumerate(np.searchsorted(step, np.arange(len(planned)))):
        if planned[n].fresh:
            moved[i] = (grid[i, :2] != grid[i - 1, :2]).any()  # the machine itself went up
        if planned[n].elsewhere:
            moved[i] = False  # from a place that has no coordinates here
    if planned[0].frames:
        begins = np.round(np.vstack([m.moves.start for m in planned]) / per_axis)
        moved = ((grid != begins) & ~np.isnan(begins)).any(axis=1) & ~np.isnan(begins).any(axis=1) | large
    moved[0] = False  # the first positioning comes from an unknown place
    seen = planes.in_plane(grid, plane) == planes.in_plane(np.roll(grid, 1, axis=0), plane)
    turn = np.where((turn != 0) & seen.all(axis=1) & ~large, 0, turn)
    radius = planes.radii(end, centre, plane)
    tiny = np.concatenate([[False], np.abs(np.diff(end, axis=0)).max(axis=1) < 1.5 * resolution])
    return _Wanted(
        end[moved],
        rapid[moved],
        turn[moved],
        plane[moved],
        centre[moved],
        radius[moved],
        feed[moved],
        step[moved],
        np.array([m.offset for m in planned], dtype=np.int32)[step[moved]],
        tiny[moved],
        0.5 * resolution * 1.01 * np.concatenate([_roundings(m) for m in planned])[moved] + 1e-9,
        np.concatenate([m.dwells() for m in planned])[moved],
        np.concatenate([_feed_slack(m, resolution) for m in planned])[moved],
    )


def _feed_slack(moves: PlannedMoves, resolution: float) -> Floats:
    """By how much the feed (n,) of a text may be off. Where the axis moves it is written as a time, or along
    other coordinates than the tip's, and rounded ends make a short block longer or shorter."""
    feed = moves.moves.feed
    out = np.maximum(0.13, 5e-4 * feed)
    if moves.moving is not None:
        way = np.linalg.norm(np.diff(moves.moving.tips, axis=0, prepend=np.nan), axis=1)
        out[1:] += np.nan_to_num(feed[1:] * 4.0 * resolution / np.maximum(way, resolution))
    return out


def _large(end: Floats, centre: Floats, turn: NDArray[np.int8], plane: NDArray[np.int8]) -> NDArray[np.bool_]:
    """Arcs (n,) of more than half a turn: where one ends as good as where it begins it is a circle, not
    nothing."""
    out = np.zeros(len(end), dtype=np.bool_)
    arc = np.flatnonzero(turn)
    arc = arc[arc > 0]
    out[arc] = planes.sweeps(end[arc - 1], end[arc], centre[arc], turn[arc], plane[arc]) > np.pi
    return out


def _roundings(moves: PlannedMoves) -> Floats:
    """How many rounded numbers (n,) the text's end of each move stands on: one, but in a pecking cycle, which
    counts its depths from a rounded height in rounded steps, as many as pecks before it and two more."""
    out = np.ones(len(moves))
    for cycle in moves.cycles:
        if cycle.peck:
            rows = slice(cycle.first, cycle.last)
            out[rows] = 2.0 + np.maximum(
                0.0, np.ceil((cycle.retract - moves.moves.tip[rows, 2]) / cycle.peck)
            )
    return out


def _shape_problem(
    want: _Wanted, j: int, posted: ProgramMotion, i: int, resolution: float
) -> Difference | None:
    turned = int(posted.turn[i])
    if int(want.turn[j]) != turned or (turned and want.plane[j] != posted.plane[i]):
        words = "an arc and a straight move, two senses of turning or two planes are exchanged"
        return _difference(posted, i, np.inf, words)
    if turned:
        away = _off_circle(want, j, _middle(posted, i))
        if away > 2 * resolution:
            return _difference(posted, i, away, f"an arc bulges off the planned one by {away:.4f} mm")
    dwell = float(posted.dwell[i])
    if abs(dwell - want.dwell[j]) > DWELL_S:
        words = f"the tool stands for {dwell:.2f} s where {want.dwell[j]:.2f} s were planned"
        return _difference(posted, i, 0.0, words)
    if not posted.rapid[i] and abs(posted.feed[i] - want.feed[j]) > want.feed_slack[j]:
        return _difference(
            posted, i, 0.0, f"the feed is {posted.feed[i]:.1f} mm/min where {want.feed[j]:.1f} was planned"
        )
    return None


def _middle(posted: ProgramMotion, i: int) -> Floats:
    """The point halfway along a posted arc (3,)."""
    one = slice(i, i + 1)
    ends, plane = (posted.start[one], posted.tip[one], posted.centre[one]), posted.plane[one]
    half = 0.5 * planes.sweeps(*ends, posted.turn[one], plane) * posted.turn[one]
    return np.asarray(planes.on_arcs(*ends, half, plane, np.array([0.5]))[0])


def _off_circle(want: _Wanted, j: int, point: Floats) -> float:
    """How far a point (3,) lies off a planned arc's circle, seen square to its plane."""
    arm = planes.in_plane(point[None], want.plane[j : j + 1])[0] - want.centre[j]
    return abs(float(np.hypot(*arm)) - float(want.radius[j]))
