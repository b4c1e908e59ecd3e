"""Joint values for a tool's place and direction, in closed form: three linear joints and up to two rotary
ones.

The two rotary joints follow from the tool's direction (Paden-Kahan subproblem 2: Paden 1986; Murray, Li,
Sastry 1994), for any two axes, at right angles or not; the linear ones from three equations. Rotation about
the tool itself is free.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError
from fenrik.core.machines.chain import Chain

Floats = NDArray[np.float64]
OUT_OF_PLANE_MM = 0.05
"""How far a place may lie beside the plane of two linear joints: angles are written in thousandths of a
degree."""
SAME_DIRECTION = 1e-9
"""Sine below which the tool counts as parallel to a rotary axis: the angle about that axis is then free."""

CLOSE_ENOUGH = 1e-12
"""How far below zero rounding may take the square of what separates both solutions where they meet."""


@dataclass(frozen=True)
class Rotaries:
    """Solutions for directions (m, 3): `angles` (m, s, r) degrees in -180 to 180 of the r rotary joints in
    the chain's order; `exists` (m, s) whether a solution points the tool as asked; `free` (m, s) whether the
    first rotary joint may stand anywhere (the pole: the tool lies along its axis)."""

    angles: Floats
    exists: NDArray[np.bool_]
    free: NDArray[np.bool_]

    def held(self, positions: Floats) -> Rotaries:
        """The same with the one solution `positions` (m, r) degrees where they are given, not NaN."""
        own = ~np.isnan(positions).any(axis=1)
        angles, exists, free = self.angles.copy(), self.exists.copy(), self.free.copy()
        angles[own] = (positions[own, None, :] + 180.0) % 360.0 - 180.0
        exists[own], free[own] = False, False
        exists[own, 0] = True
        return Rotaries(angles, exists, free)


@njit(cache=True, nogil=True)
def _angle(axis, p, q):  # type: ignore[no-untyped-def]
    """Angle rad about `axis` that turns the part of p square to it into that of q."""
    pa = p[0] * axis[0] + p[1] * axis[1] + p[2] * axis[2]
    qa = q[0] * axis[0] + q[1] * axis[1] + q[2] * axis[2]
    px, py, pz = p[0] - pa * axis[0], p[1] - pa * axis[1], p[2] - pa * axis[2]
    qx, qy, qz = q[0] - qa * axis[0], q[1] - qa * axis[1], q[2] - qa * axis[2]
    sine = axis[0] * (py * qz - pz * qy) + axis[1] * (pz * qx - px * qz) + axis[2] * (px * qy - py * qx)
    return np.arctan2(sine, px * qx + py * qy + pz * qz)


@njit(cache=True, nogil=True)
def two_rotaries(first, second, tool, wanted, angles, exists, free):  # type: ignore[no-untyped-def]
    """Fills `angles` (m, 2, 2) rad, `exists` and `free` (m, 2): e^(first a) e^(second b) tool = wanted (m,
    3)."""
    dot = first @ second
    cross = np.cross(first, second)
    size = cross @ cross
    t2 = second @ tool
    s2 = np.sqrt(np.sum(np.cross(second, tool) ** 2))
    fx, fy, fz = first
    z = np.empty(3)
    for i in range(len(wanted)):
        w = wanted[i]
        t1 = fx * w[0] + fy * w[1] + fz * w[2]
        # z = alpha first + beta second ± gamma cross is what both turn into
        alpha = (dot * t2 - t1) / (dot * dot - 1.0)
        beta = (dot * t1 - t2) / (dot * dot - 1.0)
        # |z|² = 1, as a product that stays exact where both solutions meet (as in Heron's formula)
        sx, sy, sz = fy * w[2] - fz * w[1], fz * w[0] - fx * w[2], fx * w[1] - fy * w[0]
        s1 = np.sqrt(sx * sx + sy * sy + sz * sz)
        rest = (s1 * s2 - t1 * t2 + dot) * (s1 * s2 + t1 * t2 - dot)
        reach = rest / (size * size)
        ok = rest > -CLOSE_ENOUGH
        gamma = np.sqrt(max(0.0, reach))
        pole = s1 < SAME_DIRECTION
        for k in range(2):
            side = gamma if k == 0 else -gamma
            for axis in range(3):
                z[axis] = alpha * first[axis] + beta * second[axis] + side * cross[axis]
            angles[i, k, 1] = _angle(second, tool, z)
            angles[i, k, 0] = 0.0 if pole else _angle(first, z, w)
            exists[i, k] = ok
            free[i, k] = pole


@njit(cache=True, nogil=True)
def linear_joints(rotary, axis, point, base, tool, tips, values):  # type: ignore[no-untyped-def]
    """Fills the linear joints of `values` (m, n; mm and degrees) so that the point `tool` (4,) of the tool
    comes to tips (m, 3). Whether the linear joints move in three directions."""
    n = len(rotary)
    columns = np.zeros((3, 3))
    turned, at = np.zeros((3, 3)), np.zeros(3)
    more = np.zeros((3, 3))
    for i in range(len(tips)):
        turned[:] = base[:3, :3]
        at[:] = base[:3, 3]
        used = 0
        for j in range(n):
            x, y, z = axis[j]
            if not rotary[j]:
                for k in range(3):
                    columns[k, used] = turned[k, 0] * x + turned[k, 1] * y + turned[k, 2] * z
                used += 1
                continue
            quarter = values[i, j] / 90.0
            angle = np.radians(values[i, j])
            c, s = np.cos(angle), np.sin(angle)
            if quarter == np.round(quarter):
                c, s = np.round(c), np.round(s)
            d = 1.0 - c
            more[0, 0], more[0, 1], more[0, 2] = c + x * x * d, x * y * d - z * s, x * z * d + y * s
            more[1, 0], more[1, 1], more[1, 2] = y * x * d + z * s, c + y * y * d, y * z * d - x * s
            more[2, 0], more[2, 1], more[2, 2] = z * x * d - y * s, z * y * d + x * s, c + z * z * d
            px, py, pz = point[j]
            # the point stays: at += turned (point - more point)
            qx = px - (more[0, 0] * px + more[0, 1] * py + more[0, 2] * pz)
            qy = py - (more[1, 0] * px + more[1, 1] * py + more[1, 2] * pz)
            qz = pz - (more[2, 0] * px + more[2, 1] * py + more[2, 2] * pz)
            for k in range(3):
                a, b, e = turned[k, 0], turned[k, 1], turned[k, 2]
                at[k] += a * qx + b * qy + e * qz
                for m in range(3):
                    turned[k, m] = a * more[0, m] + b * more[1, m] + e * more[2, m]
        rx = tips[i, 0] - (turned[0, 0] * tool[0] + turned[0, 1] * tool[1] + turned[0, 2] * tool[2] + at[0])
        ry = tips[i, 1] - (turned[1, 0] * tool[0] + turned[1, 1] * tool[1] + turned[1, 2] * tool[2] + at[1])
        rz = tips[i, 2] - (turned[2, 0] * tool[0] + turned[2, 1] * tool[1] + turned[2, 2] * tool[2] + at[2])
        # Cramer's rule
        ax, ay, az = columns[0, 0], columns[1, 0], columns[2, 0]
        bx, by, bz = columns[0, 1], columns[1, 1], columns[2, 1]
        ex, ey, ez = columns[0, 2], columns[1, 2], columns[2, 2]
        ux, uy, uz = by * ez - bz * ey, bz * ex - bx * ez, bx * ey - by * ex
        size = ax * ux + ay * uy + az * uz
        if abs(size) < 1e-9:
            return False
        p = (rx * ux + ry * uy + rz * uz) / size
        q = (rx * (ey * az - ez * ay) + ry * (ez * ax - ex * az) + rz * (ex * ay - ey * ax)) / size
        w = (rx * (ay * bz - az * by) + ry * (az * bx - ax * bz) + rz * (ax * by - ay * bx)) / size
        used = 0
        for j in range(n):
            if not rotary[j]:
                values[i, j] = p if used == 0 else (q if used == 1 else w)
                used += 1
    return True


def rotaries(chain: Chain, directions: Floats) -> Rotaries:
    """All positions of a chain's rotary joints in which the tool points along directions (m, 3, unit vectors
    in the work mount's frame, from the tip to the spindle).

    Raises ComputeError for a chain with more than two rotary joints, or with two parallel ones.
    """
    turning = np.flatnonzero(chain.rotary)
    count = len(directions)
    wanted = np.ascontiguousarray(directions @ chain.work[:3, :3].T)
    tool = np.ascontiguousarray(chain.tool[:3, 2])
    if len(turning) == 0:
        same = np.linalg.norm(wanted - tool, axis=1) < 1e-7
        return Rotaries(np.zeros((count, 1, 0)), same[:, None], np.zeros((count, 1), dtype=np.bool_))
    first = np.ascontiguousarray(chain.axis[turning[0]])
    if len(turning) == 1:
        angles = np.array([_angle(first, tool, w) for w in wanted])
        same = np.abs(wanted @ first - float(tool @ first)) < 1e-7
        free = np.linalg.norm(np.cross(wanted, first), axis=1) < SAME_DIRECTION
        angles[free] = 0.0
        return Rotaries(np.degrees(angles)[:, None, None], same[:, None], free[:, None])
    second = np.ascontiguousarray(chain.axis[turning[1]])
    if len(turning) > 2 or np.linalg.norm(np.cross(first, second)) < 1e-6:
        raise ComputeError(
            f"The closed form takes two rotary joints that are not parallel; here they are"
            f" {', '.join(chain.names[i] for i in turning)}.",
            remedy="Use another machine.",
        )
    out = np.zeros((count, 2, 2))
    exists, free = np.zeros((count, 2), dtype=np.bool_), np.zeros((count, 2), dtype=np.bool_)
    two_rotaries(first, second, tool, wanted, out, exists, free)
    return Rotaries(np.degrees(out), exists, free)


def with_linear(chain: Chain, tips: Floats, angles: Floats, length: float) -> Floats:
    """Joint values (m, n) with given rotary angles (m, r) degrees that bring the tip, `length` mm below the
    tool mount, to tips (m, 3) in the work mount's frame.

    With two linear joints the tips have to lie in their plane, but for the rounding of the angles.

    Raises ComputeError for a chain without three linear joints in three directions, or two in two.
    """
    moving, turning = np.flatnonzero(~chain.rotary), np.flatnonzero(chain.rotary)
    if len(moving) == 2:
        return _in_plane(chain, tips, angles, length)
    if len(moving) != 3:
        raise ComputeError(
            f"The machine has {len(moving)} linear joints; three are needed.", remedy="Use another machine."
        )
    values = np.zeros((len(tips), len(chain)))
    values[:, turning] = angles
    ok = linear_joints(
        chain.rotary,
        chain.axis,
        chain.point,
        chain.base_from_work,
        chain.tool @ np.array([0.0, 0.0, -length, 1.0]),
        np.ascontiguousarray(tips, dtype=np.float64),
        values,
    )
    if not ok:
        raise ComputeError("Two linear joints of the machine move alike.", remedy="Use another machine.")
    return values


def _in_plane(chain: Chain, tips: Floats, angles: Floats, length: float) -> Floats:
    """As `with_linear` for two linear joints: with a third across them, which has to stand still."""
    first, second = chain.axis[~chain.rotary]
    third = replace(
        chain,
        names=(*chain.names, ""),
        rotary=np.append(chain.rotary, False),
        axis=np.vstack([chain.axis, np.cross(first, second)]),
        point=np.vstack([chain.point, np.zeros(3)]),
    )
    values = with_linear(third, tips, angles, length)
    off = np.abs(values[:, -1])
    if off.max(initial=0.0) > OUT_OF_PLANE_MM:
        raise ComputeError(
            f"A place lies {off.max():.3f} mm beside the plane in which {chain.names[0]} and the linear "
            "joints bring the tool.",
            remedy="Use a machine with a third linear joint.",
        )
    return np.ascontiguousarray(values[:, :-1])
