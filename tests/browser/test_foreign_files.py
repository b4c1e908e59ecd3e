"""Files that others made: a model of several bodies, and a program that was written elsewhere."""

from __future__ import annotations

import re

import trimesh
from playwright.sync_api import Page, expect

from tests.browser.conftest import saved
from tests.browser.test_whole_job import station
from tests.core.job.test_elsewhere import SLOT, tool


def test_a_body_is_chosen_and_a_program_of_the_shop_is_proved_on_it(page: Page):
    plate = trimesh.creation.box((100, 60, 15))
    pin = trimesh.creation.cylinder(4, 30, sections=64)
    pin.apply_translation((200, 0, 0))
    both = trimesh.util.concatenate([plate, pin]).export(file_type="stl")

    answer = page.request.post("/api/jobs", data={"name": "From others"})
    assert answer.ok, answer.text()
    job = answer.json()["id"]
    page.goto(f"/jobs/{job}/part")
    page.get_by_label("Model file").set_input_files(
        {"name": "assembly.stl", "mimeType": "model/stl", "buffer": both}
    )
    which = page.get_by_role("radiogroup", name=re.compile("2 bodies: which one"))
    expect(which.get_by_role("radio")).to_have_count(2)
    expect(which.get_by_text("2: 8 x 8 x 30")).to_be_visible()
    which.get_by_label(re.compile("^1: 100 x 60 x 15")).click()
    expect(page.get_by_text("Solids in the file")).to_be_visible()
    expect(which.get_by_label(re.compile("^1: 100 x 60 x 15"))).to_be_checked()

    saved(page)
    present = page.request.get(f"/api/jobs/{job}").json()
    document = present["document"]
    document["tools"] = [tool("flat", 16, 1), tool("drill", 6, 3)]
    document["setups"] = [{"name": "Top", "machine": "column_mill_800"}]
    kept = page.request.put(
        f"/api/jobs/{job}/document", data={"revision": present["revision"], "document": document}
    )
    assert kept.ok, kept.text()
    page.goto(f"/jobs/{job}/release")
    page.get_by_label("Program file").set_input_files(
        {"name": "shop 12.nc", "mimeType": "text/plain", "buffer": SLOT.encode()}
    )
    row = page.get_by_role("table", name="Releases").get_by_role("row", name=re.compile("from elsewhere"))
    expect(row).to_contain_text("shop")
    expect(row).to_contain_text("proved", timeout=120_000)
    expect(page.get_by_label("Program text")).to_contain_text("O4711")
    expect(page.get_by_text("there is no plan to hold it against")).to_be_visible()
    station(page, "Prove")
    expect(page.get_by_text("End mill 16").first).to_be_visible()
