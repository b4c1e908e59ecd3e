"""From the document to toolpaths, each kept under its inputs' hash."""

from __future__ import annotations

import json
import time
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.clearance import kept_clear
from fenrik.core.cutting.drop import DropCutter
from fenrik.core.errors import ComputeError, FenrikError, NotYet
from fenrik.core.features.bosses import find_bosses
from fenrik.core.job.artefacts import Store, key_of
from fenrik.core.job.document import Job, OperationDoc, SetupDoc
from fenrik.core.job.drawn_lines import drawn_lines
from fenrik.core.job.failing import KEPT, keep_failure, kept_failure
from fenrik.core.job.files import JobFiles
from fenrik.core.job.hole_spots import hole_spots
from fenrik.core.job.parts import Parts, ReadModel, mesh_bytes, mesh_from
from fenrik.core.job.regions import area_of
from fenrik.core.job.resolving import (
    Resolved,
    check_kind,
    feed_limit,
    heights_of,
    kept_out,
    resolve,
    with_excess,
)
from fenrik.core.job.side_stocks import SideStocks, raw_map
from fenrik.core.job.standing import raw_stock, thinning_on_parts
from fenrik.core.job.wall_lines import rims, wall_lines
from fenrik.core.model.part_model import TriangleMesh
from fenrik.core.model.reading import read_model
from fenrik.core.motion.repeating import joined, placed
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.progress import SILENT, Progress
from fenrik.core.proof.adapting import adapted, divided, follows, side_milling
from fenrik.core.proof.simulate import PART
from fenrik.core.setups.setup import CarriedStock, Clamped, SolidStock
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.stock.keeping import Snapshot
from fenrik.core.strategies.base import CLEARING, HoleSpot, Inputs
from fenrik.core.strategies.registry import strategy
from fenrik.core.tolerances import MESH_SHARE
from fenrik.core.tooling.assembly import THREADING
from fenrik.core.tooling.cutting_data import engagement_angle
from fenrik.core.tooling.profile import Profile

Floats = NDArray[np.float64]


class Planner(Parts):
    """Computes a job's parts, setups and paths; results are taken from the store where they exist.

    Without `cutting` the stocks that setups leave come from the store only, so that a question about the job never cuts
    anything.
    """

    def __init__(
        self,
        job: Job,
        files: Path | JobFiles,
        store: Store,
        read: ReadModel = read_model,
        cutting: bool = True,
    ) -> None:
        super().__init__(job, files, store, read)
        self._cutting = cutting
        self._stocks: dict[str, tuple[list[str], HeightMap | None]] = {}
        self._side_stocks = SideStocks(self)
        self._cutters: dict[tuple[int, Profile], dict[tuple[float, float], DropCutter]] = {}
        # by identity: documents are frozen and have no hash
        self._keys: dict[int, tuple[SetupDoc, list[tuple[str, str]]]] = {}
        self._places: dict[int, tuple[SetupDoc, dict[int, int]]] = {}
        self._resolved: dict[int, tuple[OperationDoc, Resolved]] = {}

    # stock -----------------------------------------------------------------------------------

    def carried(self, setup: SetupDoc, progress: Progress = SILENT) -> TriangleMesh:
        """What the setup before leaves for one with a carried stock, in the part frame; cut when it is not in the store.
        Raises NotYet where nothing may be cut."""
        from fenrik.core.job.carrying import left_by  # the proof, which stands on this module

        assert isinstance(setup.stock, CarriedStock)
        key = self.carried_key(setup.stock)
        blob = self.store.get(key)
        if blob is not None:
            return mesh_from(blob)
        if not self._cutting:
            raise NotYet(
                f"The stock of '{setup.name}' is what '{setup.stock.setup}' leaves, which has not been cut yet.",
                remedy="Compute the plan.", where=f"{self.where_setup(setup)}.stock",
            )  # fmt: skip
        mesh = left_by(self, self.job.setup(setup.stock.setup), progress)
        self.store.put(key, "mesh", mesh_bytes(mesh))
        return mesh

    def raw_dexels(self, setup: SetupDoc, cell: float, progress: Progress = SILENT) -> Stock:
        """The stock before the first operation of a setup in the dexels of the proof; a carried one is kept."""
        clamped = self.clamped(setup)
        if not isinstance(setup.stock, CarriedStock):
            return raw_stock(clamped, cell)
        from fenrik.core.job.carrying import dexels_before  # the proof, which stands on this module

        key = key_of("carried_stock", [self.carried_key(setup.stock), self.frame_of(setup), cell])
        blob = self.store.get(key)
        if blob is not None:
            lattice = Snapshot.of(Stock.of_box(clamped.stock_low, clamped.stock_high, cell))
            return lattice.changed(blob).delivered_as_solid().stock()
        stock = dexels_before(self, setup, cell, progress)
        self.store.put(key, "stock", Snapshot.of(stock).changes(None))
        return stock

    def carried_key(self, stock: CarriedStock) -> str:
        """Key of what a setup leaves: the stock it began with, its frame, and the paths of all that cuts in it."""
        source = self.job.setup(stock.setup)
        paths = [self.path_key(source, o) for o in source.operations if o.enabled]
        return key_of(
            "carried", [self.stock_key(source), self.frame_of(source), paths, self.job.proof.cell_mm]
        )

    def stock_key(self, setup: SetupDoc) -> Any:
        """What tells the stock of a setup from others beside its box."""
        if isinstance(setup.stock, SolidStock):
            return setup.stock.model_dump()
        return self.carried_key(setup.stock) if isinstance(setup.stock, CarriedStock) else None

    def stock_shape(self, setup: SetupDoc) -> str | None:
        """A name for the shape of a stock that is no box, as it stands in the setup; None for a box."""
        key = self.stock_key(setup)
        return None if key is None else key_of("shape", [key, self.frame_of(setup)])

    def fixture_shape(self, setup: SetupDoc) -> str | None:
        """A name for the fixture as it stands in the setup; None where nothing is drawn."""
        return key_of("shape", ["fixture", self.frame_of(setup)]) if setup.fixture else None

    # operation -------------------------------------------------------------------------------

    def resolved(self, setup: SetupDoc, operation: OperationDoc) -> Resolved:
        """The operation with proposals in place of what was left open."""
        known = self._resolved.get(id(operation))
        if known is None or known[0] is not operation:
            tool = self.job.tool(operation.tool)
            found = resolve(tool, self.machine(setup), self.material(setup), operation)
            known = self._resolved[id(operation)] = (operation, found)
        return known[1]

    def path(self, setup: SetupDoc, operation: OperationDoc, progress: Progress = SILENT) -> Toolpath:
        """The operation's toolpath with shank and holder clear of the part, computed when it is not in the store.
        Raises with the operation's path in the document; what follows from the inputs is kept and raised again."""
        key, where = self.path_key(setup, operation), self.where(setup, operation)
        blob = self.store.get(key)
        if blob is not None:
            return Toolpath.from_bytes(blob)
        if failed := self.failure(setup, operation):
            raise failed
        try:
            path = self._path(setup, operation, progress)
        except FenrikError as error:
            error.where = error.where or where
            keep_failure(self.store, key, error, where)
            raise
        self.store.put(key, "path", path.to_bytes())
        return path

    def failure(self, setup: SetupDoc, operation: OperationDoc) -> FenrikError | None:
        """Why an operation could not be computed when it was tried last."""
        return kept_failure(self.store, self.path_key(setup, operation), self.where(setup, operation))

    def made(self, setup: SetupDoc, operation: OperationDoc) -> Toolpath | None:
        """The operation's toolpath, or None where it fails: then it cuts nothing, and others go on without it."""
        try:
            return self.path(setup, operation)
        except tuple(KEPT.values()):
            return None

    def _path(self, setup: SetupDoc, operation: OperationDoc, progress: Progress) -> Toolpath:
        tracked = self._track(setup, operation, progress.part(0.0, 0.95))
        progress.step(0.95, "keeping shank and holder clear")
        tool = self.job.tool(operation.tool)
        where = self.where(setup, operation)
        seen = self.seen(setup, operation.side)
        clearance = heights_of(operation, seen, where).clearance
        topology = self.topology(setup, operation.tolerance_mm, operation.side)[0]
        stock = self.stock_before(setup, operation)
        path = kept_clear(tracked, topology, tool, operation.when_short, clearance, stock)
        if seen.shunned is not None:
            for note in path.notes:
                if note.get("against") == "part":
                    note["against"] = "part or the fixture"
        if operation.feed_follows == "engagement" and len(path) > 1 and tool.kind != "tap":
            progress.step(0.97, "measuring the engagement")
            path = self._feed_adapted(setup, operation, path)
        return path

    def _feed_adapted(self, setup: SetupDoc, operation: OperationDoc, path: Toolpath) -> Toolpath:
        longest = PART * self.job.tool(operation.tool).radius
        parts, owner = divided(path, longest)
        rpm = self.resolved(setup, operation).spindle_rpm
        thinning = thinning_on_parts(self, setup, operation, path, owner, longest, rpm)
        planned = self.resolved(setup, operation).feed
        wanted = self.planned_thinning(setup, operation, thinning[follows(parts, planned)])
        out = adapted(
            parts,
            owner,
            thinning,
            wanted,
            planned,
            feed_limit(self.resolved(setup, operation), self.machine(setup)),
        )
        before, after = (
            float((p.moves.lengths() / np.maximum(p.feed, 1e-9))[follows(p, None)].sum() * 60.0)
            for p in (parts, out)
        )
        feeds = out.feed[follows(out, None)]
        note: dict[str, object] = {
            "kind": "adapted", "before_s": before, "after_s": after,
            "least_mm_min": float(feeds.min(initial=planned)), "most_mm_min": float(feeds.max(initial=planned)),
        }  # fmt: skip
        return replace(out, notes=[*path.notes, note])

    def planned_thinning(self, setup: SetupDoc, operation: OperationDoc, measured: Floats) -> float:
        """The mean chip over the feed per tooth for which the feed was planned: that of the stepover, or else what nine
        tenths of what was measured (n,) do not exceed."""
        r = self.resolved(setup, operation)
        stepover = getattr(r.parameters, "stepover", None)
        if stepover and strategy(operation.strategy).kinds == CLEARING:
            return side_milling(engagement_angle(min(stepover, r.tool.diameter), r.tool.diameter))
        cuts = measured[measured > 0]
        return float(np.quantile(cuts, 0.9)) if len(cuts) else 1.0

    def _track(self, setup: SetupDoc, operation: OperationDoc, progress: Progress) -> Toolpath:
        """The path of the cutter alone: another stick-out or holder needs no new one."""
        key = self.track_key(setup, operation)
        blob = self.store.get(key)
        if blob is not None:
            return Toolpath.from_bytes(blob)
        inputs = self._inputs(setup, operation)
        started = time.perf_counter()
        path = self._made(setup, operation, inputs, progress)
        if len(path) < 2:
            path.notes.append({"kind": "empty", "words": "There is nothing to cut for this operation."})
        taken = time.perf_counter() - started
        self.store.put(f"{key}-time", "timing", json.dumps({"compute_s": taken}).encode())
        self.store.put(key, "track", path.to_bytes())
        return path

    def _made(self, setup: SetupDoc, operation: OperationDoc, inputs: Inputs, progress: Progress) -> Toolpath:
        """The strategy's path, at every place of its repeat. A mirrored one is the mirror of the path for a spindle that
        turns the other way, so that climb stays climb."""
        compute = strategy(operation.strategy).compute
        repeat = setup.repeat_of(operation)
        if repeat is None:
            return compute(inputs, progress)
        places = repeat.places()
        mirrored = any(p.mirrored for p in places)
        if mirrored and inputs.assembly.kind in THREADING:
            raise ComputeError(
                f"'{repeat.name}' mirrors '{operation.name}', and a mirrored thread has the other hand.",
                remedy="Take the operation out of the repeat and add the other holes to it.",
            )
        path = compute(inputs, progress.part(0.0, 0.5 if mirrored else 1.0))
        other = path
        if mirrored:
            turned = replace(
                inputs,
                spindle_clockwise=not inputs.spindle_clockwise,
                stock=self.stock_before(setup, operation),
            )
            other = compute(turned, progress.part(0.5, 1.0))
        chord = 0.1 * operation.tolerance_mm
        whole = joined([placed(other if p.mirrored else path, p, chord) for p in places])
        note: dict[str, object] = {
            "kind": "repeated",
            "count": len(places),
            "how": repeat.how.kind,
            "mirrored": mirrored,
        }
        return replace(whole, notes=[*whole.notes, note])

    def compute_seconds(self, setup: SetupDoc, operation: OperationDoc) -> float:
        """How long the path took when it was computed."""
        blob = self.store.get(f"{self.track_key(setup, operation)}-time")
        return float(json.loads(blob)["compute_s"]) if blob else 0.0

    def where(self, setup: SetupDoc, operation: OperationDoc) -> str:
        """The operation's path in the document."""
        return f"{self.where_setup(setup)}.operations[{self._place(setup, operation)}]"

    def _place(self, setup: SetupDoc, operation: OperationDoc) -> int:
        """The operation's place in its setup; by identity, since comparing documents takes long."""
        known = self._places.get(id(setup))
        if known is None or known[0] is not setup:
            known = self._places[id(setup)] = (setup, {id(o): i for i, o in enumerate(setup.operations)})
        return known[1][id(operation)]

    def before(self, setup: SetupDoc, operation: OperationDoc) -> list[OperationDoc]:
        """The switched-on operations that cut before this one in its setup."""
        return [o for o in setup.operations[: self._place(setup, operation)] if o.enabled]

    def path_key(self, setup: SetupDoc, operation: OperationDoc) -> str:
        """Key of a path: that of the cutter's track, and shank, stick-out and holder."""
        return self._keys_of(setup, operation)[1]

    def track_key(self, setup: SetupDoc, operation: OperationDoc) -> str:
        """Key of a cutter's track: all that shapes it; names, notes, coolant, stick-out and holder do not. It stands on
        the key of the operation before it, and so on those of all before."""
        return self._keys_of(setup, operation)[0]

    def _keys_of(self, setup: SetupDoc, operation: OperationDoc) -> tuple[str, str]:
        """Keys of track and path, worked out once, one after the other down to the one that is asked for."""
        known = self._keys.get(id(setup))
        if known is None or known[0] is not setup:
            known = self._keys[id(setup)] = (setup, [])
        keys, place = known[1], self._place(setup, operation)
        while len(keys) <= place:
            number = len(keys)
            before = next(
                (keys[i][1] for i in range(number - 1, -1, -1) if setup.operations[i].enabled), None
            )
            track = self._keyed(setup, setup.operations[number], before)
            keys.append((track, self._with_body(setup, setup.operations[number], track)))
        return keys[place]

    def _with_body(self, setup: SetupDoc, operation: OperationDoc, track: str) -> str:
        tool = self.job.tool(operation.tool)
        body = [tool.flute_length, tool.shank_diameter, tool.stick_out, [h.model_dump() for h in tool.holder]]
        adapted_to = None
        if operation.feed_follows == "engagement":
            r = self.resolved(setup, operation)
            adapted_to = [r.spindle_rpm, feed_limit(r, self.machine(setup)), self.job.proof.cell_mm]
        return key_of("path", [track, body, operation.when_short, adapted_to])

    def _keyed(self, setup: SetupDoc, operation: OperationDoc, earlier: str | None) -> str:
        r = self.resolved(setup, operation)
        cutter: list[Any] = [r.tool.kind, r.tool.profile.shape, r.tool.cleared.shape]
        if r.tool.kind in THREADING:
            cutter += [r.tool.thread_pitch, r.tool.thread_hand, r.tool.thread_rows]
        doc, repeat = operation, setup.repeat_of(operation)
        own = [
            doc.strategy, r.parameters.model_dump(), r.feed, r.entry_feed, doc.spindle, doc.tolerance_mm,
            doc.heights.model_dump(), [h.model_dump() for h in doc.holes], [w.model_dump() for w in doc.walls], [n.model_dump() for n in doc.lines], [b.model_dump() for b in setup.plain(doc.keep_in)], [b.model_dump() for b in setup.plain(doc.keep_out)],
            None if repeat is None else [[p.turn, p.shift] for p in repeat.places()],
        ]  # fmt: skip
        frame, stock = self.frame_of(setup), self.stock_key(setup)
        given = [self.part_key(), frame, stock, cutter, own, earlier]
        if doc.side is not None:
            given.append(self.seen(setup, doc.side).setup_from_side.tolist())
        return key_of("track", given)

    def _inputs(self, setup: SetupDoc, operation: OperationDoc) -> Inputs:
        r = self.resolved(setup, operation)
        check_kind(r.tool, operation, self.where(setup, operation))
        side, tolerance = operation.side, operation.tolerance_mm
        clamped = self.seen(setup, side)
        mesh = self.setup_mesh(setup, tolerance, side)
        topology, outline = self.topology(setup, tolerance, side)
        where = self.where(setup, operation)
        low, high = clamped.stock_low, clamped.stock_high
        outline_of, faces = partial(self._outline_of, setup, tolerance, side), int(mesh.face_ids.max())
        excess = max(0.0, mesh.deviation - operation.tolerance_mm * MESH_SHARE)
        return Inputs(
            topology=topology,
            cutters=self._cutters.setdefault((id(topology), r.tool.profile), {}),
            assembly=r.tool,
            parameters=with_excess(r.parameters, excess),
            stock=self.stock_before(setup, operation),
            stock_low=low,
            stock_high=high,
            part_low=clamped.part_low,
            part_high=clamped.part_high,
            flats=self._flats(clamped),
            tops=clamped.tops,
            outline=outline,
            keep_in=area_of(setup.plain(operation.keep_in), outline_of, faces, low, high, f"{where}.keep_in"),
            keep_out=kept_out(
                operation,
                r.tool,
                area_of(setup.plain(operation.keep_out), outline_of, faces, low, high, f"{where}.keep_out"),
            ),
            heights=heights_of(operation, clamped, where),
            feed=r.feed,
            entry_feed=r.entry_feed,
            tolerance=operation.tolerance_mm,
            spindle_clockwise=operation.spindle == "clockwise",
            holes=self._spots(operation, clamped, where),
            lines=drawn_lines(
                operation.lines,
                self.part(),
                self.mesh(round(operation.tolerance_mm * MESH_SHARE, 6)),
                clamped,
                0.1 * operation.tolerance_mm,
                f"{where}.lines",
            ),
            **self._walls(setup, operation, mesh, outline),
        )

    def _spots(self, operation: OperationDoc, clamped: Clamped, where: str) -> list[HoleSpot]:
        """The round holes or bosses of an operation."""
        if not operation.holes:
            return []
        places = strategy(operation.strategy).places
        bosses = [] if places == "holes" else find_bosses(self.part())
        return hole_spots(operation.holes, self.holes(), bosses, clamped, f"{where}.holes", places)

    def _walls(
        self, setup: SetupDoc, operation: OperationDoc, mesh: TriangleMesh, outline: BaseGeometry
    ) -> dict[str, Any]:
        """The chosen walls, or what their upper edges are, as the strategy needs them."""
        if not operation.walls:
            return {}
        where = f"{self.where(setup, operation)}.walls"
        given = (operation.walls, self.part(), mesh, outline, self.seen(setup, operation.side), where)
        return (
            {"rims": rims(*given)}
            if strategy(operation.strategy).needs_rims
            else {"walls": wall_lines(*given)}
        )

    def stock_before(self, setup: SetupDoc, operation: OperationDoc) -> HeightMap:
        """The planning stock before an operation: the raw stock less what earlier paths surely cut; one that fails cuts
        nothing. A copy."""
        earlier = self.before(setup, operation)
        keys = [self.path_key(setup, o) for o in earlier]
        if setup.sides:
            return self._side_stocks.before(setup, operation.side, list(zip(earlier, keys, strict=True)))
        done, stock = self._stocks.get(setup.name, ([], None))
        if stock is None or done != keys[: len(done)]:
            done, stock = [], raw_map(self.clamped(setup))
        for other in earlier[len(done) :]:
            path = self.made(setup, other)
            if path is not None:
                stock.cut(path, self.job.tool(other.tool).cleared)
        self._stocks[setup.name] = (keys, stock)
        return stock.copy()
