"""The load on the cutter, measured from what the stock lost: engagement, chip, removal rate, force, power,
bending.

The removal kernel tells, for every piece of motion, the volume that the cutter took and the ground (in plan
view) from which it took any. Over a window of the way, ground by length is the width of cut, volume by ground
its mean depth; for a cutter with a rounded corner the depth is the height of the material over the tip, and
the width that of the same volume. The strategy that planned the path has no part in this: a promise of a
bounded load can be seen to hold or not.

Sources: engagement phi = arccos(1 - 2 ae / D) (geometry); mean chip hm = fz 2 ae / (D phi) (handbooks; ISO
3002-3 for the terms); kc = kc1.1 hm^-mc, Pc = Q kc / 60 000, mean tangential force kc hm ap z phi / 2 pi
(Kienzle 1952; ISO 3002-4); bending as in `tooling.stiffness`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d, minimum_filter1d

from fenrik.core.machines.machine import Machine
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.numbers import LoadFacts
from fenrik.core.stock.dexels import Removal
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.materials import Material
from fenrik.core.tooling.stiffness import compliance

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Load:
    """Columns (m,) per piece of motion; 0 where the cutter is in air. `engagement` rad, `thinning` the mean
    chip as a share of the feed per tooth, `width` and `depth` mm, `rate` cm³/min, `chip` mm (mean thickness),
    `force` N (tangential), `power` kW, `bending` mm at the tip."""

    engagement: Floats
    thinning: Floats
    width: Floats
    depth: Floats
    rate: Floats
    chip: Floats
    force: Floats
    power: Floats
    bending: Floats


def radius_at(tool: Assembly, depth: Floats) -> Floats:
    """Largest radius (m,) mm of the cutter up to `depth` (m,) mm over its tip."""
    return np.maximum(tool.profile.reached_up_to(depth), 1e-6)


def loads(
    pieces: Floats,
    rapid: NDArray[np.bool_],
    feed: Floats,
    rpm: Floats,
    removal: Removal,
    cell: float,
    tool: Assembly,
    material: Material,
    window: float | None = None,
) -> Load:
    """The load along straight pieces (m, 6), or (m, 12) with a leaning or turning axis as `Stock.cut` takes
    them, in the order of cutting, with `feed` (m,) mm/min and `rpm` (m,).

    `window` mm is the stretch of the way over which widths and depths are averaged: open, 6 cells, 1 mm at
    least.
    """
    leaning = pieces.shape[1] == 12
    if leaning:
        # where the axis turns, of a point halfway up the material, and as fast as that goes
        tip = np.linalg.norm(pieces[:, 6:9] - pieces[:, :3], axis=1)
        step = _in_tools_frame(pieces, 0.5 * removal.sides[:, 2])
        way = np.linalg.norm(step, axis=1)
        turned = (np.abs(pieces[:, 9:] - pieces[:, 3:6]).max(axis=1) > 0.0) & (tip > 0.0)
        feed = np.where(turned, feed * way / np.where(tip > 0.0, tip, 1.0), feed)
    else:
        step = pieces[:, 3:] - pieces[:, :3]
    length = np.linalg.norm(step, axis=1)
    level = np.hypot(step[:, 0], step[:, 1])
    run = np.concatenate([[0.0], np.cumsum(length)])
    half = 0.5 * (window if window is not None else max(1.0, 6.0 * cell))
    middle = 0.5 * (run[1:] + run[:-1])
    reach = np.maximum(half, 0.5 * length)  # a long piece is its own window
    low, high = np.maximum(run[0], middle - reach), np.minimum(run[-1], middle + reach)

    def within(values: Floats) -> Floats:
        total = np.concatenate([[0.0], np.cumsum(values)])
        return np.asarray(np.interp(high, run, total) - np.interp(low, run, total))

    volume = within(removal.volume[:, 0])
    ground, way = within(removal.area), within(level)
    cuts = (removal.volume[:, 0] > 0) & ~rapid & (ground > 0.5 * cell**2)
    if leaning or tool.corner_radius > 0 or tool.profile.tapered:
        # a rounded corner goes over every spot several times, lower each: width at the full height of the
        # material
        reached = removal.sides[:, 2]
        if leaning:  # straight down it cuts no higher than its point reaches, which the kernel cannot tell
            straight = (level < 0.01 * length) & (step[:, 2] < 0)
            reached = np.where(
                straight, np.minimum(reached, tool.profile.height(tool.radius) - step[:, 2]), reached
            )
        height = maximum_filter1d(reached, _pieces_in(length, half))
        ground = volume / np.maximum(height, 1e-6)
    depth = np.where(cuts, volume / np.maximum(ground, 1e-12), 0.0)
    radius = radius_at(tool, depth)
    upright = way < 0.2 * (high - low)
    mean = np.where(upright, 2.0 * radius, ground / np.maximum(way, 1e-12))
    bend = _curvature(step, length, half)
    left, right = _sides(removal.sides, length, half, cell, tool.radius)
    engagement, width = _engagement(mean, radius, bend, left, right, cell)
    engagement, width = np.where(cuts, engagement, 0.0), np.where(cuts, width, 0.0)
    # straight down: all round where half the cutter's face or more is in material, in proportion where less
    # is
    face = volume / np.maximum(high - low, 1e-12) / (0.5 * np.pi * tool.radius**2)
    plunging = upright & cuts
    engagement[plunging] = np.pi * np.minimum(1.0, face[plunging])
    width[plunging] = radius[plunging] * (1.0 - np.cos(engagement[plunging]))
    rate = np.where(cuts, volume / np.maximum(high - low, 1e-12) * feed, 0.0) / 1000.0
    per_tooth = feed / np.maximum(np.abs(rpm) * tool.teeth, 1e-9)
    thinning = np.where(engagement > 1e-6, width / np.maximum(radius * engagement, 1e-9), 0.0)
    thinning = np.minimum(
        thinning, 1.0
    )  # no chip is thicker than the feed per tooth, whatever a bent way reads
    chip = per_tooth * thinning
    pressure = material.kc11 * np.maximum(chip, 1e-3) ** -material.mc
    power = rate * pressure / 60_000.0
    # teeth that cut at the same time, each over the depth; the same as 60 000 Pc / vc
    force = np.where(cuts, pressure * chip * depth * tool.teeth * engagement / (2.0 * math.pi), 0.0)
    # straight down the teeth's forces go round and balance
    bending = np.where(upright, 0.0, force * compliance(tool))
    return Load(engagement, thinning, width, depth, rate, chip, force, power, bending)


def _in_tools_frame(moves: Floats, height: Floats) -> Floats:
    """Steps (m, 3) of a point of the axis at a height (m,) mm over the tip along moves (m, 12), seen from the
    tool: the third along its axis halfway, the other two square to it in a frame that is carried along from
    move to move without turning about the axis."""
    step = moves[:, 6:9] - moves[:, :3] + height[:, None] * (moves[:, 9:] - moves[:, 3:6])
    axis = moves[:, 3:6] + moves[:, 9:12]
    axis /= np.linalg.norm(axis, axis=1, keepdims=True)
    out = np.empty_like(step)
    side = np.eye(3)[int(np.argmin(np.abs(axis[0])))]
    if not np.any(axis != axis[0]):  # of an axis that stands the frame stands, too
        side = side - (side @ axis[0]) * axis[0]
        side /= np.linalg.norm(side)
        return np.asarray(step @ np.column_stack([side, np.cross(axis[0], side), axis[0]]))
    for i, a in enumerate(axis):
        side = side - (side @ a) * a
        side /= np.linalg.norm(side)
        out[i] = step[i] @ side, step[i] @ np.cross(a, side), step[i] @ a
    return out


def _curvature(step: Floats, length: Floats, half: float) -> Floats:
    """Curvature (m,) 1/mm of the way in plan view, positive to the left, averaged over the window."""
    heading = np.unwrap(np.arctan2(step[:, 1], step[:, 0]))
    run = np.cumsum(length) - 0.5 * length
    if len(run) < 2:
        return np.zeros(len(run))
    low, high = np.clip(run - half, run[0], run[-1]), np.clip(run + half, run[0], run[-1])
    turned = np.interp(high, run, heading) - np.interp(low, run, heading)
    bend = turned / np.maximum(high - low, 1e-9)
    return np.where(np.abs(turned) < 1.5, bend, 0.0)


def _pieces_in(length: Floats, half: float) -> int:
    """Odd number of pieces of the usual length in a window."""
    typical = float(np.median(length)) if len(length) else 1.0
    return int(min(101, max(1, 2 * round(half / max(typical, 1e-3)) + 1)))


def _sides(
    sides: Floats, length: Floats, half: float, cell: float, radius: float
) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Whether the cut reaches the left and the right edge of the cutter, near every piece."""
    size = _pieces_in(length, half)
    edge = radius - 1.5 * cell
    left = maximum_filter1d(sides[:, 1], size) > edge
    right = minimum_filter1d(sides[:, 0], size) < -edge
    return left, right


def _engagement(
    mean: Floats, radius: Floats, bend: Floats, left: NDArray[np.bool_], right: NDArray[np.bool_], cell: float
) -> tuple[Floats, Floats]:
    """Angle rad and width mm from the ground cut per length of way (m,): on a bent way, a strip at distance w
    on the outside is (1 + |k| w) times as long."""
    k = np.where(left & ~right, -bend, np.where(right & ~left, bend, 0.0))
    k = np.clip(k, -0.9 / radius, 0.9 / radius)
    # (R - a) + k (R² - a²) / 2 = mean, a the inner edge of the cut
    c = mean - radius - 0.5 * k * radius**2
    root = np.sqrt(np.maximum(0.0, 1.0 - 2.0 * k * c))
    inner = np.where(np.abs(k) > 1e-9, (root - 1.0) / np.where(np.abs(k) > 1e-9, k, 1.0), -c)
    width = np.clip(radius - inner, 0.0, 2.0 * radius)
    # the cutter's circle meets the inner edge, a circle about the same centre as the way (cosine law)
    a = np.clip(inner, -radius, radius)
    edge = np.arccos(np.clip(a / radius + k * (a**2 - radius**2) / (2.0 * radius), -1.0, 1.0))
    # a cut that reaches neither edge lies ahead of the cutter
    ahead = 2.0 * np.arcsin(np.clip(0.5 * width / radius, 0.0, 1.0))
    return np.where(left | right, edge, ahead), width


def summary(load: Load, times: Floats, lengths: Floats) -> LoadFacts:
    """The load of one operation whose pieces last so many s (m,) and are so many mm long (m,)."""
    cuts = load.engagement > 0
    total = float(times.sum())
    if not cuts.any():
        return LoadFacts(0.0, total)
    angle, way = np.degrees(load.engagement[cuts]), lengths[cuts]
    order = np.argsort(angle)
    share = np.cumsum(way[order]) / max(float(way.sum()), 1e-12)

    def at(part: float) -> float:
        return float(angle[order][min(int(np.searchsorted(share, part)), len(order) - 1)])

    in_cut = float(times[cuts].sum())
    return LoadFacts(
        time_in_cut_s=in_cut,
        time_in_air_s=total - in_cut,
        length_in_cut_mm=float(way.sum()),
        engagement_p50_deg=at(0.5),
        engagement_p95_deg=at(0.95),
        engagement_max_deg=float(angle.max()),
        depth_max_mm=float(load.depth.max()),
        rate_max_cm3_min=float(load.rate.max()),
        chip_max_mm=float(load.chip.max()),
        force_max_n=float(load.force.max()),
        power_max_kw=float(load.power.max()),
        bending_max_mm=float(load.bending.max()),
    )


@dataclass(frozen=True)
class Bears:
    """What an operation bears: its name, and the bending mm of its tool from which the proof cautions and
    from which it stops (None: it does not cut with its side)."""

    name: str
    caution_mm: float | None
    stop_mm: float = math.inf


def load_findings(facts: list[LoadFacts], operations: list[Bears], machine: Machine) -> list[Finding]:
    """What the load asks of spindle and tool beyond what they bear, once per operation."""
    out = []
    for fact, operation in zip(facts, operations, strict=True):
        power, name = fact.power_max_kw or 0.0, operation.name
        if power > machine.spindle_power_kw:
            out.append(
                Finding(
                    "caution",
                    "power",
                    f"'{name}' needs {power:.1f} kW at its heaviest; the spindle has "
                    f"{machine.spindle_power_kw:g} kW.",
                    "Reduce depth, stepover or feed.",
                    operation=name,
                    measure=power,
                    limit=machine.spindle_power_kw,
                )
            )
        bending, limit = fact.bending_max_mm or 0.0, operation.caution_mm
        if limit is not None and bending > limit:
            over = bending > operation.stop_mm
            limit = operation.stop_mm if over else limit
            out.append(
                Finding(
                    "stop" if over else "caution",
                    "bending",
                    f"The tool of '{name}' bends by up to {bending:.3f} mm under its mean cutting force, "
                    f"more than {limit:.3g} mm.",
                    "Shorten the stick-out, use a thicker tool, or reduce depth, stepover or feed.",
                    operation=name,
                    measure=bending,
                    limit=limit,
                )
            )
    return out
