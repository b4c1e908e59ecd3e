"""Frames: named right-handed coordinate systems and the transforms between them.

A transform is a 4 x 4 float64 matrix named ``to_from_from``: ``setup_from_part`` takes part
coordinates to setup coordinates, so that ``p_setup = setup_from_part @ p_part`` reads itself.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fenrik.core.errors import InputError

Array = NDArray[np.float64]

AXES: dict[str, tuple[float, float, float]] = {
    "+x": (1.0, 0.0, 0.0),
    "-x": (-1.0, 0.0, 0.0),
    "+y": (0.0, 1.0, 0.0),
    "-y": (0.0, -1.0, 0.0),
    "+z": (0.0, 0.0, 1.0),
    "-z": (0.0, 0.0, -1.0),
}


def unit(vector: Array | tuple[float, float, float]) -> Array:
    """The vector (3,) scaled to length 1. Raises InputError for a null vector."""
    array = np.asarray(vector, dtype=np.float64)
    length = float(np.linalg.norm(array))
    if length < 1e-12:
        raise InputError(
            f"The direction {tuple(array)} has no length.", remedy="Give a direction that is not zero."
        )
    return np.asarray(array / length)


SAME_DIRECTION = 1.0 - 1e-6
"""Cosine from which two directions are one."""


def same_direction(a: ArrayLike, b: ArrayLike) -> bool:
    """Whether two directions (3,), whose lengths may be rounded, are one."""
    return bool(np.dot(a, b) > SAME_DIRECTION * np.linalg.norm(a) * np.linalg.norm(b))


def rotation_up(up: Array | tuple[float, float, float], turn: float = 0.0) -> Array:
    """Rotation (3, 3) that takes the part direction `up` to +Z, then turns by `turn` rad about +Z.

    The setup's X is the part's X projected square to `up`; where `up` is the part's own X it is the
    part's Y. So +Z up leaves the part as it is.
    """
    z = unit(up)
    reference = np.array([1.0, 0.0, 0.0]) if abs(z[0]) < 0.9 else np.array([0.0, 1.0, 0.0])
    x = unit(reference - z * float(reference @ z))
    y = np.cross(z, x)
    base = np.vstack([x, y, z])
    c, s = np.cos(turn), np.sin(turn)
    about_z = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
    return _clean(about_z @ base)


def _clean(matrix: Array) -> Array:
    """Rounds entries within 1e-15 of -1, 0 and 1, so that axis-parallel setups stay exact."""
    result = matrix.copy()
    for value in (-1.0, 0.0, 1.0):
        result[np.abs(result - value) < 1e-15] = value
    return result


def transform(rotation: Array, translation: Array | tuple[float, float, float]) -> Array:
    """4 x 4 matrix from a rotation (3, 3) and a translation (3,) mm."""
    matrix = np.eye(4)
    matrix[:3, :3] = rotation
    matrix[:3, 3] = translation
    return matrix


def apply(matrix: Array, points: Array) -> Array:
    """Points (n, 3) mm taken through a 4 x 4 rigid transform."""
    return np.asarray(points @ matrix[:3, :3].T + matrix[:3, 3])


def invert(matrix: Array) -> Array:
    """The inverse of a rigid 4 x 4 transform, exact in the rotation."""
    rotation = matrix[:3, :3].T
    return transform(rotation, -rotation @ matrix[:3, 3])
