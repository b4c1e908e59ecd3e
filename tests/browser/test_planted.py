"""What goes wrong on a machine, planted: found, led to, mended with the offered change and proved clean."""

from __future__ import annotations

import json
import re
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from fenrik.core.machines.library import machines
from tests.browser.conftest import imported, saved
from tests.browser.test_arm import prove
from tests.browser.test_machine import bracket
from tests.browser.test_whole_job import station
from tests.examples import example

MEETS_MM, NEAR_MM = 46.0, 42.0
"""How far off the table's middle the work is: at 43 the head's side lies in that of the trunnion's end."""


def high_trunnion(off: float) -> dict[str, Any]:
    """A bore spotted in the manifold's front on a tilting table whose trunnion has high ends, the work `off`
    the table's middle."""
    data = example("valve_manifold")
    own = json.loads(machines()["tilting_table_320"].model_dump_json())
    own |= {"id": "own", "name": "Tilting table with high ends"}
    for body in own["bodies"]:
        if body["role"] == "trunnion" and body["kind"] == "round":
            body["radius"] = 196.0
    data["machines"] = [own]
    setup = data["setups"][0]
    setup["machine"] = "own"
    setup["operations"] = [o for o in setup["operations"] if o["name"] == "Spot Ø14, Front"]
    setup["held_in"]["on_table"] = {"x": off, "y": 18.0}
    data["setups"], data["releases"], data["proof"] = [setup], [], {"cell_mm": 2.0}
    return data


def entry() -> dict[str, Any]:
    """The bracket's outline, placed so that its lead alone is 3 mm beyond the end of Y."""
    data = bracket(placement={"x": 0.0, "y": -155.0, "z": 60.0})
    data["setups"][0]["operations"] = [
        {
            "name": "Outside",
            "strategy": "profile",
            "tool": 3,
            "walls": [{"outline": True}],
            "parameters": {"step_down": 12.0, "lead_share": 1.0},
        }
    ]
    data["releases"] = []
    return data


CASES = {
    "head against trunnion": (
        high_trunnion(MEETS_MM),
        "valve_manifold.step",
        ("stop", "The head runs .*into the trunnion", "head,trunnion", "Set T1.s stick-out to"),
    ),
    "head past trunnion": (
        high_trunnion(NEAR_MM),
        "valve_manifold.step",
        (
            "caution",
            "The head passes the trunnion .* at a distance of 1.",
            "head,trunnion",
            "Set T1.s stick-out",
        ),
    ),
    "lead beyond its travel": (
        entry(),
        "bearing_bracket.step",
        ("stop", r"3\.00 mm beyond the lower end of Y", "", "Set lead length to 0.5 of the diameter"),
    ),
}


@pytest.mark.parametrize("case", list(CASES))
def test_it_is_found_led_to_mended_with_the_offered_change_and_proved_clean(page: Page, case):
    data, model, (severity, words, met, button) = CASES[case]
    number = imported(page, data, model)
    page.goto(f"/jobs/{number}/prove")
    prove(page)
    finding = page.get_by_role("group", name="Finding 1", exact=True)
    expect(finding).to_contain_text(severity)
    expect(finding).to_contain_text(re.compile(words))
    if met and severity == "stop":  # nowhere does it look fine
        expect(page.get_by_role("navigation", name="Stations")).to_contain_text("proved, 1 stop")
        station(page, "Release")
        state = page.get_by_role("table", name="Releases").get_by_text("proved, 1 stop")
        expect(state).to_have_class("state wrong")
        expect(page.get_by_role("link", name=re.compile(r"^Download .*\(proved, 1 stop\)$"))).to_be_visible()
        station(page, "Prove")
    finding.get_by_role("button").first.click()
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-met", met)
    expect(page.get_by_label("Time", exact=True)).not_to_have_text(re.compile("^0:00 of"))
    if met:  # on the machine, in the view
        expect(view).to_have_attribute("data-cell", "true")
    finding.get_by_role("button", name=re.compile(button)).click()
    saved(page)
    prove(page)
    expect(page.get_by_text(re.compile(words))).to_have_count(0)
    expect(page.get_by_text("◆ stop")).to_have_count(0)
