"""The setup sheet: one printable HTML page with pictures, zero, stock, tools, operations, times."""

from __future__ import annotations

import base64
from datetime import date
from importlib.resources import files
from typing import Any

import numpy as np
from jinja2 import Environment, select_autoescape
from numpy.typing import NDArray

from fenrik.core.frames import apply
from fenrik.core.job.cutting.proofs import Proof
from fenrik.core.job.document.job import ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.setups.holding import fixture_of
from fenrik.core.job.setups.moving import moving_words
from fenrik.core.machines.arm import JOINTS
from fenrik.core.machines.machine import Machine
from fenrik.core.pictures.drawing import (
    FINER,
    FIXTURE,
    PART,
    STOCK,
    Body,
    Frame,
    Lines,
    picture,
    png,
    sharp_edges,
)
from fenrik.core.posting.writing.dialect import dialect
from fenrik.core.setups.held_in import words_of_held
from fenrik.core.setups.pieces import words_of
from fenrik.core.setups.setup import Clamped
from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.drawing import tool_svg
from fenrik.core.units import INCH_MM, format_length

Floats = NDArray[np.float64]
SIDE_PICTURE = 200
"""Width of the picture of a side on the page."""


def setup_sheet(paths: Paths, release: ReleaseDoc, proof: Proof, revision: int | None = None) -> str:
    """The sheet of one release as HTML that needs nothing else, with today's date and the job's revision,
    where it has one."""
    environment = Environment(autoescape=select_autoescape(default=True))
    unit = paths.job.units
    environment.filters["length"] = lambda v: format_length(float(v), unit)
    environment.filters["clock"] = clock
    environment.filters["feed"] = lambda v: f"{v / INCH_MM:.1f}" if unit == "inch" else f"{v:.0f}"
    environment.filters["way"] = lambda mm: f"{mm / 304.8:.1f} ft" if unit == "inch" else f"{mm / 1000:.2f} m"
    template = environment.from_string(
        files("fenrik.core.job").joinpath("setup_sheet.html.j2").read_text("utf-8")
    )
    setup = paths.job.setup(proof.facts["setup"])
    clamped = paths.setups.clamped(setup)
    numbers = sorted({o["tool"] for o in proof.facts["operations"]})
    tools = [paths.job.tool(n) for n in numbers]
    return template.render(
        job=paths.job,
        part=paths.workspace.part().summary(),
        release=release,
        file=proof.facts["file"],
        setup=setup,
        zero=proof.facts["zero"],
        machine=paths.setups.machine(setup),
        material=paths.setups.material(setup),
        clamped=clamped,
        moved=moving_words(paths.setups, setup),
        axis_words=_moving_axis(proof.facts, tools, paths.setups.machine(setup)),
        held=_held(paths, setup),
        repeats={n: r.words() for r in setup.repeats for n in r.operations},
        notes={o.name: o.notes for o in setup.operations if o.notes},
        size=clamped.stock_high - clamped.stock_low,
        tools=tools,
        drawings={t.number: tool_svg(t, unit, 260) for t in tools},
        proof=proof.facts,
        picture=setup_picture(paths, setup, clamped),
        sides=_sides(paths, setup, proof.facts["sides"]),
        unit="in" if unit == "inch" else "mm",
        dialect=dialect(release.dialect, paths.workspace.files.path, "releases").name,
        today=f"{date.today():%Y-%m-%d}",
        revision=revision,
    )


def _held(paths: Paths, setup: SetupDoc) -> list[str]:
    """What holds the stock, in words."""
    own = [words_of(piece) for piece in setup.fixture]
    if setup.held_in is None:
        return own
    return [*words_of_held(fixture_of(paths.workspace, setup)[1], setup.held_in), *own]


def _sides(paths: Paths, setup: SetupDoc, facts: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """A row for every side from which the program works, with the picture that its tool has of the work."""
    return [
        {
            **row,
            "words": row["name"] or "From above",
            "stand": ", ".join(f"{letter} {angle:.3f}°" for letter, angle in sorted(row["joints"].items())),
            "picture": setup_picture(paths, setup, paths.setups.seen(setup, row["name"]), SIDE_PICTURE),
        }
        for row in facts
    ]


def _moving_axis(facts: dict[str, Any], tools: list[Assembly], machine: Machine) -> list[str]:
    """What the operator has to set where the tool's axis moves, in words; nothing where it does not."""
    if facts["moving"] == "none":
        return []
    if facts["moving"] == "arm":
        return _arm(facts, tools, machine)
    if machine.is_lathe:
        return _lathe(tools)
    lengths = ", ".join(f"H{t.number} {t.gauge_length:.3f} mm" for t in tools)
    feed = "one over the minutes of each block (G93)" if facts["feed"] == "inverse_time" else "a minute (G94)"
    if facts["moving"] == "tool_point":
        first = "The control keeps the tool's point (G43.4); the machine's pivot distances must be set in it."
        return [first, f"Tool lengths from the gauge line: {lengths}.", f"The feed is {feed}."]
    return [
        "The coordinates are worked out for this place of the zero over the table and for these tool "
        "lengths: with others the program has to be written anew.",
        f"Tool lengths from the gauge line: {lengths}.",
        f"The feed is {feed}.",
    ]


def _lathe(tools: list[Assembly]) -> list[str]:
    """The same for a lathe that is driven by X and C."""
    lengths = ", ".join(f"H{t.number} {t.gauge_length:.3f} mm" for t in tools)
    return [
        "X is the diameter about the main spindle's axis, C the angle of the work; zero of X lies on that "
        "axis, the tools stand along it.",
        f"Tool lengths from the gauge line: {lengths}.",
        "The main spindle is driven as the axis C, unwound: it turns on over whole turns.",
    ]


def _arm(facts: dict[str, Any], tools: list[Assembly], machine: Machine) -> list[str]:
    """The same for an arm: its frames, home, and how it holds the tool."""
    tables = [j.name for j in machine.in_chain[:-JOINTS]]
    on = f"on {tables[0]}" if tables else "in the machine's coordinates"
    lengths = ", ".join(f"T{t.number} {t.gauge_length:.1f} mm" for t in tools)
    home = ", ".join(f"{j.name} {v:g}°" for j, v in zip(machine.in_chain, machine.at_home, strict=True))
    return [
        f"The program says where the object frame stands {on} and where each tool frame stands in the "
        "mechanical interface (ISO 9787); both must be the cell's own.",
        f"Tool lengths from the gauge line: {lengths}. Tools are changed at home, at PAUSE.",
        f"Home: {home}; every operation begins and ends there, with the table where it works.",
        *(f"{o['name']}: {o['held']}." for o in facts["operations"] if o["held"]),
    ]


def clock(seconds: float) -> str:
    """Seconds as h:mm:ss or m:ss."""
    whole = round(seconds)
    hours, rest = divmod(whole, 3600)
    minutes, left = divmod(rest, 60)
    return f"{hours}:{minutes:02d}:{left:02d}" if hours else f"{minutes}:{left:02d}"


def setup_picture(paths: Paths, setup: SetupDoc, clamped: Clamped, width: int = 420) -> str:
    """The part in its stock with all that holds it, shaded, what is hidden hidden, and the zero's axes: seen
    from front, right and above, as SVG with the picture inside."""
    model = paths.workspace.part()
    lines = [apply(clamped.setup_from_part, line) for line in model.edge_lines]
    bodies = [Body(clamped.parts(model.mesh), PART)]
    drawn = [Lines([line + shift for shift in clamped.copies for line in lines])]
    around = [_corners(clamped.stock_low, clamped.stock_high)]
    if clamped.fixture is not None:
        bodies.append(Body(clamped.fixture, FIXTURE))
        drawn.append(Lines(sharp_edges(clamped.fixture)))
        around.append(clamped.fixture.vertices)
    drawn.append(Lines(_stock_edges(clamped), STOCK, dashed=True))
    frame = Frame(np.vstack(around), width * FINER, round(width * 0.8) * FINER, 30 * FINER)
    packed = base64.b64encode(png(picture(bodies, drawn, frame))).decode()
    height = frame.height // FINER
    return "".join(
        [
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" width="{width}" '
            f'height="{height}" role="img" aria-label="Part in its stock with fixture and program zero">',
            f'<image href="data:image/png;base64,{packed}" width="{width}" height="{height}"/>',
            *_axes(frame, 0.16 * width),
            "</svg>",
        ]
    )


def _axes(frame: Frame, length: float) -> list[str]:
    """The axes of program zero as SVG, so long in the picture."""
    out = []
    for j, (name, colour) in enumerate((("X", "#c0392b"), ("Y", "#2e8b57"), ("Z", "#2f5fb3"))):
        tip = np.zeros(3)
        tip[j] = length * FINER / frame.scale
        (x0, y0), (x1, y1) = frame.pixels(np.array([np.zeros(3), tip]))[:, :2] / FINER
        out.append(
            f'<line x1="{x0:.1f}" y1="{y0:.1f}" x2="{x1:.1f}" y2="{y1:.1f}" stroke="{colour}" '
            'stroke-width="2"/>'
            f'<text x="{x1 + 3:.1f}" y="{y1 - 2:.1f}" font-size="12" fill="{colour}">{name}</text>'
        )
    return out


def _stock_edges(clamped: Clamped) -> list[Floats]:
    if clamped.stock_mesh is not None:
        return sharp_edges(clamped.stock_mesh)
    corners = _corners(clamped.stock_low, clamped.stock_high)
    return [corners[[a, b]] for a in range(8) for b in range(a + 1, 8) if bin(a ^ b).count("1") == 1]


def _corners(low: Floats, high: Floats) -> Floats:
    return np.array(
        [[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])]
    )
