"""The checks of a proof: each looks at the evidence and returns what it found. To add one, write it and list
it here."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from fenrik.core.frames import apply
from fenrik.core.job.proving.evidence import Evidence
from fenrik.core.job.proving.gaps import blanks, gaps
from fenrik.core.job.proving.rewinding import turning_back
from fenrik.core.job.proving.wear import worn_tools
from fenrik.core.motion.notes import Note, Words
from fenrik.core.posting.program import Step
from fenrik.core.proof.at_rest import at_rest_findings
from fenrik.core.proof.bodies import body_findings
from fenrik.core.proof.deviation import overcut_findings
from fenrik.core.proof.finding import Finding, Severity
from fenrik.core.proof.fixture import against_fixture
from fenrik.core.proof.left import left_findings
from fenrik.core.proof.limits import limit_findings
from fenrik.core.proof.load import Bears, load_findings
from fenrik.core.proof.loose import loose_findings
from fenrik.core.proof.postures import posture_findings
from fenrik.core.proof.standing import standing_findings

Check = Callable[[Evidence], list[Finding]]


SEVERITIES: dict[str, Severity] = {
    "air": "caution",
    "short": "caution",
    "missing": "stop",
    "missing_edges": "stop",
}
"""How severe a kind of note is, where it is more than one."""


def text(evidence: Evidence) -> list[Finding]:
    """What differs between text and plan, and what a control would object to."""
    return list(evidence.posted.findings)


def limits(evidence: Evidence) -> list[Finding]:
    """Travels, feeds and speeds beyond the machine's."""
    return limit_findings(evidence.run.with_motion(evidence.posted.motion), evidence.on)


def postures(evidence: Evidence) -> list[Finding]:
    """An arm near a singular posture."""
    return posture_findings(evidence.run.with_motion(evidence.posted.motion), evidence.on.machine)


def held_speeds(evidence: Evidence) -> list[Finding]:
    """Proposed spindle speeds that the machine's limits hold, each tool once."""
    told: dict[int, Finding] = {}
    for task in evidence.tasks:
        speed = task.derived["spindle_rpm"]
        if speed.beyond is not None and task.tool.number not in told:
            end = "highest" if speed.beyond > speed.value else "lowest"
            words = f"T{task.tool.number} turns at the machine's {end} speed, {speed.value:.0f} 1/min"
            told[task.tool.number] = Finding(
                "note",
                "spindle_held",
                f"{words}; tool and material would take {speed.beyond:.0f}.",
                operation=task.operation.name,
                measure=speed.value,
                limit=speed.beyond,
            )
    return list(told.values())


def fixture(evidence: Evidence) -> list[Finding]:
    """Tools against the fixture."""
    drawn, names = evidence.clamped.fixture, evidence.clamped.fixture_pieces
    return [] if drawn is None else against_fixture(evidence.run, drawn, names)


def standing(evidence: Evidence) -> list[Finding]:
    """A fixture that hangs over the table or goes into it."""
    clamped, held_in = evidence.clamped, evidence.posted.setup.held_in
    if clamped.fixture is None or evidence.on.machine.is_lathe:
        return []
    height = float(clamped.table_from_setup[2])
    return standing_findings(clamped.fixture, height, held_in.fixture if held_in else None)


def bodies(evidence: Evidence) -> list[Finding]:
    """Bodies of the machine that meet others, or pass them closely."""
    return body_findings(evidence.run, evidence.bodies.met, evidence.near)


def load(evidence: Evidence) -> list[Finding]:
    """Power and bending beyond what machine and tool bear."""
    bears = [Bears(w.name, *w.may_bend) for w in evidence.worked]
    return load_findings([c.facts for c in evidence.cutting.done.steps], bears, evidence.on.machine)


def contacts(evidence: Evidence) -> list[Finding]:
    """Rapids, shanks and holders in the stock."""
    return evidence.cutting.done.findings


def at_rest(evidence: Evidence) -> list[Finding]:
    """Tools in the stock with the spindle at rest."""
    return at_rest_findings(evidence.run, evidence.cutting.done.volume)


def order(evidence: Evidence) -> list[Finding]:
    """What the order of the release saves."""
    posted = evidence.posted
    if posted.order_saves_s <= 0:
        return []
    if len({o.side for o in posted.operations}) > 1:
        order = f"with little time between operations, {posted.tool_changes} tool changes,"
        saved = "changing tools and turning to sides"
    else:
        order, saved = f"with the fewest tool changes, {posted.tool_changes},", "changing tools"
    words = f"The order {order} saves {posted.order_saves_s:.0f} s of {saved}."
    return [Finding("note", "order", words)]


def overcut(evidence: Evidence) -> list[Finding]:
    """Cuts into the part."""
    return overcut_findings(
        evidence.deviation, evidence.cutting.done.move_of_tag, evidence.run, evidence.limits
    )


def left(evidence: Evidence) -> list[Finding]:
    """What is left on the part, by its reason."""
    return left_findings(evidence.left)


def loose(evidence: Evidence) -> list[Finding]:
    """Pieces of stock that are cut off. Parts of an array come apart by intention."""
    return [] if len(evidence.clamped.copies) > 1 else loose_findings(evidence.cutting.stock)


def unconfirmed_uses(evidence: Evidence) -> list[Finding]:
    """Threads and fits that the model does not show and nobody has confirmed, with their holes."""
    found, holes = [], evidence.holes
    for setup, clamped in evidence.release_setups:
        for operation in (o for o in setup.operations if o.unconfirmed):
            mine = [h for pick in operation.holes for h in holes if pick.face in h.faces]
            sizes = ", ".join(dict.fromkeys(h.words() for h in mine))
            faces = ", ".join(str(pick.face) for pick in operation.holes[:12])
            count = f"{len(operation.holes)} holes" if len(operation.holes) > 1 else "1 hole"
            done = "drills them as drawn" if operation.enabled else "is switched off"
            at = apply(clamped.setup_from_part, np.array([mine[0].mouth]))[0].tolist() if mine else None
            found.append(
                Finding(
                    "caution",
                    "unconfirmed",
                    f"{count}, {sizes} (faces {faces}), may be {operation.unconfirmed}; the model does not "
                    f"show it, and '{operation.name}' {done} until somebody confirms or declines it.",
                    "Say yes or no at the operation on the plan.",
                    operation=operation.name,
                    place=None if at is None else (at[0], at[1], at[2]),
                )
            )
    return found


def notes(evidence: Evidence) -> list[Finding]:
    """What the strategies noted about their own work, each kind once for an operation."""
    out = []
    for step in evidence.posted.program.steps:
        kinds: dict[str, list[tuple[Note, Words]]] = {}
        for note in step.path.notes:
            if words := note.words(step.name):
                kinds.setdefault(note.kind, []).append((note, words))
        for kind, found in kinds.items():
            note, (what, remedy) = found[0]
            if len(found) > 1:
                what += f" So in {len(found)} places."
            place = getattr(note, "place", None)
            severity: Severity = SEVERITIES.get(kind, "note")
            at = None if place is None else _in_setup(step, place)
            # a stick-out that would do is told as the limit
            does = max((float(getattr(n, "stick_out", 0.0)) for n, _ in found), default=0.0)
            has, lacks = step.tool.stick_out, does > step.tool.stick_out
            measure, limit = (has, does) if lacks else (None, None)
            out.append(
                Finding(
                    severity, kind, what, remedy, operation=step.name, place=at, measure=measure, limit=limit
                )
            )
    return out


def _in_setup(step: Step, place: tuple[float, float, float]) -> tuple[float, float, float]:
    """A place of a step's side in the setup frame."""
    matrix = np.eye(4) if step.side is None else step.side.setup_from_side
    x, y, z = apply(matrix, np.array([place]))[0].tolist()
    return x, y, z


CHECKS: tuple[Check, ...] = (
    text, limits, postures, held_speeds, standing, fixture, bodies, load, contacts, at_rest, gaps, blanks,
    order, turning_back, overcut, worn_tools, left, loose, unconfirmed_uses, notes,
)  # fmt: skip
"""All checks, in the order in which findings of one moment are told."""
