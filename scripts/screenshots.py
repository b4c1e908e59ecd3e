"""Takes the pictures of docs/screenshots from the demonstration job of a running `make demo`.

Run `make demo` in one terminal, wait until all demonstration jobs are proved, then `make screenshots`.
"""

from __future__ import annotations

import json
import os
import sys
import urllib.request
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
from tests.browser.conftest import CHROMIUM, imported
from tests.browser.test_machine import bracket

OUT = Path(__file__).resolve().parents[1] / "docs" / "screenshots"
ADDRESS = f"http://127.0.0.1:{os.environ.get('FENRIK_PORT', '8750')}"


def shot(page: Page, name: str, job: int, station: str) -> None:
    page.goto(f"{ADDRESS}/jobs/{job}/{station}")
    page.wait_for_timeout(4000)
    if name == "part":
        page.mouse.move(640, 400)
        page.mouse.click(640, 400)
    elif name == "tools":
        page.get_by_role("cell", name="End mill 12, flutes 36.3").first.click()
    elif name == "plan":
        page.get_by_text("Finish steep walls").click()
    elif name == "sides":
        page.get_by_role("button", name="Look along Oil bore right").scroll_into_view_if_needed()
        page.get_by_role("button", name="Look along Oil bore right").click()
    elif name in ("flank", "replay", "arm", "lathe", "indexed"):
        if name == "indexed":
            page.get_by_role("combobox", name="Release").click()
            page.get_by_role("option", name="valve_manifold_top").click()
            page.wait_for_timeout(3000)
        page.get_by_text("Replay", exact=True).click()
        strip = page.get_by_role("slider", name="Moment of the program")
        box = strip.bounding_box()
        assert box is not None
        moment = {"flank": 0.93, "arm": 0.6, "lathe": 0.86, "replay": 0.24, "indexed": 0.825}[name]
        with page.expect_response(lambda answer: "/at/" in answer.url, timeout=60_000):
            strip.click(position={"x": box["width"] * moment, "y": 40})
        if name == "arm":
            page.get_by_role("button", name="Whole machine").click()
    elif name == "deviation":
        page.get_by_text("Deviation", exact=True).click()
    elif name in ("machine", "see_through"):
        machine(page, name)
    elif name == "collision":
        page.get_by_role("group", name="Finding 1").get_by_role("button").first.click()
    page.wait_for_timeout(3500)
    page.screenshot(path=OUT / f"{name}.png")


def machine(page: Page, name: str) -> None:
    """The machine about the work, solid or seen through."""
    page.get_by_role("combobox", name="Release").click()
    page.get_by_role("option").first.click()
    page.wait_for_timeout(2500)
    page.get_by_text("Replay", exact=True).click()
    button = page.get_by_role("button", name="Machine in the view")
    button.click()
    page.get_by_text("Seen" if name == "machine" else "See-through", exact=True).click()
    page.wait_for_timeout(1500)
    if name == "machine":
        page.get_by_label("guard", exact=True).check()
    button.click()
    if name == "see_through":
        page.get_by_text("Joints", exact=True).click()
    strip = page.get_by_role("slider", name="Moment of the program")
    box = strip.bounding_box()
    assert box is not None
    strip.click(position={"x": box["width"] * (0.62 if name == "machine" else 0.4), "y": 40})
    page.get_by_role("button", name="Whole machine").click()
    page.mouse.move(660, 380)
    for _ in range(4 if name == "machine" else 2):
        page.mouse.wheel(0, -240)
        page.wait_for_timeout(200)


def planted(page: Page) -> int:
    """A job with a post on the table that the head runs into, proved; its number."""
    number = imported(page, bracket(post=264.0), "bearing_bracket.step")
    page.goto(f"{ADDRESS}/jobs/{number}/prove")
    page.get_by_role("button", name="Prove", exact=True).click()
    page.get_by_text("Total with tool changes").wait_for(timeout=180_000)
    return number


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    wanted = sys.argv[1:]
    with urllib.request.urlopen(f"{ADDRESS}/api/jobs") as answer:
        jobs = {row["name"]: row["id"] for row in json.load(answer)}
    bracket, mould = jobs["Bearing bracket"], jobs["Nozzle mould half"]
    views = [("part", bracket, "part"), ("setups", bracket, "setups"), ("tools", bracket, "tools")]
    views += [("plan", mould, "plan"), ("sides", jobs["Valve manifold"], "setups")]
    views += [("flank", jobs["Guide vane"], "prove"), ("arm", jobs["Foam dome"], "prove")]
    views += [("indexed", jobs["Valve manifold"], "prove")]
    views += [("machine", jobs["Valve manifold"], "prove"), ("see_through", bracket, "prove")]
    views += [("lathe", jobs["Six-flat flange"], "prove"), ("prove", bracket, "prove")]
    views += [(name, mould, "prove") for name in ("replay", "deviation")] + [("release", bracket, "release")]
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        page = browser.new_page(viewport={"width": 1280, "height": 800}, base_url=ADDRESS)
        for name, job, station in [v for v in views if not wanted or v[0] in wanted]:
            shot(page, name, job, station)
        if not wanted or "collision" in wanted:
            number = planted(page)
            shot(page, "collision", number, "prove")
            page.request.delete(f"/api/jobs/{number}")
        if not wanted or "jobs" in wanted:
            page.goto(ADDRESS)
            page.wait_for_timeout(1500)
            page.screenshot(path=OUT / "jobs.png")
        if not wanted or "setup_sheet" in wanted:
            page.goto(f"{ADDRESS}/api/jobs/{jobs['Valve manifold']}/releases/valve_manifold_top/sheet")
            page.screenshot(path=OUT / "setup_sheet.png")
        browser.close()


if __name__ == "__main__":
    main()
