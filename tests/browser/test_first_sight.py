"""What a programmer sees in the first hour: the jobs with their pictures, what is proposed with its reason,
what the colours of the path tell, where a click leads the eye."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import saved, settled
from tests.browser.test_whole_job import add_setup, begin, document_of, give, imported, station
from tests.conftest import MODELS


def changed(page: Page, job: int, work: Callable[[dict[str, Any]], None]) -> None:
    """Changes a job's document behind the page's back."""
    kept = page.request.get(f"/api/jobs/{job}").json()
    work(kept["document"])
    answer = page.request.put(f"/api/jobs/{job}/document", data=kept)
    assert answer.ok, answer.text()


@pytest.fixture
def proved(page: Page) -> int:
    """A proved job with one setup and two operations on a plate, its proof open."""
    job = imported(page)
    page.goto(f"/jobs/{job}/prove")
    expect(page.get_by_role("navigation", name="Stations")).to_contain_text(re.compile("to prove|proved"))
    if "to prove" in page.get_by_role("navigation", name="Stations").inner_text():
        page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_role("heading", name="Findings")).to_be_visible(timeout=120_000)
    return job


def test_the_front_page_shows_the_job_with_its_picture_and_finds_it_by_name(page: Page, proved: int):
    changed(page, proved, lambda document: document.update(name="Cover plate seen first"))
    page.goto("/")
    jobs = page.get_by_role("list", name="Jobs").get_by_role("listitem")
    page.get_by_role("textbox", name="Search").fill("first cover")
    expect(jobs).to_have_count(1)
    row = jobs.first
    expect(row).to_contain_text("Column mill 500")
    expect(row.locator(".state")).to_have_text("not proved")  # the program would name another job now
    picture = row.locator("img")
    expect(picture).to_be_visible()
    assert picture.evaluate("async (e) => { await e.decode(); return e.naturalWidth }") >= 160
    updated = next(j["updated"] for j in page.request.get("/api/jobs").json() if j["id"] == proved)
    local = page.evaluate(
        "(at) => new Date(at).toLocaleString(undefined, {dateStyle: 'medium', timeStyle: 'short'})", updated
    )
    expect(row).to_contain_text(local)
    page.get_by_role("textbox", name="Search").fill("first cover of another shop")
    expect(jobs).to_have_count(0)
    expect(page.get_by_text("No job is called that.")).to_be_visible()
    page.get_by_role("textbox", name="Search").fill("COVER")
    row.get_by_role("link", name="Cover plate seen first").click()  # on to where the job stands
    expect(page.get_by_role("heading", name="Prove", exact=True)).to_be_visible()
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_role("heading", name="Findings")).to_be_visible(timeout=120_000)
    page.goto("/")
    state = jobs.filter(has_text="Cover plate seen first").locator(".state")
    expect(state).to_have_text(re.compile(r"^proved(, \d+ cautions?)?$"))


def test_the_way_up_is_proposed_with_its_reason_and_the_next_is_the_other_side(page: Page):
    begin(page, "Ways up")
    give(page, MODELS / "bearing_bracket.step")
    expect(page.get_by_text("Nothing is wrong with the file.")).to_be_visible(timeout=60_000)
    station(page, "Setups")
    add_setup(page)
    ways = page.get_by_role("group", name="Ways up")
    expect(ways).to_contain_text(
        re.compile(r"Reached from here: .*% of the surface.*This is the way that is proposed")
    )
    ways.get_by_role("button", name="Show the faces reached").click()
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-picks", re.compile(r"^\d+(,\d+)+$"))
    ways.get_by_role("button", name="Other ways up").click()
    table = page.get_by_role("table", name="Ways up")
    shares = [float(cell.split()[0]) for cell in table.locator("td:nth-child(2)").all_inner_texts()]
    assert len(shares) >= 6 and all(0 <= s <= 100 for s in shares)
    page.get_by_role("button", name="Add a setup").click()
    expect(page.get_by_role("combobox", name="Up direction")).to_have_value("-z")
    expect(page.get_by_role("combobox", name="Begins as")).to_have_value("What “Top” leaves")
    # another way is one click away
    ways.get_by_role("button", name="Other ways up").click()
    table.get_by_role("row").filter(has_text="-y").click()
    expect(page.get_by_role("combobox", name="Up direction")).to_have_value("-y")


def test_a_tool_that_was_made_up_says_so_until_it_is_confirmed(page: Page):
    job = imported(page)
    changed(page, job, lambda document: document["tools"][0].update(to_check=True))
    page.goto(f"/jobs/{job}/tools")
    tools = page.get_by_role("table", name="Tools", exact=True)
    row = tools.get_by_role("row").filter(has_text="End mill 10")
    expect(row).to_contain_text("made up: lengths and holder to confirm")
    row.click()
    page.get_by_role("button", name="They are right").click()
    expect(row).not_to_contain_text("made up")
    saved(page)
    assert not document_of(page, job)["tools"][0].get("to_check", False)


def test_the_shelf_is_browsed_by_kind_and_draws_what_is_looked_at(page: Page):
    page.goto(f"/jobs/{imported(page)}/tools")
    shelf = page.get_by_role("region", name="Shelf")
    rows = shelf.get_by_role("table", name="Tools of the shelf").get_by_role("row")
    expect(rows.first).to_be_visible()
    everything = rows.count()
    shelf.get_by_role("combobox", name="Kind of tool").click()
    page.get_by_role("option", name="Ball end mill", exact=True).click()
    expect(rows.filter(has_text=re.compile("^End mill"))).to_have_count(0)
    assert 2 < rows.count() < everything
    rows.filter(has_text="Ball mill 8").first.click()
    expect(shelf.get_by_role("img", name=re.compile("Drawing of tool"))).to_be_visible()


def test_the_path_is_coloured_by_what_is_chosen_with_a_scale(page: Page, proved: int):
    view = page.get_by_label("Model view")
    page.get_by_role("checkbox", name="Path").check()
    legend = page.get_by_role("group", name="Colours of the path")
    by = page.get_by_role("combobox", name="Path coloured by")
    told = {"kind": "rapid", "operation": "Rough", "load": "kW", "feed": "mm/min", "height": " mm"}
    pictures = {}
    for choice, words in told.items():
        by.select_option(choice)
        expect(legend).to_contain_text(words)
        pictures[choice] = settled(page, view)
    assert len(set(pictures.values())) == len(told)


def test_the_dark_scheme_is_the_systems_and_the_strip_follows_at_once(page: Page, proved: int):
    strip = page.get_by_role("slider", name="Moment of the program")
    expect(strip).to_be_visible()
    page.emulate_media(color_scheme="light")
    light = settled(page, strip)
    page.emulate_media(color_scheme="dark")
    expect(page.locator("html")).to_have_attribute("data-mantine-color-scheme", "dark")
    assert settled(page, strip) != light
    page.emulate_media(color_scheme="light")
    assert settled(page, strip) == light


def test_a_worst_place_is_gone_to_by_the_camera(page: Page, proved: int):
    view = page.get_by_label("Model view")
    page.get_by_text("Deviation", exact=True).click()
    places = page.get_by_role("table", name=re.compile("Worst places|Out of the tools"))
    worst = places.first.get_by_role("row").first
    expect(worst).to_be_visible()
    before = settled(page, view)
    worst.click()
    expect(worst).to_have_class(re.compile("chosen"))
    at = settled(page, view)
    assert at != before
    page.get_by_role("button", name="Above", exact=True).click()
    assert settled(page, view) != at


def test_setups_of_one_program_stand_under_it(page: Page):
    job = imported(page)

    def together(document: dict[str, Any]) -> None:
        document["setups"].append({**document["setups"][0], "name": "Second vice", "work_offset": "G55"})
        document["releases"] = [{"name": "both", "setup": "Top", "also": ["Second vice"]}]

    changed(page, job, together)
    page.goto(f"/jobs/{job}/release")
    rows = page.get_by_role("table", name="Releases").locator("tbody tr")
    expect(rows).to_have_count(2)
    expect(rows.first).to_contain_text(re.compile("both.*Top.*Plain ISO"))
    expect(rows.last).to_contain_text(re.compile("↳.*Second vice"))
    # a tick is taken back by the keyboard, though its box was clicked last
    second = page.get_by_role("checkbox", name="Second vice, G55")
    expect(second).to_be_checked()
    second.click()
    expect(second).not_to_be_checked()
    saved(page)
    page.keyboard.press("Control+z")
    expect(second).to_be_checked()


def test_escape_closes_a_list_of_choices_and_keeps_what_is_picked(page: Page):
    page.goto(f"/jobs/{imported(page)}/setups")
    page.get_by_role("group", name="Ways up").get_by_role("button", name="Show the faces reached").click()
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-picks", re.compile(r"^\d"))
    page.get_by_role("combobox", name="Up direction").click()
    expect(page.get_by_role("option", name="+z")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("option", name="+z")).to_be_hidden()
    expect(view).to_have_attribute("data-picks", re.compile(r"^\d"))
    page.get_by_role("heading", name="Setups", exact=True).click()
    page.keyboard.press("Escape")
    expect(view).to_have_attribute("data-picks", "")


def test_a_card_starts_at_its_top(page: Page):
    page.goto(f"/jobs/{imported(page)}/plan")
    card = page.get_by_label("Card", exact=True)
    for name in ("Rough", "Face"):
        page.get_by_role("cell", name=name, exact=True).click()
        expect(card.get_by_role("textbox", name="Name", exact=True)).to_have_value(name)
        assert card.evaluate("e => e.scrollTop") == 0
        card.evaluate("e => e.scrollTo(0, e.scrollHeight)")
        assert card.evaluate("e => e.scrollTop") > 100
