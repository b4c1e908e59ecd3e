"""A real server, a real worker, a real browser."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Generator, Iterator
from typing import Any

import pytest
from playwright.sync_api import Browser, FormData, Locator, Page, expect, sync_playwright

from fenrik.bootstrap import FRONT_END
from tests.conftest import MODELS
from tests.processes import application

CHROMIUM = [
    "--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader",
    "--ignore-gpu-blocklist", "--disable-gpu-sandbox", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--no-first-run",
]  # fmt: skip
# Two browsers, two servers and two workers start at once on two cores: the first page of a
# cold machine was seen to take longer than the usual five seconds.
expect.set_options(timeout=30_000)


FAILED = pytest.StashKey[bool]()
WINDOW = os.environ.get("FENRIK_TEST_WINDOW", "1280x800")
SCHEME: Any = os.environ.get("FENRIK_TEST_SCHEME", "light")
"""The hands of the tests can be put to work in other windows, such as 1024x700, and in the dark scheme."""


@pytest.fixture(scope="package")
def address(cluster_url: str, tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """Address of a server and a worker on the tests' database, the same for all tests: what one has had
    computed is there for the next."""
    assert (FRONT_END / "index.html").is_file(), "build the front end first: make ui"
    with application(cluster_url, tmp_path_factory.mktemp("data")) as served:
        yield served


@pytest.fixture(scope="package")
def browser() -> Iterator[Browser]:
    """Debian's headless Chromium."""
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        yield chromium
        chromium.close()


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(
    item: pytest.Item, call: pytest.CallInfo[None]
) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """Remembers whether a test has failed, for its page."""
    report = yield
    if report.when == "call":
        item.stash[FAILED] = report.failed
    return report


@pytest.fixture
def page(request: pytest.FixtureRequest, browser: Browser, address: str) -> Iterator[Page]:
    """A page of the size and in the scheme of `WINDOW` and `SCHEME`; a script error fails the test. Of a test
    that failed it is told what the server knows of the job that was open."""
    width, height = (int(v) for v in WINDOW.split("x"))
    context = browser.new_context(
        viewport={"width": width, "height": height},
        color_scheme=SCHEME,
        base_url=address,
        accept_downloads=True,
    )
    opened = context.new_page()
    opened.set_default_timeout(30_000)
    errors: list[str] = []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    yield opened
    if request.node.stash.get(FAILED, False) and (job := re.search(r"/jobs/(\d+)", opened.url)):
        for what in ("state", "runs"):
            print(what, opened.request.get(f"/api/jobs/{job[1]}/{what}").text()[:3000])
    context.close()
    assert errors == []


def saved(page: Page) -> None:
    """Waits until the page says that all changes are kept: whatever looks behind the page's back waits for
    this."""
    expect(page.get_by_role("status", name="Changes")).to_have_text("all saved")


def settled(page: Page, seen: Locator) -> bytes:
    """The picture of what is seen, once it is the same twice."""
    before = b""
    for _ in range(40):
        now = seen.screenshot()
        if now == before:
            return now
        before = now
        page.wait_for_timeout(300)
    raise AssertionError("the picture does not come to rest")


def imported(page: Page, document: dict[str, Any], model: str) -> int:
    """A job from a document and one of the examples' models, handed in as files; its number."""
    files = FormData()
    content = json.dumps(document).encode()
    files.append("files", {"name": "job.json", "mimeType": "application/json", "buffer": content})
    solid = {"name": model, "mimeType": "application/step", "buffer": (MODELS / model).read_bytes()}
    files.append("files", solid)
    answer = page.request.post("/api/jobs/import", multipart=files)
    assert answer.ok, answer.text()
    return int(answer.json()["id"])
