"""The underside of a cutter for kernels."""

import math

from numba import njit


@njit(cache=True, inline="always")
def underside(d, shape):
    """Height of the underside (see `Profile.shape`) over the tip at distance d from the axis, d within the
    radius."""
    flat, corner, arc_end = shape[1], shape[2], shape[4]
    if d <= flat:
        return 0.0
    if d <= arc_end:
        over = d - flat
        return corner - math.sqrt(max(0.0, corner * corner - over * over))
    if d <= shape[8]:
        return shape[5] + shape[3] * (d - arc_end)
    over = d - shape[6]
    return shape[9] - math.sqrt(max(0.0, shape[7] * shape[7] - over * over))
