"""Feed adapted to the measured engagement: the chip stays as planned, the time falls by what was stated before."""

import math

import numpy as np
import pytest

from fenrik.core.job.artefacts import MemoryStore
from fenrik.core.job.planning import Planner
from fenrik.core.job.proving import Prover
from fenrik.core.job.reading import job_from_data
from fenrik.core.paths.toolpath import Motion, PathBuilder
from fenrik.core.proof.adapting import LEAST, MOST, adapted, divided, factor, saving
from fenrik.core.tooling.cutting_data import engagement_angle, mean_chip
from tests.conftest import MODELS, make_tool


@pytest.mark.parametrize("wanted_width", [1.0, 3.2, 5.0])
def test_the_factor_keeps_the_mean_chip_of_the_handbooks(wanted_width):
    """hm = 2 fz ae / (D phi): with the factor on fz no width's chip is thicker than planned, nor thinner by more than
    a step, until the factor meets its bounds."""
    wanted = engagement_angle(wanted_width, 8.0)
    planned = mean_chip(0.05, wanted_width, 8.0)
    for width in np.linspace(0.2, 7.8, 20):
        k = float(factor(np.array([engagement_angle(width, 8.0)]), wanted)[0])
        chip = mean_chip(0.05 * k, width, 8.0)
        assert LEAST <= k <= MOST
        if LEAST < k < MOST - 0.05:
            assert planned * (k / (k + 0.1)) - 1e-9 <= chip <= planned + 1e-9
    assert factor(np.array([wanted]), wanted)[0] == pytest.approx(1.0)
    assert factor(np.array([0.0, math.pi]), math.pi / 3) == pytest.approx([MOST, 0.7])


def test_parts_of_a_move_are_joined_again_where_the_feed_stays():
    path = PathBuilder()
    path.rapid(0, 0, 5)
    path.feed(0, 0, 0, 100, Motion.PLUNGE)
    path.feed(40, 0, 0, 1000)
    path.feed(40, 10, 0, 1000)
    made = path.build()
    parts, owner = divided(made, 4.0)
    assert parts.lengths().sum() == pytest.approx(made.lengths().sum())
    engagement = np.where(parts.tip[:, 0] > 20.0, 1.2, 0.5)
    out = adapted(parts, owner, engagement, 0.8, 1000.0, 5000.0)
    assert out.lengths().sum() == pytest.approx(made.lengths().sum())
    feeds = out.feed[out.kind == Motion.FEED]
    assert len(feeds) == 3  # the long move in two, slower before the heavier half begins, and the last
    assert feeds[0] > 1000 > feeds[1] == feeds[2]
    assert out.tip[2, 0] < 20.0
    assert (out.feed[out.kind == Motion.PLUNGE] == 100).all()


def document(follows: str) -> dict:
    operation = {
        "name": "op", "strategy": "level_roughing", "tool": 1, "feed_follows": follows,
        "parameters": {"step_down": 6.0, "stepover": 4.0},
    }  # fmt: skip
    return {
        "fenrik": 1, "name": "feeds", "part": {"file": "plate_a.step"},
        "tools": [make_tool("flat", 10).model_dump()],
        "setups": [{"name": "Top", "operations": [operation]}],
        "proof": {"cell_mm": 0.5},
    }  # fmt: skip


def test_the_proved_program_is_faster_by_about_what_was_stated_and_loads_the_tool_no_more():
    facts = {}
    for follows in ("plan", "engagement"):
        prover = Prover(Planner(job_from_data(document(follows)), MODELS, MemoryStore()))
        proof = prover.prove(prover.job.effective_releases()[0])
        assert not proof.stops()
        facts[follows] = proof.facts
    before, after = (facts[f]["operations"][0] for f in ("plan", "engagement"))
    stated, real = before["adapted_saves_s"], before["time_s"] - after["time_s"]
    assert stated > 5.0
    assert 0.4 * stated < real < 1.6 * stated
    assert after["adapted_saves_s"] == 0.0
    assert after["removed_mm3"] == pytest.approx(before["removed_mm3"], rel=1e-3)
    assert after["load"]["force_max_n"] < 1.1 * before["load"]["force_max_n"]
    assert after["load"]["power_max_kw"] < 1.1 * before["load"]["power_max_kw"]
    words = [f["words"] for f in facts["engagement"]["findings"] if "follows the measured" in f["words"]]
    assert len(words) == 1 and "instead of" in words[0]


def test_a_saving_is_none_where_the_machine_is_at_its_limit():
    n = np.ones(4)
    assert saving(0.2 * n, n, n > 0, 3000 * n, 1.0, 3000.0) == 0.0
    assert saving(0.2 * n, n, n > 0, 1000 * n, 1.0, 3000.0) == pytest.approx(2.0)


def test_what_is_kept_of_a_step_comes_back_as_it_was():
    """A second operation's change goes on from the kept first one; what is stated of the first stays the same."""
    store = MemoryStore()
    seen = []
    for cusp in (0.05, 0.06):
        data = document("plan")
        data["tools"].append(make_tool("ball", 8, number=2).model_dump())
        data["setups"][0]["operations"].append(
            {"name": "fine", "strategy": "parallel_finishing", "tool": 2, "parameters": {"cusp": cusp}}
        )
        prover = Prover(Planner(job_from_data(data), MODELS, store))
        seen.append(prover.prove(prover.job.effective_releases()[0]).facts["operations"][0])
    assert store.computed["cut"] == 3
    assert seen[0]["adapted_saves_s"] == pytest.approx(seen[1]["adapted_saves_s"])
    assert seen[0]["load"] == seen[1]["load"]
