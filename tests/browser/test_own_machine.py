"""A machine of the shop's own: made on a form with the view showing it, refused where it is none, out and in
as URDF, kept for the next job."""

from __future__ import annotations

import re
import zipfile
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import imported, saved
from tests.browser.test_arm import prove
from tests.browser.test_machine import bracket


def at_setups(page: Page, data) -> None:
    page.goto(f"/jobs/{imported(page, data, 'bearing_bracket.step')}/setups")
    expect(page.get_by_label("Model view")).to_have_attribute("data-part", re.compile("part-"))


def plain():
    """The bracket on the library's column mill."""
    data = bracket()
    data["machines"], data["setups"][0]["machine"] = [], "column_mill_500"
    return data


def typed(field, value: str) -> None:
    field.fill(value)
    field.press("Enter")


def test_a_machine_is_made_on_a_form_and_proved_on(page: Page):
    at_setups(page, plain())
    page.get_by_role("button", name="Make it our own").click()
    saved(page)
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-cell", "true")  # the view shows it
    form = page.get_by_role("group", name="Own machine")
    typed(form.get_by_label("Name of the machine"), "Mill in bay 2")
    saved(page)
    joint = form.get_by_role("group", name="Joint X")
    # an end beyond the other is refused, with the words under the field and what was typed
    typed(joint.get_by_label("Upper end"), "-300")
    expect(joint).to_contain_text(re.compile("low end -260 over its high end -300"))
    expect(joint.get_by_label("Upper end")).to_have_value("-300")
    typed(joint.get_by_label("Upper end"), "50")
    saved(page)
    expect(page.locator(".follows", has_text="Travels of the machine")).to_contain_text("310 x 420 x 450")
    # a joint's name goes on in what it carries
    typed(joint.get_by_label("Joint", exact=True), "Cross")
    saved(page)
    work = form.get_by_role("combobox", name="Work on")
    expect(work).to_have_value("Cross")
    # one more body, seen at once
    before = form.get_by_role("button", name=re.compile("Remove body")).count()
    form.get_by_role("button", name="Add a box").click()
    saved(page)
    expect(form.get_by_role("button", name=re.compile("Remove body"))).to_have_count(before + 1)
    page.get_by_role("button", name="Machine in the view").click()
    expect(page.get_by_role("checkbox", name="bed", exact=True)).to_be_visible()
    page.get_by_role("button", name="Machine in the view").click()
    form.get_by_role("button", name=f"Remove body {before + 1}").click()
    saved(page)
    # what does not fit any more is told by the proof
    page.goto(page.url.replace("/setups", "/prove"))
    prove(page)
    expect(page.get_by_role("group", name="Finding 1", exact=True)).to_contain_text("upper end of X")


def test_a_machine_goes_out_as_urdf_comes_back_and_is_kept(page: Page, tmp_path: Path):
    at_setups(page, plain())
    with page.expect_download() as waited:
        page.get_by_role("link", name="As URDF").click()
    waited.value.save_as(tmp_path / "machine.zip")
    with zipfile.ZipFile(tmp_path / "machine.zip") as archive:
        archive.extractall(tmp_path / "machine")
    files = sorted(p for p in (tmp_path / "machine").rglob("*") if p.is_file())
    assert [p.name for p in files if p.suffix == ".urdf"] == ["column_mill_500.urdf"]
    with page.expect_file_chooser() as chosen:
        page.get_by_role("button", name="From URDF").click()
    chosen.value.set_files(files)
    saved(page)
    # the library has one of that name: the shop's own gets another
    machine = page.get_by_role("combobox", name="Machine", exact=True)
    expect(machine).to_have_value("Column mill 500 2")
    page.get_by_role("button", name="Change the machine").click()
    typed(page.get_by_label("Name of the machine"), "Mill of the annex")
    saved(page)
    page.get_by_role("group", name="Machine of the setup").get_by_role(
        "button", name="Keep for later jobs"
    ).click()
    expect(page.get_by_role("button", name="Keep no longer")).to_be_visible()

    at_setups(page, plain())
    machine.click()
    page.get_by_role("option", name="Mill of the annex").click()
    saved(page)
    expect(machine).to_have_value("Mill of the annex")
    page.get_by_role("button", name="Keep no longer").click()
    expect(page.get_by_role("button", name="Keep no longer")).to_have_count(0)

    # a file that is no description is refused with what to do
    text = tmp_path / "notes.urdf"
    text.write_text("no description")
    with page.expect_file_chooser() as chosen:
        page.get_by_role("button", name="From URDF").click()
    chosen.value.set_files([text])
    expect(page.get_by_text(re.compile("no XML|is no description")).first).to_be_visible()
