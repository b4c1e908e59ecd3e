"""The jobs of the examples, for tests that change them a little."""

from __future__ import annotations

from typing import Any

import yaml

from fenrik.core.job.cutting.proofs import Proof
from fenrik.core.job.document.reading import job_from_data
from fenrik.core.job.opening import open_job
from fenrik.core.job.proving.proving import Prover
from fenrik.core.job.workspace.artefacts import Store
from tests.conftest import ROOT


def example(name: str) -> dict[str, Any]:
    """A document of the examples as plain data."""
    return dict(yaml.safe_load((ROOT / "examples" / f"{name}.yaml").read_text("utf-8")))


def prover_of(data: dict[str, Any], store: Store) -> Prover:
    """The prover of a document whose files are those of the examples."""
    return Prover(open_job(job_from_data(data), ROOT / "examples", store))


def proof_of(data: dict[str, Any], store: Store) -> Proof:
    """The proof of its first release."""
    mine = prover_of(data, store)
    return mine.prove(mine.job.effective_releases()[0])
