"""From the document to toolpaths: part, setup, cutting data, paths, each kept under its inputs' hash."""

from __future__ import annotations

import io
import json
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.affinity import translate
from shapely.geometry.base import BaseGeometry

from fenrik.core.cutting.clearance import kept_clear
from fenrik.core.cutting.drop import DropCutter
from fenrik.core.cutting.topology import Topology, prepare
from fenrik.core.errors import ComputeError, DocumentError, FenrikError, NotYet
from fenrik.core.features.bosses import find_bosses
from fenrik.core.features.holes import Hole, find_holes, holes_from_bytes, holes_to_bytes
from fenrik.core.features.shapes import (
    Feature,
    features_from_bytes,
    features_to_bytes,
    find_features,
)
from fenrik.core.job.artefacts import Store, key_of
from fenrik.core.job.document import Height, Job, OperationDoc, PartDoc, SetupDoc
from fenrik.core.job.drawn_lines import drawn_lines
from fenrik.core.job.hole_spots import hole_spots
from fenrik.core.job.regions import area_of, projected
from fenrik.core.job.standing import raw_stock, thinning_on_parts
from fenrik.core.job.wall_lines import rims, wall_lines
from fenrik.core.machines.library import Machine, machine
from fenrik.core.model.part_model import PartModel, TriangleMesh
from fenrik.core.model.reading import file_hash, read_model, working_mesh
from fenrik.core.paths.repeating import joined, placed
from fenrik.core.paths.toolpath import Toolpath
from fenrik.core.progress import SILENT, Progress
from fenrik.core.proof.adapting import adapted, divided, follows, side_milling
from fenrik.core.proof.simulate import PART
from fenrik.core.setups.setup import CarriedStock, Clamped, SolidStock, clamp
from fenrik.core.stock.dexels import Stock
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.stock.keeping import Snapshot
from fenrik.core.strategies.base import CLEARING, Heights, HoleSpot, Inputs, Parameters
from fenrik.core.strategies.registry import strategy
from fenrik.core.tolerances import MESH_SHARE
from fenrik.core.tooling.assembly import THREADING, TITLES, Assembly
from fenrik.core.tooling.cutting_data import Derived, engaged_feed, engagement_angle, propose
from fenrik.core.tooling.materials import Material, material
from fenrik.core.tooling.profile import Profile

ReadModel = Callable[[Path, str, int | None, float, bool], PartModel]


Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Resolved:
    """An operation with nothing left open: numbers to use and where each comes from."""

    document: OperationDoc
    tool: Assembly
    parameters: Parameters
    spindle_rpm: float
    feed: float
    entry_feed: float
    derived: dict[str, Derived]


class Planner:
    """Computes a job's parts, setups and paths; results are taken from the store where they exist.

    `folder` is what files in the document are relative to; `read` reads models (replaced where
    untrusted files must be read in a process of their own); without `cutting` the stocks that setups leave come from
    the store only, so that a question about the job never cuts anything.
    """

    def __init__(
        self, job: Job, folder: Path, store: Store, read: ReadModel = read_model, cutting: bool = True
    ) -> None:
        self.job, self.folder, self.store, self._read = job, folder, store, read
        self._cutting = cutting
        self._parts: dict[str, PartModel] = {}
        self._holes: dict[str, list[Hole]] = {}
        self._features: dict[str, list[Feature]] = {}
        self._meshes: dict[str, TriangleMesh] = {}
        self._topologies: dict[str, Topology] = {}
        self._stocks: dict[str, tuple[list[str], HeightMap | None]] = {}
        self._cutters: dict[tuple[int, Profile], dict[tuple[float, float], DropCutter]] = {}
        self._outlines: dict[str, BaseGeometry] = {}
        # the document is frozen, so what follows from it alone is worked out once; by identity, since lists have no hash
        self._clampings: dict[int, tuple[SetupDoc, Clamped]] = {}
        self._track_keys: dict[int, tuple[OperationDoc, str]] = {}

    # part ------------------------------------------------------------------------------------

    def part(self) -> PartModel:
        """The job's part. Raises DocumentError or FileError."""
        if self.job.part is None:
            raise DocumentError(
                "The job has no part yet.", remedy="Give it a STEP or STL file.", where="part"
            )
        return self._model(self.job.part, "part.file")[0]

    def holes(self) -> list[Hole]:
        """The part's round holes, found once."""
        key = key_of("holes", [self.part_key()])
        if key not in self._holes:
            blob = self.store.get(key)
            if blob is None:
                found = find_holes(self.part())
                self.store.put(key, "holes", holes_to_bytes(found))
            else:
                found = holes_from_bytes(blob)
            self._holes[key] = found
        return self._holes[key]

    def features(self) -> list[Feature]:
        """The part's pockets, slots, bosses, tops and broken edges, found once."""
        key = key_of("features", [self.part_key()])
        if key not in self._features:
            blob = self.store.get(key)
            if blob is None:
                found = find_features(self.part(), self.holes())
                self.store.put(key, "features", features_to_bytes(found))
            else:
                found = features_from_bytes(blob)
            self._features[key] = found
        return self._features[key]

    def part_key(self) -> str:
        """Key of the part's artefact."""
        assert self.job.part is not None
        return self._model(self.job.part, "part.file")[1]

    def _model(self, doc: PartDoc, where: str) -> tuple[PartModel, str]:
        path = (self.folder / doc.file).resolve()
        if not path.is_file():
            raise DocumentError(
                f"The model file '{doc.file}' does not exist.", remedy="Check the path; it is relative to the document.", where=where
            )  # fmt: skip
        key = key_of("part", [file_hash(path), doc.solid, doc.scale, doc.heal])
        if key not in self._parts:
            blob = self.store.get(key)
            if blob is None:
                part = self._read(path, Path(doc.file).name, doc.solid, doc.scale, doc.heal)
                self.store.put(key, "part", part.to_bytes())
            else:
                part = PartModel.from_bytes(blob)
            self._parts[key] = part
        return self._parts[key], key

    # setup -----------------------------------------------------------------------------------

    def clamped(self, setup: SetupDoc) -> Clamped:
        """Frame and stock of a setup. Raises DocumentError with the path in the document."""
        known = self._clampings.get(id(setup))
        if known is None or known[0] is not setup:
            known = self._clampings[id(setup)] = (setup, self._clamp(setup))
        return known[1]

    def _clamp(self, setup: SetupDoc) -> Clamped:
        where = f"setups[{self.job.setups.index(setup)}]"
        delivered: PartModel | TriangleMesh | None = None
        if isinstance(setup.stock, SolidStock):
            doc = PartDoc(file=setup.stock.file, solid=setup.stock.solid, scale=setup.stock.scale)
            delivered = self._model(doc, f"{where}.stock.file")[0]
        elif isinstance(setup.stock, CarriedStock):
            delivered = self.carried(setup)
        part, zero, placement = self.part(), setup.zero, setup.placement
        return clamp(
            part, setup.up, setup.turn_deg, setup.stock, delivered, zero, placement, where, setup.array
        )

    def carried(self, setup: SetupDoc, progress: Progress = SILENT) -> TriangleMesh:
        """What the setup before leaves for one with a carried stock, in the part frame; cut when it is not in the store.
        Raises NotYet where nothing may be cut."""
        from fenrik.core.job.carrying import left_by  # the proof, which stands on this module

        assert isinstance(setup.stock, CarriedStock)
        key = self.carried_key(setup.stock)
        blob = self.store.get(key)
        if blob is not None:
            return _mesh_from(blob)
        if not self._cutting:
            raise NotYet(
                f"The stock of '{setup.name}' is what '{setup.stock.setup}' leaves, which has not been cut yet.",
                remedy="Compute the plan.", where=f"setups[{self.job.setups.index(setup)}].stock",
            )  # fmt: skip
        mesh = left_by(self, self.job.setup(setup.stock.setup), progress)
        self.store.put(key, "mesh", _mesh_bytes(mesh))
        return mesh

    def raw_dexels(self, setup: SetupDoc, cell: float, progress: Progress = SILENT) -> Stock:
        """The stock before the first operation of a setup in the dexels of the proof; a carried one is kept."""
        clamped = self.clamped(setup)
        if not isinstance(setup.stock, CarriedStock):
            return raw_stock(clamped, cell)
        from fenrik.core.job.carrying import dexels_before  # the proof, which stands on this module

        key = key_of("carried stock", [self.carried_key(setup.stock), self._frame(setup), cell])
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
        return key_of("carried", [self.stock_key(source), self._frame(source), paths, self.job.proof.cell_mm])

    def stock_key(self, setup: SetupDoc) -> Any:
        """What tells the stock of a setup from others beside its box."""
        if isinstance(setup.stock, SolidStock):
            return setup.stock.model_dump()
        return self.carried_key(setup.stock) if isinstance(setup.stock, CarriedStock) else None

    def stock_shape(self, setup: SetupDoc) -> str | None:
        """A name for the shape of a stock that is no box, as it stands in the setup; None for a box."""
        key = self.stock_key(setup)
        return None if key is None else key_of("shape", [key, self._frame(setup)])

    def _frame(self, setup: SetupDoc) -> list[Any]:
        """Where part and stock stand, as plain numbers."""
        c = self.clamped(setup)
        return [c.setup_from_part.tolist(), c.copies.tolist(), c.stock_low.tolist(), c.stock_high.tolist()]

    def machine(self, setup: SetupDoc) -> Machine:
        """The setup's machine."""
        return machine(setup.machine, f"setups[{self.job.setups.index(setup)}].machine")

    def material(self, setup: SetupDoc) -> Material:
        """The setup's material."""
        return material(setup.material, f"setups[{self.job.setups.index(setup)}].material")

    def mesh(self, deflection: float) -> TriangleMesh:
        """The part's triangles in the part frame within `deflection` mm."""
        key = key_of("mesh", [self.part_key(), deflection])
        if key not in self._meshes:
            blob = self.store.get(key)
            if blob is None:
                mesh = working_mesh(self.part(), deflection)
                self.store.put(key, "mesh", _mesh_bytes(mesh))
            else:
                mesh = _mesh_from(blob)
            self._meshes[key] = mesh
        return self._meshes[key]

    def setup_mesh(self, setup: SetupDoc, tolerance: float) -> TriangleMesh:
        """The working mesh for a chord tolerance, in the setup frame."""
        return self.clamped(setup).parts(self.mesh(round(tolerance * MESH_SHARE, 6)))

    # operation -------------------------------------------------------------------------------

    def resolved(self, setup: SetupDoc, operation: OperationDoc) -> Resolved:
        """The operation with proposals in place of what was left open."""
        tool = self.job.tool(operation.tool)
        mill = self.machine(setup)
        data = propose(
            tool,
            self.material(setup),
            mill.spindle_rpm[0],
            mill.spindle_rpm[1],
            mill.feed_max_mm_min,
            operation.boldness,
        )
        derived = dict(data)
        given = {
            "spindle_rpm": operation.spindle_rpm,
            "feed_mm_min": operation.feed_mm_min,
            "entry_feed_mm_min": operation.entry_feed_mm_min,
        }
        for key, value in given.items():
            if value is not None:
                derived[key] = Derived(
                    value, data[key].unit, "given", f"proposed: {data[key].value:g}, {data[key].formula}"
                )
        if operation.feed_mm_min is not None and operation.entry_feed_mm_min is None:
            derived["entry_feed_mm_min"] = Derived(
                round(operation.feed_mm_min * 0.4), "mm/min", "from feed", "40 % of the feed"
            )
        if tool.kind == "tap":
            derived |= _in_step(tool, derived["spindle_rpm"].value)
        chosen = strategy(operation.strategy)
        parameters = chosen.parameters(**operation.parameters)
        proposed = chosen.proposals(tool, {k: v.value for k, v in data.items()})
        filled = {}
        for key, (value, reason) in proposed.items():
            if getattr(parameters, key) is None:
                filled[key] = value
                extra = chosen.parameters.model_fields[key].json_schema_extra
                unit = str(extra.get("unit", "")) if isinstance(extra, dict) else ""
                derived[key] = Derived(round(value, 4), unit, "from material and tool", reason)
        whole = parameters.model_copy(update=filled)
        width, depth = getattr(whole, "stepover", None), getattr(whole, "step_down", None)
        if operation.feed_mm_min is None and width and depth:
            derived["feed_mm_min"] = engaged_feed(
                derived["feed_mm_min"], tool, self.material(setup), derived["spindle_rpm"].value, width, depth,
                mill.feed_max_mm_min, mill.spindle_power_kw,
            )  # fmt: skip
        return Resolved(
            operation,
            tool,
            whole,
            derived["spindle_rpm"].value,
            derived["feed_mm_min"].value,
            derived["entry_feed_mm_min"].value,
            derived,
        )

    def path(self, setup: SetupDoc, operation: OperationDoc, progress: Progress = SILENT) -> Toolpath:
        """The operation's toolpath with shank and holder clear of the part, computed when it is not in the store.
        Raises with the operation's path."""
        key = self.path_key(setup, operation)
        blob = self.store.get(key)
        if blob is not None:
            return Toolpath.from_bytes(blob)
        tracked = self._track(setup, operation, progress.part(0.0, 0.95))
        progress.step(0.95, "keeping shank and holder clear")
        tool = self.job.tool(operation.tool)
        where = self.where(setup, operation)
        clearance = heights_of(operation, self.clamped(setup), where).clearance
        topology = self._topology(setup, operation.tolerance_mm)[0]
        stock = self.stock_before(setup, operation)
        path = kept_clear(tracked, topology, tool, operation.when_short, clearance, stock)
        if operation.feed_follows == "engagement" and len(path) > 1 and tool.kind != "tap":
            progress.step(0.97, "measuring the engagement")
            path = self._feed_adapted(setup, operation, path)
        self.store.put(key, "path", path.to_bytes())
        return path

    def _feed_adapted(self, setup: SetupDoc, operation: OperationDoc, path: Toolpath) -> Toolpath:
        longest = PART * self.job.tool(operation.tool).radius
        parts, owner = divided(path, longest)
        rpm = self.resolved(setup, operation).spindle_rpm
        thinning = thinning_on_parts(self, setup, operation, path, owner, longest, rpm)
        planned = self.resolved(setup, operation).feed
        wanted = self.planned_thinning(setup, operation, thinning[follows(parts, planned)])
        out = adapted(parts, owner, thinning, wanted, planned, self.feed_limit(setup, operation))
        before, after = (
            float((p.lengths() / np.maximum(p.feed, 1e-9))[follows(p, None)].sum() * 60.0)
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

    def feed_limit(self, setup: SetupDoc, operation: OperationDoc) -> float:
        """The highest feed mm/min that machine and tool bear."""
        r, limit = self.resolved(setup, operation), self.machine(setup).feed_max_mm_min
        if r.tool.feed_per_tooth_max is not None:
            limit = min(limit, r.spindle_rpm * r.tool.teeth * r.tool.feed_per_tooth_max)
        return limit

    def _track(self, setup: SetupDoc, operation: OperationDoc, progress: Progress) -> Toolpath:
        """The path of the cutter alone: another stick-out or holder needs no new one."""
        key = self.track_key(setup, operation)
        blob = self.store.get(key)
        if blob is not None:
            return Toolpath.from_bytes(blob)
        try:
            inputs = self._inputs(setup, operation)
            started = time.perf_counter()
            path = self._made(setup, operation, inputs, progress)
        except FenrikError as error:
            error.where = error.where or self.where(setup, operation)
            raise
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
        return f"setups[{self.job.setups.index(setup)}].operations[{setup.operations.index(operation)}]"

    def before(self, setup: SetupDoc, operation: OperationDoc) -> list[OperationDoc]:
        """The switched-on operations that cut before this one in its setup."""
        index = setup.operations.index(operation)
        return [o for o in setup.operations[:index] if o.enabled]

    def path_key(self, setup: SetupDoc, operation: OperationDoc) -> str:
        """Key of a path: that of the cutter's track, and shank, stick-out and holder."""
        tool = self.job.tool(operation.tool)
        body = [tool.flute_length, tool.shank_diameter, tool.stick_out, [h.model_dump() for h in tool.holder]]
        adapted_to = None
        if operation.feed_follows == "engagement":
            r = self.resolved(setup, operation)
            adapted_to = [r.spindle_rpm, self.feed_limit(setup, operation), self.job.proof.cell_mm]
        return key_of("path", [self.track_key(setup, operation), body, operation.when_short, adapted_to])

    def track_key(self, setup: SetupDoc, operation: OperationDoc) -> str:
        """Key of a cutter's track: all that shapes it; names, notes, coolant, stick-out and holder do not. It stands on
        the keys of all operations before it."""
        known = self._track_keys.get(id(operation))
        if known is None or known[0] is not operation:
            known = self._track_keys[id(operation)] = (operation, self._keyed(setup, operation))
        return known[1]

    def _keyed(self, setup: SetupDoc, operation: OperationDoc) -> str:
        r = self.resolved(setup, operation)
        cutter: list[Any] = [r.tool.kind, r.tool.profile.shape, r.tool.cleared.shape]
        if r.tool.kind in THREADING:
            cutter += [r.tool.thread_pitch, r.tool.thread_hand, r.tool.thread_rows]
        doc, repeat = operation, setup.repeat_of(operation)
        earlier = [self.path_key(setup, o) for o in self.before(setup, operation)]
        own = [
            doc.strategy, r.parameters.model_dump(), r.feed, r.entry_feed, doc.spindle, doc.tolerance_mm,
            doc.heights.model_dump(), [h.model_dump() for h in doc.holes], [w.model_dump() for w in doc.walls], [n.model_dump() for n in doc.lines], [b.model_dump() for b in setup.plain(doc.keep_in)], [b.model_dump() for b in setup.plain(doc.keep_out)],
            None if repeat is None else [[p.turn, p.shift] for p in repeat.places()],
        ]  # fmt: skip
        frame, stock = self._frame(setup), self.stock_key(setup)
        return key_of("track", [self.part_key(), frame, stock, cutter, own, earlier])

    def _inputs(self, setup: SetupDoc, operation: OperationDoc) -> Inputs:
        r = self.resolved(setup, operation)
        _check_kind(r.tool, operation, self.where(setup, operation))
        clamped = self.clamped(setup)
        mesh = self.setup_mesh(setup, operation.tolerance_mm)
        topology, outline = self._topology(setup, operation.tolerance_mm)
        where = self.where(setup, operation)
        low, high = clamped.stock_low, clamped.stock_high
        excess = max(0.0, mesh.deviation - operation.tolerance_mm * MESH_SHARE)
        return Inputs(
            topology=topology,
            cutters=self._cutters.setdefault((id(topology), r.tool.profile), {}),
            assembly=r.tool,
            parameters=_with_excess(r.parameters, excess),
            stock=self.stock_before(setup, operation),
            stock_low=low,
            stock_high=high,
            part_low=clamped.part_low,
            part_high=clamped.part_high,
            flats=self._flats(clamped),
            outline=outline,
            keep_in=area_of(setup.plain(operation.keep_in), mesh, low, high, f"{where}.keep_in"),
            keep_out=_kept_out(
                operation,
                r.tool,
                area_of(setup.plain(operation.keep_out), mesh, low, high, f"{where}.keep_out"),
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
        given = (operation.walls, self.part(), mesh, outline, self.clamped(setup), where)
        return (
            {"rims": rims(*given)}
            if strategy(operation.strategy).needs_rims
            else {"walls": wall_lines(*given)}
        )

    def _topology(self, setup: SetupDoc, tolerance: float) -> tuple[Topology, BaseGeometry]:
        """The part's contact primitives in the setup frame and its outline in plan view, prepared once."""
        clamped = self.clamped(setup)
        frame = [clamped.setup_from_part.tolist(), clamped.copies.tolist()]
        key = key_of("frame", [self.part_key(), frame, tolerance])
        if key not in self._topologies:
            self._topologies[key] = prepare(self.setup_mesh(setup, tolerance))
            one = projected(self.mesh(round(tolerance * MESH_SHARE, 6)).moved(clamped.setup_from_part))
            self._outlines[key] = shapely.union_all([translate(one, x, y) for x, y, _ in clamped.copies])
        return self._topologies[key], self._outlines[key]

    def _flats(self, clamped: Clamped) -> list[float]:
        """Heights of the part's upward planar faces in the setup frame."""
        out = set()
        for face in self.part().faces:
            if face.kind == "plane" and face.normal is not None and face.origin is not None:
                normal = clamped.setup_from_part[:3, :3] @ np.array(face.normal)
                if normal[2] > 1.0 - 1e-9:
                    point = (
                        clamped.setup_from_part[:3, :3] @ np.array(face.origin)
                        + clamped.setup_from_part[:3, 3]
                    )
                    out.add(round(float(point[2]), 6))
        return sorted(out)

    def stock_before(self, setup: SetupDoc, operation: OperationDoc) -> HeightMap:
        """The planning stock before an operation: the raw stock less what earlier paths surely cut. A copy."""
        earlier = self.before(setup, operation)
        keys = [self.path_key(setup, o) for o in earlier]
        done, stock = self._stocks.get(setup.name, ([], None))
        if stock is None or done != keys[: len(done)]:
            done, stock = [], self._raw_map(setup)
        for other in earlier[len(done) :]:
            stock.cut(self.path(setup, other), self.job.tool(other.tool).cleared)
        self._stocks[setup.name] = (keys, stock)
        return stock.copy()

    def _raw_map(self, setup: SetupDoc) -> HeightMap:
        clamped = self.clamped(setup)
        cell = planning_cell(clamped)
        if clamped.stock_mesh is not None:
            return HeightMap.of_mesh(clamped.stock_mesh, cell)
        return HeightMap.of_box(clamped.stock_low, clamped.stock_high, cell)


def planning_cell(clamped: Clamped) -> float:
    """Cell of the planning stock: a four-hundredth of the longer side, 0.1 to 1 mm."""
    longer = float(max(clamped.stock_high[:2] - clamped.stock_low[:2]))
    return min(1.0, max(0.1, longer / 400))


def heights_of(operation: OperationDoc, clamped: Clamped, where: str) -> Heights:
    """Heights in the setup frame, mm. Raises DocumentError when clearance lies in the stock."""

    def level(height: Height) -> float:
        base = {
            "stock_top": clamped.stock_high[2],
            "stock_bottom": clamped.stock_low[2],
            "part_top": clamped.part_high[2],
            "part_bottom": clamped.part_low[2],
            "zero": 0.0,
        }[height.over]
        return float(base + height.offset)

    h = operation.heights
    clearance, retract, bottom = level(h.clearance), level(h.retract), level(h.bottom)
    if clearance < clamped.stock_high[2] + 1e-6:
        raise DocumentError(
            f"The clearance height Z {clearance:.3f} is not above the stock, whose top is Z {clamped.stock_high[2]:.3f}.",
            remedy="Raise heights.clearance.",
            where=f"{where}.heights.clearance",
        )
    if retract > clearance:
        raise DocumentError(
            f"The retract height Z {retract:.3f} is above the clearance height Z {clearance:.3f}.",
            remedy="Lower heights.retract or raise heights.clearance.",
            where=f"{where}.heights.retract",
        )
    return Heights(clearance, retract, h.feed, bottom)


def _kept_out(operation: OperationDoc, tool: Assembly, area: BaseGeometry | None) -> BaseGeometry | None:
    """Keep-out bounds the whole cutter, so the tool's middle stays a radius away."""
    return None if area is None else shapely.buffer(area, tool.radius)


def _check_kind(tool: Assembly, operation: OperationDoc, where: str) -> None:
    chosen = strategy(operation.strategy)
    if tool.kind not in chosen.kinds:
        raise ComputeError(
            f"{chosen.title} does not work with a {TITLES[tool.kind]} (T{tool.number}).",
            remedy=f"Choose a {' or '.join(TITLES[k] for k in chosen.kinds)}.",
            where=where,
        )


def _in_step(tool: Assembly, rpm: float) -> dict[str, Derived]:
    """A tap's feed, which is no choice: it follows from pitch and speed."""
    pitch = float(tool.thread_pitch or 0.0)
    feed = Derived(
        round(rpm * pitch, 4),
        "mm/min",
        "from tool",
        f"vf = n P = {rpm:g} · {pitch:.4g}, in step with the spindle",
    )
    return {"feed_mm_min": feed, "entry_feed_mm_min": feed}


def _with_excess(parameters: Parameters, excess: float) -> Parameters:
    """Where a file's own gaps keep the mesh from its deflection, the path keeps off by the rest."""
    if excess <= 0:
        return parameters
    names: list[str] = [
        n for n in ("allowance", "allowance_radial", "allowance_axial") if hasattr(parameters, n)
    ]
    return parameters.model_copy(update={n: getattr(parameters, n) + excess for n in names})


def _mesh_bytes(mesh: TriangleMesh) -> bytes:
    out = io.BytesIO()
    np.savez(
        out, vertices=mesh.vertices, triangles=mesh.triangles, face_ids=mesh.face_ids, deviation=np.array(mesh.deviation)
    )  # fmt: skip
    return out.getvalue()


def _mesh_from(blob: bytes) -> TriangleMesh:
    with np.load(io.BytesIO(blob)) as data:
        return TriangleMesh(data["vertices"], data["triangles"], data["face_ids"], float(data["deviation"]))


def plain_derived(resolved: Resolved) -> dict[str, Any]:
    """The operation's derived numbers as plain data."""
    return {k: vars(v) for k, v in resolved.derived.items()}
