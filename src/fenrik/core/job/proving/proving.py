"""From toolpaths to a proved release: write, read back, compare, cut, measure, check."""

from __future__ import annotations

from typing import Any

import numpy as np

from fenrik.core.job.cutting.cutting import cut_stock
from fenrik.core.job.cutting.proofs import Proof, keep_proof, kept_proof
from fenrik.core.job.document.job import ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.programs.posting import operations_of, post
from fenrik.core.job.proving.checks import CHECKS
from fenrik.core.job.proving.evidence import gather
from fenrik.core.job.proving.facts import facts_of, last_stock, motion_arrays
from fenrik.core.job.workspace.artefacts import key_of
from fenrik.core.motion.program_motion import to_arrays
from fenrik.core.posting.writing.dialect import dialect
from fenrik.core.progress import SILENT, Progress


class Prover:
    """Writes and proves the releases of a job."""

    def __init__(self, paths: Paths) -> None:
        self.paths = paths
        self.job = paths.job

    def post(self, release: ReleaseDoc, progress: Progress = SILENT) -> Posted:
        """The release's program, planned, written, read back and compared; see `releasing.post`."""
        return post(self.paths, release, progress)

    def release_key(self, release: ReleaseDoc, part: str | None = None) -> str:
        """Key of a proved release: all that shapes its text and all that the text is proved against. `part`
        is the setup whose stock is cut, open: the release's first."""
        paths = self.paths
        words = dialect(release.dialect, paths.workspace.files.path, "releases")
        mine = [self._setup_key(release, self.job.setup(name)) for name in release.setups]
        return key_of(
            "proof",
            [
                mine,
                part or release.setup,
                release.model_dump(exclude={"notes"}),
                self._elsewhere(release),
                words.model_dump(),
                self.job.name,
                self.job.part and self.job.part.file,  # which the text names
                self.job.proof.model_dump(),
            ],
        )

    def _elsewhere(self, release: ReleaseDoc) -> list[Any] | None:
        """What counts of a program from elsewhere: its bytes, and the tools that it may call."""
        if release.file is None:
            return None
        digest = self.paths.workspace.files.digest(release.file, "releases")
        return [digest, [t.facts() for t in self.job.tools]]

    def _setup_key(self, release: ReleaseDoc, setup: SetupDoc) -> list[Any]:
        paths = self.paths
        clamped, chosen = paths.setups.clamped(setup), operations_of(setup, release)
        resolved = [paths.tasks.task(setup, o) for o in chosen]
        return [
            [paths.keys.path(setup, o) for o in chosen],
            [[o.name, o.coolant, o.spindle, o.tolerance_mm, o.arm.model_dump()] for o in chosen],
            [[r.spindle_rpm, r.feed, r.entry_feed, r.tool.facts()] for r in resolved],
            setup.name,
            setup.work_offset,
            setup.zero.model_dump(),
            paths.setups.machine(setup).model_dump(),
            paths.setups.machine_shape(setup),
            paths.setups.material(setup).model_dump(),
            paths.setups.stock_key(setup),
            clamped.setup_from_part.tolist(),
            clamped.stock_low.tolist(),
            clamped.stock_high.tolist(),
            clamped.copies.tolist(),
            clamped.table_from_setup.tolist(),
            paths.setups.frame_of(setup),
            [s.model_dump() for s in setup.sides],
            setup.between_sides.model_dump(),
            [[o.name, o.unconfirmed, o.enabled] for o in setup.operations if o.unconfirmed],
        ]

    def prove(self, release: ReleaseDoc, progress: Progress = SILENT, part: str | None = None) -> Proof:
        """A release planned, written, read back and proved against the stock of one of its setups (`part`,
        open: the first); from the store where it exists.

        Raises DocumentError, ComputeError, PostError or Cancelled.
        """
        key = self.release_key(release, part)
        kept = kept_proof(self.paths.store, key)
        if kept is not None:
            return kept
        posted = self.post(release, progress.stage(0.0, 0.4))
        return self._prove(key, posted.part(part or release.setup), progress.stage(0.4, 1.0))

    def prove_whole(self, release: ReleaseDoc, progress: Progress = SILENT) -> list[Proof]:
        """The proofs of all setups of a release, in their order."""
        count = len(release.setups)
        return [
            self.prove(release, progress.stage(i / count, (i + 1) / count), name)
            for i, name in enumerate(release.setups)
        ]

    def _prove(self, key: str, posted: Posted, progress: Progress) -> Proof:
        cutting = cut_stock(self.paths, posted, progress.stage(0.02, 0.75))
        evidence = gather(self.paths, posted, cutting, progress.stage(0.78, 1.0))
        findings = [f for check in CHECKS for f in check(evidence)]
        run = evidence.run
        moves = {**to_arrays(run.motion), "step": run.step_of, "begin": run.begin, "time": run.times}
        apart = evidence.bodies.apart.astype(np.float32)
        motion = {
            **motion_arrays(run, cutting.done.traces, evidence.on),
            **({"apart_at": apart[:, 0], "apart": apart[:, 1]} if len(apart) else {}),
        }
        return keep_proof(
            self.paths.store,
            key,
            facts_of(self.paths, evidence, findings),
            motion,
            moves,
            last_stock(evidence),
        )
