"""Work from a side that is picked on the part: from the pick to a proved program that turns the table."""

from __future__ import annotations

import re

import yaml
from playwright.sync_api import Page, expect

from tests.browser.conftest import imported, saved
from tests.browser.test_whole_job import choose, station
from tests.conftest import ROOT


def gauge_block(page: Page) -> int:
    """The example without its side: all its operations work from above."""
    document = yaml.safe_load((ROOT / "examples" / "gauge_block.yaml").read_text("utf-8"))
    document["part"]["file"] = "gauge_block.step"
    setup = document["setups"][0]
    setup["operations"] = [
        o for o in setup["operations"] if o["name"] in ("Face the top", "Drill the gauge bore")
    ]
    for operation in setup["operations"]:
        operation.pop("side", None)
    setup.pop("sides")
    return imported(page, document, "gauge_block.step")


def test_a_bore_is_drilled_from_a_side_that_was_picked_on_its_face(page: Page):
    job = gauge_block(page)
    page.goto(f"/jobs/{job}/setups")
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-part", re.compile("part-"))
    expect(page.get_by_text("Worked from above only.")).to_be_visible(timeout=60_000)
    page.get_by_role("button", name="Above").click()
    page.wait_for_timeout(600)  # the view turns
    box = view.bounding_box()
    view.click(
        position={"x": box["width"] / 2 + 90, "y": box["height"] / 2 + 60}
    )  # the leaning face lies in front
    page.get_by_role("button", name="Work from here").click()
    side = page.get_by_role("group", name="Side Face 3")
    name = side.get_by_role("textbox", name="Side, towards face 3")
    name.fill("Gauge face")
    name.press("Enter")
    expect(page.get_by_role("group", name="Side Gauge face")).to_be_visible()
    expect(page.get_by_text("The machine cannot work from here")).to_have_count(0)

    # a machine that has no rotary joint says so at once; another one takes it
    choose(page, "Machine", "Column mill 800")
    expect(
        page.get_by_text("The machine cannot work from here: the tool cannot point that way")
    ).to_be_visible()
    choose(page, "Machine", "Tilting table 320")
    expect(page.get_by_text("The machine cannot work from here")).to_have_count(0)
    expect(page.get_by_text("-120° to 30°")).to_be_visible()

    station(page, "Plan")
    page.get_by_role("table", name="Operations of Top").get_by_role(
        "cell", name="Drill the gauge bore", exact=True
    ).click()
    choose(page, "Side", "Gauge face")
    saved(page)
    station(page, "Prove")
    page.get_by_role("button", name=re.compile("^Prove")).first.click()
    expect(page.get_by_text(re.compile(r"\d+(\.\d+)? % on size|on size")).first).to_be_visible(
        timeout=180_000
    )
    state = page.request.get(f"/api/jobs/{job}/state").json()
    release = state["releases"][0]
    text = page.request.get(f"/api/jobs/{job}/releases/{release['name']}/program").text()
    assert "G0 A30.000" in text and re.search(r"G81 X0\.000 Y19\.519 Z-34\.825", text)
    facts = page.request.get(f"/api/proofs/{release['key']}/facts").json()
    assert [f for f in facts["findings"] if f["severity"] == "stop" and f["kind"] == "difference"] == []


def test_a_bare_solid_is_planned_from_every_side_it_needs_and_proved(page: Page):
    setup = {"name": "Top", "machine": "tilting_table_320", "placement": {"z": 80.0}}
    document = {
        "fenrik": 2,
        "name": "Gauge block",
        "part": {"file": "gauge_block.step"},
        "setups": [setup],
        "proof": {"cell_mm": 0.8},
    }
    job = imported(page, document, "gauge_block.step")
    page.goto(f"/jobs/{job}/setups")
    needed = page.get_by_role("table", name="Sides needed")
    bore = needed.get_by_role("row", name=re.compile("^Bore 8"))
    expect(bore).to_contain_text("adds 1 hole", timeout=60_000)
    page.get_by_role("button", name="Add and plan everything").click()
    plan = page.get_by_role("table", name="Operations of Top")
    side = plan.get_by_role("rowheader", name=re.compile("Bore 8"))
    expect(side).to_contain_text("A 30.000°", timeout=180_000)
    expect(plan.get_by_role("rowheader", name="From above")).to_be_visible()
    drills = plan.get_by_role("row").filter(has_text="Drill Ø8")
    expect(drills).to_have_count(1)

    # an operation that is dropped among those from above is made from there, and back again
    facing = plan.get_by_role("row").filter(has_text="Face the top")
    drills.first.drag_to(facing)
    expect(plan.get_by_role("row").nth(2)).to_contain_text("Drill Ø8")
    page.get_by_role("button", name="Undo").click()
    saved(page)

    page.keyboard.press("5")
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_text("Total with tool changes")).to_be_visible(timeout=180_000)
    state = page.request.get(f"/api/jobs/{job}/state").json()
    release = state["releases"][0]
    assert release["state"] == "ready" and release["stops"] == 0
    facts = page.request.get(f"/api/proofs/{release['key']}/facts").json()
    bored = [w for w in facts["deviation"]["by_face"] if w["face"] == 8]
    assert bored and bored[0]["share_on_size"] > 0.9
    # the side is looked along and says where the joints stand
    page.keyboard.press("2")
    page.get_by_role("button", name="Look along Bore 8").click()
    expect(page.get_by_role("button", name="Look along Bore 8")).to_have_attribute("aria-pressed", "true")


def test_a_hole_is_made_again_with_the_table_turned_on(page: Page):
    """Front and back of the block lie alike about C: the table turns by half a turn, the hole is made
    again."""
    document = yaml.safe_load((ROOT / "examples" / "gauge_block.yaml").read_text("utf-8"))
    document["part"]["file"] = "gauge_block.step"
    document["proof"] = {"cell_mm": 0.8}
    setup = document["setups"][0]
    setup["sides"] = [{"name": "Front", "up": {"axis": "-y"}}]
    tool = next(o["tool"] for o in setup["operations"] if o["strategy"] == "drilling")
    hole = {"at": [0.0, -20.0], "top": 30.0, "diameter": 10.0, "depth": 6.0}
    setup["operations"] = [
        {"name": "Drill", "strategy": "drilling", "tool": tool, "side": "Front", "holes": [hole]}
    ]
    for release in document.get("releases", []):
        release.pop("operations", None)
    job = imported(page, document, "gauge_block.step")
    page.goto(f"/jobs/{job}/plan")
    page.get_by_role("table", name=re.compile("^Operations of")).get_by_role("row").filter(
        has_text="Drill"
    ).first.click()
    page.get_by_role("button", name="Repeat at other places").click()
    choose(page, "Places", "with the work turned on")
    field = page.get_by_role("textbox", name="How many", exact=True)
    field.fill("2")
    field.press("Enter")
    saved(page)
    page.keyboard.press("5")
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_text("Total with tool changes")).to_be_visible(timeout=180_000)
    times = page.get_by_role("table", name="Times")
    expect(times.get_by_role("row").filter(has_text="Drill, C +180°")).to_have_count(1)
    state = page.request.get(f"/api/jobs/{job}/state").json()
    facts = page.request.get(f"/api/proofs/{state['releases'][0]['key']}/facts").json()
    at = [float(m) for m in re.findall(r"(?m)^G0 .*\bC(-?[\d.]+)", facts["text"])]
    assert len(at) >= 2
    assert abs(at[1] - at[0]) == 180.0
