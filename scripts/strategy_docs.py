"""Writes docs/strategies.md and a picture of every strategy from paths that it computes on the example
models.

Run: python scripts/strategy_docs.py [strategy ...]
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import numpy as np

from fenrik.core.frames import apply
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.workspace.artefacts import MemoryStore
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.stock.heightmap import pieces_of
from fenrik.core.strategies.base import Strategy
from fenrik.core.strategies.registry import strategies
from fenrik.core.tooling.assembly import TITLES
from fenrik.core.tooling.library import starting_library

ROOT = Path(__file__).resolve().parents[1]
OUT = ROOT / "docs" / "strategies"
WIDTH = 640
COLOURS = {
    Motion.RAPID: "#9a9a94", Motion.FEED: "#0f6274", Motion.PLUNGE: "#b3541e", Motion.LEAD: "#3d8f86",
    Motion.LINK: "#7a7a2c", Motion.ENTRY: "#8a2f5d",
}  # fmt: skip
BRACKET, PLATE, CAP, FITTING, VANE = (
    f"models/{n}.step"
    for n in ("bearing_bracket", "plate_b", "tapered_cap", "threaded_fitting", "guide_vane")
)
HOLES = [{"face": f} for f in (23, 29, 30, 31)]
ROUGH: dict[str, Any] = {
    "strategy": "level_roughing",
    "tool": "End mill 12",
    "parameters": {"step_down": 6.0},
}
SHOWN: dict[str, tuple[str, list[dict[str, Any]]]] = {
    "facing": (BRACKET, [{"tool": "End mill 20", "parameters": {"stepover": 12.0}}]),
    "level_roughing": (BRACKET, [{"tool": "End mill 12", "parameters": {"step_down": 12.0, "stepover": 6.0}}]),
    "bounded_clearing": (BRACKET, [{"tool": "End mill 12", "parameters": {"step_down": 36.0, "step_up": 36.0, "stepover": 4.0}}]),
    "rest_clearing": (BRACKET, [ROUGH, {"tool": "End mill 6", "parameters": {"step_down": 12.0, "step_up": 12.0, "stepover": 2.0}}]),
    "parallel_finishing": (BRACKET, [{"tool": "Ball mill 8", "keep_in": [{"faces": [28]}], "parameters": {"spaced_by": "stepover", "stepover": 3.0, "angle_deg": 45.0}}]),
    "constant_z": (CAP, [{"tool": "Ball mill 6", "parameters": {"spaced_by": "step", "step_down": 1.5}}]),
    "constant_cusp": (CAP, [{"tool": "Ball mill 6", "parameters": {"cusp": 0.12}}]),
    "inner_corners": (BRACKET, [{"tool": "Ball mill 8", "parameters": {"beside": 2}}]),
    "profile": (BRACKET, [{"tool": "End mill 12", "walls": [{"outline": True}], "parameters": {"step_down": 12.0}}]),
    "flank_milling": (VANE, [{"tool": "End mill 12", "walls": [{"face": 1}], "parameters": {"step_down": 20.0}}]),
    "slot_milling": (BRACKET, [{"tool": "End mill 10", "walls": [{"face": 50}, {"face": 51}], "parameters": {"step_down": 2.5, "ramp_deg": 5.0}}]),
    "edge_breaking": (PLATE, [{"tool": "Chamfer cutter 10, 90°", "walls": [{"outline": True}], "parameters": {"width": 0.8}}]),
    "drilling": (BRACKET, [{"tool": "Drill 9", "holes": HOLES, "parameters": {"cycle": "peck", "peck": 4.0}}]),
    "bore_milling": (BRACKET, [{"tool": "End mill 12", "holes": [{"face": 48}], "parameters": {"pitch": 3.0}}]),
    "boss_milling": (FITTING, [{"tool": "End mill 12", "holes": [{"at": [0.0, 0.0], "top": -2.0, "diameter": 30.0, "depth": 12.0}], "parameters": {"pitch": 3.0, "rings": 2, "stepover": 5.0}}]),
    "engraving": (BRACKET, [{"tool": "Chamfer cutter 10, 90°", "lines": [{"text": "BRACKET 7", "at": [53.0, 0.0], "height": 4.0, "align": "middle", "angle_deg": 90.0}], "parameters": {"depth": 0.4}}]),
    "tapping": (BRACKET, [{"tool": "Tap M6", "holes": [{"at": [x, y], "top": -21.0, "diameter": 5.0, "depth": 12.0} for x, y in ((50.5, 26.0), (-50.5, -26.0), (50.5, -26.0), (-50.5, 26.0))]}]),
    "thread_milling": (FITTING, [{"tool": "Thread mill P2, 1 row", "holes": [{"at": [0.0, 0.0], "top": -2.0, "diameter": 30.0, "depth": 12.0}], "parameters": {"thread": "M30 x 2", "side": "external"}}]),
}  # fmt: skip
"""A model and operations for each strategy's picture; the last one is drawn, those before it cut first."""
WORDS = {
    "facing": "One way or to and fro, over one blank or an array, in as many levels as the stock needs. "
              "The passes begin beside the blank.",
    "level_roughing": "Offsets of the blocked ground at every level, from outside where it is open and "
                      "down a helix or ramp where it is not. The part's own floors get levels of their "
                      "own; 'Only flat faces' finishes just these.",
    "bounded_clearing": "The tool walks along the stock so that its engagement stays what the stepover "
                        "asks for: deep cuts at a high feed. It stays down over cleared ground with a "
                        "small lift.",
    "rest_clearing": "As clearing at a bounded load, but only where the operations before have left more "
                     "than a limit; the share of air is bounded.",
    "parallel_finishing": "At an angle, spaced by stepover or by cusp, between limits of steepness. Passes "
                          "along X or Y become arcs in G18 or G19.",
    "constant_z": "For what is steeper than a limit, spaced by depth or cusp, region by region, with "
                  "ramped links and a helical option.",
    "constant_cusp": "Offsets over the surface keep the same cusp on flat and steep ground.",
    "inner_corners": "Where the cutter touches twice a larger one has left material: a pass along it, and "
                     "as many beside it as wanted.",
    "profile": "Follows walls that are picked, a floor for the walls around it, or the outline: in levels "
               "or down a ramp, with passes side by side, a spring pass, arc and line leads, overlap and "
               "tabs; whole, a piece of it, or only what a larger mill left in narrow corners. Where "
               "something lower keeps the tool from a wall's foot, the wall over that is followed. Other "
               "walls are never cut. The radius is corrected by the computer, by the computer with the "
               "wear in the control, or by the control alone (G41, G42); a release of these is proved with "
               "new and with worn tools.",
    "flank_milling": "The axis lies along the straight lines of the face, corrected where they twist so that "
    "the straight side and the wall differ least; what cannot be had is left on, unless it may cut in. Step by "
    "step down the wall, on and off in line, the feed that of the fastest point that touches it.",
    "slot_milling": "To and fro on the middle line with a tool as wide as the slot, round about along both "
                    "walls with a narrower one, in as many rings as it needs; down a ramp, the last turn "
                    "level. Closed and open slots, straight and bent; at open ends it runs out beside the "
                    "part.",
    "edge_breaking": "Sharp edges by width, the model's own chamfers to size; what would touch a "
                     "neighbouring wall is left and named.",
    "drilling": "Spot, drill, peck, chip break, deep holes in pecks that get shorter, ream, bore, "
                "counterbore and countersink, in the shortest order; written as canned cycles (deep ones "
                "never) or as moves.",
    "bore_milling": "Down a helix, ring by ring to the size, entered by half circles.",
    "boss_milling": "About a round boss down a helix, ring by ring from outside to the size, entered and "
                    "left by quarter circles where these are clear of the part.",
    "engraving": "Text with the letters that ship with Fenrik, edges, borders of faces and lines of "
                 "points, at a depth under the surface that the cutter touches; the proof knows the groove "
                 "that is meant.",
    "tapping": "The feed is pitch times speed, checked on the posted text; always a cycle.",
    "thread_milling": "Inside and outside, right and left hand, with one row of teeth or several, in "
                      "passes of even areas, from the tables of ISO 724 and ASME B1.1 or from given sizes.",
}  # fmt: skip


def tool_numbered(name: str, number: int) -> dict[str, Any]:
    """A tool of the library by its name, or the first of a kind."""
    found = next(t for t in starting_library() if name in (t.name, t.kind))
    return found.model_copy(update={"number": number}).model_dump(mode="json")


def planned(strategy: str) -> tuple[Paths, Toolpath]:
    """The planner of a strategy's picture and the path that is drawn."""
    model, operations = SHOWN[strategy]
    made, tools = [], []
    for i, operation in enumerate(operations, 1):
        tools.append(tool_numbered(operation["tool"], i))
        made.append({"strategy": strategy, **operation, "name": f"Op {i}", "tool": i, "tolerance_mm": 0.05})
        made[-1]["when_short"] = "leave"  # the path is drawn, not run
    stock = {
        "kind": "box",
        "allowance": {"x_low": 2, "x_high": 2, "y_low": 2, "y_high": 2, "z_low": 0, "z_high": 1},
    }
    document = {
        "fenrik": 1,
        "name": strategy,
        "part": {"file": model},
        "tools": tools,
        "setups": [{"name": "Top", "stock": stock, "operations": made}],
    }
    planner = open_job(job_from_data(document), ROOT / "examples", MemoryStore())
    setup = planner.job.setups[0]
    return planner, planner.path(setup, setup.operations[-1])


def seen(points: np.ndarray) -> np.ndarray:
    """Plan coordinates (n, 2) of a parallel view from front right above."""
    turn, tilt = np.radians(-30), np.radians(32)
    x = points[:, 0] * np.cos(turn) - points[:, 1] * np.sin(turn)
    depth = points[:, 0] * np.sin(turn) + points[:, 1] * np.cos(turn)
    return np.column_stack([x, points[:, 2] * np.cos(tilt) + depth * np.sin(tilt)])


def picture(planner: Paths, path: Toolpath, label: str) -> str:
    """Part edges and the path in the colours of the plan, as SVG."""
    clamped = planner.setups.clamped(planner.job.setups[0])
    edges = [seen(apply(clamped.setup_from_part, line)) for line in planner.workspace.part().edge_lines]
    pieces, owner = pieces_of(path, 0.05)
    kind = path.kind[1:][owner]
    ends = np.hstack([seen(pieces[:, :3]), seen(pieces[:, 3:])])
    everything = np.vstack([*edges, ends[:, :2], ends[:, 2:]])
    low, size = everything.min(axis=0), np.ptp(everything, axis=0)
    scale = (WIDTH - 20) / size[0]
    height = round(size[1] * scale + 20)

    def at(p: np.ndarray) -> str:
        return f"{(p[0] - low[0]) * scale + 10:.1f} {height - 10 - (p[1] - low[1]) * scale:.1f}"

    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {height}" width="{WIDTH}" '
        f'height="{height}" role="img"'
        f' aria-label="{label}"><rect width="100%" height="100%" fill="#fbfaf5"/>',
        f'<path d="{" ".join("M" + "L".join(at(p) for p in line) for line in edges)}" fill="none" '
        'stroke="#26323a"'
        ' stroke-width="0.7"/>',
    ]
    for motion, colour in COLOURS.items():
        mine = np.flatnonzero(kind == motion)
        if not len(mine):
            continue
        words = []
        for before, i in zip([-2, *mine[:-1]], mine, strict=True):
            words.append(("L" if before == i - 1 else f"M{at(ends[i, :2])}L") + at(ends[i, 2:]))
        dash = ' stroke-dasharray="4 3"' if motion == Motion.RAPID else ""
        out.append(f'<path d="{"".join(words)}" fill="none" stroke="{colour}" stroke-width="0.9"{dash}/>')
    return "".join([*out, "</svg>\n"])


def described(strategy: Strategy) -> str:
    """A strategy's section: what it does, its picture, what it takes, what is decided."""
    takes = "round holes" if strategy.round else "areas to keep in and out"
    if strategy.target in ("walls", "rims"):
        takes = "edges of faces, chamfers" if strategy.target == "rims" else "walls, floors, the outline"
    if strategy.target == "ruled":
        takes = "faces whose lines from edge to edge are straight"
    rows = []
    for name, field in strategy.parameters.model_fields.items():
        extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
        if extra.get("group") == "decide":
            unit = f", {extra['unit']}" if extra.get("unit") else ""
            rows.append(f"| `{name}` | {field.description}{unit} |")
    return "\n".join(
        [
            f"## {strategy.title}",
            "",
            f"`{strategy.id}`. {strategy.summary} {WORDS[strategy.id]}",
            "",
            f"![{strategy.title}](strategies/{strategy.id}.svg)",
            "",
            f"Takes {takes}. Tools: {', '.join(TITLES[k] for k in strategy.kinds)}.",
            "",
            "| decided | |",
            "| --- | --- |",
            *rows,
            "",
        ]
    )


def main() -> None:
    """Draws the named strategies, or all, and writes the page."""
    OUT.mkdir(parents=True, exist_ok=True)
    for name in sys.argv[1:] or SHOWN:
        planner, path = planned(name)
        text = picture(planner, path, strategies()[name].title)
        (OUT / f"{name}.svg").write_text(text, "utf-8")
        print(f"{name}: {len(path)} moves, {len(text) / 1e3:.0f} kB")
    head = (
        "# Strategies\n\nEach is one file in `src/fenrik/core/strategies`. The pictures are paths that it "
        "computed on the example"
        " models:\nfeed blue, entries violet, plunges ochre, leads and links green, rapids dashed. Written by"
        " `scripts/strategy_docs.py`.\n\n"
    )
    page = head + "\n".join(described(strategies()[name]) for name in SHOWN)
    (ROOT / "docs" / "strategies.md").write_text(page.rstrip() + "\n", "utf-8")


if __name__ == "__main__":
    main()
