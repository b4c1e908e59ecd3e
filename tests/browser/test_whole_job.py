"""The whole job by hand-like steps in the real interface, and what happens when the input is wrong."""

from __future__ import annotations

import base64
import re

import pytest
from playwright.sync_api import Dialog, Locator, Page, expect

from fenrik.core.posting.reading.readback import Reader
from tests.browser.conftest import imported as handed_in
from tests.browser.conftest import saved, settled
from tests.conftest import MODELS, NASTY, make_tool

pytestmark = pytest.mark.timeout(280)


def station(page: Page, name: str) -> None:
    page.get_by_role("navigation", name="Stations").get_by_role("button", name=name).click()


def begin(page: Page, name: str) -> None:
    page.goto("/")
    page.get_by_label("New job").fill(name)
    page.get_by_role("button", name="Begin").click()
    expect(page.get_by_role("heading", name="Part", exact=True)).to_be_visible()


def give(page: Page, path) -> None:
    page.get_by_label("Model file").set_input_files(path)


def drop(page: Page, path) -> None:
    """Lets go of a file over the field, as a hand does that dragged it from a folder."""
    content = base64.b64encode(path.read_bytes()).decode()
    carried = page.evaluate_handle(
        """([name, content]) => {
            const bytes = Uint8Array.from(atob(content), (c) => c.charCodeAt(0));
            const carried = new DataTransfer();
            carried.items.add(new File([bytes], name));
            return carried;
        }""",
        [path.name, content],
    )
    field = page.get_by_role("group", name="Drop area")
    for event in ("dragenter", "dragover", "drop"):
        field.dispatch_event(event, {"dataTransfer": carried})


TABS = {
    "Add an operation": "Operation",
    "Holes": "Holes",
    "Features": "Features",
    "Copy a recipe to change it": "Recipes",
}
"""Where on the plan something that is added is chosen."""


def adding(page: Page, way: str) -> None:
    """Opens a way to add to the plan."""
    tab = page.get_by_role("tab", name=way, exact=True)
    if tab.get_attribute("aria-selected") != "true":
        tab.click()


def click_at(view: Locator, right: float, down: float) -> None:
    """Clicks in the view, so far from its middle as shares of its shorter side: in a window of another size
    that is the same place of the part, which fills it."""
    box = view.bounding_box()
    assert box
    shorter = min(box["width"], box["height"])
    view.click(position={"x": box["width"] / 2 + right * shorter, "y": box["height"] / 2 + down * shorter})


def add_setup(page: Page, up: str = "+z") -> None:
    """Adds a setup; the way up that is proposed is kept where it is the wanted one."""
    page.get_by_role("button", name="Add a setup").click()
    field = page.get_by_role("combobox", name="Up direction")
    expect(field).to_be_visible()
    if field.input_value() != up:
        choose(page, "Up direction", up)


def choose(page: Page, label: str, option: str) -> None:
    if label in TABS:
        adding(page, TABS[label])
    page.get_by_role("combobox", name=label).click()
    page.get_by_role("option", name=option).first.click()


def take_tool(page: Page, name: str) -> None:
    shelf = page.get_by_role("region", name="Shelf")
    shelf.get_by_role("textbox", name="Find a tool").fill(name)
    shelf.get_by_text(name, exact=True).first.click()
    shelf.get_by_role("button", name="Add to job").click()
    shelf.get_by_role("textbox", name="Find a tool").fill("")
    table = page.get_by_role("table", name="Tools", exact=True)
    expect(table.get_by_role("cell", name=name, exact=True)).to_be_visible()


SLOW_LENGTHS = """() => {
    const plain = window.fetch;
    window.fetch = async (what, how) => {
        if (String(what).endsWith("/length")) await new Promise((go) => setTimeout(go, 800));
        return plain(what, how);
    };
}"""


def test_from_step_file_to_proved_program(page: Page, tmp_path):
    begin(page, "Plate by hand")
    give(page, MODELS / "plate_a.step")
    expect(page.get_by_text("Nothing is wrong with the file.")).to_be_visible(timeout=60_000)
    expect(page.get_by_text("35.606 cm³")).to_be_visible()

    station(page, "Setups")
    add_setup(page)
    expect(page.get_by_role("cell", name="Column mill 500")).to_be_visible()
    above = page.get_by_role("textbox", name="Allowance above")
    above.fill("1/16in")
    above.press("Enter")
    expect(page.get_by_text(re.compile(r"46 x 108 x 17\.58"))).to_be_visible()
    choose(page, "Material", "N Aluminium")
    page.get_by_role("button", name="X low, Y low").click()
    expect(page.get_by_role("button", name="X low, Y low")).to_have_attribute("aria-pressed", "true")
    choose(page, "Work offset", "G56")

    station(page, "Tools")
    take_tool(page, "End mill 10")
    take_tool(page, "Ball mill 6")
    expect(page.get_by_role("img", name=re.compile("Drawing of tool"))).to_be_visible()

    station(page, "Plan")
    choose(page, "Add an operation", "Roughing in levels")
    expect(page.get_by_role("heading", name="Roughing in levels")).to_be_visible()
    step = page.get_by_role("textbox", name="Step down")
    step.fill("2*3")
    step.press("Enter")
    nerve = page.get_by_role("slider", name="Proposals from cautious to bold")
    nerve.focus()
    nerve.press("ArrowRight")
    expect(page.get_by_text("bold", exact=True).first).to_be_visible()
    choose(page, "Add an operation", "Parallel finishing")
    expect(page.get_by_role("heading", name="Parallel finishing")).to_be_visible()
    cusp = page.get_by_role("textbox", name="Cusp")
    for told in ("Stepover", "Passes, about", "Time in cut, about"):  # before anything is computed
        expect(page.get_by_label("Card").get_by_text(told, exact=True)).to_be_visible()
    page.evaluate(SLOW_LENGTHS)
    cusp.fill("0.02")
    page.get_by_role("button", name="Compute the plan").click()  # must not run ahead of what was just typed
    table = page.get_by_role("table", name="Operations of Top")
    expect(table.get_by_text("ready")).to_have_count(2, timeout=90_000)

    station(page, "Prove")
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_role("heading", name="Findings")).to_be_visible(timeout=120_000)
    expect(page.get_by_text("Total with tool changes")).to_be_visible()
    expect(page.get_by_text("◆ stop")).to_have_count(0)
    expect(page.get_by_text("Reachable surface on size")).to_be_visible()
    page.get_by_text("Deviation", exact=True).click()
    expect(page.get_by_label("Deviation scale")).to_be_visible()
    slider = page.get_by_role("slider", name="Moment of the program")
    page.get_by_text("Replay", exact=True).click()
    slider.focus()
    with page.expect_response(re.compile(r"/proofs/.*/at/20$"), timeout=60_000) as fine:
        slider.press("Shift+ArrowRight")
    assert fine.value.ok  # where the moment rests, the stock is the one that the proof cut
    expect(slider).to_have_attribute("aria-valuenow", "20")
    page.get_by_role("button", name="Play", exact=True).click()
    expect(slider).not_to_have_attribute("aria-valuenow", "20", timeout=15_000)
    page.get_by_role("cell", name="Roughing in levels", exact=True).click()
    expect(page.get_by_role("heading", name="Load in “Roughing in levels”")).to_be_visible()
    expect(page.get_by_text("Engagement: half, 95 %, most")).to_be_visible()

    station(page, "Tools")
    take_tool(page, "Tapered ball R2, 5°")
    drawing = page.get_by_role("img", name="Drawing of tool 23")
    expect(drawing).to_contain_text("5°")
    lean = page.get_by_role("textbox", name="Side from axis")
    lean.fill("8")
    lean.press("Enter")
    expect(drawing).to_contain_text("8°")
    lean.fill("1")
    lean.press("Enter")
    expect(page.get_by_text(re.compile("The flute length, 40, is shorter than the tip"))).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("^Set the flute length to 173"))).to_be_visible()
    page.get_by_role("button", name="Take it back").click()
    expect(lean).to_have_value("8")
    page.get_by_role("button", name="Remove T23").click()

    station(page, "Release")
    text = page.get_by_label("Program text")
    expect(text).to_contain_text("G56")
    expect(text).not_to_contain_text("M30")
    for _ in range(200):  # longer and longer, to its end
        if "M30" in text.inner_text():
            break
        text.evaluate("e => e.scrollTo(0, e.scrollHeight)")
        page.wait_for_timeout(50)
    expect(text).to_contain_text("M30")
    with page.expect_download() as download:
        page.get_by_role("link", name=re.compile("Download")).click()
    file = tmp_path / "program.nc"
    download.value.save_as(file)
    assert download.value.suggested_filename == "plate_by_hand_top.nc"
    motion = Reader(100.0).read(file.read_text())
    assert len(motion) > 200
    assert set(motion.tool.tolist()) == {4, 18}
    low, high = motion.moves.box()
    assert high[2] <= 100.0 and low[2] == pytest.approx(-17.5875, abs=0.3)
    with page.context.expect_page() as sheet:
        page.get_by_role("link", name="Setup sheet").click()
    expect(sheet.value.get_by_role("heading", name="Setup sheet: Plate by hand, Top")).to_be_visible()
    assert sheet.value.pdf()[:5] == b"%PDF-"
    # printed, or saved as PDF, from the page as it is
    page.get_by_role("button", name="Print, PDF").click()
    frame = page.locator("iframe")
    expect(frame).to_have_attribute("srcdoc", re.compile("Setup sheet: Plate by hand"))

    page.reload()  # everything is as it was
    expect(page.get_by_text("proved", exact=True).first).to_be_visible()


def test_holes_from_the_list_of_the_part_to_proved_cycles(page: Page):
    """From the bare file: four counterbored holes, their recipe with its tools, and the text with its
    cycles."""
    begin(page, "Pillow block")
    give(page, MODELS / "pillow_block.step")
    holes = page.get_by_role("table", name="Holes of the part")
    expect(holes.get_by_text("Ø3 counterbored, through")).to_be_visible(timeout=60_000)
    holes.get_by_text("Ø3 counterbored, through").click()
    expect(page.get_by_label("Picked geometry").get_by_text("Distance of the axes")).to_be_visible()

    station(page, "Setups")
    add_setup(page)
    station(page, "Plan")
    choose(page, "Holes", "4 x Ø3 counterbored, through")
    page.get_by_role("button", name="Plan these 4 holes").click()
    table = page.get_by_role("table", name="Operations of Top")
    expect(table.get_by_role("cell", name="Counterbore Ø3", exact=True)).to_be_visible()
    expect(page.get_by_text("comes from the library").first).to_be_visible()
    expect(page.get_by_role("checkbox", name="4 x Ø3 counterbored, through")).to_be_checked()
    choose(page, "Holes", "1 x Ø8 counterbored, through")
    expect(
        page.get_by_text("8 is a usual size of a reamed fit").or_(page.get_by_text("drilled to size"))
    ).to_be_visible()

    station(page, "Prove")
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_role("heading", name="Findings")).to_be_visible(timeout=120_000)
    expect(page.get_by_text("◆ stop")).to_have_count(0)
    job = re.search(r"/jobs/(\d+)/", page.url)
    assert job is not None
    saved(page)
    state = page.request.get(f"/api/jobs/{job[1]}/state").json()
    name = state["releases"][0]["name"]
    text = page.request.get(f"/api/jobs/{job[1]}/releases/{name}/program").text()
    for code in ("G98 G82", "G98 G83", "G80"):
        assert code in text

    # another use takes the place of what makes them, asked once; refused, everything stays
    station(page, "Plan")
    rows = table.get_by_role("row")
    expect(rows).not_to_have_count(0)
    made = rows.all_inner_texts()
    choose(page, "Holes", "4 x Ø3 counterbored, through")
    page.get_by_role("combobox", name="Use").click()
    page.get_by_role("listbox", name="Use").get_by_role("option").nth(1).click()
    for answer in ("dismiss", "accept"):
        asked: list[str] = []

        def answered(dialog: Dialog, how: str = answer, told: list[str] = asked) -> None:
            told.append(dialog.message)
            getattr(dialog, how)()

        page.once("dialog", answered)
        page.get_by_role("button", name="Plan these 4 holes").click()
        if answer == "accept":
            expect(rows).not_to_have_text(made)
        assert len(asked) == 1 and "Counterbore Ø3" in asked[0] and asked[0].endswith("Replace that?")
        saved(page)
        setup = document_of(page, int(job[1]))["setups"][0]
        assert answer == "accept" or len(setup["operations"]) == len(made) - 1
    faces = [
        h["face"] for o in setup["operations"] if o["name"].startswith("Counterbore") for h in o["holes"]
    ]
    assert len(faces) == len(set(faces)), "never a second set"


def test_a_whole_part_is_planned_and_proved_in_few_clicks(page: Page):
    """From the bare file to proved programs of a bracket in two setups, held in jaws, in less than 25
    clicks."""
    clicks: list[str] = []
    page.expose_function("clicked", lambda words: clicks.append(words))
    count = (
        "document.addEventListener('click', (e) => "
        "window.clicked(String(e.target.textContent).slice(0, 40)), true)"
    )
    page.add_init_script(count)
    page.reload()
    begin(page, "Bearing bracket, whole")
    give(page, MODELS / "bearing_bracket.step")
    expect(page.get_by_role("table", name="Holes of the part")).to_be_visible(timeout=60_000)
    station(page, "Setups")
    add_setup(page)
    below = page.get_by_role("textbox", name="Allowance below")
    below.fill("3")  # to be held by, and to be faced away from the other side
    with page.expect_response(re.compile(r"/document$")):
        below.press("Enter")
    with page.expect_response(re.compile(r"/document$")):
        page.get_by_role("button", name="Add jaws").click()
    expect(
        page.get_by_role("group", name="Jaws").get_by_role("textbox", name="Grip from below")
    ).to_be_visible()
    # a coarse proof is enough to look at it
    station(page, "Prove")
    cell = page.get_by_role("textbox", name="Stock resolution")
    cell.fill("1")
    with page.expect_response(re.compile(r"/document$")):
        cell.press("Enter")
    station(page, "Plan")
    page.get_by_role("button", name="Plan everything seen from here").click()
    table = page.get_by_role("table", name="Operations of Top")
    expect(table.get_by_role("cell", name="Face the top", exact=True)).to_be_visible(timeout=180_000)
    for name in (
        "Clear",
        "Mill slots",
        "Finish slots",
        "Finish walls",
        "Finish flat curved faces",
        "Drill Ø9",
    ):
        expect(table.get_by_role("cell", name=name, exact=True)).to_be_visible()
    expect(page.get_by_text("comes from the library").first).to_be_visible()
    table.get_by_role("cell", name="Finish walls", exact=True).click()
    expect(
        page.get_by_role("group", name="Walls to follow").get_by_text(re.compile("Show these"))
    ).to_be_visible()
    expect(page.get_by_role("textbox", name="Stepover")).to_have_count(0)
    passes = page.get_by_role("textbox", name="Passes", exact=True)
    passes.fill("2")
    passes.press("Enter")
    expect(page.get_by_role("textbox", name="Stepover")).to_be_visible()

    # turned over, in what the first setup leaves
    station(page, "Setups")
    add_setup(page, "-z")
    page.get_by_role("button", name="Compute the plan").click()
    second = page.get_by_role("table", name="Setups").get_by_role("row").filter(has_text="Setup 2")
    expect(second).to_contain_text("ready", timeout=120_000)
    station(page, "Plan")
    page.get_by_role("button", name="Plan everything seen from here").click()
    under = page.get_by_role("table", name="Operations of Setup 2")
    expect(under.get_by_role("cell", name="Face the top", exact=True)).to_be_visible(timeout=180_000)

    station(page, "Prove")
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_role("heading", name="Findings")).to_be_visible(timeout=180_000)
    expect(page.get_by_text("◆ stop")).to_have_count(0)
    expect(page.get_by_text(re.compile("Left: .* of the surface")).first).to_be_visible()
    assert 5 < len(clicks) < 25, clicks

    # a strategy whose tool the job does not have brings one; a parameter may be words, and may be emptied
    station(page, "Plan")
    choose(page, "Add an operation", "Thread milling")
    expect(page.get_by_role("combobox", name="Tool", exact=True)).to_have_value(re.compile("Thread mill"))
    thread = page.get_by_role("textbox", name="Thread", exact=True)
    for words in ("M9 x 1", ""):
        thread.fill(words)
        thread.press("Enter")
        saved(page)
        page.reload()
        under.get_by_role("cell", name="Thread milling", exact=True).click()
        expect(thread).to_have_value(words)
    page.get_by_role("button", name="Compute the plan").click()
    expect(page.get_by_text("Thread milling has no place.")).to_be_visible(timeout=30_000)


def test_wrong_files_and_wrong_values_say_what_to_do(page: Page):
    begin(page, "Nasty")
    give(page, NASTY / "box.3mf")
    expect(page.get_by_text("it looks like a 3MF file")).to_be_visible()
    give(page, NASTY / "two_solids.stl")
    bodies = page.get_by_role("radiogroup", name="The file holds 2 bodies: which one is the part?")
    expect(bodies.get_by_role("radio")).to_have_count(2, timeout=60_000)
    expect(bodies.get_by_text("lowest corner at").first).to_be_visible()
    give(page, MODELS / "plate_a.step")
    expect(page.get_by_text("Nothing is wrong with the file.")).to_be_visible(timeout=60_000)
    station(page, "Setups")
    page.get_by_role("button", name="Add a setup").click()
    above = page.get_by_role("textbox", name="Allowance above")
    above.fill("-3")
    above.press("Enter")
    expect(page.get_by_text("Allowance above must be at least 0.")).to_be_visible()
    expect(above).to_have_value("-3")  # what was typed stays, with its reason under it
    above.press("Escape")
    expect(above).to_have_value("1")
    expect(page.get_by_text("must be at least 0")).to_have_count(0)
    above.fill("three")
    above.press("Enter")
    expect(page.get_by_text("'three' is not a length.").first).to_be_visible()
    above.press("Escape")
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("No setup yet")).to_be_visible()
    page.get_by_role("button", name="Redo").click()
    expect(page.get_by_role("cell", name="Column mill 500")).to_be_visible()


def test_picking_measuring_up_and_the_keyboard(page: Page):
    begin(page, "Picks")
    drop(page, MODELS / "plate_a.step")
    expect(page.get_by_text("plate_a.step").first).to_be_visible()
    expect(page.get_by_text("Nothing is wrong with the file.")).to_be_visible(timeout=60_000)
    view = page.get_by_label("Model view")
    expect(view).to_have_attribute("data-part", re.compile("part-"))
    page.get_by_role("button", name="Above").click()
    settled(page, view)  # the view turns
    click_at(view, 0.2, 0.1)
    expect(page.get_by_label("Picked geometry")).to_contain_text("plane")
    page.keyboard.press("2")
    expect(page.get_by_role("heading", name="Setups")).to_be_visible()
    add_setup(page)
    expect(page.get_by_role("heading", name="Results")).to_be_visible()
    settled(page, view)  # turned to the setup
    click_at(view, 0.065, 0.1)
    page.get_by_role("button", name="This way up").click()
    expect(page.get_by_role("combobox", name="Up direction")).to_have_value(re.compile("Face"))
    page.keyboard.press("Control+k")
    page.get_by_label("Command", exact=True).fill("tools")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Tools")).to_be_visible()
    expect(page.get_by_label("Command", exact=True)).to_have_count(0)
    page.keyboard.press("?")
    expect(page.get_by_text("everything by name")).to_be_visible()
    page.keyboard.press("Escape")

    # an edge is caught by a click beside it, alone or with its loop
    station(page, "Tools")
    take_tool(page, "Chamfer cutter 10, 90°")
    station(page, "Plan")
    choose(page, "Add an operation", "Edge breaking")
    page.get_by_role("button", name="Above").click()
    settled(page, view)
    alone = page.get_by_role("button", name=re.compile(r"Break edge \d+"))
    loop = page.get_by_role("button", name=re.compile(r"Break its loop of \d+"))
    for step in range(40):
        click_at(view, 0.1, 0.0065 * step)
        if alone.count() and loop.count():
            break
    count = int(loop.inner_text().split()[-1])
    edges = page.get_by_role("group", name="Edges to break")
    with page.expect_response(re.compile(r"/document$")):
        alone.click()
    expect(edges.get_by_role("button", name=re.compile(r"^edge \d+$"))).to_have_count(1)
    edges.get_by_role("button", name=re.compile(r"^edge \d+$")).click()  # shows it
    with page.expect_response(re.compile(r"/document$")):
        loop.click()
    job = int(re.search(r"/jobs/(\d+)", page.url).group(1))
    walls = document_of(page, job)["setups"][0]["operations"][0]["walls"]
    assert len(walls) == count == len({w["edge"] for w in walls})


def test_cancelling_leaves_the_page_usable(page: Page):
    begin(page, "Cancel")
    give(page, MODELS / "bearing_bracket.step")
    expect(page.get_by_text("Nothing is wrong with the file.")).to_be_visible(timeout=60_000)
    station(page, "Setups")
    add_setup(page)
    station(page, "Tools")
    take_tool(page, "Ball mill 4")
    station(page, "Plan")
    choose(page, "Add an operation", "Parallel finishing")
    cusp = page.get_by_role("textbox", name="Cusp")
    cusp.fill("0.0001")
    cusp.press("Enter")
    page.get_by_role("button", name="Compute the plan").click()
    # a proof that is asked for meanwhile says what it waits for, and both are told at every station
    page.get_by_role("button", name="Prove", exact=True).click()
    under = page.get_by_role("region", name="Computing")
    for name in ("Part", "Tools", "Release", "Plan"):
        station(page, name)
        expect(under.get_by_role("progressbar", name="Compute the plan")).to_be_visible()
        expect(under).to_contain_text("Prove waits until “Compute the plan” is done")
    page.get_by_role("button", name="Cancel: Prove").click()
    expect(under.get_by_text("Prove: cancelled")).to_be_visible()
    page.get_by_role("button", name="Cancel: Compute the plan").click()
    expect(under.get_by_text("Compute the plan: cancelled; what was finished is kept.")).to_be_visible()
    expect(page.get_by_role("table", name="Operations of Top").get_by_text("not computed")).to_be_visible()


def imported(page: Page) -> int:
    """A job with one setup and two operations on a plate, its part read."""
    mill = make_tool("flat", 10.0, name="End mill 10", flute_length=30.0, stick_out=45.0)
    face = {"name": "Face", "strategy": "facing", "tool": 1}
    rough = {"name": "Rough", "strategy": "level_roughing", "tool": 1, "parameters": {"step_down": 8.0}}
    document = {
        "fenrik": 1,
        "name": "Plate in two",
        "part": {"file": "plate_a.step"},
        "tools": [mill.model_dump(mode="json")],
        "setups": [{"name": "Top", "operations": [face, rough]}],
        "proof": {"cell_mm": 1.0},
    }
    return handed_in(page, document, "plate_a.step")


def document_of(page: Page, job: int):
    saved(page)
    return page.request.get(f"/api/jobs/{job}").json()["document"]


def test_a_plan_is_worked_on_as_a_document_and_its_releases_are_kept(page: Page):
    job = imported(page)
    page.goto(f"/jobs/{job}/plan")
    first = page.get_by_role("table", name="Operations of Top")
    expect(first.get_by_role("row")).to_have_count(3)

    # one setting in many, and back
    for name in ("Face", "Rough"):
        page.get_by_role("checkbox", name=f"Mark {name}").check()
    choose(page, "Change in all", "Tolerance")
    field = page.get_by_role("group", name="Marked operations").get_by_role("textbox", name="Tolerance")
    field.fill("0.02")
    with page.expect_response(re.compile(r"/document$")):
        field.press("Enter")
    assert [o["tolerance_mm"] for o in document_of(page, job)["setups"][0]["operations"]] == [0.02, 0.02]

    # a chain made again in the mirror, under its own name
    page.get_by_role("button", name="Repeat", exact=True).click()
    expect(first.get_by_text("Repeat: 4 × on a circle")).to_have_count(2)
    choose(page, "Places", "and mirrored")
    expect(first.get_by_text("Repeat: 2 × and mirrored")).to_have_count(2)
    for _ in range(2):
        page.get_by_role("button", name="Undo").click()
    expect(first.get_by_text("Repeat:")).to_have_count(0)

    # an area drawn once and used by name
    adding(page, "Areas")
    page.get_by_role("button", name="Draw an area").click()
    page.get_by_role("textbox", name="Corners, X Y a line").fill("-30 -60\n30 -60\n30 60\n-30 60")
    page.get_by_role("button", name="Make the area").click()
    expect(page.get_by_role("textbox", name="Name of Area 1")).to_be_visible()
    first.get_by_role("cell", name="Rough", exact=True).click()
    choose(page, "Keep in an area", "Area 1")
    expect(page.get_by_text("a polygon; in 1 operation")).to_be_visible()

    # another by clicks in the view, which looks from above: right is X, up is Y, the middle is the plate's
    adding(page, "Areas")
    page.get_by_role("button", name="Draw an area").click()
    expect(page.get_by_role("button", name="Make the area")).to_be_disabled()
    box = page.get_by_label("Model view").bounding_box()
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    for right, up in ((-80, 60), (80, 60), (80, -60), (0, 0)):
        page.mouse.click(x + right, y - up)
    corners = page.get_by_role("textbox", name="Corners, X Y a line")
    expect(corners).to_have_value(re.compile(r"^(\S+ \S+\n){3}\S+ \S+$"))
    page.get_by_role("button", name="Take the last one back").click()
    (x0, y0), (x1, y1), (x2, y2) = (map(float, row.split()) for row in corners.input_value().splitlines())
    assert x0 == pytest.approx(-x1, abs=2.0) and y1 == pytest.approx(-y2, abs=2.0)
    assert x1 > 5 and y1 > 5 and abs(x1 - x2) < 2 and abs(y0 - y1) < 2
    with page.expect_response(re.compile(r"/document$")):
        page.get_by_role("button", name="Make the area").click()
    areas = document_of(page, job)["setups"][0]["areas"]
    assert areas[1]["of"][0]["polygon"] == [[x0, y0], [x1, y1], [x2, y2]]

    # copied to where it is wanted
    page.get_by_role("checkbox", name="Mark Face").check()
    page.get_by_role("group", name="Marked operations").get_by_role("button", name="Copy").click()
    page.get_by_role("button", name="Paste “Face” into Top").click()
    expect(first.get_by_role("cell", name="Face 2", exact=True)).to_be_visible()
    page.get_by_role("button", name="Undo").click()
    expect(first.get_by_role("row")).to_have_count(3)

    # a second setup takes over what the first leaves
    station(page, "Setups")
    add_setup(page)
    expect(page.get_by_role("combobox", name="Begins as")).to_have_value("What “Top” leaves")
    expect(page.get_by_text("which has not been cut yet")).to_be_visible()
    page.get_by_role("button", name="Compute the plan").click()
    station(page, "Prove")
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_role("heading", name="Findings")).to_be_visible(timeout=90_000)
    saved(page)
    page.request.post(f"/api/jobs/{job}/runs", data={"target": "plan"})

    # what is handed out is kept, and the next is held against it
    station(page, "Release")
    page.get_by_role("textbox", name="Revision note").fill("first")
    page.get_by_role("button", name="Save revision 1").click()
    kept = page.get_by_role("table", name="Kept releases")
    expect(kept.get_by_role("row")).to_have_count(2)
    choose(page, "Optional stop", "Yes")
    choose(page, "Comments", "None")
    page.get_by_role("button", name="Prove", exact=True).click()
    expect(page.get_by_role("button", name="Save revision 2")).to_be_visible(timeout=60_000)
    page.get_by_role("button", name="Save revision 2").click()
    expect(kept.get_by_role("row")).to_have_count(3)
    changes = page.get_by_label("What changed")
    expect(changes).to_contain_text("− (Rough)")
    expect(changes).to_contain_text("equal lines")
    expect(kept.get_by_text("first")).to_be_visible()


def test_a_recipe_is_made_ours_and_bosses_and_texts_are_chosen(page: Page):
    begin(page, "Bracket by our recipe")
    give(page, MODELS / "bearing_bracket.step")
    expect(page.get_by_role("table", name="Holes of the part")).to_be_visible(timeout=60_000)
    station(page, "Setups")
    add_setup(page)
    station(page, "Tools")
    for tool in ("End mill 6", "Ball mill 4"):
        take_tool(page, tool)
    station(page, "Plan")

    # a shipped recipe, copied and changed, is taken for the holes that it is for
    choose(page, "Copy a recipe to change it", "Short drilled hole")
    recipe = page.get_by_role("group", name="Recipe Short drilled hole, ours")
    recipe.get_by_role("textbox", name="Its parameters, one a line").nth(1).fill(
        "cycle: drill\nbreakthrough: 2.5"
    )
    recipe.get_by_role("textbox", name="Step 2").fill("Drill our way")
    with page.expect_response(re.compile(r"/document$")):
        recipe.get_by_role("textbox", name="Step 2").press("Enter")
    choose(page, "Holes", "4 x Ø9")
    page.get_by_role("button", name="Plan these 4 holes").click()
    table = page.get_by_role("table", name="Operations of Top")
    expect(table.get_by_role("cell", name="Drill our way Ø9", exact=True)).to_be_visible()
    job = int(re.search(r"/jobs/(\d+)", page.url).group(1))
    made = {o["name"]: o for o in document_of(page, job)["setups"][0]["operations"]}
    assert made["Drill our way Ø9"]["parameters"] == {"cycle": "drill", "breakthrough": 2.5}

    # round bosses are offered where bosses are milled
    choose(page, "Add an operation", "Boss milling")
    bosses = page.get_by_role("group", name="Bosses to make")
    bosses.get_by_role("checkbox", name="4 x Boss Ø15").click()
    expect(bosses.get_by_role("checkbox", name="4 x Boss Ø15")).to_be_checked()

    # a text is written where it is wanted
    choose(page, "Add an operation", "Engraving")
    page.get_by_role("button", name="Add a text").click()
    lines = page.get_by_role("group", name="Lines to engrave")
    for label, value in (("Text", "BRACKET 7"), ("Position X", "90"), ("Angle", "90")):
        lines.get_by_role("textbox", name=label, exact=True).fill(value)
        with page.expect_response(re.compile(r"/document$")):
            lines.get_by_role("textbox", name=label, exact=True).press("Enter")
    choose(page, "Add an operation", "Facing")

    # the bosses stand 1 mm beside the block, and the text leaves the part: each says so, the others are
    # computed
    page.get_by_role("button", name="Compute the plan").click()
    expect(page.get_by_text("The text 'BRACKET 7' leaves the part")).to_be_visible(timeout=90_000)
    expect(page.get_by_text("Tool 6 of 6 mm does not go round Boss Ø15")).to_be_visible()
    rows = {name: table.get_by_role("row").filter(has_text=name) for name in ("Boss milling", "Engraving")}
    for row in rows.values():
        expect(row).to_contain_text("failed")
    for name in ("Drill our way", "Facing"):
        expect(table.get_by_role("row").filter(has_text=name)).to_contain_text("ready")

    # what fails offers a change that can be taken
    rows["Boss milling"].click()
    with page.expect_response(re.compile(r"/document$")):
        page.get_by_role("button", name="Use End mill 3 instead").click()
    expect(rows["Boss milling"]).not_to_contain_text("failed")
    expect(page.get_by_text("does not go round Boss Ø15")).to_have_count(0)  # it was of the document before
    expect(page.get_by_role("combobox", name="Tool", exact=True)).to_have_value(
        re.compile(r"T\d+ End mill 3")
    )
    for name in ("Boss milling", "Facing"):
        table.get_by_role("row").filter(has_text=name).click()
        with page.expect_response(re.compile(r"/document$")):
            page.get_by_role("button", name="Remove", exact=True).click()
    expect(table.get_by_role("row")).to_have_count(4)
    rows["Engraving"].click()
    lines.get_by_role("textbox", name="Position X").fill("51")
    with page.expect_response(re.compile(r"/document$")):
        lines.get_by_role("textbox", name="Position X").press("Enter")
    # nothing has faced the stock yet: its shank would touch all along, which is told, until that is wanted
    page.get_by_role("button", name="Compute the plan").click()
    expect(page.get_by_text("would touch all along the way of 'Engraving'")).to_be_visible(timeout=90_000)
    choose(page, "Where shank or holder would touch", "keep as it is")
    page.get_by_role("button", name="Compute the plan").click()
    expect(table.get_by_role("row").last.get_by_text("ready")).to_be_visible(timeout=90_000)
    expect(table.get_by_text("stale")).to_have_count(0)
