"""Feed adapted to the measured engagement: the chip stays as planned, the time falls by what was stated
before."""

import numpy as np
import pytest

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.proof.adapting import LEAST, MOST, adapted, adapted_feed, divided, factor, side_milling
from fenrik.core.tooling.cutting_data import engagement_angle, mean_chip
from tests.conftest import MODELS, make_tool


@pytest.mark.parametrize("wanted_width", [1.0, 3.2, 5.0])
def test_the_factor_keeps_the_mean_chip_of_the_handbooks(wanted_width):
    """hm = 2 fz ae / (D phi): with the factor on fz no width's chip is thicker than planned, nor thinner by
    more than a step, until the factor meets its bounds."""
    wanted = engagement_angle(wanted_width, 8.0)
    planned = mean_chip(0.05, wanted_width, 8.0)
    for width in np.linspace(0.2, 7.8, 20):
        thin = side_milling(engagement_angle(width, 8.0))
        k = float(factor(np.array([thin]), side_milling(wanted))[0])
        chip = mean_chip(0.05 * k, width, 8.0)
        assert LEAST <= k <= MOST
        if LEAST < k < MOST - 0.05:
            assert planned * (k / (k + 0.1)) - 1e-9 <= chip <= planned + 1e-9
    planned = side_milling(wanted)
    assert factor(np.array([planned, 0.0, 10.0]), planned) == pytest.approx([1.0, MOST, LEAST])


def test_parts_of_a_move_are_joined_again_where_the_feed_stays():
    path = PathBuilder()
    path.rapid(0, 0, 5)
    path.feed(0, 0, 0, 100, Motion.PLUNGE)
    path.feed(40, 0, 0, 1000)
    path.feed(40, 10, 0, 1000)
    made = path.build()
    parts, owner = divided(made, 4.0)
    assert parts.moves.lengths().sum() == pytest.approx(made.moves.lengths().sum())
    thinning = np.where(parts.tip[:, 0] > 20.0, 0.5, 0.25)
    out = adapted(parts, owner, thinning, 0.4, 1000.0, 5000.0)
    assert out.moves.lengths().sum() == pytest.approx(made.moves.lengths().sum())
    feeds = out.feed[out.kind == Motion.FEED]
    assert len(feeds) == 3  # the long move in two, slower before the heavier half begins, and the last
    assert feeds[0] > 1000 > feeds[1] == feeds[2]
    assert out.tip[2, 0] < 20.0
    assert (out.feed[out.kind == Motion.PLUNGE] == 100).all()


def document(follows: str, *, cusp: float | None = None) -> dict:
    """Roughing, and with `cusp` finishing by a ball and once more at a fifth of it, which meets ridges only;
    the last operation's feed follows something."""
    rough = {"step_down": 6.0, "stepover": 4.0}
    operations = [{"name": "rough", "strategy": "level_roughing", "tool": 1, "parameters": rough}]
    if cusp:
        for name, height in (("fine", cusp), ("finer", 0.2 * cusp)):
            parameters = {"cusp": height}
            operations.append(
                {"name": name, "strategy": "parallel_finishing", "tool": 2, "parameters": parameters}
            )
    operations[-1]["feed_follows"] = follows
    return {
        "fenrik": 1,
        "name": "feeds",
        "part": {"file": "plate_a.step"},
        "tools": [make_tool("flat", 10).model_dump(), make_tool("ball", 8, number=2).model_dump()],
        "setups": [{"name": "Top", "operations": operations}],
        "proof": {"cell_mm": 0.5},
    }


def proved(follows: str, cusp: float | None) -> tuple[dict, list[str]]:
    """Facts of the last operation of a document's proof, and the words of its findings."""
    prover = Prover(open_job(job_from_data(document(follows, cusp=cusp)), MODELS, MemoryStore()))
    proof = prover.prove(prover.job.effective_releases()[0])
    assert not proof.stops()
    return proof.facts["operations"][-1], [f["words"] for f in proof.facts["findings"]]


def test_a_proved_program_is_faster_by_what_was_stated_and_its_chips_no_thicker():
    (before, _), (after, words) = (proved(follows, 0.05) for follows in ("plan", "engagement"))
    stated, real = before["adapted_saves_s"], before["time_s"] - after["time_s"]
    assert stated > 5.0
    assert real == pytest.approx(stated, rel=0.15)
    assert after["adapted_saves_s"] == 0.0
    assert after["removed_mm3"] == pytest.approx(before["removed_mm3"], rel=1e-3)
    # not the chip: slivers of a few thousandths of a mm³, from the rounding of coordinates, are as thick as
    # the feed
    assert after["load"]["force_max_n"] <= 1.02 * before["load"]["force_max_n"]
    told = [w for w in words if "follows the measured" in w]
    assert len(told) == 1 and "instead of" in told[0]


def test_where_chips_are_thicker_than_planned_the_feed_falls_and_no_saving_is_stated():
    """Offsets leave strips that the cutter meets with its middle, at the full feed per tooth: thicker than
    the stepover says, so that to keep the plan's chip costs time."""
    (before, _), (after, _) = (proved(follows, None) for follows in ("plan", "engagement"))
    planned = mean_chip(before["feed_mm_min"] / (before["spindle_rpm"] * 3), 4.0, 10.0)
    assert before["load"]["chip_max_mm"] > 1.5 * planned
    assert after["load"]["chip_max_mm"] <= 1.05 * planned
    assert before["adapted_saves_s"] < 0.0
    assert before["time_s"] - after["time_s"] == pytest.approx(before["adapted_saves_s"], rel=0.3)


def test_a_feed_at_the_limit_stays():
    n = np.ones(4)
    assert adapted_feed(3000 * n, n > 0, 0.2 * n, 0.5, 3000.0) == pytest.approx(3000 * n)
    assert adapted_feed(1000 * n, n > 0, 0.2 * n, 0.5, 3000.0) == pytest.approx(2000 * n)


def test_what_is_kept_of_a_step_comes_back_as_it_was():
    """A second operation's change goes on from the kept first one; what is stated of the first stays the
    same."""
    store, seen = MemoryStore(), []
    for cusp in (0.05, 0.06):
        prover = Prover(open_job(job_from_data(document("plan", cusp=cusp)), MODELS, store))
        seen.append(prover.prove(prover.job.effective_releases()[0]).facts["operations"][0])
    assert store.computed["cut"] == 5
    assert seen[0]["adapted_saves_s"] == pytest.approx(seen[1]["adapted_saves_s"])
    assert seen[0]["load"] == seen[1]["load"]
