"""What is handed out for an arm is enough for somebody else: from `report.json`, `tools.json` and the
program's files alone, a small reader of its own, Pinocchio's forward kinematics and its numeric inverse say
that the arm can hold the tool along the program, within its ranges and without a jump, and that the dome
comes out on size by its closed form. Nothing of Fenrik's reader, chain, inverse or proof is used."""

from __future__ import annotations

import json
import math
from itertools import pairwise
from pathlib import Path

import numpy as np
import pinocchio
import pytest
import yaml

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.report import run_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import ROOT
from tests.flow.outside import Tree

FOOT, RISE, TOP = 110.0, 70.0, -5.0
"""The dome: radius of its foot, height over the plate, and its top under program zero (as it is modelled)."""
BALL = (FOOT**2 + RISE**2) / (2.0 * RISE)


def fixed(a: float, b: float, c: float) -> np.ndarray:
    """Turned about the fixed X, then Y, then Z, degrees."""
    a, b, c = (math.radians(v) for v in (a, b, c))
    x = np.array([[1, 0, 0], [0, math.cos(a), -math.sin(a)], [0, math.sin(a), math.cos(a)]])
    y = np.array([[math.cos(b), 0, math.sin(b)], [0, 1, 0], [-math.sin(b), 0, math.cos(b)]])
    z = np.array([[math.cos(c), -math.sin(c), 0], [math.sin(c), math.cos(c), 0], [0, 0, 1]])
    return z @ y @ x


def pose(words: dict[str, float]) -> np.ndarray:
    out = np.eye(4)
    out[:3, :3] = fixed(words["A"], words["B"], words["C"])
    out[:3, 3] = words["X"], words["Y"], words["Z"]
    return out


class Cell:
    """The arm and its table as the report describes them."""

    def __init__(self, machine: dict) -> None:
        tree = self.tree = Tree(machine)
        self.joints, self.model, self.place = tree.joints, tree.model, tree.place
        self.work = tree.frame(machine["work"]["joint"], machine["work"]["frame"])
        self.flange = tree.frame(machine["tool"]["joint"], machine["interface"])

    def tool(self, q: np.ndarray, frame: np.ndarray, obj: np.ndarray) -> np.ndarray:
        """The tool frame in the object frame (4, 4)."""
        return np.linalg.inv(obj) @ self.tree.between(q, self.work, self.flange) @ frame

    def held(self, q: np.ndarray, want: np.ndarray, frame: np.ndarray, obj: np.ndarray, arm: list[int]):
        """Joint values at which the tool frame is as wanted, by Newton's method from `q`, and what is left
        (mm)."""
        q = q.copy()
        for _ in range(30):
            off = pinocchio.log6(pinocchio.SE3(np.linalg.inv(self.tool(q, frame, obj)) @ want)).vector
            if np.abs(off).max() < 1e-9:
                break
            columns = []
            for j in arm:
                moved = q.copy()
                moved[j] += 1e-6
                step = np.linalg.inv(self.tool(q, frame, obj)) @ self.tool(moved, frame, obj)
                columns.append(pinocchio.log6(pinocchio.SE3(step)).vector / 1e-6)
            q[arm] += np.linalg.lstsq(np.column_stack(columns), off, rcond=None)[0]
        return q, float(np.abs(off).max())


def statements(folder: Path, name: str) -> list[list[str]]:
    """The words of a program's lines in order, called files put in."""
    out = []
    for line in (folder / f"{name}.txt").read_text().splitlines():
        words = line.split(";")[0].split()
        if words and words[0] == "CALL":
            out += statements(folder, words[1])
        elif words:
            out.append(words)
    return out


def numbers(words: list[str]) -> dict[str, float]:
    pairs = [w for w in words if w != "RAPID"]
    return {a: float(v) for a, v in zip(pairs[::2], pairs[1::2], strict=True)}


@pytest.fixture(scope="module")
def handed_out(tmp_path_factory):
    """The example with coarser passes, as files."""
    folder = tmp_path_factory.mktemp("arm")
    document = yaml.safe_load((ROOT / "examples" / "foam_dome.yaml").read_text())
    document["setups"][0]["operations"][0]["parameters"]["step_down"] = 50.0
    document["setups"][0]["operations"][1]["parameters"]["cusp"] = 0.2
    document["proof"]["cell_mm"] = 3.0
    run_job(open_job(job_from_data(document), ROOT / "examples", MemoryStore()), folder)
    report = json.loads((folder / "report.json").read_text())
    return folder, report, statements(folder, "foam_dome")


def test_the_arm_can_hold_the_tool_along_the_program(handed_out):
    """By Pinocchio's numeric inverse, led from the joint move before it: every place of the finish (one line
    in twelve) is held within the joints' ranges, and no joint jumps from one to the next."""
    _, report, lines = handed_out
    cell = Cell(report["setups"][0]["machine"])
    arm = [cell.place(f"J{i}") for i in range(1, 7)]
    q, obj, frame, jumps, places, tool = pinocchio.neutral(cell.model), None, None, [], 0, 0
    since = 0
    for words in lines:
        if words[0] == "OBJECT":
            obj = pose(numbers(words[3:]))
        elif words[0] == "TOOL":
            tool, frame = int(words[1]), pose(numbers(words[2:]))
        elif words[0] == "JOINTS":
            for name, value in numbers(words[1:]).items():
                q[cell.place(name)] = math.radians(value)
            since = 0
        elif words[0] == "STRAIGHT" and tool == 2:
            since += 1
            if since > 3 and since % 12:
                continue
            given = numbers(words[1:])
            q[cell.place("E1")] = math.radians(given["E1"])
            found, left = cell.held(q, pose(given), frame, obj, arm)
            assert left < 1e-6
            jumps.append(np.degrees(np.abs(found - q)).max())
            q, places = found, places + 1
            for name, joint in cell.joints.items():
                assert joint["low"] - 1e-6 <= math.degrees(q[cell.place(name)]) <= joint["high"] + 1e-6
    assert places > 200
    assert max(jumps) < 25.0


def test_a_joint_move_in_ends_where_the_straight_way_begins(handed_out):
    """After the joint move in, the tool stands 100 mm off the first place along its axis, turned as there."""
    _, report, lines = handed_out
    cell = Cell(report["setups"][0]["machine"])
    obj = frame = None
    checked = 0
    for before, after in pairwise(lines):
        if before[0] == "OBJECT":
            obj = pose(numbers(before[3:]))
        if before[0] == "TOOL":
            frame = pose(numbers(before[2:]))
        if before[0] == "JOINTS" and after[0] == "STRAIGHT":
            q = pinocchio.neutral(cell.model)
            for name, value in numbers(before[1:]).items():
                q[cell.place(name)] = math.radians(value)
            stands, goes = cell.tool(q, frame, obj), pose(numbers(after[1:]))
            assert stands[:3, :3] == pytest.approx(goes[:3, :3], abs=1e-5)
            assert stands[:3, 3] - goes[:3, 3] == pytest.approx(-100.0 * goes[:3, 2], abs=5e-3)
            checked += 1
    assert checked == 2


def test_the_dome_comes_out_on_size(handed_out):
    """Closed form: the ball's middle stays a radius off the dome, and everywhere on it comes as near as the
    cusp allows; the ridges lie along the passes, which keep the distance that the cusp asks for."""
    folder, report, lines = handed_out
    tools = {t["number"]: t for t in json.loads((folder / "tools.json").read_text())}
    assert report["stops"] == 0
    radius = tools[2]["diameter"] / 2.0
    tool, tips, here = 0, [], None
    for words in lines:
        if words[0] == "TOOL":
            tool = int(words[1])
        if words[0] == "STRAIGHT":
            before, here = here, numbers(words[1:])
            if tool == 2 and words[-1] != "RAPID" and before:
                a, b = (np.array([w[c] for c in "XYZ"]) for w in (before, here))
                steps = max(1, int(np.linalg.norm(b - a) / 0.5))
                tips += [a + (b - a) * s / steps for s in range(1, steps + 1)]
    middles = np.array(tips) + np.array([0.0, 0.0, radius])
    centre = np.array([0.0, 0.0, TOP - BALL])
    off = np.linalg.norm(middles - centre, axis=1) - radius - BALL
    assert off.min() > -0.06  # the operation's tolerance, and half a hundredth
    # looked at in directions from the dome's centre, all of it is passed within a pass's distance
    rng = np.random.default_rng(4)
    aside = rng.uniform(-70.0, 70.0, (300, 2))
    aside = aside[np.hypot(*aside.T) < 70.0]
    up = np.sqrt(BALL**2 - (aside**2).sum(axis=1))
    points = centre + np.column_stack([aside, up])
    near = middles[np.abs(off) < 0.1]
    left = np.array([(np.linalg.norm(near - p, axis=1)).min() for p in points]) - radius
    assert left.min() > -0.06 and left.max() < 2.5 * 0.2 + 0.06
