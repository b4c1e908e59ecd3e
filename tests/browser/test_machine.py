"""The machine at the proof: its bodies are shown and looked at; what meets is led to, painted, mended with
the offered change, and proved clean."""

from __future__ import annotations

import json
import re

from playwright.sync_api import Page, expect

from fenrik.core.machines.library import machines
from tests.browser.conftest import imported, saved
from tests.browser.test_arm import prove
from tests.examples import example

NOTHING = "Nothing found: no collision"


def bracket(post: float | None = None, **setup):
    """The bracket's roughing with a post `post` mm high on the table of a mill of the job's own."""
    data = example("bearing_bracket")
    own = json.loads(machines()["column_mill_500"].model_dump_json()) | {
        "id": "own",
        "name": "Mill with a post",
    }
    if post is not None:
        own["bodies"].append(
            {"kind": "box", "joint": "X", "role": "guard", "low": [145, -40, 0], "high": [160, 40, post]}
        )
    data["machines"] = [own]
    first = data["setups"][0]
    first["machine"], first["operations"] = "own", first["operations"][:1]
    first.update(setup)
    data["proof"] = {"cell_mm": 1.5}
    return data


def test_a_head_that_runs_into_a_post_is_led_to_mended_and_proved_clean(page: Page):
    # the head's underside comes down to 263 mm over the table
    number = imported(page, bracket(post=264.0), "bearing_bracket.step")
    page.goto(f"/jobs/{number}/prove")
    prove(page)
    expect(page.get_by_text(re.compile("proved, 1 stop")).first).to_be_visible()
    stop = page.get_by_role("group", name="Finding 1")
    expect(stop).to_contain_text(re.compile("The head runs .*into the guard"))

    # a click leads to the moment, its line and place; the machine is shown, both bodies painted
    stop.get_by_role("button").first.click()
    expect(page.get_by_label("Time", exact=True)).not_to_have_text(re.compile("^0:00 of"))
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-cell", "true")
    expect(view).to_have_attribute("data-met", re.compile("head.*guard"))

    stop.get_by_role("button", name=re.compile("Set T3.s stick-out to 51")).click()
    saved(page)
    prove(page)
    expect(page.get_by_text(re.compile(NOTHING)).or_(page.get_by_text("● note").first)).to_be_visible()
    expect(page.get_by_text("◆ stop")).to_have_count(0)


def test_work_placed_beyond_the_travel_gets_the_place_that_is_offered(page: Page):
    number = imported(page, bracket(placement={"x": 195.0, "y": 0.0, "z": 60.0}), "bearing_bracket.step")
    page.goto(f"/jobs/{number}/prove")
    prove(page)
    stop = page.get_by_role("group", name="Finding 1")
    expect(stop).to_contain_text("beyond the upper end of X")
    stop.get_by_role("button", name=re.compile("Set placement X to")).click()
    saved(page)
    prove(page)
    expect(page.get_by_text("◆ stop")).to_have_count(0)


def test_the_machine_is_shown_seen_through_and_runs_with_stops(page: Page):
    number = imported(page, bracket(), "bearing_bracket.step")
    page.goto(f"/jobs/{number}/prove")
    prove(page)
    page.get_by_text("Replay", exact=True).click()
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-cell", "false")
    page.get_by_role("button", name="Machine in the view").click()
    page.get_by_text("See-through", exact=True).click()
    expect(view).to_have_attribute("data-cell", "true")
    expect(page.get_by_label("spindle nose", exact=True)).to_be_visible()
    page.get_by_label("head", exact=True).check()
    page.get_by_text("Hidden", exact=True).click()
    expect(view).to_have_attribute("data-cell", "false")
    page.get_by_role("button", name="Machine in the view").click()

    # a run stops at the end of its operation, and the end is reached at once
    page.get_by_role("button", name="Stops at").click()
    page.get_by_label("the end of an operation").check()
    page.keyboard.press("Escape")
    page.get_by_text("100 x", exact=True).click()
    page.get_by_role("button", name="Play", exact=True).click()
    expect(page.get_by_role("button", name="Play", exact=True)).to_be_visible(timeout=60_000)
    page.get_by_role("button", name="To the end", exact=True).click()
    end = page.get_by_label("Time", exact=True).inner_text().split(" of ")
    assert end[0] == end[1]

    # pairs of bodies are switched in the matrix, and that asks for a new proof
    page.get_by_role("checkbox", name="head against table").uncheck()
    saved(page)
    expect(page.get_by_text("stale").or_(page.get_by_text("not proved")).first).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    saved(page)


def test_a_run_is_recorded_as_a_film(page: Page):
    number = imported(page, bracket(), "bearing_bracket.step")
    page.goto(f"/jobs/{number}/prove")
    prove(page)
    page.get_by_text("Replay", exact=True).click()
    page.get_by_text("20 x", exact=True).click()
    page.get_by_role("button", name="Film").click()
    page.wait_for_timeout(2500)
    with page.expect_download() as film:
        page.get_by_role("button", name="End the film").click()
    assert film.value.suggested_filename.endswith(".webm")
    content = film.value.path().read_bytes()
    assert content[:4] == b"\x1a\x45\xdf\xa3"  # EBML, as WebM begins (Matroska, RFC 9559)
    assert len(content) > 10_000


def click_at(view, across: float, down: float) -> None:
    """Clicks on the view at shares of its width and height."""
    box = view.bounding_box()
    view.click(position={"x": across * box["width"], "y": down * box["height"]})


def test_a_fixture_placed_with_a_gap_is_found_measured_and_set_down(page: Page):
    held = {"fixture": "Vice 125", "on_table": {"x": 0.0, "y": -80.0, "z": 5.0}}
    data = bracket(held_in=held)
    data["fixtures"] = [{"name": "Vice 125", "pieces": [{"kind": "vice"}]}]
    number = imported(page, data, "bearing_bracket.step")
    page.goto(f"/jobs/{number}/prove")
    prove(page)
    hangs = page.get_by_role("group", name="Finding 1")
    expect(hangs).to_contain_text("'Vice 125' hangs 5.00 mm over the table")
    # it leads to the machine, the fixture and the table painted
    hangs.get_by_role("button").first.click()
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-met", "fixture,table")

    page.goto(f"/jobs/{number}/setups")
    page.get_by_role("button", name="Machine in the view").click()
    page.get_by_text("Base only").click()
    page.get_by_role("button", name="Machine in the view").click()
    expect(view).to_have_attribute("data-cell", "true")
    page.get_by_role("button", name="Above").click()
    page.get_by_role("button", name="Measure").click()
    # beside the vice, between two slots of the table
    click_at(view, 0.06, 0.5)
    expect(page.get_by_role("group", name="Measured")).to_contain_text("From the table. Pick a second.")
    # the table is seen through, so that what stands on it can be picked from below
    page.get_by_role("button", name="Machine in the view").click()
    for body in ("table", "saddle", "bed"):
        page.get_by_role("checkbox", name=body, exact=True).check()
    page.get_by_role("button", name="Machine in the view").click()
    page.get_by_role("button", name="Below").click()
    click_at(view, 0.5, 0.5)
    said = page.get_by_role("group", name="Measured")
    expect(said).to_contain_text("From the table to the fixture.")
    gap = said.locator(".follows", has_text="Out of the first face")
    expect(gap).to_contain_text("5 mm")
    said.get_by_role("button", name="Take the gap out of the placing").click()
    saved(page)
    expect(page.get_by_label("On the table Z")).to_have_value("0")
    expect(gap).to_contain_text(re.compile(r"^Out of the first face-?0 mm"))

    page.goto(f"/jobs/{number}/prove")
    prove(page)
    expect(page.get_by_text("hangs 5.00 mm")).to_have_count(0)
    expect(page.get_by_text("◆ stop")).to_have_count(0)


def test_holes_are_measured_from_their_axis_through_the_stock(page: Page):
    number = imported(page, bracket(), "bearing_bracket.step")
    page.goto(f"/jobs/{number}/setups")
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-part", re.compile("part-"))
    page.get_by_role("button", name="Corner").click()
    page.wait_for_timeout(600)  # the view turns
    page.get_by_role("button", name="Measure").click()
    said = page.get_by_role("group", name="Measured")
    # the seat's wall, Ø37, behind the stock's top; its axis is that of the part's middle
    click_at(view, 0.46, 0.41)
    expect(said).to_contain_text("From the axis of Ø37 mm. Pick a second.")
    said.get_by_role("checkbox", name="Round faces by their axis").uncheck()
    expect(said).to_contain_text("From the part. Pick a second.")
    said.get_by_role("checkbox", name="The part through the stock").uncheck()
    said.get_by_role("button", name="Pick anew").click()
    click_at(view, 0.46, 0.41)
    expect(said).to_contain_text("From the stock. Pick a second.")


def test_a_vice_is_chosen_follows_the_part_and_is_kept_for_the_next_job(page: Page):
    number = imported(page, bracket(), "bearing_bracket.step")
    page.goto(f"/jobs/{number}/setups")
    expect(page.get_by_label("Model view")).to_have_attribute("data-part", re.compile("part-"))
    held = page.get_by_role("group", name="Held in")
    page.get_by_role("combobox", name="Held in").click()
    page.get_by_role("option", name="Vice 125, soft jaws").click()
    saved(page)
    height = page.locator(".follows", has_text="Zero above table")
    expect(height).to_contain_text("137.838")  # 102 of seat, 35.838 of stock
    page.get_by_role("button", name="Change its pieces").click()
    piece = page.get_by_role("group", name="Vice", exact=True)
    piece.get_by_label("Opens to").fill("60")
    piece.get_by_label("Opens to").press("Enter")
    expect(
        page.get_by_text(re.compile(r"opens 60 mm; the stock is 84\.00 mm wide there")).first
    ).to_be_visible()
    piece.get_by_label("Opens to").fill("120")
    piece.get_by_label("Opens to").press("Enter")
    saved(page)
    page.get_by_label("Name of the fixture").fill("Our soft jaws")
    page.get_by_label("Name of the fixture").press("Enter")
    saved(page)
    held.get_by_role("button", name="Keep for later jobs").click()
    expect(held.get_by_role("button", name="Keep no longer")).to_be_visible()

    other = imported(page, bracket(), "bearing_bracket.step")
    page.goto(f"/jobs/{other}/setups")
    page.get_by_role("combobox", name="Held in").click()
    page.get_by_role("option", name="Our soft jaws").click()
    saved(page)
    page.get_by_role("button", name="Change its pieces").click()
    expect(page.get_by_role("group", name="Vice", exact=True).get_by_label("Opens to")).to_have_value("120")
    held.get_by_role("button", name="Keep no longer").click()
    expect(held.get_by_role("button", name="Keep no longer")).to_have_count(0)
