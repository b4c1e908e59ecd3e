"""A release whose radius the control corrects, proved once more with worn tools and the control told of
it."""

from __future__ import annotations

from dataclasses import replace

from pydantic import ValidationError

from fenrik.core.errors import DocumentError
from fenrik.core.job.proving.evidence import Evidence
from fenrik.core.proof.deviation import measure, overcut_findings
from fenrik.core.proof.finding import Finding
from fenrik.core.proof.run import Run
from fenrik.core.proof.simulate import simulate
from fenrik.core.tooling.assembly import Assembly


def worn(tool: Assembly, wear: float) -> Assembly:
    """The assembly with a cutting radius smaller by so many mm. Raises DocumentError where no such tool can
    be."""
    try:
        return Assembly(**(tool.model_dump() | {"diameter": tool.diameter - 2.0 * wear}))
    except ValidationError as error:
        raise DocumentError(
            f"Tool {tool.number} {tool.name} of {tool.diameter:g} mm cannot be worn by {wear:g} mm.",
            remedy="Give less wear under the release's options, or 0 for none.",
            where="options.wear_mm",
        ) from error


def worn_tools(evidence: Evidence) -> list[Finding]:
    """What goes wrong with tools worn by the release's `wear_mm`, and a note on what comes out. Nothing where
    no radius is corrected."""
    posted, wear = evidence.posted, evidence.posted.release.options.wear_mm
    registers = posted.program.registers()
    if posted.worn is None or not registers:
        return []
    motion, step_of = posted.worn
    tools = {t.number: worn(t, wear) if t.number in registers else t for t in evidence.tools}
    none = motion.feed * 0.0
    run = Run(motion, step_of, evidence.run.names, tools, none, none + 1.0)
    cut = simulate(run, evidence.cutting.stock, evidence.material, evidence.progress.stage(0.3, 1.0))
    deviation = measure(
        cut.last, evidence.design, evidence.area, evidence.band, cut.cuts, cut.skin, evidence.zones
    )
    found = cut.findings + overcut_findings(deviation, cut.move_of_tag, run, evidence.limits)
    words = f"With tools worn by {wear:g} mm and the control told so"
    # their moves are not those of the release's motion
    out = [replace(f, words=f"{words}: {f.words}", move=-1, line=-1) for f in found if f.severity == "stop"]
    share, before = (100.0 * d.facts.share_within_tolerance for d in (deviation, evidence.deviation))
    sizes = f"{share:.2f} % of the part's surface come on size, {before:.2f} % without wear"
    deepest = f"the deepest overcut is {deviation.facts.max_overcut_mm:.4f} mm"
    out.append(
        Finding("note", "wear", f"{words} (D{', D'.join(str(n) for n in registers)}), {sizes}; {deepest}.")
    )
    return out
