"""Joint values of a six-axis arm with a spherical wrist, in closed form: up to eight ways to hold the tool.

The axes of the last three joints meet in the wrist's middle, whose place hangs on the first three joints
alone (Pieper 1968). These are a turn about the first axis, square to the second, and two parallel ones: the
first angle follows from how far the wrist lies beside the first axis, the other two from a triangle. The
wrist's three angles follow from the direction that is left (Paden-Kahan subproblem 2: Paden 1986; Murray, Li,
Sastry 1994) and a turn about the last axis.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from fenrik.core.errors import ComputeError
from fenrik.core.frames import invert
from fenrik.core.machines.chain import Chain, rotations
from fenrik.core.machines.inverse import CLOSE_ENOUGH

Floats = NDArray[np.float64]
BRANCHES = 8
JOINTS = 6
MEETING_MM = 1e-6
"""How far the wrist's axes may miss each other."""
SQUARE = 1e-9
SINGULAR = 1e-9
"""Sine of the wrist's middle angle below which the first and the last of its joints turn alike."""


class Arm(NamedTuple):
    """For kernels, with all joints at zero: the joints' axes (6, 3), a point on the first axis, on the second
    and the third in the plane of the wrist square to them, and the wrist's middle (3,)."""

    axis: Floats
    first: Floats
    second: Floats
    third: Floats
    wrist: Floats


@dataclass(frozen=True)
class Postures:
    """Ways to hold tools (m,): `angles` (m, 8, 6) degrees in -180 to 180, `exists` (m, 8), and how far each
    is from a singular posture, 0 to 1 (m, 8): `shoulder` (the wrist stands over the first axis), `elbow` (the
    arm is stretched), `wrist` (its first and last axis lie in line).

    Branches are numbered by what they do: 4 more where the arm reaches over its back, 2 more where the elbow
    is bent the other way, 1 more where the wrist is.
    """

    angles: Floats
    exists: NDArray[np.bool_]
    shoulder: Floats
    elbow: Floats
    wrist: Floats


def arm_of(chain: Chain) -> Arm:
    """The six joints nearest to the tool as an arm. Raises ComputeError saying what keeps them from being
    one that the closed form takes."""
    if len(chain) < JOINTS or not chain.rotary[-JOINTS:].all():
        raise _no_arm(f"it has {int(chain.rotary.sum())} rotary joints in line, six are needed")
    axis, point = chain.axis[-JOINTS:], chain.point[-JOINTS:]
    if abs(float(axis[0] @ axis[1])) > SQUARE:
        raise _no_arm("its second axis is not square to its first")
    if float(np.linalg.norm(np.cross(axis[1], axis[2]))) > SQUARE:
        raise _no_arm("its third axis is not parallel to its second")
    if float(np.linalg.norm(np.cross(axis[3], axis[4]))) < 1e-6:
        raise _no_arm("two axes of its wrist are parallel")
    wrist, *missed = _meeting(axis[3:], point[3:])
    if max(missed) > MEETING_MM:
        raise _no_arm(f"the axes of its wrist miss each other by {max(missed):.3f} mm")
    inward = [q + float((wrist - q) @ axis[1]) * axis[1] for q in point[1:3]]
    arms = np.linalg.norm(inward[1] - inward[0]), np.linalg.norm(wrist - inward[1])
    if min(arms) < 1e-6:
        raise _no_arm("one of its two links has no length")
    return Arm(np.ascontiguousarray(axis), point[0].copy(), inward[0], inward[1], wrist)


def _no_arm(why: str) -> ComputeError:
    return ComputeError(
        f"The closed form does not take this arm: {why}.",
        remedy="Use an arm with a spherical wrist whose second and third axes are parallel.",
    )


def _meeting(axis: Floats, point: Floats) -> tuple[Floats, float, float, float]:
    """The point nearest to three lines, and how far each misses it."""
    square = [np.eye(3) - np.outer(a, a) for a in axis]
    middle = np.linalg.lstsq(sum(square), sum(s @ q for s, q in zip(square, point, strict=True)), rcond=None)[
        0
    ]
    a, b, c = (float(np.linalg.norm(s @ (middle - q))) for s, q in zip(square, point, strict=True))
    return np.asarray(middle), a, b, c


def postures(chain: Chain, poses: Floats, before: Floats | None = None) -> Postures:
    """All ways in which the arm holds its tool mount at poses (m, 4, 4) in the work mount's frame, with the
    joints before the arm (a table, a rail) at `before` (m, k), mm and degrees. Raises ComputeError."""
    arm, more = arm_of(chain), len(chain) - JOINTS
    count = len(poses)
    back = chain.work[None]
    if more:
        given = np.zeros((count, more)) if before is None else np.asarray(before, dtype=np.float64)
        reached = chain.base_from_work
        for j in range(more):
            reached = reached @ chain.motion(j, given[:, j])
        back = _inverted(reached)
    wanted = np.ascontiguousarray(back @ (poses @ invert(chain.tool)))
    angles = np.zeros((count, BRANCHES, JOINTS))
    exists = np.zeros((count, BRANCHES), dtype=np.bool_)
    measures = np.zeros((3, count, BRANCHES))
    all_branches(arm, wanted, angles, exists, measures)
    return Postures(angles, exists, *measures)


def measures_at(arm: Arm, joints: Floats) -> Floats:
    """How far (3, m) arms at joint angles (m, 6) degrees are from a singular posture, 0 to 1: shoulder, elbow
    and wrist, as in `Postures`."""
    angle = np.radians(joints)
    link, other = arm.third - arm.second, arm.wrist - arm.third
    long, reach = np.linalg.norm(link), np.linalg.norm(other - (other @ arm.axis[2]) * arm.axis[2])
    forearm = rotations(arm.axis[2], angle[:, 2]) @ other
    bent = np.linalg.norm(np.cross(np.cross(arm.axis[2], link), np.cross(arm.axis[2], forearm)), axis=1)
    wrist = (
        arm.second - arm.first + np.einsum("mij,mj->mi", rotations(arm.axis[1], angle[:, 1]), link + forearm)
    )
    over = np.abs(wrist @ np.cross(arm.axis[1], arm.axis[0]))
    tool = rotations(arm.axis[4], angle[:, 4]) @ arm.axis[5]
    apart = np.linalg.norm(np.cross(arm.axis[3], tool), axis=1)
    return np.stack([over / (long + reach), bent / (long * reach), apart])


def _inverted(motions: Floats) -> Floats:
    """Rigid motions (m, 4, 4) the other way."""
    out = np.zeros_like(motions)
    out[:, :3, :3] = motions[:, :3, :3].transpose(0, 2, 1)
    out[:, :3, 3] = -np.einsum("mji,mj->mi", motions[:, :3, :3], motions[:, :3, 3])
    out[:, 3, 3] = 1.0
    return out


@njit(cache=True, nogil=True)
def nearest_along(angles, exists, begins, start):  # type: ignore[no-untyped-def]
    """Joint angles (m, 6) degrees of an arm that is led through `angles` (m, 8, 6), where each `exists` (m,
    8), always to the nearest; whether it gets there (m,), else it stays. Where `begins` (m,) it comes from
    `start` (m, 6)."""
    count = len(angles)
    out, reached = np.zeros((count, 6)), np.zeros(count, dtype=np.bool_)
    here, turned = np.zeros(6), np.zeros(6)
    for i in range(count):
        if begins[i]:
            here[:] = start[i]
        least = np.inf
        for k in range(angles.shape[1]):
            if not exists[i, k]:
                continue
            away = 0.0
            for j in range(6):
                step = angles[i, k, j] - here[j]
                turned[j] = angles[i, k, j] - 360.0 * np.round(step / 360.0)
                away = max(away, abs(turned[j] - here[j]))
            if away < least:
                least = away
                out[i] = turned
        reached[i] = least < np.inf
        if reached[i]:
            here[:] = out[i]
        else:
            out[i] = here
    return out, reached


# vectors as three numbers: arrays of three cost more than what is done with them


@njit(cache=True, nogil=True)
def _dot(a, b):  # type: ignore[no-untyped-def]
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@njit(cache=True, nogil=True)
def _cross(a, b):  # type: ignore[no-untyped-def]
    return a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


@njit(cache=True, nogil=True)
def _mixed(a, f, b, g):  # type: ignore[no-untyped-def]
    """f a + g b."""
    return f * a[0] + g * b[0], f * a[1] + g * b[1], f * a[2] + g * b[2]


@njit(cache=True, nogil=True)
def _turn(axis, c, s, v):  # type: ignore[no-untyped-def]
    """A vector turned about a unit axis by the angle of a cosine and a sine (Rodrigues)."""
    dot = _dot(axis, v) * (1.0 - c)
    x, y, z = _cross(axis, v)
    return (
        v[0] * c + x * s + axis[0] * dot,
        v[1] * c + y * s + axis[1] * dot,
        v[2] * c + z * s + axis[2] * dot,
    )


@njit(cache=True, nogil=True)
def _between(axis, p, q):  # type: ignore[no-untyped-def]
    """Cosine and sine of the turn about a unit axis that takes the part of p square to it to that of q."""
    along = _dot(axis, p) * _dot(axis, q)
    c, s = _dot(p, q) - along, _dot(axis, _cross(p, q))
    size = np.sqrt(c * c + s * s)
    return (1.0, 0.0) if size == 0.0 else (c / size, s / size)


@njit(cache=True, nogil=True)
def _vector(values):  # type: ignore[no-untyped-def]
    return values[0], values[1], values[2]


@njit(cache=True, nogil=True)
def all_branches(arm, wanted, angles, exists, measures):  # type: ignore[no-untyped-def]
    """Fills `angles` (m, 8, 6) degrees, `exists` (m, 8) and `measures` (3, m, 8) for motions `wanted` (m, 4,
    4) of the six joints together."""
    deg = 180.0 / np.pi
    z1, z2, z3 = _vector(arm.axis[0]), _vector(arm.axis[1]), _vector(arm.axis[2])
    z4, z5, z6 = _vector(arm.axis[3]), _vector(arm.axis[4]), _vector(arm.axis[5])
    wrist, first = _vector(arm.wrist), _vector(arm.first)
    second, third = _vector(arm.second), _vector(arm.third)
    same = 1.0 if _dot(z3, z2) > 0.0 else -1.0
    beside = _dot(_mixed(wrist, 1.0, first, -1.0), z2)
    link, other = _mixed(third, 1.0, second, -1.0), _mixed(wrist, 1.0, third, -1.0)
    long, reach = np.sqrt(_dot(link, link)), np.sqrt(_dot(other, other))
    bent_c, bent_s = _between(z2, _mixed(link, -1.0, link, 0.0), other)
    square = _cross(z6, z5)
    hand = (_dot(z4, z5), _dot(z5, z6), np.sqrt(_dot(_cross(z5, z6), _cross(z5, z6))), _cross(z4, z5))
    for i in range(len(wanted)):
        m = wanted[i]
        out = (
            m[0, 0] * wrist[0] + m[0, 1] * wrist[1] + m[0, 2] * wrist[2] + m[0, 3] - first[0],
            m[1, 0] * wrist[0] + m[1, 1] * wrist[1] + m[1, 2] * wrist[2] + m[1, 3] - first[1],
            m[2, 0] * wrist[0] + m[2, 1] * wrist[1] + m[2, 2] * wrist[2] + m[2, 3] - first[2],
        )
        flat = _mixed(out, 1.0, z1, -_dot(out, z1))
        away2 = _dot(flat, flat)
        inside = away2 - beside * beside
        if inside < -CLOSE_ENOUGH * (away2 + beside * beside + 1.0) or away2 < 1e-18:
            continue
        away, over = np.sqrt(away2), np.sqrt(max(0.0, inside))
        c0, s0 = _between(z1, z2, flat)
        # the last axis, and a direction square to it, as the wanted motion has them
        tool = (
            m[0, 0] * z6[0] + m[0, 1] * z6[1] + m[0, 2] * z6[2],
            m[1, 0] * z6[0] + m[1, 1] * z6[1] + m[1, 2] * z6[2],
            m[2, 0] * z6[0] + m[2, 1] * z6[1] + m[2, 2] * z6[2],
        )
        across = (
            m[0, 0] * square[0] + m[0, 1] * square[1] + m[0, 2] * square[2],
            m[1, 0] * square[0] + m[1, 1] * square[1] + m[1, 2] * square[2],
            m[2, 0] * square[0] + m[2, 1] * square[1] + m[2, 2] * square[2],
        )
        for a in range(2):
            # the first angle: as far beside as the wrist is with all joints at zero
            ca, sa = beside / away, (over if a == 0 else -over) / away
            c1, s1 = c0 * ca - s0 * sa, s0 * ca + c0 * sa
            far = _mixed(_mixed(_turn(z1, c1, -s1, out), 1.0, first, 1.0), 1.0, second, -1.0)
            far = _mixed(far, 1.0, z2, -_dot(far, z2))
            cosine = (long * long + reach * reach - _dot(far, far)) / (2.0 * long * reach)
            if abs(cosine) > 1.0 + 1e-12:
                continue
            cosine = min(1.0, max(-1.0, cosine))
            sine = np.sqrt(1.0 - cosine * cosine)
            one = deg * np.arctan2(s1, c1)
            seen, aside = _turn(z1, c1, -s1, tool), _turn(z1, c1, -s1, across)
            for b in range(2):
                elbow = sine if b == 0 else -sine
                c3, s3 = cosine * bent_c + elbow * bent_s, elbow * bent_c - cosine * bent_s
                c2, s2 = _between(z2, _mixed(link, 1.0, _turn(z2, c3, s3, other), 1.0), far)
                # the second and the third turn about one direction: what they leave for the wrist
                c23, s23 = c2 * c3 - s2 * s3, s2 * c3 + c2 * s3
                direction, rest = _turn(z2, c23, -s23, seen), _turn(z2, c23, -s23, aside)
                line = _cross(z4, direction)
                apart = np.sqrt(_dot(line, line))
                two, three = deg * np.arctan2(s2, c2), deg * same * np.arctan2(s3, c3)
                for c in range(2):
                    fits, c4, s4, c5, s5 = _wrist(z4, z5, z6, hand, direction, apart, c)
                    if not fits:
                        continue
                    c6, s6 = _between(z6, square, _turn(z5, c5, -s5, _turn(z4, c4, -s4, rest)))
                    k = 4 * a + 2 * b + c
                    exists[i, k] = True
                    angles[i, k, 0], angles[i, k, 1], angles[i, k, 2] = one, two, three
                    angles[i, k, 3], angles[i, k, 4] = deg * np.arctan2(s4, c4), deg * np.arctan2(s5, c5)
                    angles[i, k, 5] = deg * np.arctan2(s6, c6)
                    measures[0, i, k], measures[1, i, k] = over / (long + reach), sine
                    measures[2, i, k] = apart


@njit(cache=True, nogil=True)
def _wrist(first, second, tool, hand, wanted, apart, which):  # type: ignore[no-untyped-def]
    """Cosines and sines of two turns with e^(first a) e^(second b) tool = wanted, one of the two pairs, and
    whether there are any; where the tool lies along the first axis the first angle is zero. `hand` is what of
    it stays the same, `apart` the sine between the first axis and the wanted direction."""
    dot, t2, s2, cross = hand
    t1, square = _dot(first, wanted), dot * dot - 1.0
    alpha, beta = (dot * t2 - t1) / square, (dot * t1 - t2) / square
    rest = (apart * s2 - t1 * t2 + dot) * (apart * s2 + t1 * t2 - dot)
    if rest < -1e-9:
        return False, 1.0, 0.0, 1.0, 0.0
    gamma = np.sqrt(max(0.0, rest)) / -square  # |first x second|² = 1 - dot²
    z = _mixed(_mixed(first, alpha, second, beta), 1.0, cross, gamma if which == 0 else -gamma)
    c5, s5 = _between(second, tool, z)
    if apart < SINGULAR:
        return True, 1.0, 0.0, c5, s5
    c4, s4 = _between(first, z, wanted)
    return True, c4, s4, c5, s5
