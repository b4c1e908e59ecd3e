"""A replay of a proved release, from what its proof kept: the posted motion, the tools, the stocks after
operations."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenrik.core.errors import NotFound
from fenrik.core.job.cutting.proofs import kept_moves, kept_proof
from fenrik.core.job.workspace.artefacts import Store
from fenrik.core.motion.pieces import upright_pieces, with_axes
from fenrik.core.motion.program_motion import from_arrays
from fenrik.core.proof.replay import Replay, Strokes
from fenrik.core.proof.simulate import strokes_of
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.keeping import Snapshot
from fenrik.core.tooling.assembly import Assembly

Floats = NDArray[np.float64]


def replay_of(key: str, store: Store) -> Replay:
    """The replay of the proof with this key. Raises NotFound when it, or a stock that it needs, is no longer
    kept."""
    proof, arrays = kept_proof(store, key), kept_moves(store, key)
    if proof is None or arrays is None:
        raise NotFound("The release has not been proved yet.", remedy="Prove it.")
    facts, kept = proof.facts, proof.facts["replay"]
    motion = from_arrays(arrays)
    step_of, begin, times = arrays["step"], arrays["begin"], arrays["time"]
    tools = {int(n): Assembly(**t) for n, t in kept["tools"].items()}
    cell, low, high = facts["cell_mm"], np.array(kept["low"]), np.array(kept["high"])
    raw = Snapshot.of(Stock.of_box(low, high, cell))
    if not kept["is_box"]:
        raw = raw.changed(_blob(store, kept["raw"])).delivered_as_solid()
    after, steps = [raw], []
    numbers = sorted({int(n) for n in np.unique(motion.tool) if int(n) in tools})
    for step, key in enumerate(kept["cuts"]):
        rows = np.flatnonzero(step_of == step)
        own = motion.rows(rows)
        pieces, ends, owner = [np.zeros((0, 6))], [np.zeros(0)], [np.zeros(0, dtype=np.int32)]
        for stroke in strokes_of(own, tools):
            pieces.append(stroke.pieces)
            ends.append(_ends(stroke.pieces, rows[stroke.row], begin, times))
            owner.append(np.full(len(stroke.pieces), numbers.index(stroke.tool.number), dtype=np.int32))
        if any(p.shape[1] == 12 for p in pieces):
            pieces = [with_axes(p) for p in pieces]
        steps.append(Strokes(np.concatenate(pieces), np.concatenate(ends), np.concatenate(owner)))
        after.append(after[-1].changed(_blob(store, f"{key}-stock")))
    return Replay(raw, after[1:], steps, [tool_bodies(tools[n]) for n in numbers])


def _blob(store: Store, key: str) -> bytes:
    blob = store.get(key)
    if blob is None:
        raise NotFound("The stocks of this proof are no longer kept.", remedy="Prove the release again.")
    return blob


def _ends(pieces: Floats, move: NDArray[np.int64], begin: Floats, times: Floats) -> Floats:
    """When each piece ends, s: moves run through their pieces evenly."""
    tips = upright_pieces(pieces)
    length = np.linalg.norm(tips[:, 3:] - tips[:, :3], axis=1)
    run = np.cumsum(length)
    first = np.searchsorted(move, move)
    last = np.searchsorted(move, move, side="right") - 1
    before, total = run[first] - length[first], run[last] - (run[first] - length[first])
    share = np.where(total > 0, (run - before) / np.maximum(total, 1e-12), 1.0)
    return np.asarray(begin[move] + share * times[move])
