"""Arms for tests: one of the usual build on a pedestal beside a rotary table, and the textbook's."""

from __future__ import annotations

import numpy as np

from fenrik.core.machines.cell import Cell
from fenrik.core.machines.chain import Joint, Mount
from fenrik.core.machines.library import machines
from fenrik.core.machines.machine import Machine
from fenrik.core.machines.on_machine import OnMachine

SPEED = {"speed": 9000.0, "acceleration": 600.0}


def six(axes, points, parent=None) -> list[Joint]:
    """Six joints one on the other."""
    out = []
    for number, (axis, point) in enumerate(zip(axes, points, strict=True), 1):
        name = f"J{number}"
        out.append(Joint(name=name, kind="rotary", axis=axis, point=point, parent=parent, **SPEED))
        parent = name
    return out


def usual_arm() -> tuple[list[Joint], Mount, Mount]:
    """An arm of 1.8 m reach on a pedestal, its shoulder off the first axis, a spindle bent by 30° on its
    flange, and a table that turns in front of it; invented."""
    axes = [(0, 0, 1), (0, 1, 0), (0, 1, 0), (1, 0, 0), (0, 1, 0), (1, 0, 0)]
    points = [(0, 0, 0), (260, 0, 1080), (260, 0, 1830), (260, 0, 1950), (1080, 0, 1950), (1180, 0, 1950)]
    table = Joint(name="E1", kind="rotary", axis=(0, 0, -1), point=(1300, 0, 0), **SPEED)
    lean = np.radians(30.0)
    spindle = Mount(joint="J6", at=(1420, 0, 1880), z=(-np.cos(lean), 0, np.sin(lean)))
    return [table, *six(axes, points)], Mount(joint="E1", at=(1300, 0, 700)), spindle


def textbook_arm() -> tuple[list[Joint], Mount, Mount]:
    """The Puma 560 by its Denavit-Hartenberg table (Corke and Armstrong-Hélouvry 1994, from memory): a2
    431.8, a3 20.3, d3 150.05, d4 431.8 mm; joints at zero with the upper arm level."""
    alpha = np.radians([90.0, 0.0, -90.0, 90.0, -90.0, 0.0])
    a = [0.0, 431.8, 20.3, 0.0, 0.0, 0.0]
    d = [0.0, 0.0, 150.05, 431.8, 0.0, 0.0]
    frame, axes, points = np.eye(4), [], []
    for twist, along, up in zip(alpha, a, d, strict=True):
        axes.append(tuple(frame[:3, 2].tolist()))
        points.append(tuple(frame[:3, 3].tolist()))
        c, s = np.cos(twist), np.sin(twist)
        frame = frame @ np.array([[1, 0, 0, along], [0, c, -s, 0], [0, s, c, up], [0, 0, 0, 1]])
    z, x, at = (tuple(v.tolist()) for v in (frame[:3, 2], frame[:3, 0], frame[:3, 3]))
    return six(axes, points), Mount(joint=None), Mount(joint="J6", at=at, z=z, x=x)


def two_cuts() -> tuple[Cell, np.ndarray, np.ndarray, np.ndarray]:
    """The library's arm with short ranges in its wrist, and two cuts on both sides of the table with a loose
    way up, over and down between them, which no one posture holds: tips, axes and what is loose."""
    data = machines()["pedestal_arm_1800"].model_dump(mode="json") | {"id": "short"}
    ranges = {"J4": (-151.3, 24.9), "J5": (-127.1, 69.1), "J6": (-63.5, 89.4)}
    for joint in data["joints"]:
        joint["low"], joint["high"] = ranges.get(joint["name"], (joint["low"], joint["high"]))
    short = Cell(OnMachine(Machine.model_validate(data), np.eye(4)), 150.0)
    y = np.linspace(-40.0, 40.0, 30)
    left, right = (np.column_stack([0.0 * y + x, y, 0.0 * y + 150.0]) for x in (-260.0, 260.0))
    up = np.array([[-260.0, 40.0, z] for z in (250.0, 350.0, 450.0, 500.0)])
    over = np.linspace(up[-1], [260.0, -40.0, 500.0], 12)[1:]
    down = np.array([[260.0, -40.0, z] for z in (450.0, 350.0, 250.0)])
    tips = np.vstack([left, up, over, down, right])
    loose = np.zeros(len(tips), dtype=np.bool_)
    loose[30 : len(tips) - 29] = True
    axes = np.tile([0.0, 0.0, 1.0], (len(tips), 1))
    return short, tips, axes, loose
