"""What a setup leaves for the next: the stock as its program, read back, has cut it.

Planning takes its surface as a mesh. The proof of the next setup needs it exactly: there the cuts are made
once more, in the next setup's frame, with the axis as it leaned then.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.frames import apply, invert
from fenrik.core.job.cutting.cutting import cut_stock
from fenrik.core.job.document.job import ReleaseDoc, SetupDoc
from fenrik.core.job.paths.paths import Paths
from fenrik.core.job.programs.posted import Posted
from fenrik.core.job.programs.posting import post
from fenrik.core.job.setups.raw import proof_cell
from fenrik.core.job.workspace.artefacts import key_of
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.simple_solids import box_mesh
from fenrik.core.motion.pieces import is_upright, upright_pieces, with_axes
from fenrik.core.progress import Progress
from fenrik.core.proof.simulate import strokes_of
from fenrik.core.setups.setup import CarriedStock, Clamped
from fenrik.core.stock.dexels import Stock, tool_bodies
from fenrik.core.stock.surface import surface

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class _Strokes:
    """Straight pieces (m, 12: tip and axis at both ends) that some bodies (b, 6) swept."""

    pieces: Floats
    bodies: Floats


class Carrying:
    """The stocks that setups leave; see `setups.earlier.EarlierStock`."""

    def __init__(self, paths: Paths) -> None:
        self._paths = paths

    def key(self, setup: SetupDoc) -> str:
        """Key of what a setup leaves: the stock it began with, its frame, and the paths of all that cuts in
        it."""
        paths = self._paths
        keys = [paths.keys.path(setup, o) for o in setup.operations if o.enabled]
        cell = paths.job.proof.cell_mm
        return key_of("carried", [paths.setups.stock_key(setup), paths.setups.frame_of(setup), keys, cell])

    def surface(self, setup: SetupDoc, progress: Progress) -> TriangleMesh:
        """The stock after all switched-on operations of a setup, as a closed mesh in the part frame.

        It is the dexels' surface: flat faces and edges between them exact, curved ones within cell² / (8 R).
        The cuts are shared with the proof of the same program. Raises what planning and posting raise.
        """
        paths, setups = self._paths, self._paths.setups
        clamped = setups.clamped(setup)
        posted = _posted(paths, setup, progress.stage(0.0, 0.6))
        if posted is not None:
            skin = cut_stock(paths, posted, progress.stage(0.6, 0.95)).done.skin
        else:
            skin = surface(setups.raw_dexels(setup, proof_cell(clamped, paths.job.proof.cell_mm)))
        triangles = skin.triangles()
        vertices = apply(invert(clamped.setup_from_part), skin.vertices)
        return TriangleMesh(vertices, triangles, np.ones(len(triangles), dtype=np.int32))

    def dexels(self, setup: SetupDoc, cell: float, progress: Progress) -> Stock:
        """The stock before a setup whose stock is carried, in its frame: what was delivered for the first
        setup of the chain, cut by every setup since."""
        paths, setups = self._paths, self._paths.setups
        target = setups.clamped(setup)
        chain = _chain(paths, setup)
        stock = _delivered(setups.clamped(chain[0]), target, cell)
        for i, earlier in enumerate(chain):
            stage = progress.stage(i / len(chain), (i + 1) / len(chain))
            posted = _posted(paths, earlier, stage)
            if posted is not None:
                for strokes in _strokes(posted, paths, target):
                    nothing_rapid = np.zeros(len(strokes.pieces), dtype=np.bool_)
                    stock.cut(strokes.pieces, strokes.bodies, nothing_rapid, measured=False)
        for rays, touched in zip(stock.rays, stock.touched, strict=True):
            rays.arrays.tags[:] = -1  # as delivered: whoever cut it, it was not this program
            touched[:] = False
        stock.is_box = False
        return stock


def _chain(paths: Paths, setup: SetupDoc) -> list[SetupDoc]:
    """The setups before one, back to the one that has a stock of its own; that one first."""
    out: list[SetupDoc] = []
    while isinstance(setup.stock, CarriedStock):
        setup = paths.job.setup(setup.stock.setup)
        out.insert(0, setup)
    return out


def _delivered(source: Clamped, target: Clamped, cell: float) -> Stock:
    """The first setup's stock on the target's lattice."""
    mesh = source.stock_mesh or box_mesh(source.stock_low, source.stock_high)
    placed = mesh.moved(target.setup_from_part @ invert(source.setup_from_part))
    return Stock.of_mesh(placed, cell, target.stock_low, target.stock_high)


def _strokes(posted: Posted, paths: Paths, target: Clamped) -> Iterator[_Strokes]:
    """The posted motion of a setup in the frame of another, tool by tool."""
    source = paths.setups.clamped(posted.setup)
    matrix = target.setup_from_part @ invert(source.setup_from_part)
    tools = {t.number: t for t in paths.job.tools}
    for stroke in strokes_of(posted.motion, tools):
        poses = with_axes(stroke.pieces)
        ends = [apply(matrix, poses[:, :3]), apply(matrix, poses[:, 6:9])]
        axes = [poses[:, 3:6] @ matrix[:3, :3].T, poses[:, 9:] @ matrix[:3, :3].T]
        pieces = np.hstack([ends[0], axes[0], ends[1], axes[1]])
        if is_upright(pieces).all():
            pieces = upright_pieces(pieces)
        yield _Strokes(pieces, tool_bodies(stroke.tool))


def _posted(paths: Paths, setup: SetupDoc, progress: Progress) -> Posted | None:
    """The program of all that is switched on in a setup, read back; None where nothing cuts."""
    enabled = [o for o in setup.operations if o.enabled]
    if not any(len(paths.path(setup, o, progress.stage(0.0, 0.8))) > 1 for o in enabled):
        return None
    # the job's release of the whole setup shares its cuts with this; else plain words do
    whole = (
        r
        for r in paths.job.effective_releases()
        if r.setups == [setup.name] and r.operations is None and r.file is None
    )
    release = next(whole, ReleaseDoc(name="carried", setup=setup.name))
    return post(paths, release, progress.stage(0.8, 1.0))
