"""Models that nobody here drew, with a plan of two operations each, by an arm from the file to proved text.
(Whole plans of all of them are in test_whole_plans.)"""

import pytest

from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.tooling.library import starting_library
from tests.conftest import MODELS

LIBRARY = {t.number: t for t in starting_library()}
CASES = [("curved_support", "+z", 3, 17, 74), ("cast_bearing_unit", "+z", 5, 18, 40)]


def reaching(number: int, length: float) -> dict[str, object]:
    """A library tool with flutes and stick-out long enough for the part."""
    tool = LIBRARY[number].model_dump()
    tool["flute_length"] = max(tool["flute_length"], length - 4)
    tool["stick_out"] = max(tool["stick_out"], length)
    tool["shank_diameter"] = tool["diameter"]
    return tool


def proof_of(case, machine: str, cell: float):
    """The proof of a roughing and a finishing operation of a model."""
    name, up, rough, finish, length = case
    tools = [reaching(rough, length), reaching(finish, length)]
    operations = [
        {
            "name": "Rough",
            "strategy": "level_roughing",
            "tool": rough,
            "parameters": {"step_down": 0.4 * tools[0]["diameter"]},
        },
        {
            "name": "Finish",
            "strategy": "parallel_finishing",
            "tool": finish,
            "feed_mm_min": 400.0,  # such a long ball would bend too far at more
            "parameters": {"cusp": 0.1},
        },
    ]
    setup = {"name": "Top", "up": {"axis": up}, "machine": machine, "operations": operations}
    document = {
        "fenrik": 1,
        "name": name,
        "part": {"file": f"{name}.step"},
        "tools": tools,
        "setups": [setup],
        "proof": {"cell_mm": cell},
    }
    planner = open_job(job_from_data(document), MODELS, MemoryStore())
    return Prover(planner).prove(planner.job.effective_releases()[0])


@pytest.mark.parametrize("case", CASES, ids=[c[0] for c in CASES])
def test_an_arm_cuts_them(case):
    """In one posture, with the spin that it finds, by its own dialect."""
    proof = proof_of(case, "pedestal_arm_1800", 1.0)
    assert proof.stops() == []
    assert proof.facts["dialect"] == "plain_arm"
    assert proof.facts["deviation"]["max_overcut_mm"] <= 0.012
    assert all("one posture" in o["held"] for o in proof.facts["operations"])
