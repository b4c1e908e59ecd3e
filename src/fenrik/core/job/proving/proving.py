"""From toolpaths to a proved release: write, read back, compare, cut, measure."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrik.core.cutting.topology import Topology, prepare
from fenrik.core.frames import apply, invert
from fenrik.core.job.cutting.cutting import cut_stock
from fenrik.core.job.cutting.proofs import Proof, keep_proof, kept_proof
from fenrik.core.job.document.job import ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posting import Posted, operations_of, post, zero_words
from fenrik.core.job.proving.gaps import gap_findings, room_findings
from fenrik.core.job.proving.note_words import words_of
from fenrik.core.job.proving.wear import wear_findings
from fenrik.core.job.workspace.artefacts import key_of
from fenrik.core.machines.time import move_times
from fenrik.core.model.distance import DistanceField
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.motion.pieces import upright_pieces
from fenrik.core.motion.program_motion import ProgramMotion, to_arrays
from fenrik.core.posting.writing.dialect import dialect
from fenrik.core.posting.program import Step
from fenrik.core.progress import SILENT, Progress
from fenrik.core.proof import edges, engravings, threads
from fenrik.core.proof.adapting import adapted_pieces, parts_of_moves
from fenrik.core.proof.deviation import Deviation, OwnZone, SideZone, Zone, measure, overcut_findings
from fenrik.core.proof.finding import Finding, Severity
from fenrik.core.proof.fixture import against_fixture
from fenrik.core.proof.left import Reach, left_findings, left_of, spots_on, stock_over
from fenrik.core.proof.limits import limit_findings
from fenrik.core.proof.load import load_findings
from fenrik.core.proof.reach import NEEDLE, reachable
from fenrik.core.proof.simulate import PART, Simulated
from fenrik.core.setups.fixture import joined_meshes
from fenrik.core.stock.surface import UNSEEN
from fenrik.core.tolerances import MESH_SHARE
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]


class Prover:
    """Writes and proves the releases of a job."""

    def __init__(self, paths: Paths) -> None:
        self.paths = paths
        self.job = paths.job

    def post(self, release: ReleaseDoc, progress: Progress = SILENT) -> Posted:
        """The release's program, planned, written, read back and compared; see `releasing.post`."""
        return post(self.paths, release, progress)

    def release_key(self, release: ReleaseDoc, part: str | None = None) -> str:
        """Key of a proved release: all that shapes its text and all that the text is proved against. `part` is the setup
        whose stock is cut, open: the release's first."""
        paths = self.paths
        words = dialect(release.dialect, paths.workspace.files.path, "releases")
        mine = [self._setup_key(release, self.job.setup(name)) for name in release.setups]
        return key_of(
            "proof",
            [
                mine, part or release.setup, release.model_dump(exclude={"notes"}), words.model_dump(), self.job.name,
                self.job.proof.model_dump(),
            ],
        )  # fmt: skip

    def _setup_key(self, release: ReleaseDoc, setup: SetupDoc) -> list[Any]:
        paths = self.paths
        clamped, chosen = paths.setups.clamped(setup), operations_of(setup, release)
        resolved = [paths.tasks.task(setup, o) for o in chosen]
        return [
            [paths.keys.path(setup, o) for o in chosen],
            [[o.name, o.coolant, o.spindle, o.tolerance_mm] for o in chosen],
            [[r.spindle_rpm, r.feed, r.entry_feed, r.tool.facts()] for r in resolved],
            setup.name, setup.work_offset, setup.zero.model_dump(), paths.setups.machine(setup).model_dump(),
            paths.setups.material(setup).model_dump(), paths.setups.stock_key(setup),
            clamped.setup_from_part.tolist(), clamped.stock_low.tolist(), clamped.stock_high.tolist(), clamped.copies.tolist(),
            clamped.table_from_setup.tolist(), paths.setups.frame_of(setup), [s.model_dump() for s in setup.sides],
        ]  # fmt: skip

    def prove(self, release: ReleaseDoc, progress: Progress = SILENT, part: str | None = None) -> Proof:
        """A release planned, written, read back and proved against the stock of one of its setups (`part`, open: the
        first); from the store where it exists.

        Raises DocumentError, ComputeError, PostError or Cancelled.
        """
        key = self.release_key(release, part)
        kept = kept_proof(self.paths.store, key)
        if kept is not None:
            return kept
        posted = self.post(release, progress.part(0.0, 0.4))
        return self._prove(key, posted.part(part or release.setup), progress.part(0.4, 1.0))

    def prove_whole(self, release: ReleaseDoc, progress: Progress = SILENT) -> list[Proof]:
        """The proofs of all setups of a release, in their order."""
        count = len(release.setups)
        return [
            self.prove(release, progress.part(i / count, (i + 1) / count), name)
            for i, name in enumerate(release.setups)
        ]

    def _prove(self, key: str, posted: Posted, progress: Progress) -> Proof:
        paths, setup, motion = self.paths, posted.setup, posted.checked()
        clamped, mill = paths.setups.clamped(setup), paths.setups.machine(setup)
        tools = {t.number: t for t in self.job.tools}
        names = [o.name for o in posted.operations]
        step_of = posted.comparison.step_of
        cutting = cut_stock(paths, posted, progress.part(0.02, 0.75))
        cut, keep, stock, times, begin = (
            cutting.done,
            cutting.keep,
            cutting.stock,
            cutting.times,
            cutting.begin,
        )
        findings = list(posted.findings)
        findings += limit_findings(posted.motion, tools, paths.setups.on_machine(setup), begin)
        if clamped.fixture is not None:
            findings += against_fixture(motion, step_of, names, tools, clamped.fixture, begin)
        findings += load_findings([c.facts for c in cut.steps], names, mill)
        findings += cut.findings
        findings += gap_findings(paths, setup, posted.operations)
        findings += room_findings(paths, posted.release)
        if posted.order_saves_s > 0:
            words = f"The order with the fewest tool changes, {posted.tool_changes}, saves {posted.order_saves_s:.0f} s of changing tools."
            findings.append(Finding("note", "order", words))
        progress.step(0.78, "measuring the deviation")
        tolerance = min(o.tolerance_mm for o in posted.operations)
        mesh = paths.setups.mesh(setup, tolerance)
        area = paths.workspace.part().area * len(clamped.copies)
        band = self.job.proof.tolerance_mm
        solid = mesh if clamped.fixture is None else joined_meshes([mesh, clamped.fixture])
        topology, design = prepare(solid), DistanceField(mesh)
        zones = [zone for step in posted.program.steps for zone in _zones(step)]
        deviation = measure(
            cut.last,
            design,
            area,
            band,
            cut.cuts,
            cut.skin,
            zones,
        )
        used_sides = list(dict.fromkeys(o.side for o in posted.operations))
        deviation.facts.update(self._left(deviation, mesh, topology, posted, used_sides, stock.cell))
        slack = posted.dialect.resolution_mm + max(0.0, mesh.deviation - tolerance * MESH_SHARE)
        limits = [o.tolerance_mm + slack for o in posted.operations]
        findings += overcut_findings(
            deviation, cut.move_of_tag, motion, posted.comparison.step_of, names, limits, begin
        )
        findings += wear_findings(
            paths, posted, stock, design, area, deviation.facts, limits, zones, progress.part(0.85, 1.0)
        )
        findings += left_findings(deviation.facts["left"])
        findings += self._notes(posted)
        located = [_located(f, setup.name, posted.comparison.step_of, names, begin) for f in findings]
        order = {"stop": 0, "caution": 1, "note": 2}
        facts = {
            "setup": setup.name,
            "release": posted.release.name,
            "file": f"{posted.release.name}.{posted.dialect.extension}",
            "dialect": posted.dialect.id,
            "tilted": posted.dialect.tilted,
            "zero": zero_words(setup),
            "text": posted.text,
            "files": [[name, text] for name, text in posted.files],
            "setups": posted.release.setups,
            "tool_changes": posted.tool_changes,
            "order_saves_s": posted.order_saves_s,
            "registers": {str(n): v for n, v in posted.program.registers().items()},
            "cell_mm": stock.cell,
            "time_s": posted.time_s,
            "stock_volume_mm3": stock.volume(),
            "removed_mm3": float(cut.volume.sum()),
            "operations": self._operation_facts(posted, times, cut),
            "replay": {
                "low": clamped.stock_low.tolist(),
                "high": clamped.stock_high.tolist(),
                "is_box": stock.is_box,
                "raw": keep.raw,
                "cuts": keep.keys,
                "tools": {str(n): t.model_dump() for n, t in tools.items()},
            },
            "deviation": deviation.facts,
            "findings": sorted(
                (f.as_dict() for f in located), key=lambda f: (order[f["severity"]], f["time_s"])
            ),
        }
        seen = _motion_arrays(motion, step_of, begin, times, cut.traces)
        moves = {**to_arrays(motion), "step": step_of, "begin": begin, "time": times}
        stocks = [{"vertices": done.vertices, "quads": done.quads} for done in cut.steps]
        stocks[-1:] = [
            {
                "vertices": deviation.surface.vertices.astype(np.float32),
                "quads": deviation.surface.quads,
                "deviation": deviation.at_vertices.astype(np.float32),
            }
        ]
        return keep_proof(paths.store, key, facts, seen, moves, stocks)

    def _left(
        self,
        deviation: Deviation,
        mesh: TriangleMesh,
        topology: Topology,
        posted: Posted,
        sides: list[str | None],
        cell: float,
    ) -> dict[str, Any]:
        """How much of the design in reach is on size, what is left, and why."""
        band, met = self.job.proof.tolerance_mm, deviation.surface.tags != UNSEEN
        spots = spots_on(mesh)
        over = stock_over(spots, deviation.surface.points[met], deviation.at_points[met], cell)

        seen: list[tuple[Floats, Topology, set[Profile]]] = []
        for side in sides:
            matrix = invert(self.paths.setups.seen(posted.setup, side).setup_from_side)
            solid = (
                topology
                if side is None
                else prepare(_moved(mesh, self.paths.setups.clamped(posted.setup).fixture, matrix))
            )
            numbers = {o.tool for o in posted.operations if o.side == side}
            seen.append((matrix, solid, {t.profile for t in self.job.tools if t.number in numbers}))

        def reach(needle: bool) -> Reach:
            def met(points: Floats, normals: Floats) -> NDArray[np.bool_]:
                out = np.zeros(len(points), dtype=np.bool_)
                for matrix, solid, cutters in seen:
                    own = {NEEDLE} if needle else cutters
                    out |= reachable(
                        apply(matrix, points), normals @ matrix[:3, :3].T, solid, own, 0.5 * band
                    )
                return out

            return met

        return left_of(spots, over, reach(False), reach(True), band)

    def _operation_facts(self, posted: Posted, times: Floats, cut: Simulated) -> list[dict[str, Any]]:
        lengths = posted.motion.moves.lengths()
        out = []
        for i, operation in enumerate(posted.operations):
            rows = posted.comparison.step_of == i
            feeding = rows & ~posted.checked().rapid
            r = self.paths.tasks.task(posted.setup, operation)
            out.append(
                {
                    "name": operation.name,
                    "strategy": operation.strategy,
                    "tool": operation.tool,
                    "moves": int(rows.sum()),
                    "cutting_length_mm": float(lengths[feeding].sum()),
                    "rapid_length_mm": float(lengths[rows & posted.checked().rapid].sum()),
                    "time_s": float(times[rows].sum()),
                    "removed_mm3": float(cut.volume[rows].sum()),
                    "compute_s": self.paths.compute_seconds(posted.setup, operation),
                    "spindle_rpm": r.spindle_rpm,
                    "feed_mm_min": r.feed,
                    "load": cut.steps[i].facts,
                    "adapted_saves_s": self._adapted_saves(posted, i, feeding, cut),
                }
            )
        return out

    def _adapted_saves(self, posted: Posted, step: int, feeding: NDArray[np.bool_], cut: Simulated) -> float:
        """Seconds that feeds adapted to the measured chips would save on the machine; 0 where they are adapted already."""
        operation, motion = posted.operations[step], posted.checked()
        if operation.feed_follows != "plan" or not len(cut.steps[step].owner):
            return 0.0
        mill, resolved = (
            self.paths.setups.machine(posted.setup),
            self.paths.tasks.task(posted.setup, operation),
        )
        row = np.flatnonzero(posted.comparison.step_of == step)[cut.steps[step].owner]
        feed = motion.feed[row]
        # entries and plunges have feeds of their own
        mine = feeding[row] & (np.abs(feed - resolved.feed) < 1.0)
        thinning = cut.steps[step].thinning.astype(np.float64)
        wanted = self.paths.planned_thinning(resolved, thinning[mine])
        limit = resolved.feed_limit
        if motion.turning is not None and motion.turning.owner.size:
            return 0.0  # moves of rotary joints lie between
        pieces = cut.pieces(step)
        part = parts_of_moves(pieces, row, PART * self.job.tool(operation.tool).radius)
        faster = adapted_pieces(feed, mine, thinning, part, wanted, limit)
        parts = motion.in_pieces(pieces, row)
        before, after = (float(move_times(parts.with_feed(f), mill).sum()) for f in (feed, faster))
        return before - after

    def _notes(self, posted: Posted) -> list[Finding]:
        """What the strategies noted about their own work."""
        out = []
        for step in posted.program.steps:
            kinds: dict[str, list[tuple[dict[str, Any], tuple[str, str]]]] = {}
            notes: list[dict[str, Any]] = step.path.notes
            for note in notes:
                if words := words_of(note, step.name):
                    kinds.setdefault(str(note["kind"]), []).append((note, words))
            for kind, found in kinds.items():
                note, (what, remedy) = found[0]
                if len(found) > 1:
                    what += f" So in {len(found)} places."
                at = [float(note[k]) for k in "xyz" if k in note]
                place = _in_setup(step, at) if len(at) == 3 else None
                severity: Severity = "caution" if kind in ("air", "short") else "note"
                out.append(Finding(severity, kind, what, remedy, operation=step.name, place=place))
        return out


def _in_setup(step: Step, place: list[float]) -> tuple[float, float, float]:
    """A place of a step's side in the setup frame."""
    matrix = np.eye(4) if step.side is None else step.side.setup_from_side
    x, y, z = apply(matrix, np.array([place]))[0].tolist()
    return x, y, z


def _moved(mesh: TriangleMesh, fixture: TriangleMesh | None, matrix: Floats) -> TriangleMesh:
    """Part and fixture in another frame."""
    return (mesh if fixture is None else joined_meshes([mesh, fixture])).moved(matrix)


def _zones(step: Step) -> list[Zone]:
    """Threads, broken edges and engravings of a step, as it noted them."""
    noted = step.path.notes
    own: list[OwnZone] = [*threads.zones_of(noted), *edges.zones_of(noted), *engravings.zones_of(noted)]
    matrix = None if step.side is None else invert(step.side.setup_from_side)
    return [zone if matrix is None else SideZone(zone, matrix) for zone in own]


def _located(
    finding: Finding, setup: str, step_of: NDArray[np.int32], names: list[str], begin: Floats
) -> Finding:
    """The finding with its setup, its operation and its time filled in."""
    changes: dict[str, Any] = {"setup": setup}
    if finding.move >= 0 and finding.move < len(step_of):
        changes["operation"] = finding.operation or names[int(step_of[finding.move])]
        changes["time_s"] = float(begin[finding.move])
    return Finding(**{**finding.as_dict(), **changes})


def _motion_arrays(
    motion: ProgramMotion,
    step_of: NDArray[np.int32],
    begin: Floats,
    times: Floats,
    traces: dict[str, NDArray[np.float32]],
) -> dict[str, Any]:
    """The motion as straight pieces with the time at which each ends, for replay."""
    poses, owner = motion.in_setup(0.02)
    pieces = upright_pieces(poses)
    length = np.linalg.norm(pieces[:, 3:] - pieces[:, :3], axis=1)
    total = np.zeros(len(motion))
    np.add.at(total, owner, length)
    first = np.searchsorted(owner, np.arange(len(motion)))
    run = np.cumsum(length)
    before = run[first] - length[first]
    share = (run - before[owner]) / np.maximum(total[owner], 1e-12)
    return {
        "pieces": pieces.astype(np.float32),
        **({} if poses.shape[1] == 6 else {"axes": poses[:, [3, 4, 5, 9, 10, 11]].astype(np.float32)}),
        "owner": owner.astype(np.int32),
        "ends_at": (begin[owner] + share * times[owner]).astype(np.float32),
        "rapid": motion.rapid[owner].astype(np.uint8),
        "step": step_of[owner].astype(np.int32),
        "tool": motion.tool[owner].astype(np.int32),
        "feed": motion.feed[owner].astype(np.float32),
        "line": motion.line[owner].astype(np.int32),
        **{name: values[owner] for name, values in traces.items()},
    }
