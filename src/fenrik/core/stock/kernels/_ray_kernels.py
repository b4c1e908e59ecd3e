"""Rays of the interval dexels: what is known of them, and an interval taken out of one.

Rays of one direction lie tile by tile, SIDE x SIDE together; ray r = tile * SIDE² + row * SIDE + column. Per
tile: `places`, where its ends start, and `widths`, the room for ends per ray. Per ray: `counts` of intervals,
`ends` (start, end, start, end ...) float32 with `tags` of the piece that made an end, the outermost ends
`first` and `last`, and one void (`void_low`, `void_high`), the one made last: most rays that a move passes
are told by these alone to have nothing to lose. Per row of a tile the outermost ends of all its rays,
`row_first` and `row_last`. Lattice axes of direction d: u, v are the other two in ascending order.
"""

import numpy as np

from fenrik.core.stock.kernels._jit import njit

SIDE = 32
TILE = SIDE * SIDE
SLIVER = np.float32(1e-4)
"""Leftovers thinner than this (mm) are dropped."""
FAR = np.float32(1e30)
NIL, ONE, TWO = np.uint64(0), np.uint64(1), np.uint64(2)


@njit(cache=True, nogil=True, _nrt=False)
def renew(r, o, rays, at):
    """Sets what is known of ray r, whose ends start at o, the void being the one around height `at`."""
    counts, ends, first, last = rays.counts, rays.ends, rays.first, rays.last
    void_low, void_high = rays.void_low, rays.void_high
    n = counts[r]
    if n == 0:
        first[r], last[r], void_low[r], void_high[r] = FAR, -FAR, -FAR, FAR
        return
    first[r], last[r] = ends[o], ends[o + 2 * n - 1]
    low, high = -FAR, FAR
    for q in range(n):
        if ends[o + 2 * q] >= at:
            high = ends[o + 2 * q]
            break
        low = ends[o + 2 * q + 1]
    void_low[r], void_high[r] = low, high


@njit(cache=True, nogil=True, _nrt=False)
def subtract(rays, o, n, width, gap):
    """Removes a gap from the ray at offset o. Returns (new count, removed length); count -1: no room."""
    ends, tags = rays.ends, rays.tags
    low, high, tag = gap
    removed = np.float32(0.0)
    i = 0
    while i < n:
        k = o + 2 * i
        a, b = ends[k], ends[k + 1]
        if b <= low:
            i += 1
            continue
        if a >= high:
            break
        keep_left = low - a > SLIVER
        keep_right = b - high > SLIVER
        if keep_left and keep_right:
            if 2 * (n + 1) > width:
                return -1, removed
            for j in range(o + 2 * n - 1, k, -1):
                ends[j + 2], tags[j + 2] = ends[j], tags[j]
            ends[k + 1], tags[k + 1] = low, tag
            ends[k + 2], tags[k + 2] = high, tag
            return n + 1, removed + (high - low)
        if keep_left:
            removed += b - low
            ends[k + 1], tags[k + 1] = low, tag
            i += 1
        elif keep_right:
            removed += high - a
            ends[k], tags[k] = high, tag
            i += 1
        else:
            removed += b - a
            for j in range(k, o + 2 * (n - 1)):
                ends[j], tags[j] = ends[j + 2], tags[j + 2]
            n -= 1
    return n, removed


@njit(cache=True, nogil=True, _nrt=False)
def remove(rays, r, o, width, gap):
    """Takes a gap out of ray r, whose ends start at o. Returns the removed length, -1 when there is no
    room.

    What nearly every cut is, shortening one interval at one end, is done in place.
    """
    counts, ends, tags, first, last = rays.counts, rays.ends, rays.tags, rays.first, rays.last
    void_low, void_high = rays.void_low, rays.void_high
    low, high, tag = gap
    n = np.uint64(counts[r])
    if n == NIL or low >= last[r] or high <= first[r]:
        return np.float32(0.0)
    k, end = o, o + TWO * (n - ONE)  # the first interval that ends over low, the last one
    while ends[k + ONE] <= low:
        k += TWO
    a, b = ends[k], ends[k + ONE]
    if a >= high:
        return np.float32(0.0)
    keep_left, keep_right = low - a > SLIVER, b - high > SLIVER
    after = ends[k + TWO] if k < end else FAR
    if keep_left and not keep_right and after >= high:
        ends[k + ONE], tags[k + ONE] = low, tag
        void_low[r], void_high[r] = low, after
        if k == end:
            last[r] = low
        return b - low
    if keep_right and not keep_left:
        ends[k], tags[k] = high, tag
        void_low[r], void_high[r] = ends[k - ONE] if k > o else -FAR, high
        if k == o:
            first[r] = high
        return high - a
    m, removed = subtract(rays, np.int64(o), np.int64(n), width, gap)
    if m < 0:
        return np.float32(-1.0)
    counts[r] = m
    renew(np.int64(r), np.int64(o), rays, low)
    return removed


@njit(cache=True, nogil=True)
def tile_spans(counts, first, last, tiles):
    """Lowest and highest material of every tile (tiles, 2); (far, -far) where there is none."""
    out = np.empty((tiles, 2), dtype=np.float32)
    for t in range(tiles):
        low, high = FAR, -FAR
        for r in range(t * TILE, (t + 1) * TILE):
            if counts[r] > 0:
                low, high = min(low, first[r]), max(high, last[r])
        out[t, 0], out[t, 1] = low, high
    return out


@njit(cache=True, nogil=True)
def fill_tile(t, rays):
    """Sets what is known of the rays of one tile from their intervals."""
    for c in range(TILE):
        renew(t * TILE + c, rays.places[t] + c * rays.widths[t], rays, -FAR)
    for j in range(SIDE):
        row = slice(t * TILE + j * SIDE, t * TILE + (j + 1) * SIDE)
        rays.row_first[t * SIDE + j], rays.row_last[t * SIDE + j] = (
            rays.first[row].min(),
            rays.last[row].max(),
        )


@njit(cache=True, nogil=True)
def fill(rays):
    """Sets what is known of every ray from its intervals."""
    for t in range(len(rays.places)):
        fill_tile(t, rays)


@njit(cache=True, nogil=True)
def lengths(places, widths, counts, ends):
    """Total length of material, mm."""
    total = 0.0
    for t in range(len(places)):
        for c in range(TILE):
            o = places[t] + c * widths[t]
            for q in range(counts[t * TILE + c]):
                total += ends[o + 2 * q + 1] - ends[o + 2 * q]
    return total


@njit(cache=True, nogil=True)
def close_tile(counts, ends, tags, place, room):
    """The ends and tags of one tile's rays (counts (TILE,)) without the room between them."""
    total = 0
    for c in range(TILE):
        total += 2 * counts[c]
    out_ends, out_tags = np.empty(total, dtype=np.float32), np.empty(total, dtype=np.int32)
    n = 0
    for c in range(TILE):
        o = place + c * room
        for e in range(2 * counts[c]):
            out_ends[n], out_tags[n] = ends[o + e], tags[o + e]
            n += 1
    return out_ends, out_tags


@njit(cache=True, nogil=True)
def open_tile(counts, packed, ends, tags, place, room):
    """The inverse of `close_tile`: what it gave into ends and tags from `place` on, `room` for every ray."""
    packed_ends, packed_tags = packed
    n = 0
    for c in range(TILE):
        o = place + c * room
        for e in range(2 * counts[c]):
            ends[o + e], tags[o + e] = packed_ends[n], packed_tags[n]
            n += 1
