"""A leaning and twisting wall finished by the side of the tool: from the pick to a proved program on which
the table turns while the tool cuts."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.browser.conftest import saved
from tests.browser.test_whole_job import add_setup, begin, choose, give, station, take_tool
from tests.conftest import ROOT


def type_in(page: Page, label: str, value: str) -> None:
    field = page.get_by_role("textbox", name=label, exact=True)
    field.fill(value)
    field.press("Enter")
    saved(page)


def roughed_guide_vane(page: Page) -> int:
    """A job begun with the bare model, set up on a tilting table and planned to be roughed; its number."""
    begin(page, "Guide vane by hand")
    give(page, ROOT / "examples" / "models" / "guide_vane.step")
    expect(page.get_by_text("Nothing is wrong with the file.")).to_be_visible(timeout=60_000)
    station(page, "Setups")
    add_setup(page)
    choose(page, "Machine", "Tilting table 320")
    type_in(page, "Height", "80")
    station(page, "Tools")
    take_tool(page, "End mill 12")
    type_in(page, "Stick-out", "58")
    type_in(page, "Flute length", "50")
    station(page, "Plan")
    choose(page, "Add an operation", "Roughing in levels")
    type_in(page, "Step down", "8")
    job = re.search(r"/jobs/(\d+)/", page.url)
    assert job is not None
    return int(job[1])


def finish_what_is_seen(page: Page, side: str) -> None:
    """Picks the face in the middle of the view from a side."""
    page.get_by_role("button", name=side, exact=True).click()
    page.wait_for_timeout(600)  # the view turns
    view = page.get_by_label("Model view")
    box = view.bounding_box()
    assert box
    view.click(position={"x": box["width"] / 2, "y": box["height"] / 2})
    page.get_by_role("button", name=re.compile("^Finish ")).click()


def test_a_wall_is_finished_by_the_side_of_a_tool_whose_axis_moves(page: Page):
    job = roughed_guide_vane(page)
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-part", re.compile("part-"), timeout=60_000)
    choose(page, "Add an operation", "Flank milling")
    walls = page.get_by_role("group", name="Walls to finish")
    finish_what_is_seen(page, "Above")  # a top is listed as what was picked, and no wall when computed
    page.get_by_role("button", name="Compute the plan").click()
    expect(page.get_by_text(re.compile("Face 4 lies square to the tool and is no wall")).first).to_be_visible(
        timeout=60_000
    )
    walls.get_by_role("button", name="Remove wall 4").click()
    finish_what_is_seen(page, "Front")
    expect(walls.get_by_role("button", name="wall 1", exact=True)).to_be_visible()
    expect(page.get_by_text("Keep in, keep out")).to_have_count(0)
    saved(page)
    station(page, "Prove")
    type_in(page, "Stock resolution", "0.5")
    page.get_by_role("button", name=re.compile("^Prove")).first.click()
    expect(page.get_by_text(re.compile("the straight tool leaves up to 0.000"))).to_be_visible(
        timeout=180_000
    )
    state = page.request.get(f"/api/jobs/{job}/state").json()
    release = state["releases"][0]
    text = page.request.get(f"/api/jobs/{job}/releases/{release['name']}/program").text()
    turned = re.findall(r"^(?:G1 )?X\S+ Y\S+ Z\S+ A-?\d+\.\d{3} C\S+ F[\d.]+$", text, re.M)
    assert len(turned) > 20 and text.count("G93") == 1
    facts = page.request.get(f"/api/proofs/{release['key']}/facts").json()
    assert [f["words"] for f in facts["findings"] if f["severity"] == "stop"] == []
    assert facts["deviation"]["max_overcut_mm"] < 0.02

    # a dialect that keeps the tool's point writes the same motion as places of the tip
    station(page, "Release")
    choose(page, "Dialect", "Plain ISO, tilted plane")
    saved(page)
    station(page, "Prove")
    page.get_by_role("button", name=re.compile("^Prove")).first.click()
    expect(page.get_by_text(re.compile("the straight tool leaves up to 0.000"))).to_be_visible(
        timeout=180_000
    )
    name = page.request.get(f"/api/jobs/{job}/state").json()["releases"][0]["name"]
    assert "G43.4 H3" in page.request.get(f"/api/jobs/{job}/releases/{name}/program").text()
