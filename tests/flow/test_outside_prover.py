"""What is handed out is enough for somebody else: from `report.json`, `tools.json` and the program alone, a
small reader of its own and Pinocchio's forward kinematics say where the tool goes, and it leaves the wall on
size. Nothing of Fenrik's reader, chain or proof is used."""

from __future__ import annotations

import json
import re

import numpy as np
import pytest
import yaml

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.report import run_job
from fenrik.core.job.workspace.artefacts import MemoryStore
from tests.conftest import ROOT
from tests.core.test_moving_axis import planned, wall_points
from tests.flow.outside import Tree

STEPS = 12
"""Places looked at along a block."""


class Bench:
    """The machine as the report describes it, as a Pinocchio model from the work mount to the tool mount."""

    def __init__(self, setup: dict, tools: list[dict]) -> None:
        machine = setup["machine"]
        self.tree = Tree(machine)
        self.work_from_setup = np.array(setup["work_from_setup"])
        self.zero = dict(zip("XYZ", setup["program_zero"]["G54"], strict=True))
        self.lengths = {t["number"]: t["gauge_length"] for t in tools}
        self.letters = {j["letter"]: name for name, j in self.tree.joints.items() if j["letter"]}
        self.mounts = [self.tree.frame(machine[m]["joint"], machine[m]["frame"]) for m in ("work", "tool")]

    def pose(self, values: dict[str, float]) -> np.ndarray:
        """The tool mount in the setup frame (4, 4) with the joints of the letters at values, mm and
        degrees."""
        q = np.zeros(self.tree.model.nq)
        for letter, value in values.items():
            joint = self.tree.joints[self.letters[letter]]
            q[self.tree.place(joint["name"])] = value if joint["kind"] == "linear" else np.radians(value)
        return np.linalg.inv(self.work_from_setup) @ self.tree.between(q, *self.mounts)


def driven(text: str, bench: Bench) -> tuple[np.ndarray, np.ndarray]:
    """Tip and axis (n, 6) along the blocks at feed of the last tool, and the block (n,) of each."""
    here: dict[str, float] = {}
    tool, motion, point, out = 0, 0, False, []
    for number, line in enumerate(text.splitlines()):
        line = re.sub(r"\([^)]*\)", "", line)
        words = re.findall(r"([A-Z])(-?\d+\.?\d*)", line)
        if not words or ("G", "53") in words:
            continue
        given = {a: float(v) for a, v in words if a in "XYZABC"}
        codes = [float(v) for a, v in words if a == "G"]
        tool = int(next((v for a, v in words if a == "T"), tool))
        point = (point or 43.4 in codes) and 49.0 not in codes
        motion = int(next((c for c in codes if c in (0.0, 1.0)), motion))
        if not given or any(c in (2.0, 3.0) for c in codes):
            continue
        before, here = here, here | given
        if motion != 1 or not before or tool != 4:
            continue
        for share in np.linspace(0.0, 1.0, STEPS + 1):
            now = {a: before.get(a, v) + share * (v - before.get(a, v)) for a, v in here.items()}
            out.append((*where(now, point, bench, tool), number))
    rows = np.array(out)
    return rows[:, :6], rows[:, 6]


def where(now: dict[str, float], point: bool, bench: Bench, tool: int) -> list[float]:
    """Tip and axis at coordinates."""
    turned = {a: v for a, v in now.items() if a in "ABC"}
    length = bench.lengths[tool]
    if point:
        axis = bench.pose(turned)[:3, 2]
        return [now["X"], now["Y"], now["Z"], *axis]
    linear = {a: bench.zero[a] + now[a] for a in "XYZ"}
    linear["Z"] += length
    pose = bench.pose(linear | turned)
    return [*(pose[:3, 3] - length * pose[:3, 2]), *pose[:3, 2]]


@pytest.mark.parametrize("machine", ["tilting_table_320", "fork_head_1500"])
@pytest.mark.parametrize("dialect", ["plain_iso", "plain_iso_plane"])
def test_report_and_program_alone_show_the_wall_on_size(machine, dialect, tmp_path):
    document = yaml.safe_load((ROOT / "examples" / "guide_vane.yaml").read_text())
    setup = document["setups"][0]
    setup["machine"], setup["operations"] = machine, setup["operations"][1:]
    document["releases"][0]["dialect"] = dialect
    document["proof"]["cell_mm"] = 1.0
    run_job(open_job(job_from_data(document), ROOT / "examples", MemoryStore()), tmp_path)
    report = json.loads((tmp_path / "report.json").read_text())
    tools = json.loads((tmp_path / "tools.json").read_text())
    (release,) = report["releases"]
    wanted = ("machine", "inverse_time") if dialect == "plain_iso" else ("tool_point", "per_minute")
    assert (release["moving"], release["feed"]) == wanted
    bench = Bench(report["setups"][0], tools)
    rows, block = driven((tmp_path / release["file"]).read_text(), bench)
    assert len(np.unique(block)) > 20
    points, off = wall_points(planned(machine, dialect)), np.inf
    nearest = np.full(len(points), np.inf)
    for row in rows:
        away = points - row[:3]
        up = away @ row[3:]
        off = np.linalg.norm(away - up[:, None] * row[3:], axis=1)
        nearest = np.minimum(nearest, np.where((up >= 0) & (up <= 46.0), off, np.inf))
    assert nearest.min() > 6.0 - 0.006 and nearest.max() < 6.0 + 0.05
