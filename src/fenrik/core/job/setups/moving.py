"""How the part is taken from one setup to the next, in words."""

from __future__ import annotations

import numpy as np

from fenrik.core.job.document.job import SetupDoc
from fenrik.core.job.setups.setups import Setups

SQUARE = 1e-6


def moving_words(setups: Setups, setup: SetupDoc) -> str:
    """The turn from the setup before to this one, about axes of the setup before; empty for the first."""
    index = setups.job.setups.index(setup)
    if index == 0:
        return ""
    before = setups.job.setups[index - 1]
    a, b = (setups.clamped(s).setup_from_part[:3, :3] for s in (before, setup))
    turn = b @ a.T
    angle = float(np.degrees(np.arccos(np.clip((np.trace(turn) - 1) / 2, -1.0, 1.0))))
    if angle < 1e-4:
        return f"stands as in '{before.name}'"
    axis = _axis(turn, angle)
    along = int(np.argmax(np.abs(axis)))
    if abs(axis[along]) > 1 - SQUARE:
        signed = angle if axis[along] > 0 or angle > 179.999 else -angle
        over = "turned over" if abs(turn[2, 2] + 1) < SQUARE else "turned"
        return f"{over} about {'XYZ'[along]} by {signed:.4g}° from '{before.name}'"
    if abs(turn[2, 2] + 1) < SQUARE:
        rest = turn @ np.diag([1.0, -1.0, -1.0])  # after half a turn about X
        about_z = float(np.degrees(np.arctan2(rest[1, 0], rest[0, 0])))
        return f"turned over about X by 180°, then about Z by {about_z:.4g}° from '{before.name}'"
    words = ", ".join(f"{v:.3f}" for v in axis)
    return f"turned about ({words}) by {angle:.4g}° from '{before.name}'"


def _axis(turn: np.ndarray, angle: float) -> np.ndarray:
    """The axis (3,) of a rotation by an angle in degrees, not nought."""
    if angle > 179.99:
        column = (turn + np.eye(3))[:, int(np.argmax(np.diag(turn)))]
        return np.asarray(column / np.linalg.norm(column))
    arm = np.array([turn[2, 1] - turn[1, 2], turn[0, 2] - turn[2, 0], turn[1, 0] - turn[0, 1]])
    return np.asarray(arm / np.linalg.norm(arm))
