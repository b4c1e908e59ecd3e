"""The first hour: tools by search and as drafts, a change that came too late, the space bar, findings that
lead."""

from __future__ import annotations

import re

from playwright.sync_api import Browser, Page, Request, Route, expect

from tests.browser.conftest import saved
from tests.browser.test_whole_job import document_of, imported


def test_tools_are_found_by_diameter_typed_in_any_order_and_kept(page: Page):
    job = imported(page)
    page.goto(f"/jobs/{job}/tools")
    shelf = page.get_by_role("region", name="Shelf")
    find = shelf.get_by_role("textbox", name="Find a tool")
    find.fill("Ø8")
    rows = shelf.get_by_role("table", name="Tools of the shelf").get_by_role("row")
    expect(rows.filter(has_text="Ball mill 8")).to_have_count(1)
    expect(rows.filter(has_text="End mill 12")).to_have_count(0)
    find.fill("ball mill 8")
    find.press("Enter")  # the only match
    table = page.get_by_role("table", name="Tools", exact=True)
    expect(table.get_by_role("cell", name="Ball mill 8", exact=True)).to_be_visible()
    saved(page)
    # longer flutes first, the stick-out after: a draft until both go together
    flutes = page.get_by_role("textbox", name="Flute length")
    flutes.fill("60")
    flutes.press("Enter")
    draft = page.get_by_role("alert").filter(has_text="Not saved yet")
    expect(draft).to_contain_text("The flute length, 60, is longer than the stick-out")
    expect(table.get_by_text("a draft, not saved yet")).to_be_visible()
    expect(flutes).to_have_value("60")
    draft.get_by_role("button", name="Set the stick-out to 60").click()
    expect(draft).to_have_count(0)
    saved(page)
    tool = next(t for t in document_of(page, job)["tools"] if t["name"] == "Ball mill 8")
    assert (tool["flute_length"], tool["stick_out"]) == (60, 60)
    # used tools say why they stay; others are kept for later jobs, and go
    table.get_by_role("cell", name="End mill 10", exact=True).click()
    expect(page.get_by_text("T1 cannot be removed: used by Face, Rough.")).to_be_visible()
    page.get_by_role("button", name="New tool").click()
    expect(page.get_by_role("heading", name=re.compile("New tool"))).to_be_visible()
    name = page.get_by_label("Card").get_by_role("textbox", name="Name", exact=True)
    name.fill("Our mill of this test")
    name.press("Enter")
    saved(page)
    page.get_by_role("button", name=re.compile("^Keep T")).click()
    find.fill("our mill of this test")
    expect(rows.filter(has_text="our own")).to_have_count(1)
    page.get_by_role("button", name=re.compile("^Remove T")).click()
    expect(table.get_by_text("Our mill of this test")).to_have_count(0)


def test_a_change_that_comes_too_late_is_told_shown_and_put_on_top(
    page: Page, browser: Browser, address: str
):
    page.route("**/events", lambda route: route.abort())  # this one hears nothing of others
    job = imported(page)
    page.goto(f"/jobs/{job}/plan")
    page.get_by_role("cell", name="Rough", exact=True).click()
    other = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=address).new_page()
    other.goto(f"/jobs/{job}/plan")
    other.get_by_role("cell", name="Face", exact=True).click()
    notes = other.get_by_role("textbox", name="Notes")
    notes.fill("slowly")
    notes.blur()
    saved(other)
    step = page.get_by_role("textbox", name="Step down")
    step.fill("5")
    step.press("Enter")
    late = page.get_by_role("alert", name="Changes not saved")
    expect(late).to_contain_text("Top, 1.2 Rough, step down: 8 → 5")
    late.get_by_role("button", name="Put my change on top").click()
    expect(late).to_have_count(0)
    saved(page)
    face, rough = document_of(page, job)["setups"][0]["operations"]
    assert (face["notes"], rough["parameters"]["step_down"]) == ("slowly", 5)
    other.context.close()


def test_the_space_bar_plays_and_what_waits_says_for_what(page: Page):
    job = imported(page)
    page.goto(f"/jobs/{job}/plan")
    page.get_by_role("cell", name="Rough", exact=True).click()
    feed = page.get_by_role("textbox", name="Feed", exact=True)
    feed.fill("9000")  # the tool bends
    feed.press("Enter")
    saved(page)
    page.keyboard.press("5")
    page.get_by_role("button", name="Compute the plan").click()
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_role("navigation", name="Stations")).to_contain_text("proved", timeout=120_000)
    expect(page.get_by_text("Total with tool changes")).to_be_visible()
    page.get_by_text("Replay", exact=True).click()
    slider = page.get_by_role("slider", name="Moment of the program")
    before = slider.get_attribute("aria-valuenow")
    page.keyboard.press("Space")
    expect(slider).not_to_have_attribute("aria-valuenow", str(before), timeout=60_000)
    page.keyboard.press("Space")
    expect(page.get_by_role("button", name="Play", exact=True)).to_be_visible()
    bends = page.get_by_role("group", name=re.compile("Finding")).filter(has_text="'Rough' bends by up to")
    bends.get_by_role("button", name="Open the operation Rough").click()
    expect(page.get_by_role("textbox", name="Name", exact=True)).to_have_value("Rough")
    page.keyboard.press("5")
    mend = bends.get_by_role("button", name=re.compile(r"^Set feed to"))
    held = re.search(r"\d+", mend.inner_text())
    assert held is not None and int(held[0]) < 9000
    mend.click()
    saved(page)
    # what the change did stands beside the proof before
    page.get_by_role("button", name="Prove", exact=True).click()
    page.get_by_role("combobox", name="With").click(timeout=120_000)
    page.get_by_role("option", name="the proof before the last change").click()
    beside = page.get_by_role("table", name="Proofs side by side")
    for what in ("Run time", "Rough"):
        then, now = beside.get_by_role("row").filter(has_text=what).get_by_role("cell").all_inner_texts()[1:]
        assert re.fullmatch(r"\d+:\d\d", then) and now > then, (what, then, now)
    expect(beside).to_contain_text("same")  # what it did not change
    page.keyboard.press("4")  # a choice that was made does not keep the key
    expect(feed).to_have_value(held[0])
    step = page.get_by_role("textbox", name="Step down")
    step.fill("0")
    step.press("Enter")
    expect(page.get_by_text("Step down must be above 0.")).to_be_visible()
    expect(step).to_have_value("0")
    step.press("Escape")
    expect(step).to_have_value("8")


EARLIER = """
const plain = window.fetch;
let first = true;
window.fetch = async (what, how) => {
    const answer = await plain(what, how);
    if (!first || !String(what).endsWith("/state")) return answer;
    first = false;
    await new Promise((go) => setTimeout(go, 3000));
    const state = { ...(await answer.json()), part: { state: "unread" } };
    return new Response(JSON.stringify(state), { headers: { "Content-Type": "application/json" } });
};
"""
"""The first answer to what is computed is that of a moment ago, and slow on its way."""


def test_what_ends_while_the_page_comes_up_is_seen(page: Page):
    job = imported(page)
    page.goto(f"/jobs/{job}/part")
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-part", re.compile("part-"))
    # and what is told comes while it is on its way
    asked: list[Request] = []
    held: list[Route] = []
    page.route("**/events", lambda route: route.continue_() if asked else held.append(route))

    def seen(request: Request) -> None:
        if request.url.endswith("/state") and not asked:
            asked.append(request)
            for route in held:
                route.continue_()

    page.on("request", seen)
    page.add_init_script(EARLIER)
    page.goto(f"/jobs/{job}/setups")
    expect(view).to_have_attribute("data-part", re.compile("part-"))
