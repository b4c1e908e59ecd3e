"""The lines that an operation engraves, brought into the setup's frame: edges, the borders of faces, points,
texts."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import DocumentError
from fenrik.core.frames import apply
from fenrik.core.job.document.picks import LinePick
from fenrik.core.job.tasks.edges_of_part import border, pieces_of_edge
from fenrik.core.lettering.letters import lettering
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.setups.setup import Clamped

Floats = NDArray[np.float64]
UPRIGHT_MM = 1e-3
"""A line shorter than this in plan view stands upright."""


def drawn_lines(
    picks: list[LinePick], part: PartModel, mesh: TriangleMesh, clamped: Clamped, chord: float, where: str
) -> list[tuple[str, Floats]]:
    """`mesh` is the part's, in the part frame, as fine as the path. Words for messages and points (n, 2) of
    every line, and so for every part of an array. Raises DocumentError for an edge or a face that the part
    does not have, and for one that stands upright."""
    out: list[tuple[str, Floats]] = []
    for i, pick in enumerate(picks):
        at = f"{where}[{i}]"
        if pick.text is not None:
            assert pick.at is not None
            strokes = lettering(pick.text, pick.height, pick.at, pick.angle_deg, pick.align, chord)
            out += [(f"The text '{pick.text}'", s) for s in strokes]
        elif pick.points is not None:
            ring = [*pick.points, pick.points[0]] if pick.closed else pick.points
            out.append((f"Line {i + 1}", np.array(ring, dtype=np.float64)))
        else:
            out += _of_part(pick, part, mesh, clamped, at)
    shifts = clamped.copies[:, :2]
    return [(words, points + shift) for shift in shifts for words, points in out]


def _of_part(
    pick: LinePick, part: PartModel, mesh: TriangleMesh, clamped: Clamped, where: str
) -> list[tuple[str, Floats]]:
    words = f"Edge {pick.edge}" if pick.edge is not None else f"The border of face {pick.face}"
    known = range(1, len(part.edges) + 1) if pick.edge is not None else range(1, len(part.faces) + 1)
    if (pick.edge or pick.face) not in known:
        raise DocumentError(
            f"{words} does not exist: the part has {len(part.edges)} edges and {len(part.faces)} faces.",
            remedy="Pick the edge or the face again.",
            where=where,
        )
    segments = (
        border(mesh, [pick.face or 0])
        if pick.edge is None
        else pieces_of_edge(pick.edge, part, mesh, [np.eye(4)])
    )
    if not len(segments):
        raise DocumentError(
            f"{words} bounds nothing: the face goes on beyond it, or round about.",
            remedy="Pick another edge or face.",
            where=where,
        )
    lines = [apply(clamped.setup_from_part, s)[:, :2] for s in segments]
    level = [p for p in lines if np.ptp(p, axis=0).max() > UPRIGHT_MM]
    if not level:
        raise DocumentError(
            f"{words} stands upright along the tool.", remedy="Pick another edge or face.", where=where
        )
    return [(words, p) for p in _chained(level)]


def _chained(lines: list[Floats]) -> list[Floats]:
    """Lines (n, 2) that meet at their ends, joined."""
    rest, out = list(lines), []
    while rest:
        chain = rest.pop(0)
        grown = True
        while grown:
            grown = False
            for k, other in enumerate(rest):
                for piece in (other, other[::-1]):
                    if np.abs(chain[-1] - piece[0]).max() < UPRIGHT_MM:
                        chain, grown = np.vstack([chain, piece[1:]]), True
                    elif np.abs(chain[0] - piece[-1]).max() < UPRIGHT_MM:
                        chain, grown = np.vstack([piece[:-1], chain]), True
                    if grown:
                        break
                if grown:
                    rest.pop(k)
                    break
        if len(chain) > 2 and np.abs(chain[0] - chain[-1]).max() < UPRIGHT_MM:
            chain[-1] = chain[0]
        out.append(chain)
    return out
