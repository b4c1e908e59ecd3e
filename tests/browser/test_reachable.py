"""Every station can be used by keyboard and screen reader: axe-core finds no fault, in light and dark."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import saved
from tests.browser.test_whole_job import imported
from tests.conftest import ROOT

AXE = (ROOT / "ui" / "node_modules" / "axe-core" / "axe.min.js").read_text("utf-8")
STATIONS = ("part", "setups", "tools", "plan", "prove", "release")
SIZES = ((1280, 800), (1920, 1080), (1024, 700))


def violations(page: Page) -> list[str]:
    page.evaluate(AXE)
    found = page.evaluate("axe.run(document, {resultTypes: ['violations']})")["violations"]
    return [f"{v['id']}: {n['html'][:120]} {n['failureSummary']}" for v in found for n in v["nodes"]]


def cut_off(page: Page) -> list[str]:
    """Buttons, fields and words of sheet, card and head that reach beyond what is seen, and no scrolling
    brings them in."""
    return page.evaluate(
        """() => [...document.querySelectorAll('button, input, select, a, h1, h2, h3')].flatMap((e) => {
             const box = e.getBoundingClientRect();
             if (!box.width || e.closest('[style*="display: none"]')) return [];
             const beyond = box.left < -1 || box.right > innerWidth + 1;
             const name = e.textContent || e.ariaLabel;
             return beyond ? [`${e.tagName} ${name} at ${box.left} to ${box.right}`] : [];
           })"""
    )


def overlapping(page: Page) -> list[str]:
    """Controls over the view that lie on one another or hide a part of themselves."""
    return page.evaluate(
        """() => {
             const all = (which) => [...document.querySelectorAll(which)];
             const [a, b] = all('.looks, .showing').map((e) => e.getBoundingClientRect());
             const meet = b && a.left < b.right && b.left < a.right && a.top < b.bottom && b.top < a.bottom;
             const wide = (e) => e.scrollWidth > e.clientWidth + 1;
             const hides = (e) => getComputedStyle(e).overflowX === 'hidden' && wide(e);
             const short = all('.showing *').filter(hides);
             const words = short.map((e) => `${e.ariaLabel ?? e.className} is cut off`);
             return [...(meet ? ['what is shown lies on the directions to look from'] : []), ...words];
           }"""
    )


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_every_station_is_clean_and_nothing_is_cut_off(page: Page, scheme: str):
    page.emulate_media(color_scheme=scheme)
    job = imported(page)
    page.goto(f"/jobs/{job}/plan")
    saved(page)
    stations = page.get_by_role("navigation", name="Stations")
    expect(stations).to_contain_text(re.compile("to prove|proved"))
    if "to prove" in stations.inner_text():  # a job like it may be proved already
        page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_role("button", name=re.compile("5 ?Prove ?proved"))).to_be_visible(timeout=120_000)
    told = {}
    for station in STATIONS:
        page.goto(f"/jobs/{job}/{station}")
        expect(page.get_by_label("Model view")).to_have_attribute("data-part", re.compile("part-"))
        if station == "plan":
            page.get_by_role("table", name=re.compile("Operations of")).get_by_role("row").nth(1).click()
            expect(page.get_by_role("heading", name="Heights")).to_be_visible()
        if station == "tools":
            page.get_by_role("table", name="Tools", exact=True).get_by_role("row").nth(1).click()
            expect(page.get_by_role("heading", name="Holder, from the cutter upward")).to_be_visible()
        if station == "prove":
            expect(page.get_by_text("Total with tool changes")).to_be_visible()
        page.wait_for_timeout(500)
        told[station] = violations(page)
        for width, height in SIZES:
            page.set_viewport_size({"width": width, "height": height})
            told[station] += [f"{width}x{height}: {words}" for words in cut_off(page) + overlapping(page)]
            if station == "prove" and width == 1024:  # the check sees what it is for
                tight = ".showing { top: 8px !important; max-width: calc(100% - 220px) !important }"
                style = page.add_style_tag(content=tight)
                assert overlapping(page)
                style.evaluate("e => e.remove()")
        page.set_viewport_size({"width": 1280, "height": 800})
    page.goto("/")
    expect(page.get_by_role("list", name="Jobs")).to_be_visible()
    told["front page"] = violations(page)
    faults = [f"{where}: {words}" for where, found in told.items() for words in found]
    assert not faults, "\n".join(faults)
