"""Face work on a lathe: from the bare model to a proved program that is driven by X and C."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.browser.conftest import saved, settled
from tests.browser.test_arm import prove, text_of
from tests.browser.test_moving_axis import type_in
from tests.browser.test_whole_job import add_setup, begin, choose, click_at, give, station, take_tool
from tests.conftest import ROOT


def test_six_flats_are_milled_by_x_and_c(page: Page):
    begin(page, "Flange on a lathe")
    give(page, ROOT / "examples" / "models" / "six_flat_flange.step")
    expect(page.get_by_text("Nothing is wrong with the file.")).to_be_visible(timeout=60_000)
    station(page, "Setups")
    add_setup(page)
    choose(page, "Machine", "Lathe 250 with driven tools")
    choose(page, "Begins as", "A cylinder or a tube")
    expect(page.get_by_role("textbox", name="Diameter")).to_have_value("90")

    # narrower than the part: said with its width, and nothing is lost
    type_in(page, "Diameter", "80")
    expect(page.get_by_text(re.compile(r"90\.\d+ mm wide about the axis"))).to_be_visible()
    type_in(page, "Diameter", "90")
    type_in(page, "Bore, 0 for none", "26")
    type_in(page, "Allowance above", "0")
    expect(page.get_by_text(re.compile("wide about the axis"))).to_have_count(0)
    expect(page.get_by_text("Range of C")).to_be_visible()

    station(page, "Tools")
    take_tool(page, "End mill 12")
    station(page, "Plan")
    choose(page, "Add an operation", "Roughing in levels")
    choose(page, "Add an operation", "Profile")
    page.get_by_role("button", name="Above", exact=True).click()
    view = page.get_by_label("Model view")
    settled(page, view)  # the view turns
    click_at(view, 0.0, 0.304)  # the ring round the hub
    page.get_by_role("button", name="Follow its walls").click()
    saved(page)
    prove(page)
    expect(page.get_by_text("◆ stop")).to_have_count(0)
    text = re.sub(r"\([^)]*\)", "", text_of(page))
    assert len(re.findall(r"^(?:G1 )?X\S+ C-?\d+\.\d{3} F\S+$", text, re.M)) > 300
    assert "Y" not in text and "G93" in text
    state = page.request.get(f"{page.url.split('/prove')[0].replace('/jobs', '/api/jobs')}/state").json()
    facts = page.request.get(f"/api/proofs/{state['releases'][0]['key']}/facts").json()
    assert facts["deviation"]["max_overcut_mm"] < 0.02
    profile = facts["operations"][1]
    assert profile["strategy"] == "profile" and profile["cutting_length_mm"] > 150.0
