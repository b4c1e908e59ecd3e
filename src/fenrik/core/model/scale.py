"""What follows from a part's size: an implausible scale, and how fine its picture is."""

import math

from fenrik.core.model.part_model import Problem


def scale_problems(largest: float) -> list[Problem]:
    """A caution when the largest extent (mm) is hardly that of a machined part."""
    if largest < 2.0:
        words, factor = (
            f"The part is only {largest:.4g} mm long.",
            "1000 if the file was meant in metres, 25.4 if in inches",
        )
    elif largest > 5000.0:
        words, factor = f"The part is {largest:.6g} mm long.", "0.001 or 1/25.4 if the file's unit is wrong"
    else:
        return []
    return [Problem("caution", words, f"If that is not so, set part.scale ({factor}).")]


def display_deflection(low: list[float], high: list[float]) -> float:
    """A deflection that looks smooth on the screen: a three-thousandth of the diagonal."""
    return max(1e-4, math.dist(low, high) / 3000.0)
