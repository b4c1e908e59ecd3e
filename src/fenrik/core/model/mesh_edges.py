"""Edges of a mesh part: where two of its faces meet, and where facets of one meet sharply."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.model.part_model import EdgeFacts

Floats = NDArray[np.float64]


def edges_between(
    vertices: Floats,
    segments: NDArray[np.int64],
    faces: NDArray[np.int32],
    sharp: NDArray[np.bool_],
    tolerance: float,
) -> tuple[list[EdgeFacts], list[Floats]]:
    """Edges with their facts and lines (n, 3) from `segments` (e, 2) of vertices where facets of two `faces`
    (e, 2) meet, or facets of one meet in a `sharp` (e,) bend."""
    groups: dict[tuple[int, int], list[tuple[int, int]]] = defaultdict(list)
    kept = (faces[:, 0] != faces[:, 1]) | sharp
    for (a, b), (one, two) in zip(segments[kept].tolist(), faces[kept].tolist(), strict=True):
        groups[min(one, two), max(one, two)].append((a, b))
    facts: list[EdgeFacts] = []
    lines: list[Floats] = []
    for pair in sorted(groups):
        for chain in _chains(groups[pair]):
            for line in _at_corners(vertices[chain], tolerance):
                facts.append(_edge(len(facts) + 1, sorted(set(pair)), line, tolerance))
                lines.append(line)
    return facts, lines


def _chains(segments: list[tuple[int, int]]) -> list[list[int]]:
    """Segments joined to chains of vertices; one that closes ends with its first vertex."""
    at: dict[int, list[int]] = defaultdict(list)
    for i, (a, b) in enumerate(segments):
        at[a].append(i)
        at[b].append(i)
    used = [False] * len(segments)
    out = []
    ends = [v for v, mine in at.items() if len(mine) != 2]
    for start in [*ends, *at]:
        for first in at[start]:
            if used[first]:
                continue
            chain, segment = [start], first
            while True:
                used[segment] = True
                a, b = segments[segment]
                chain.append(b if a == chain[-1] else a)
                following = [i for i in at[chain[-1]] if not used[i]]
                if len(at[chain[-1]]) != 2 or not following:
                    break
                segment = following[0]
            out.append(chain)
    return out


def _at_corners(line: Floats, tolerance: float) -> list[Floats]:
    """A chain in pieces where it turns sharply: two planes may meet all round a pocket of another."""
    step = np.diff(line, axis=0)
    step /= np.maximum(np.linalg.norm(step, axis=1), 1e-300)[:, None]
    corner = np.flatnonzero(np.einsum("ij,ij->i", step[1:], step[:-1]) < 0.8) + 1
    closed = np.linalg.norm(line[0] - line[-1]) <= tolerance
    if closed and len(corner):  # begin at a corner
        line = np.concatenate([line[corner[0] :], line[1 : corner[0] + 1]])
        return _at_corners(line, -1.0)
    return [line[a : b + 1] for a, b in zip([0, *corner], [*corner, len(line) - 1], strict=True)]


def _edge(number: int, faces: list[int], line: Floats, tolerance: float) -> EdgeFacts:
    length = float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())
    ends = (line[0].tolist(), line[-1].tolist())
    kind, more = _kind(line, tolerance)
    if kind == "circle":  # longer than its chords
        chords = np.linalg.norm(np.diff(line, axis=0), axis=1)
        radius = more["radius"]
        length = float((2 * radius * np.arcsin(np.minimum(0.5 * chords / radius, 1.0))).sum())
    return EdgeFacts(number, kind, length, faces, *ends, **more)


def _kind(line: Floats, tolerance: float) -> tuple[str, dict[str, Any]]:
    """Whether a chain is straight, on a circle, or another curve."""
    chord = line[-1] - line[0]
    long = float(np.linalg.norm(chord))
    off = line - line[0]
    if long > tolerance:
        beside = np.linalg.norm(np.cross(off, chord / long), axis=1)
        if beside.max() <= tolerance:
            return "line", {}
    if len(line) < 5:
        return "curve", {}
    middle = line.mean(axis=0)
    _, _, axes = np.linalg.svd(line - middle, full_matrices=False)
    axis = axes[2]
    flat = np.column_stack([(line - middle) @ axes[0], (line - middle) @ axes[1]])
    rows = np.column_stack([2.0 * flat, np.ones(len(flat))])
    solved = np.linalg.lstsq(rows, (flat**2).sum(axis=1), rcond=None)[0]
    radius = float(max(solved[2] + solved[:2] @ solved[:2], 0.0)) ** 0.5
    centre = middle + solved[0] * axes[0] + solved[1] * axes[1]
    away = np.linalg.norm(line - centre, axis=1)
    level = np.abs((line - middle) @ axis)
    if max(float(np.abs(away - radius).max()), float(level.max())) > 2.0 * tolerance:
        return "curve", {}
    return "circle", {"centre": centre.tolist(), "axis": axis.tolist(), "radius": radius}
