"""An arm beside a table: from the bare model to a proved program, the cell moving with the run strip."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.browser.conftest import saved
from tests.browser.test_whole_job import add_setup, begin, choose, give, station, take_tool
from tests.conftest import MODELS


def text_of(page: Page) -> str:
    """The program's text, once it is proved."""
    job = re.search(r"/jobs/(\d+)/", page.url)
    assert job is not None
    saved(page)
    name = page.request.get(f"/api/jobs/{job[1]}/state").json()["releases"][0]["name"]
    return page.request.get(f"/api/jobs/{job[1]}/releases/{name}/program").text()


def prove(page: Page) -> None:
    station(page, "Prove")
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_text("Total with tool changes")).to_be_visible(timeout=180_000)


def test_an_arm_is_chosen_told_how_to_hold_the_tool_and_proved(page: Page):
    begin(page, "Plate on an arm")
    give(page, MODELS / "plate_a.step")
    expect(page.get_by_text("Nothing is wrong with the file.")).to_be_visible(timeout=60_000)
    station(page, "Setups")
    add_setup(page)
    choose(page, "Machine", "Pedestal arm 1800 with table")
    choose(page, "Material", "O Rigid polyurethane foam")
    station(page, "Tools")
    take_tool(page, "End mill 10")
    station(page, "Plan")
    choose(page, "Add an operation", "Roughing in levels")
    expect(page.get_by_role("heading", name="Arm", exact=True)).to_be_visible()

    # with the spin held at zero this spindle lines the wrist up: said with moment and remedy
    choose(page, "Searched", "nothing")
    spin = page.get_by_role("textbox", name="Spin at")
    expect(spin).to_have_value("0")
    expect(page.get_by_role("textbox", name="Table at")).to_have_value("0")
    saved(page)
    prove(page)
    expect(page.get_by_text(re.compile("comes near a singular posture of its wrist"))).to_be_visible()

    # searched, it keeps one posture
    station(page, "Plan")
    page.get_by_role("table", name="Operations of Top").get_by_role(
        "cell", name="Roughing in levels", exact=True
    ).click()
    choose(page, "Searched", "the spin about the tool")
    expect(page.get_by_role("textbox", name="Spin at")).to_have_count(0)
    table = page.get_by_role("textbox", name="Table at")
    table.fill("45")
    table.press("Enter")
    saved(page)
    prove(page)
    expect(page.get_by_text(re.compile("singular posture"))).to_have_count(0)
    expect(page.get_by_text("◆ stop")).to_have_count(0)

    # the cell moves with the run strip
    page.get_by_text("Replay", exact=True).click()
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-cell", "true")
    page.get_by_role("button", name="Whole machine").click()
    strip = page.get_by_role("slider", name="Moment of the program")
    strip.focus()
    strip.press("Home")
    page.wait_for_timeout(1000)
    at_home = view.screenshot()
    box = strip.bounding_box()
    assert box
    strip.click(position={"x": box["width"] / 2, "y": 40})
    page.wait_for_timeout(1000)
    assert view.screenshot() != at_home
    page.get_by_text("Deviation", exact=True).click()
    expect(view).to_have_attribute("data-cell", "false")

    station(page, "Release")
    expect(
        page.get_by_text(re.compile("table at 45°, spin at -?[1-9].*one posture throughout"))
    ).to_be_visible()
    text = text_of(page)
    assert re.search(r"^OBJECT ON E1 ", text, re.M) and re.search(r"^TOOL 4 X ", text, re.M)
    assert len(re.findall(r"^STRAIGHT .* E1 45\.0000 F [\d.]+$", text, re.M)) > 50
    # only dialects that an arm's control takes are offered
    page.get_by_role("combobox", name="Dialect").click()
    expect(page.get_by_role("option", name="Plain ISO")).to_have_count(0)
    page.get_by_role("option", name="Plain arm, quaternions").click()
    saved(page)
    prove(page)
    assert re.search(r"^STRAIGHT .* Q1 \S+ Q2 \S+ Q3 \S+ Q4 \S+ E1 45\.000000 V [\d.]+$", text_of(page), re.M)
