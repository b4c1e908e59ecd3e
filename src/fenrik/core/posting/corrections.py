"""Holds what a control drives where it corrects the cutter's radius against what was planned for the tool's
middle."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.program import Program
from fenrik.core.proof.finding import Finding
from fenrik.core.stock.heightmap import pieces_of

Floats = NDArray[np.float64]
CHORD_MM = 0.0005
"""Chords of arcs in this comparison leave them by no more than this."""
LONGEST_MM = 0.5
SLACK_MM = 0.003
"""How far a corrected way may leave the planned one, besides rounding: contours of fitted arcs have small
bends."""


def correction_findings(
    program: Program, motion: ProgramMotion, spans: list[tuple[int, int]], resolution: float
) -> list[Finding]:
    """A stop for every stretch `spans` (first and last move of `motion`) that leaves its planned way by more
    than rounding."""
    planned = [(step, c) for step in program.steps for c in step.path.compensated]
    if len(planned) != len(spans):
        words = f"The text corrects the radius {len(spans)} times where {len(planned)} were planned."
        return [Finding("stop", "correction", words, "Correct the dialect; the release stays blocked.")]
    out = []
    for (step, c), (first, last) in zip(planned, spans, strict=True):
        pieces, owner = pieces_of(step.path, CHORD_MM, LONGEST_MM)
        want = _line(pieces[(owner >= c.first - 1) & (owner < c.last)])
        got = _line(motion.rows(np.arange(first, last + 1)).straightened(CHORD_MM, LONGEST_MM)[0])
        off = max(float(shapely.hausdorff_distance(got, want)), float(shapely.hausdorff_distance(want, got)))
        if off > SLACK_MM + 3.0 * resolution:
            out.append(
                Finding(
                    "stop",
                    "correction",
                    f"Corrected by the radius, '{step.name}' leaves its planned way by {off:.4f} mm.",
                    "Let the computer correct the radius and the control the wear only.",
                    operation=step.name,
                    move=first,
                )
            )
    return out


def _line(pieces: Floats) -> shapely.LineString:
    return shapely.LineString(np.vstack([pieces[:1, :2], pieces[:, 3:5]]))
