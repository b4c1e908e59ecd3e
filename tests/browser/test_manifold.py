"""The valve manifold as new as it is for a stranger: from its bare STEP file to a proved program."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Locator, Page, expect

from tests.browser.conftest import saved
from tests.conftest import MODELS

pytestmark = pytest.mark.timeout(900)
MOST_CLICKS = 30


class Hand:
    """Counts what a hand does: clicks, and fields that are typed into."""

    def __init__(self, page: Page) -> None:
        self.page, self.count = page, 0

    def click(self, there: Locator) -> None:
        there.click()
        self.count += 1

    def choose(self, label: str, option: str) -> None:
        self.click(self.page.get_by_role("combobox", name=label))
        self.click(self.page.get_by_role("option", name=option).first)

    def type(self, label: str, value: str, last: bool = False) -> None:
        fields = self.page.get_by_role("textbox", name=label, exact=True)
        field = fields.last if last else fields.first
        self.click(field)
        field.fill(value)
        field.press("Enter")
        saved(self.page)


def test_from_the_bare_step_file_to_a_proved_program_from_seven_sides(page: Page):
    hand = Hand(page)
    page.goto("/")
    page.get_by_label("New job").fill("Manifold by hand")
    hand.click(page.get_by_role("button", name="Begin"))
    page.get_by_label("Model file").set_input_files(MODELS / "valve_manifold.step")
    hand.count += 2  # the field and the file
    expect(page.get_by_text("Nothing is wrong with the file.")).to_be_visible(timeout=60_000)

    page.keyboard.press("2")
    hand.count += 1
    hand.click(page.get_by_role("button", name="Add a setup"))
    hand.choose("Up direction", "+z")  # the chamber
    # without rotary joints nothing but the top is reached, and it says so
    needed = page.get_by_role("group", name="Sides needed")
    expect(needed.get_by_text("What is left is out of this machine’s reach:")).to_be_visible(timeout=60_000)
    expect(needed.get_by_text("One more clamping, with").first).to_be_visible()
    hand.choose("Machine", "Tilting table 320")
    expect(needed.get_by_role("row", name=re.compile("^Bore 29"))).to_contain_text(
        "adds 1 hole", timeout=60_000
    )
    hand.type("Allowance below", "10")  # to grip
    hand.click(page.get_by_role("button", name="Add jaws"))
    hand.type("Grip from below", "8")
    hand.type("Height", "100", last=True)  # over the table
    page.keyboard.press("5")
    hand.count += 1
    hand.type("Stock resolution", "1.2")
    page.keyboard.press("2")
    hand.count += 1

    hand.click(page.get_by_role("button", name="Add and plan everything"))
    plan = page.get_by_role("table", name="Operations of Top")
    for side in ("Side -y", "Side +y", "Side -x", "Side +x", "Bore 29", "Bore 40"):
        expect(plan.get_by_role("rowheader", name=re.compile(re.escape(side)))).to_be_visible(timeout=600_000)
    page.keyboard.press("5")
    hand.count += 1
    hand.click(page.get_by_role("button", name="Prove", exact=True))
    expect(page.get_by_text("Total with tool changes")).to_be_visible(timeout=300_000)
    assert hand.count < MOST_CLICKS, hand.count

    job = page.url.rstrip("/").split("/jobs/")[1].split("/")[0]
    release = page.request.get(f"/api/jobs/{job}/state").json()["releases"][0]
    assert release["state"] == "ready" and release["stops"] == 0
    facts = page.request.get(f"/api/proofs/{release['key']}/facts").json()
    assert len(facts["sides"]) == 7
    share = {f["face"]: f["share_on_size"] for f in facts["deviation"]["by_face"]}
    holes = page.request.get(f"/api/jobs/{job}/holes").json()
    walls = [faces[0] for group in holes for faces in group["faces"]]
    assert len(walls) == 20 and all(share[face] > 0.9 for face in walls)

    # the strip shows where the machine turns, and how it stands
    page.get_by_text("Replay", exact=True).click()
    strip = page.get_by_role("contentinfo", name="Run strip")
    expect(strip.get_by_text("7 index moves")).to_be_visible(timeout=60_000)
    expect(strip.get_by_label("Rotary joints")).to_contain_text("A")
    slider = page.get_by_role("slider", name="Moment of the program")
    box = slider.bounding_box()
    page.mouse.click(box["x"] + 0.97 * box["width"], box["y"] + 50)  # the seventh is back to zero
    expect(strip.get_by_label("Rotary joints")).to_contain_text(re.compile(r"A -?(30|35)\.0°"))
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-cell", "true")
    page.get_by_role("checkbox", name="Part turns").uncheck()
    expect(view).to_have_attribute("data-cell", "false")
    sides = page.get_by_role("table", name="Sides", exact=True)
    expect(sides.get_by_role("row", name=re.compile("^Bore 29"))).to_contain_text("1 x")
