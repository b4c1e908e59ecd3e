"""Two browsers at one job, and a job that cannot be opened, as people see it."""

from __future__ import annotations

import pytest
from playwright.sync_api import Browser, Page, expect
from sqlalchemy import text

from fenrik.app.database import make_engine
from tests.browser.conftest import saved
from tests.browser.test_whole_job import imported

pytestmark = pytest.mark.timeout(180)


def named(page: Page, name: str) -> None:
    page.goto("/")
    page.get_by_label("Your name").fill(name)


def test_one_sees_what_the_other_changes_and_undo_says_whose_it_is(
    page: Page, browser: Browser, address: str
):
    named(page, "Anna")
    job = imported(page)
    page.goto(f"/jobs/{job}/setups")
    setups = page.get_by_role("cell", name="Column mill 500")
    expect(setups).to_have_count(1)
    other = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=address).new_page()
    named(other, "Bo")
    other.goto(f"/jobs/{job}/setups")
    other.get_by_role("button", name="Add a setup").click()
    saved(other)

    expect(setups).to_have_count(2)  # without a reload
    asked: list[str] = []
    answers = [False, True]

    def answer(dialog) -> None:
        asked.append(dialog.message)
        dialog.accept() if answers[len(asked) - 1] else dialog.dismiss()

    page.on("dialog", answer)
    page.get_by_role("button", name="Undo").click()
    saved(page)
    expect(setups).to_have_count(2)  # declined: nothing is taken back
    page.get_by_role("button", name="Undo").click()
    expect(setups).to_have_count(1)
    assert len(asked) == 2 and all("'Bo'" in words for words in asked)
    other.context.close()


def test_a_job_that_cannot_be_opened_is_listed_with_its_reason_and_its_document(page: Page, cluster_url: str):
    made = page.request.post("/api/jobs", data={"name": "From another version"}).json()
    good = page.request.post("/api/jobs", data={"name": "Still fine"}).json()
    engine = make_engine(cluster_url)
    with engine.begin() as line:
        line.execute(
            text("UPDATE revision SET document = document || '{\"colour\": 3}' WHERE job_id = :id"),
            {"id": made["id"]},
        )
        line.execute(
            text("UPDATE job SET problem = '''colour'' is not known here.' WHERE id = :id"),
            {"id": made["id"]},
        )
    engine.dispose()
    page.goto("/")
    row = page.get_by_role("listitem").filter(has_text="From another version")
    expect(row.get_by_text("Cannot be opened: 'colour' is not known here.")).to_be_visible()
    with page.expect_download() as download:
        row.get_by_role("link", name="Download its document").click()
    assert "From another version" in download.value.path().read_text()
    page.goto(f"/jobs/{made['id']}/plan")
    expect(page.get_by_text("'colour' is not known here")).to_be_visible()
    expect(page.get_by_role("link", name="Download its document")).to_be_visible()
    page.get_by_role("link", name="All jobs").click()
    page.get_by_role("link", name="Still fine").click()
    expect(
        page.get_by_role("heading", name="Plan", exact=True).or_(page.get_by_text("all saved"))
    ).to_be_visible()
    page.request.delete(f"/api/jobs/{made['id']}")
    page.request.delete(f"/api/jobs/{good['id']}")
