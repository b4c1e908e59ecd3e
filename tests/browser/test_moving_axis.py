"""A leaning and twisting wall finished by the side of the tool: from the pick to a proved program on which
the table turns while the tool cuts."""

from __future__ import annotations

import re

import yaml
from playwright.sync_api import Page, expect

from tests.browser.conftest import imported, saved
from tests.browser.test_whole_job import choose, station
from tests.conftest import ROOT


def guide_vane(page: Page) -> int:
    """The example without its finished wall, roughed coarsely."""
    document = yaml.safe_load((ROOT / "examples" / "guide_vane.yaml").read_text("utf-8"))
    document["part"]["file"] = "guide_vane.step"
    document["proof"]["cell_mm"] = 0.5
    document["setups"][0]["operations"] = document["setups"][0]["operations"][:1]
    return imported(page, document, "guide_vane.step")


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
    job = guide_vane(page)
    page.goto(f"/jobs/{job}/plan")
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-part", re.compile("part-"), timeout=60_000)
    choose(page, "Add an operation", "Flank milling")
    choose(page, "Tool", "T4 End mill 12")
    walls = page.get_by_role("group", name="Walls to finish")
    finish_what_is_seen(page, "Above")  # a top is listed as what was picked, and no wall when computed
    page.get_by_role("button", name="Compute the plan").click()
    expect(page.get_by_text(re.compile("Face 4 lies square to the tool and is no wall")).first).to_be_visible(
        timeout=60_000
    )
    walls.get_by_role("button", name="Leave out wall 4").click()
    finish_what_is_seen(page, "Front")
    expect(walls.get_by_role("button", name="wall 1", exact=True)).to_be_visible()
    expect(page.get_by_text("Keep in, keep out")).to_have_count(0)
    saved(page)
    station(page, "Prove")
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
    assert "G43.4 H4" in page.request.get(f"/api/jobs/{job}/releases/{name}/program").text()
