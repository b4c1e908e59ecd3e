"""A release whose radius the control corrects, proved once more with worn tools and the control told of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from pydantic import ValidationError

from fenrik.core.errors import DocumentError
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posting import Posted
from fenrik.core.model.distance import DistanceField
from fenrik.core.progress import Progress
from fenrik.core.proof.deviation import Deviation, Zone, measure, overcut_findings
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.simulate import simulate
from fenrik.core.stock.dexels import Stock
from fenrik.core.tooling.assembly import Assembly


def worn(tool: Assembly, wear: float) -> Assembly:
    """The assembly with a cutting radius smaller by so many mm. Raises DocumentError where no such tool can be."""
    try:
        return Assembly(**(tool.model_dump() | {"diameter": tool.diameter - 2.0 * wear}))
    except ValidationError as error:
        raise DocumentError(
            f"Tool {tool.number} {tool.name} of {tool.diameter:g} mm cannot be worn by {wear:g} mm.",
            remedy="Give less wear under the release's options, or 0 for none.",
            where="options.wear_mm",
        ) from error


def wear_findings(
    paths: Paths,
    posted: Posted,
    stock: Stock,
    design: DistanceField,
    area: float,
    unworn: dict[str, Any],
    limits: list[float],
    zones: Sequence[Zone],
    progress: Progress,
) -> list[Finding]:
    """What goes wrong with tools worn by the release's `wear_mm`, and a note on what comes out; `unworn` are the facts of the
    deviation with tools as they should be. Nothing where no radius is corrected."""
    wear = posted.release.options.wear_mm
    registers = posted.program.registers()
    if posted.worn is None or not registers:
        return []
    motion, step_of = posted.worn
    tools = {t.number: worn(t, wear) if t.number in registers else t for t in paths.job.tools}
    names = [o.name for o in posted.operations]
    none = motion.feed * 0.0
    cut = simulate(
        motion, step_of, names, tools, stock, none, none + 1.0, paths.setups.material(posted.setup), progress
    )
    deviation: Deviation = measure(
        cut.last, design, area, paths.job.proof.tolerance_mm, cut.cuts, cut.skin, zones
    )
    found = cut.findings + overcut_findings(deviation, cut.move_of_tag, motion, step_of, names, limits, none)
    words = f"With tools worn by {wear:g} mm and the control told so"
    # their moves are not those of the release's motion
    out = [replace(f, words=f"{words}: {f.words}", move=-1, line=-1) for f in found if f.severity == "stop"]
    share, before = (100.0 * f["share_within_tolerance"] for f in (deviation.facts, unworn))
    out.append(
        Finding(
            "note", "wear",
            f"{words} (D{', D'.join(str(n) for n in registers)}), {share:.2f} % of the part's surface come on"
            f" size, {before:.2f} % without wear; the deepest overcut is {deviation.facts['max_overcut_mm']:.4f} mm.",
        )
    )  # fmt: skip
    return out
