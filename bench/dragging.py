"""A hand on the run strip of the mould: gaps between pictures in headless Chromium, drawn without a graphics
card, beside those of a page on which nothing is drawn.

The hand goes to and fro over the whole program for twelve seconds. The bar is the 95th percentile of the gaps
over 100 ms; with the machine in the view, twenty pictures a second.
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bench.timing import Row

ROOT = Path(__file__).resolve().parents[1]
BAR_MS = 100.0
PICTURES = 20.0
SECONDS = 12
PROVING_SECONDS = 600.0

GAPS = """
  const gaps = []; let last = performance.now(), on = true;
  const tick = () => { const now = performance.now(); gaps.push(now - last); last = now;
                       if (on) requestAnimationFrame(tick); };
  requestAnimationFrame(tick);
  const wait = (ms) => new Promise((done) => setTimeout(done, ms));
"""
STILL = f"async () => {{ {GAPS} await wait(3000); on = false; return gaps; }}"
DRAG = f"""async (box) => {{ {GAPS}
  const strip = document.querySelector('[aria-label="Moment of the program"]');
  strip.setPointerCapture = () => undefined;
  const hand = (type, x) => strip.dispatchEvent(new PointerEvent(type,
    {{clientX: x, clientY: box.y + 40, buttons: 1, pointerId: 1, bubbles: true}}));
  hand('pointerdown', box.x + 5);
  const start = performance.now(), whole = 1000 * {SECONDS};
  for (let s = 0; s < 1; s = (performance.now() - start) / whole) {{
    const reach = 0.3 + 0.7 * Math.abs(Math.sin(s * 40));
    hand('pointermove', box.x + (0.5 - 0.5 * Math.cos(s * 6 * Math.PI) * reach) * box.width);
    await wait(8);
  }}
  hand('pointerup', box.x + 5); on = false; return gaps; }}"""


def rows() -> Iterator[Row]:
    """The rows of this benchmark; the second of two rounds counts, when all programs of the card are
    compiled."""
    sys.path.insert(0, str(ROOT))
    from tests.processes import application

    from fenrik.app.database import migrate, wait_for
    from fenrik.postgres import Cluster

    with tempfile.TemporaryDirectory() as folder:
        cluster = Cluster(Path(folder) / "postgres")
        cluster.start()
        try:
            url = cluster.address("fenrik_bench")
            wait_for(url)
            migrate(url)
            with application(url, Path(folder) / "data") as address:
                job = _proved_mould(address)
                still, drag, moved = _gaps(f"{address}/jobs/{job}/prove")
        finally:
            cluster.stop()
    p50, p95 = _share(drag, 0.5), _share(drag, 0.95)
    what = f"gap between pictures while the strip is dragged, p95 (p50 {p50:.0f} ms)"
    yield Row(
        what, f"{p95:.0f} ms", f"{BAR_MS:.0f} ms; still {_share(still, 0.95):.0f} ms", p95 / BAR_MS, most=1
    )
    rate = 1000.0 * len(moved) / sum(moved)
    p95 = _share(moved, 0.95)
    yield Row(
        f"pictures while it is dragged with the machine in the view (p95 of the gaps {p95:.0f} ms)",
        f"{rate:.0f} /s",
        f"{PICTURES:.0f} /s",
        rate / PICTURES,
        least=1,
    )


def _share(gaps: list[float], share: float) -> float:
    return sorted(gaps)[int(share * (len(gaps) - 1))]


def _gaps(page_address: str) -> tuple[list[float], list[float], list[float]]:
    from playwright.sync_api import sync_playwright
    from tests.browser.conftest import CHROMIUM

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(page_address)
        page.get_by_text("Total with tool changes").wait_for()
        page.get_by_text("Replay", exact=True).click()
        page.wait_for_timeout(6000)
        still: list[float] = page.evaluate(STILL)
        box = page.get_by_role("slider", name="Moment of the program").bounding_box()
        drag: list[float] = []
        for _ in range(2):
            drag = page.evaluate(DRAG, box)
        page.get_by_role("button", name="Machine in the view").click()
        page.get_by_text("Seen", exact=True).click()
        page.get_by_role("button", name="Machine in the view").click()
        page.wait_for_timeout(6000)
        moved: list[float] = []
        for _ in range(2):
            moved = page.evaluate(DRAG, box)
        browser.close()
    return still[1:], drag[1:], moved[1:]


def _proved_mould(address: str) -> int:
    """The mould's job on a server, proved."""
    import httpx
    import yaml

    text = (ROOT / "examples" / "nozzle_mould.yaml").read_text("utf-8")
    model = yaml.safe_load(text)["part"]["file"]
    files: list[tuple[str, Any]] = [
        ("files", ("nozzle_mould.yaml", text.encode(), "application/yaml")),
        ("files", (model, (ROOT / "examples" / model).read_bytes(), "application/step")),
    ]
    answer = httpx.post(f"{address}/api/jobs/import", files=files, timeout=60)
    answer.raise_for_status()
    job = int(answer.json()["id"])
    httpx.post(f"{address}/api/jobs/{job}/runs", json={"target": "prove"}, timeout=60).raise_for_status()
    until = time.monotonic() + PROVING_SECONDS
    while time.monotonic() < until:
        with urllib.request.urlopen(f"{address}/api/jobs/{job}/state") as state:
            releases = json.load(state)["releases"]
            if releases and all(r["state"] == "ready" for r in releases):
                return job
        time.sleep(1.0)
    raise RuntimeError("the mould is not proved")
