"""Kernels of clearing at a bounded load: a disc that walks over a bitmap of the stock.

Bitmaps are (ny, nx) uint8 over cells of h mm from (x0, y0): `stock` 1 where there is material to cut; `room`
(float32) is the distance mm of a cell to where the disc's middle may not be, negative outside. Engagement is
the angle over which the leading half of the circle lies in stock. `side` is +1 when the stock is to be on
the right of the way (climb with a clockwise spindle), -1 on the left.
"""

import math
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray


class Field(NamedTuple):
    """Bitmaps (ny, nx) of a level, their cells of `h` mm from (x0, y0), and the disc's radius mm."""

    stock: NDArray[np.uint8]
    room: NDArray[np.float32]
    x0: float
    y0: float
    h: float
    radius: float


class Pursuit(NamedTuple):
    """How a pass is walked: side of the stock, engagement aimed at and allowed rad, step and tightest bend
    mm, area mm² that a mm of way has to clear, and the loss mm² after which it ends."""

    side: int
    target: float
    limit: float
    step: float
    tightest: float
    price: float
    patience: float


class Search(NamedTuple):
    """What is known of the nodes (my, mx), every `grid`-th cell, and a search over them: `failed` and `spent`
    (1: no pass from there), `known` (see `_is_clear`), `parents` for the way back, `queue` (my * mx,) and its
    `ends` (2,), head and tail."""

    grid: int
    failed: NDArray[np.uint8]
    spent: NDArray[np.uint8]
    known: NDArray[np.uint8]
    parents: NDArray[np.int32]
    queue: NDArray[np.int64]
    ends: NDArray[np.int64]


STEPS = 91
"""Samples of the leading half circle, 2° apart."""
PITCH = math.pi / (STEPS - 1)
AROUND = 2 * (STEPS - 1)
RING_X = np.array([math.cos(k * PITCH) for k in range(AROUND + STEPS)])
RING_Y = np.array([math.sin(k * PITCH) for k in range(AROUND + STEPS)])
"""A circle and a half, so that every half is one run."""
TRIES = 10
"""Headings looked at to either side of straight on."""


@njit(cache=True, nogil=True, error_model="numpy", fastmath=True)
def room_of(segments, frame, band, out, first, last):
    """Signed distance of cells to the border `segments` (m, 4: x, y, x, y) of an area, positive inside, exact
    up to `band` mm and held to it beyond, into the rows first..last of out (ny, nx) in a `frame` (x0, y0,
    h)."""
    x0, y0, h = frame
    ny, nx = out.shape
    out[first:last] = band
    crossed = np.zeros((ny, nx + 1), dtype=np.uint8)
    for m in range(len(segments)):
        ax, ay, bx, by = segments[m]
        dx, dy = bx - ax, by - ay
        long2 = max(dx * dx + dy * dy, 1e-300)
        j0 = max(first, int((min(ay, by) - band - y0) / h))
        j1 = min(last - 1, int((max(ay, by) + band - y0) / h))
        i0 = max(0, int((min(ax, bx) - band - x0) / h))
        i1 = min(nx - 1, int((max(ax, bx) + band - x0) / h))
        for j in range(j0, j1 + 1):
            py = y0 + (j + 0.5) * h
            for i in range(i0, i1 + 1):
                px = x0 + (i + 0.5) * h
                t = min(1.0, max(0.0, ((px - ax) * dx + (py - ay) * dy) / long2))
                ex, ey = ax + t * dx - px, ay + t * dy - py
                d2 = ex * ex + ey * ey
                if d2 < out[j, i] * out[j, i]:
                    out[j, i] = math.sqrt(d2)
            if (ay <= py) != (by <= py):  # a row's middle line goes through here
                i = int(math.ceil((ax + (py - ay) / dy * dx - x0) / h - 0.5))
                crossed[j, min(nx, max(0, i))] ^= 1
    for j in range(first, last):
        inside = 0
        for i in range(nx):
            inside ^= crossed[j, i]
            if inside == 0:
                out[j, i] = -out[j, i]


@njit(cache=True, nogil=True, error_model="numpy")
def engagement(field, x, y, c, s):
    """Angle rad of the leading half circle about (x, y), heading (c, s), that lies in stock.

    The bitmap reaches a radius beyond every place that is asked for.
    """
    stock, _, x0, y0, h, radius = field
    fx, fy, r = (x - x0) / h, (y - y0) / h, radius / h
    turn = (math.atan2(s, c) - 0.5 * math.pi) / PITCH
    first = int(math.floor(turn + 0.5))
    # the ring is turned by what the heading is off the nearest sample
    off = (turn - first) * PITCH
    co, so = r * math.cos(off), r * math.sin(off)
    first %= AROUND
    count = np.int32(0)
    # through int32, for which there is an instruction, and unsigned, so that no index is looked at twice
    for k in range(np.uint64(first), np.uint64(first + STEPS)):
        i = np.int32(fx + co * RING_X[k] - so * RING_Y[k])
        j = np.int32(fy + so * RING_X[k] + co * RING_Y[k])
        count += np.int32(stock[np.uint64(j), np.uint64(i)])
    return count * PITCH


@njit(cache=True, nogil=True, error_model="numpy")
def touches(field, x, y):
    """Whether a disc holds any stock: every cell whose middle lies in it is looked at."""
    stock, _, x0, y0, h, radius = field
    ny, nx = stock.shape
    fx, fy, r = (x - x0) / h - 0.5, (y - y0) / h - 0.5, radius / h
    r2 = r * r
    for j in range(max(0, int(fy - r)), min(ny - 1, int(fy + r) + 1) + 1):
        half2 = r2 - (j - fy) * (j - fy)
        if half2 <= 0.0:
            continue
        half = math.sqrt(half2)
        for i in range(
            np.uint64(max(0, int(math.ceil(fx - half)))),
            np.uint64(min(nx - 1, int(math.floor(fx + half))) + 1),
        ):
            if stock[np.uint64(j), i]:
                return True
    return False


@njit(cache=True, nogil=True, error_model="numpy")
def _touches_on(field, x, y, been):
    """As `touches`, where the disc is known to hold none at `been`, (x, y)."""
    stock, _, x0, y0, h, radius = field
    px, py = been
    ny, nx = stock.shape
    fx, fy, r = (x - x0) / h - 0.5, (y - y0) / h - 0.5, radius / h
    ox, oy, r2 = (px - x0) / h - 0.5, (py - y0) / h - 0.5, r * r
    for j in range(max(0, int(fy - r)), min(ny - 1, int(fy + r) + 1) + 1):
        half2 = r2 - (j - fy) * (j - fy)
        if half2 <= 0.0:
            continue
        half = math.sqrt(half2)
        i0 = max(0, int(math.ceil(fx - half)))
        i1 = min(nx - 1, int(math.floor(fx + half)))
        p0, p1 = i1 + 1, i1 + 1
        old2 = r2 - (j - oy) * (j - oy)
        if old2 > 0.0:
            old = math.sqrt(old2)
            p0, p1 = int(math.ceil(ox - old)), int(math.floor(ox + old)) + 1
            if p1 <= p0:
                p0, p1 = i1 + 1, i1 + 1
        for i in range(i0, min(i1 + 1, p0)):
            if stock[j, i]:
                return True
        for i in range(max(i0, p1), i1 + 1):
            if stock[j, i]:
                return True
    return False


@njit(cache=True, nogil=True, error_model="numpy")
def stamp(field, x, y, undo, used):
    """Clears the cells whose middles lie in the disc; their numbers go to `undo` from `used` on. Returns the
    new `used`."""
    stock, _, x0, y0, h, radius = field
    ny, nx = stock.shape
    j0, j1 = max(0, int((y - radius - y0) / h)), min(ny - 1, int((y + radius - y0) / h))
    for j in range(j0, j1 + 1):
        dy = y0 + (j + 0.5) * h - y
        half2 = radius * radius - dy * dy
        if half2 <= 0.0:
            continue
        half = math.sqrt(half2)
        i0 = max(0, int(math.ceil((x - half - x0) / h - 0.5)))
        i1 = min(nx - 1, int(math.floor((x + half - x0) / h - 0.5)))
        for i in range(i0, i1 + 1):
            if stock[j, i]:
                stock[j, i] = 0
                if used < len(undo):
                    undo[used] = j * nx + i
                used += 1
    return used


@njit(cache=True, nogil=True, error_model="numpy")
def stamp_on(field, at, been, undo, used):
    """As `stamp`, at (x, y), where the disc has just been stamped at `been`: only cells beyond that are
    looked at."""
    stock, _, x0, y0, h, radius = field
    (x, y), (px, py) = at, been
    ny, nx = stock.shape
    # in cells, from the middle of the first
    fx, fy, r = (x - x0) / h - 0.5, (y - y0) / h - 0.5, radius / h
    ox, oy, r2 = (px - x0) / h - 0.5, (py - y0) / h - 0.5, (radius / h) ** 2
    for j in range(max(0, int(fy - r)), min(ny - 1, int(fy + r) + 1) + 1):
        half2 = r2 - (j - fy) * (j - fy)
        if half2 <= 0.0:
            continue
        half = math.sqrt(half2)
        i0 = max(0, int(math.ceil(fx - half)))
        i1 = min(nx - 1, int(math.floor(fx + half)))
        p0, p1 = i1 + 1, i1 + 1  # the cells p0..p1-1 have been cleared
        old2 = r2 - (j - oy) * (j - oy)
        if old2 > 0.0:
            old = math.sqrt(old2)
            p0, p1 = int(math.ceil(ox - old)), int(math.floor(ox + old)) + 1
            if p1 <= p0:
                p0, p1 = i1 + 1, i1 + 1
        for i in range(i0, min(i1 + 1, p0)):
            if stock[j, i]:
                stock[j, i] = 0
                undo[used] = j * nx + i
                used += 1
        for i in range(max(i0, p1), i1 + 1):
            if stock[j, i]:
                stock[j, i] = 0
                undo[used] = j * nx + i
                used += 1
    return used


@njit(cache=True, nogil=True, error_model="numpy")
def _room(field, x, y):
    """Room at a point, between the middles of the cells around it."""
    room, x0, y0, h = field.room, field.x0, field.y0, field.h
    ny, nx = room.shape
    fx, fy = (x - x0) / h - 0.5, (y - y0) / h - 0.5
    i, j = int(math.floor(fx)), int(math.floor(fy))
    if i < 0 or j < 0 or i + 1 >= nx or j + 1 >= ny:
        return -1.0
    u, v = fx - i, fy - j
    low = room[j, i] * (1 - u) + room[j, i + 1] * u
    high = room[j + 1, i] * (1 - u) + room[j + 1, i + 1] * u
    return low * (1 - v) + high * v


@njit(cache=True, nogil=True, error_model="numpy")
def _steer(field, pose, pursuit, look, sharpest, before):
    """Heading, as an angle to the present one of the pose (x, y, c, s), at whose look-ahead the engagement is
    the target; `before` is the one taken last. 9.0 where no heading is allowed.

    Engagement grows as the heading turns to the stock, so the search goes from `before` one way until the
    target lies between two headings.
    """
    x, y, c, s = pose
    side, target, limit = pursuit.side, pursuit.target, pursuit.limit
    roll = min(sharpest, 0.5 * look / field.radius)
    best, turn = 1e30, 9.0
    previous, previous_angle = -1.0, 0.0
    start = min(sharpest, max(-sharpest, before * side)) * side
    inward = 0.0
    for k in range(2 * TRIES):
        angle = start - side * inward * k * sharpest / TRIES
        if abs(angle) > sharpest + 1e-9:
            break
        ca, sa = math.cos(angle), math.sin(angle)
        hc, hs = c * ca - s * sa, s * ca + c * sa
        ax, ay = x + look * hc, y + look * hs
        if _room(field, ax, ay) < 0.0:
            if inward > 0.0 and k > 0:
                break  # the border lies towards the stock
            inward, previous = (-1.0, -1.0) if inward == 0.0 else (inward, -1.0)
            continue
        seen = engagement(field, ax, ay, hc, hs)
        if inward == 0.0:
            inward = 1.0 if seen < target else -1.0
        elif previous >= 0.0 and (seen - target) * (previous - target) <= 0.0 and seen != previous:
            return previous_angle + (angle - previous_angle) * (target - previous) / (seen - previous)
        # where headings differ by nothing, roll about the stock's corner
        worth = abs(seen - target) + 0.02 * abs(angle + side * roll)
        if seen <= limit and worth < best:
            best, turn = worth, angle
        previous, previous_angle = seen, angle
    return turn


@njit(cache=True, nogil=True, error_model="numpy")
def walk(field, pose, pursuit, out, undo):
    """One pass from a pose (x, y and heading c, s): pursues the target engagement at 0.3 radii ahead.

    Stock is taken away 0.19 radii behind, so that the circle does not read ground that the disc itself has
    just cleared. Every step is taken only when the engagement there is under the limit. `price` is the area
    mm² that a mm of way has to clear to be worth it: the pass ends at a wall, where there is no step, or
    after `patience` mm² of loss, and is kept up to where its gain was greatest. out (n, 4): x, y, engagement,
    cells cleared. Returns the points kept and the cells cleared.
    """
    stock, h, radius = field.stock, field.h, field.radius
    x, y, c, s = pose
    side, target, limit, step, tightest, price, patience = pursuit
    look = 0.3 * radius
    lag = max(1, int(0.19 * radius / step))
    sharpest = min(0.9, 0.5 * look / tightest)  # half angle at which the way to the look-ahead turns
    n, used, stamped = 1, np.int64(0), 0  # `used` of a type: what is compiled for it is compiled once
    best, kept = 0.0, 0
    out[0, 0], out[0, 1], out[0, 2] = x, y, engagement(field, x, y, c, s)
    turn = 0.0
    going = out[0, 2] <= limit
    while going and n < len(out):
        turn = _steer(field, (x, y, c, s), pursuit, look, sharpest, turn)
        moved = False
        for again in range(6):
            if turn > 8.0:
                break
            bend = 2.0 * math.sin(turn) / look * step + side * 0.5 * again * step / tightest
            bend = min(step / tightest, max(-step / tightest, bend))
            cb, sb = math.cos(bend), math.sin(bend)
            hc, hs = c * cb - s * sb, s * cb + c * sb
            nx_, ny_ = x + step * hc, y + step * hs
            if _room(field, nx_, ny_) < 0.0:
                continue
            seen = engagement(field, nx_, ny_, hc, hs)
            if seen > 0.8 * target and seen <= limit:  # near the limit, halfway too
                middle = engagement(field, 0.5 * (x + nx_), 0.5 * (y + ny_), hc, hs)
                seen = max(seen, middle)
            if seen <= limit:
                moved = True
                break
        if moved:
            x, y, c, s = nx_, ny_, hc, hs
            out[n, 0], out[n, 1], out[n, 2] = x, y, seen
            n += 1
        going = moved
        until = n - 1 - lag if moved else n
        while stamped < until:
            if stamped == 0:
                used = stamp(field, out[0, 0], out[0, 1], undo, used)
            else:
                at, been = (out[stamped, 0], out[stamped, 1]), (out[stamped - 1, 0], out[stamped - 1, 1])
                used = stamp_on(field, at, been, undo, used)
            out[stamped, 3] = used
            gain = used * h * h - price * step * stamped
            if gain > best:
                best, kept = gain, stamped
            elif gain < best - patience:
                going = False
            stamped += 1
    cells = int(out[kept, 3]) if best > 0.0 else 0
    restore(stock, undo, cells, used, np.int64(1))
    return kept + 1, cells


@njit(cache=True, nogil=True, error_model="numpy")
def restore(stock, undo, first, last, value):
    """Puts the cells first..last of `undo` back, or, with 0, takes them away again."""
    nx = stock.shape[1]
    for k in range(first, last):
        stock[undo[k] // nx, undo[k] % nx] = value


@njit(cache=True, nogil=True, error_model="numpy")
def nearest_stock(field, reach, x, y):
    """Direction (c, s) to stock within `reach` over the circle, found on rings from near to far; (0, 0):
    none."""
    stock, _, x0, y0, h, radius = field
    ny, nx = stock.shape
    rings = max(1, int(math.ceil(reach / h)))
    fx, fy = (x - x0) / h, (y - y0) / h
    for q in range(1, rings + 1):
        r = (radius + reach * q / rings) / h
        sx, sy, count = 0.0, 0.0, 0
        for k in range(0, AROUND, 2):
            i, j = np.int32(fx + r * RING_X[k]), np.int32(fy + r * RING_Y[k])
            if 0 <= i < nx and 0 <= j < ny and stock[np.uint64(j), np.uint64(i)]:
                sx, sy, count = sx + RING_X[k], sy + RING_Y[k], count + 1
        if count:
            length = math.hypot(sx, sy)
            if length > 1e-6:
                return sx / length, sy / length
    return 0.0, 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def upstream(field, reach, x, y, side, out):
    """Slides the free disc along the border of the stock from (x, y) against the heading that a pass would
    take, until a wall, a gap or the beginning. out (n, 2) are the places, the first (x, y). Returns their
    number."""
    radius = field.radius
    step = 0.3 * radius
    c, s = nearest_stock(field, reach, x, y)
    out[0, 0], out[0, 1] = x, y
    n = 1
    while n < len(out) and (c != 0.0 or s != 0.0):
        bx, by = s * side, -c * side
        found = False
        for away in range(-3, 8):
            px, py = x + step * bx - c * 0.25 * away * step, y + step * by - s * 0.25 * away * step
            if _room(field, px, py) < 0.0 or touches(field, px, py):
                continue
            found = True
            break
        if not found:
            break
        c, s = nearest_stock(field, reach, px, py)
        x, y = px, py
        out[n, 0], out[n, 1] = x, y
        n += 1
        if n > 10 and math.hypot(x - out[0, 0], y - out[0, 1]) < 0.5 * radius:
            return 1
    return n


@njit(cache=True, nogil=True, error_model="numpy")
def _is_clear(field, search, i, j):
    """Whether the disc stands free on a node. Stock only ever gets less, so what was free stays so: `known` 0
    open, 1 free, 2 free and far from stock, 3 never allowed, 4 touching stock, 5 free beside stock that it
    has no room to cut."""
    grid, known = search.grid, search.known
    x0, y0, h = field.x0, field.y0, field.h
    if known[j, i] == 1 or known[j, i] == 2 or known[j, i] == 5:
        return True
    if known[j, i] == 3 or known[j, i] == 4:
        return False
    x, y = x0 + (i * grid + 0.5) * h, y0 + (j * grid + 0.5) * h
    if _room(field, x, y) < 0.0:
        known[j, i] = 3
        return False
    if touches(field, x, y):
        known[j, i] = 4
        return False
    known[j, i] = 1
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def reopen(field, search, way, reach):
    """Forgets what was found out about nodes within `reach` mm of the points of `way` and may no longer
    hold."""
    x0, y0, h = field.x0, field.y0, field.h
    grid, failed, spent, known = search.grid, search.failed, search.spent, search.known
    my, mx = known.shape
    q = reach / (grid * h)
    for p in range(0, len(way), 4):
        fx, fy = ((way[p, 0] - x0) / h - 0.5) / grid, ((way[p, 1] - y0) / h - 0.5) / grid
        for j in range(max(0, int(math.ceil(fy - q))), min(my, int(fy + q) + 1)):
            for i in range(max(0, int(math.ceil(fx - q))), min(mx, int(fx + q) + 1)):
                failed[j, i], spent[j, i] = 0, 0
                if known[j, i] == 4:
                    known[j, i] = 0
                elif known[j, i] == 5:
                    known[j, i] = 1


@njit(cache=True, nogil=True, error_model="numpy")
def begin_search(field, search, px, py, everywhere):
    """Starts the breadth-first search of `next_start` from (px, py), or from all free ground."""
    x0, y0, h = field.x0, field.y0, field.h
    grid, _, _, known, parents, queue, ends = search
    my, mx = known.shape
    parents[:] = -2
    tail = 0
    if everywhere:
        for j in range(my):
            for i in range(mx):
                if _is_clear(field, search, i, j):
                    parents[j, i] = -1
                    queue[tail] = j * mx + i
                    tail += 1
    else:
        i, j = int(round(((px - x0) / h - 0.5) / grid)), int(round(((py - y0) / h - 0.5) / grid))
        for dj in range(-1, 2):
            for di in range(-1, 2):
                a, b = i + di, j + dj
                if 0 <= a < mx and 0 <= b < my:
                    if _is_clear(field, search, a, b):
                        parents[b, a] = -1
                        queue[tail] = b * mx + a
                        tail += 1
    ends[0], ends[1] = 0, tail


@njit(cache=True, nogil=True, error_model="numpy")
def next_start(field, search, everywhere):
    """Goes on breadth-first over the ground where the disc touches nothing, on every `grid`-th cell, to the
    nearest place beside stock that has not failed. Returns its number or -1."""
    x0, y0, h = field.x0, field.y0, field.h
    grid, failed, _, known, parents, queue, ends = search
    my, mx = failed.shape
    head, tail = ends[0], ends[1]
    reach = 1.6 * grid * h
    while head < tail:
        k = queue[head]
        head += 1
        j, i = k // mx, k % mx
        if not everywhere:
            for dj in range(-1, 2):
                for di in range(-1, 2):
                    a, b = i + di, j + dj
                    if 0 <= a < mx and 0 <= b < my and parents[b, a] == -2:
                        parents[b, a] = -3
                        if _is_clear(field, search, a, b):
                            parents[b, a] = k
                            queue[tail] = b * mx + a
                            tail += 1
        if not failed[j, i] and known[j, i] == 1:
            x, y = x0 + (i * grid + 0.5) * h, y0 + (j * grid + 0.5) * h
            c, s = nearest_stock(field, reach, x, y)
            if c == 0.0 and s == 0.0:
                known[j, i] = 2
            elif _room(field, x + c * h, y + s * h) >= 0.0:
                ends[0], ends[1] = head, tail
                return k
            else:
                known[j, i] = 5
    ends[0], ends[1] = head, tail
    return -1


@njit(cache=True, nogil=True, error_model="numpy")
def mark(field, search, way, reach):
    """Says of the nodes within `reach` mm of the points of `way` (n, >= 2) that they have failed."""
    x0, y0, h = field.x0, field.y0, field.h
    grid, nodes = search.grid, search.failed
    my, mx = nodes.shape
    q = reach / (grid * h)
    for p in range(len(way)):
        fx, fy = ((way[p, 0] - x0) / h - 0.5) / grid, ((way[p, 1] - y0) / h - 0.5) / grid
        for j in range(max(0, int(math.ceil(fy - q))), min(my, int(fy + q) + 1)):
            for i in range(max(0, int(math.ceil(fx - q))), min(mx, int(fx + q) + 1)):
                if (i - fx) ** 2 + (j - fy) ** 2 <= q * q:
                    nodes[j, i] = 1


@njit(cache=True, nogil=True, error_model="numpy")
def passable(field, a, b):
    """Whether the disc may go straight from a to b, each (x, y), without touching stock."""
    (ax, ay), (bx, by) = a, b
    if touches(field, ax, ay):
        return False
    n = max(1, int(math.ceil(math.hypot(bx - ax, by - ay) / field.h)))
    px, py = ax, ay
    for k in range(n + 1):
        x, y = ax + (bx - ax) * k / n, ay + (by - ay) * k / n
        if _room(field, x, y) < 0.0 or _touches_on(field, x, y, (px, py)):
            return False
        px, py = x, y
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def measure(field, points, step):
    """Engagement along a polyline (n, 2) that cuts `stock`, a sample every `step` mm: (m,)."""
    radius = field.radius
    undo = np.empty(0, dtype=np.int64)
    total = 0.0
    for k in range(len(points) - 1):
        total += math.hypot(points[k + 1, 0] - points[k, 0], points[k + 1, 1] - points[k, 1])
    out = np.zeros(int(total / step) + len(points) + 2)
    trail = np.empty((len(out), 2))
    lag = max(1, int(0.19 * radius / step))
    n = 0
    for k in range(len(points) - 1):
        dx, dy = points[k + 1, 0] - points[k, 0], points[k + 1, 1] - points[k, 1]
        length = math.hypot(dx, dy)
        if length < 1e-9:
            continue
        parts = max(1, int(math.ceil(length / step)))
        for q in range(1, parts + 1):
            x, y = points[k, 0] + dx * q / parts, points[k, 1] + dy * q / parts
            out[n] = engagement(field, x, y, dx / length, dy / length)
            trail[n, 0], trail[n, 1] = x, y
            if n >= lag:
                stamp(field, trail[n - lag, 0], trail[n - lag, 1], undo, np.int64(0))
            n += 1
    for q in range(max(0, n - lag), n):
        stamp(field, trail[q, 0], trail[q, 1], undo, np.int64(0))
    return out[:n]
