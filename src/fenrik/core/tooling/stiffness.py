"""How far a tool bends, and the depth of cut that a limit of bending allows.

Sources: mean tangential force kc hm ap z phi / 2 pi (Kienzle 1952; ISO 3002-4); bending of a cantilever
F L³ / (3 E I). Young's moduli and the core of a fluted cutter (0.8 D) are from memory.
"""

from __future__ import annotations

import math

from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.cutting_data import engagement_angle, mean_chip
from fenrik.core.tooling.materials import Material

YOUNG = {"carbide": 600_000.0, "hss": 210_000.0}
"""N/mm², from memory."""
CORE = 0.8
"""Diameter of a fluted cutter that bends like it, as a share of its own (common practice, no source)."""
THINNEST_CHIP = 1e-3


def compliance(tool: Assembly) -> float:
    """Bending mm/N at the tip under a force there: flutes as a core, the shank whole, clamped in the
    holder."""
    young = YOUNG[tool.cutter_material]
    core = math.pi / 64.0 * (CORE * tool.diameter) ** 4
    shank = math.pi / 64.0 * tool.shank_diameter**4
    fluted, whole = tool.flute_length, tool.stick_out
    return (fluted**3 / core + (whole**3 - fluted**3) / shank) / (3.0 * young)


def bending(tool: Assembly, material: Material, rpm: float, feed: float, width: float, depth: float) -> float:
    """Bending mm at the tip under the mean cutting force of side milling at a feed mm/min, width and depth of
    cut mm."""
    width = min(width, tool.diameter)
    chip = mean_chip(feed / max(rpm * tool.teeth, 1e-9), width, tool.diameter)
    pressure = material.kc11 * max(chip, THINNEST_CHIP) ** -material.mc
    angle = engagement_angle(width, tool.diameter)
    return float(pressure) * chip * depth * tool.teeth * angle / (2.0 * math.pi) * compliance(tool)


def stiff_depth(
    tool: Assembly, material: Material, rpm: float, feed: float, width: float, limit: float
) -> float:
    """Depth of cut mm at which the tool bends by `limit` mm; bending goes with the depth in proportion."""
    return limit / max(bending(tool, material, rpm, feed, width, 1.0), 1e-12)
