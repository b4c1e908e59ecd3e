"""A real server, a real worker, a real browser."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from fenrik.bootstrap import FRONT_END

CHROMIUM = [
    "--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader",
    "--ignore-gpu-blocklist", "--disable-gpu-sandbox", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--no-first-run",
]  # fmt: skip
# Two browsers, two servers and two workers start at once on two cores: the first page of a
# cold machine was seen to take longer than the usual five seconds.
expect.set_options(timeout=30_000)


@pytest.fixture(scope="module")
def address(cluster_url: str) -> Iterator[str]:
    """Address of a server and a worker on the tests' database."""
    assert (FRONT_END / "index.html").is_file(), "build the front end first: make ui"
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    base = [sys.executable, "-m", "fenrik.bootstrap"]
    rest = ["--url", cluster_url, "--port", str(port)]
    environment = {**os.environ, "FENRIK_STALLED_SECONDS": "6"}
    children = [
        subprocess.Popen([*base, name, *rest], env=environment, start_new_session=True)
        for name in ("server", "worker")
    ]
    try:
        for _ in range(300):
            try:
                urllib.request.urlopen(f"http://127.0.0.1:{port}/api/jobs", timeout=1)
                break
            except OSError:
                time.sleep(0.1)
        yield f"http://127.0.0.1:{port}"
    finally:
        for child in children:
            os.killpg(child.pid, signal.SIGKILL)
            child.wait()


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """Debian's headless Chromium."""
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        yield chromium
        chromium.close()


@pytest.fixture
def page(browser: Browser, address: str) -> Iterator[Page]:
    """A page at 1280 x 800; a script error fails the test."""
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, base_url=address, accept_downloads=True
    )
    opened = context.new_page()
    opened.set_default_timeout(30_000)
    errors: list[str] = []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    yield opened
    context.close()
    assert errors == []
