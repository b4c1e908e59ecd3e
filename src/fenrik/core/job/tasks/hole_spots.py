"""The holes that an operation names, found in the part and brought into the setup's frame."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from fenrik.core.errors import DocumentError
from fenrik.core.features.bosses import Boss
from fenrik.core.features.holes import Hole
from fenrik.core.job.document.picks import HolePick
from fenrik.core.setups.setup import Clamped
from fenrik.core.strategies.base import HoleSpot, Target

SQUARE = 1e-6


WORDS = {"holes": "a round hole", "bosses": "a round boss", "rounds": "a round hole or boss"}


def hole_spots(
    picks: list[HolePick],
    holes: list[Hole],
    bosses: list[Boss],
    clamped: Clamped,
    where: str,
    places: Target = "holes",
) -> list[HoleSpot]:
    """One spot for every hole or boss that the picks name, in their order, none twice, and so for every part
    of an array. Raises DocumentError for a face of neither, or of the other than `places` says, and for one
    that does not run along the tool."""
    out: list[HoleSpot] = []
    seen: set[int] = set()
    standing: set[int] = set()
    for i, pick in enumerate(picks):
        if pick.face is None:
            assert pick.at is not None and pick.diameter is not None and pick.depth is not None
            out.append(_given(pick.at, pick.diameter, pick.depth, pick))
            continue
        hole = next((h for h in holes if pick.face in h.faces and places != "bosses"), None)
        boss = next((b for b in bosses if pick.face in b.faces and places != "holes"), None)
        if boss is not None:
            if boss.faces[0] not in standing:
                standing.add(boss.faces[0])
                out.append(_boss_spot(boss, clamped, f"{where}[{i}]"))
            continue
        if hole is None:
            raise DocumentError(
                f"Face {pick.face} is no wall of {WORDS[places]}.",
                remedy=f"Pick the wall of {WORDS[places]}, or give the place with 'at', 'diameter' and "
                "'depth'.",
                where=f"{where}[{i}].face",
            )
        if hole.id not in seen:
            seen.add(hole.id)
            out.append(_spot(hole, clamped, f"{where}[{i}]"))
    shifts = clamped.copies[:, :2].tolist()
    return [replace(spot, x=spot.x + x, y=spot.y + y) for x, y in shifts for spot in out]


def _spot(hole: Hole, clamped: Clamped, where: str) -> HoleSpot:
    turn, shift = clamped.setup_from_part[:3, :3], clamped.setup_from_part[:3, 3]
    axis = turn @ np.array(hole.axis)
    words = f"Hole {hole.words()} (face {hole.faces[0]})"
    if abs(axis[2]) < 1 - SQUARE:
        raise DocumentError(
            f"{words} does not run along the tool, but leans by {np.degrees(np.arccos(abs(axis[2]))):.1f}°.",
            remedy="Take it out, or machine it in a setup whose up direction is the hole's.",
            where=where,
        )
    mouth = turn @ np.array(hole.mouth) + shift
    if axis[2] < 0:
        if not hole.through:
            raise DocumentError(
                f"{words} is open to the other side only.",
                remedy="Take it out, or machine it in a setup turned over.",
                where=where,
            )
        return _from_below(hole, mouth, words)
    widest = max(hole.sections[0].diameter_top, hole.diameter)
    straight = [s for s in hole.sections if s.straight]
    step = straight[0].bottom if len(straight) > 1 else hole.depth
    first, last = hole.sections[0], hole.sections[-1]
    edge = 0.0 if first.straight else first.diameter_top
    pointed = not last.straight and last.diameter_bottom < 0.5 * last.diameter_top
    z = float(mouth[2])
    exit_ = last.bottom if hole.through else hole.depth
    return HoleSpot(
        x=float(mouth[0]),
        y=float(mouth[1]),
        top=z,
        bottom=z - exit_,
        step=z - step,
        diameter=hole.diameter,
        mouth=widest,
        edge=edge,
        through=hole.through,
        pointed=pointed,
        words=words,
    )


def _boss_spot(boss: Boss, clamped: Clamped, where: str) -> HoleSpot:
    turn, shift = clamped.setup_from_part[:3, :3], clamped.setup_from_part[:3, 3]
    axis, words = turn @ boss.axis, f"{boss.words()} (face {boss.faces[0]})"
    if abs(axis[2]) < 1 - SQUARE:
        raise DocumentError(
            f"{words} does not run along the tool, but leans by {np.degrees(np.arccos(abs(axis[2]))):.1f}°.",
            remedy="Take it out, or machine it in a setup whose up direction is the boss's.",
            where=where,
        )
    foot = turn @ boss.origin + shift
    low, high = sorted(float(foot[2] + axis[2] * v) for v in (boss.low, boss.high))
    return HoleSpot(
        x=float(foot[0]),
        y=float(foot[1]),
        top=high,
        bottom=low,
        step=low,
        diameter=boss.diameter,
        mouth=boss.diameter,
        edge=0.0,
        through=False,
        pointed=False,
        words=words,
        boss=True,
    )


def _given(at: tuple[float, float], diameter: float, depth: float, pick: HolePick) -> HoleSpot:
    """A hole given by its place and size."""
    bottom = pick.top - depth
    return HoleSpot(
        x=at[0],
        y=at[1],
        top=pick.top,
        bottom=bottom,
        step=bottom,
        diameter=diameter,
        mouth=diameter,
        edge=0.0,
        through=pick.through,
        pointed=True,
        words=f"The hole at ({at[0]:g}, {at[1]:g})",
    )


def _from_below(hole: Hole, mouth: np.ndarray, words: str) -> HoleSpot:
    """A through hole drilled from the side that is not its mouth."""
    whole = hole.sections[-1].bottom
    z = float(mouth[2]) + whole
    wide = max(hole.sections[-1].diameter_bottom, hole.diameter)
    last = hole.sections[-1]
    edge = 0.0 if last.straight else last.diameter_bottom
    straight = [s for s in hole.sections if s.straight]
    step = z - (whole - straight[-1].top) if len(straight) > 1 else z - whole
    return HoleSpot(
        x=float(mouth[0]),
        y=float(mouth[1]),
        top=z,
        bottom=z - whole,
        step=step,
        diameter=hole.diameter,
        mouth=wide,
        edge=edge,
        through=True,
        pointed=False,
        words=words,
    )
