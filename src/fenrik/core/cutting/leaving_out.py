"""Moves at which shank or holder would touch are left out of a path or lifted; what is driven after them goes
round the stock that this leaves standing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenrik.core.motion.builder import PathBuilder
from fenrik.core.motion.moves import Motion
from fenrik.core.motion.planes import Plane
from fenrik.core.motion.toolpath import Toolpath
from fenrik.core.stock.heightmap import HeightMap
from fenrik.core.tooling.assembly import POINTED, Assembly

Floats = NDArray[np.float64]
KINDS, PLANES = tuple(Motion), tuple(Plane)
RAPID, PLUNGE, LINK = Motion.RAPID, Motion.PLUNGE, Motion.LINK
TOUCH_MM = 0.05
"""Less than this over the planning stock, whose cells are met at their middles, is left to the proof."""
DEEP_MM = 2.0
"""More than this is no skin that going down may take along."""
CORE, SKIN_SHARE, ENTRY_SHARE = 0.75, 0.25, 0.4
"""Stock beyond the first share of the radius, and lower than the second share of the diameter, is a skin that
going down at the third share of the feed may take along (common practice, no source)."""
SKIN_MM = 0.05
"""Gap kept between shank or holder and part or stock."""


@dataclass(frozen=True)
class Rows:
    """A path's moves as plain numbers, to go through them one by one: `tip` in mm, `kind`, `turn` and `plane`
    as they are kept, `centre` mm, `feed` mm/min, `level` and `run`."""

    tip: list[list[float]]
    kind: list[Motion]
    turn: list[int]
    plane: list[int]
    centre: list[list[float]]
    feed: list[float]
    level: list[int]
    run: list[int]

    @staticmethod
    def of(path: Toolpath) -> Rows:
        """All moves of a path."""
        return Rows(
            path.tip.tolist(),
            [KINDS[k] for k in path.kind.tolist()],
            path.turn.tolist(),
            path.plane.tolist(),
            path.centre.tolist(),
            path.feed.tolist(),
            path.level.tolist(),
            path.run.tolist(),
        )

    def __len__(self) -> int:
        return len(self.kind)

    def copy(self, out: PathBuilder, i: int) -> None:
        """Adds move `i` to another path."""
        x, y, z = self.tip[i]
        kind = self.kind[i]
        if kind is RAPID:
            out.rapid(x, y, z)
        elif self.turn[i]:
            cx, cy = self.centre[i]
            out.arc((x, y, z), (cx, cy), self.turn[i], self.feed[i], kind, PLANES[self.plane[i]])
        else:
            out.feed(x, y, z, self.feed[i], kind)


class Trimming:
    """Leaves moves out of a path and finds the way back: down to the next good place at which no more than a
    skin stands (and nothing that only what was left out would have cut); until there, more is left out."""

    def __init__(self, path: Toolpath, clearance: float, stock: HeightMap | None, tool: Assembly) -> None:
        self.rows, self.clearance, self.tool = Rows.of(path), clearance, tool
        self.stock = None if stock is None else stock.copy()
        self.out, self.broken, self.ever, self.mark = PathBuilder(), False, False, 0

    def run(self, owner: NDArray[np.int64], points: Floats, bad: NDArray[np.bool_]) -> Toolpath:
        """Without the bad ones of the spots (n, 3) of moves: stretches of straight moves, arcs and rapids as
        a whole."""
        rows, out = self.rows, self.out
        gone, first = _faults(len(rows), owner, bad)
        for i in range(len(rows)):
            out.level, out.run = rows.level[i], rows.run[i]
            if not gone[i]:
                self._keep(i)
            elif rows.turn[i] or rows.kind[i] is RAPID:
                self.broken = self.ever = True
            else:
                spots, faults = points[first[i] : first[i + 1]], bad[first[i] : first[i + 1]]
                for spot, fault in zip(spots.tolist(), faults.tolist(), strict=True):
                    self._spot(spot, fault, i)
        here = out.position
        if here is not None and here[2] < self.clearance:
            out.rapid(here[0], here[1], self.clearance)
        return out.build()

    def _keep(self, i: int) -> None:
        """A move without a fault."""
        rows, tip = self.rows, self.rows.tip
        into_solid = self.tool.kind in POINTED and rows.kind[i] is not RAPID
        if self.ever and not into_solid and self._lowers(i) and not self._free(tip[i], DEEP_MM):
            # it went down where something was cut that is not cut any more
            self.broken = True
            return
        if rows.kind[i] is RAPID:
            if self.broken:
                self._over(*tip[i])
            self.broken = False
        elif self.broken:
            if not self._back(tip[i - 1], rows.feed[i]):
                return
        rows.copy(self.out, i)

    def _lowers(self, i: int) -> bool:
        """Whether a rapid or a plunge goes down, be it because it is the way back from above."""
        rows = self.rows
        if rows.kind[i] is not RAPID and rows.kind[i] is not PLUNGE:
            return False
        return self.broken or (i > 0 and rows.tip[i][2] < rows.tip[i - 1][2])

    def _spot(self, spot: list[float], fault: bool, i: int) -> None:
        """On to a spot of a straight move that has faults."""
        feed = self.rows.feed[i]
        if fault:
            self.broken = self.ever = True
        elif self.broken:
            self._back(spot, feed)
        else:
            self.out.feed(spot[0], spot[1], spot[2], feed, self.rows.kind[i])

    def _over(self, x: float, y: float, z: float) -> None:
        here = self.out.position
        if here is not None:
            self.out.rapid(here[0], here[1], max(self.clearance, here[2]))
        self.out.rapid(x, y, max(self.clearance, z))

    def _back(self, place: list[float], feed: float) -> bool:
        """Down to a place, if nothing stands there; whether it did."""
        if not self._free(place, SKIN_SHARE * self.tool.diameter):
            return False
        x, y, z = place
        self._over(x, y, z)
        self.out.feed(x, y, z, ENTRY_SHARE * feed, PLUNGE)
        self.broken = False
        return True

    def _free(self, place: list[float], but: float) -> bool:
        """Whether stock stands no more than `but` mm higher under the cutter than the tip will."""
        if self.stock is None:
            return True
        self.stock.cut(self.out.since(self.mark), self.tool.cleared)
        self.mark = max(0, self.out.count() - 1)
        core = min(CORE * self.tool.radius, self.tool.radius - 1.5 * self.stock.half_diagonal)
        core = max(0.3 * self.tool.radius, core)
        at, z = np.array([place[:2]]), place[2]
        # the shank, no thicker than the cutter, would rub along a skin that is higher than the flutes
        whole = float(self.stock.top_at(at, self.tool.radius - self.stock.half_diagonal)[0])
        return float(self.stock.top_at(at, core)[0]) <= z + but and whole <= z + self.tool.flute_length


def slowed(path: Toolpath, stock: HeightMap, tool: Assembly) -> Toolpath:
    """Rapids that counted on what was left out, and would now run into stock, go over it and down at feed;
    quick links through it go at the cutting feed, and flutes wider than their neck come up at feed where
    stock may stand over them."""
    out, rows = PathBuilder(), Rows.of(path)
    mark = 0
    necked = tool.shank_diameter < tool.diameter - 1e-6
    feeds = path.feed[path.kind == Motion.FEED]
    cutting = float(feeds.max()) if len(feeds) else np.inf
    following = _following(path)
    for i in range(len(rows)):
        out.level, out.run = rows.level[i], rows.run[i]
        here, there, rapid = out.position, rows.tip[i], rows.kind[i] is RAPID
        linking = here is not None and rows.kind[i] is LINK and rows.feed[i] > cutting
        if not linking and (not rapid or here is None or (there[2] >= here[2] + 1e-9 and not necked)):
            rows.copy(out, i)
            continue
        assert here is not None
        stock.cut(out.since(mark), tool.cleared)
        mark = max(0, out.count() - 1)
        if linking:
            over = float(stock.top(here[:2], (there[0], there[1]), tool.radius))
            if over <= min(here[2], there[2]) + TOUCH_MM or rows.turn[i]:
                rows.copy(out, i)
            else:
                out.feed(there[0], there[1], there[2], cutting, LINK)
            continue
        if there[2] >= here[2] + 1e-9:
            clear = float(stock.top(here[:2], here[:2], tool.radius)) - tool.flute_length + SKIN_MM
            if clear > here[2]:
                out.feed(here[0], here[1], min(clear, there[2]), following[i], LINK)
            rows.copy(out, i)
            continue
        top = float(stock.top(here[:2], (there[0], there[1]), tool.radius))
        if top <= min(here[2], there[2]) + TOUCH_MM:
            rows.copy(out, i)
            continue
        over = top + SKIN_MM
        out.rapid(here[0], here[1], max(here[2], over))
        out.rapid(there[0], there[1], max(here[2], over))
        out.rapid(there[0], there[1], max(there[2], over))
        if there[2] < over:
            out.feed(there[0], there[1], there[2], following[i], PLUNGE)
    return out.build()


def raised(path: Toolpath, owner: NDArray[np.int64], points: Floats, lift: Floats) -> Toolpath:
    """Rows with a bad spot become straight moves through their lifted spots."""
    rows = Rows.of(path)
    gone, first = _faults(len(rows), owner, lift > 0)
    lifted = points.copy()
    lifted[:, 2] += np.where(lift > 0, lift + SKIN_MM, 0.0)
    out = PathBuilder()
    for i in range(len(rows)):
        out.level, out.run = rows.level[i], rows.run[i]
        rapid = rows.kind[i] is RAPID
        if gone[i] and not rapid:
            for x, y, z in lifted[first[i] : first[i + 1]].tolist():
                _squarely(out, x, y, z, rows.feed[i], rows.kind[i])
        else:
            if i > 0 and gone[i - 1] and not rapid:
                x, y, z = rows.tip[i - 1]  # down again to where the next move begins
                _squarely(out, x, y, z, rows.feed[i], rows.kind[i])
            rows.copy(out, i)
    return out.build()


def _faults(count: int, owner: NDArray[np.int64], bad: NDArray[np.bool_]) -> tuple[list[bool], list[int]]:
    """Which of so many moves have a bad one among their spots, whose moves are `owner`, and the number of the
    first spot of every move, one more at the end."""
    gone = np.zeros(count, dtype=np.bool_)
    gone[owner[bad]] = True
    return gone.tolist(), np.searchsorted(owner, np.arange(count + 1)).tolist()


def _following(path: Toolpath) -> list[float]:
    """The feed of every move, of a rapid that of the next move at feed, or of the last one."""
    rapid = path.kind == Motion.RAPID
    slow = np.flatnonzero(~rapid)
    if not len(slow):
        return [0.0] * len(path)
    after = np.minimum(np.searchsorted(slow, np.arange(len(path))), len(slow) - 1)
    return [float(f) for f in path.feed[slow[after]]]


def _squarely(out: PathBuilder, x: float, y: float, z: float, feed: float, kind: Motion) -> None:
    """To a spot at the greater of both heights: up before and down after."""
    here = out.position
    if here is not None:
        out.feed(here[0], here[1], max(here[2], z), feed, kind)
        out.feed(x, y, max(here[2], z), feed, kind)
    out.feed(x, y, z, feed, kind)
