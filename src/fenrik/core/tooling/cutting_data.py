"""Speed, feed and steps proposed from material, tool and machine; every value explains itself.

Relations: n = 1000 vc / (pi D) and vf = n z fz (ISO 3002-3; any machining handbook).
"""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass

from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.materials import Material

HSS_SHARE = 0.25
"""Cutting speed of high-speed steel against carbide (common practice, no source)."""


@dataclass(frozen=True)
class Derived:
    """A proposed number: value, unit, where it comes from, and the formula with its inputs."""

    value: float
    unit: str
    origin: str
    formula: str


def spindle_rpm(cutting_speed_m_min: float, diameter: float) -> float:
    """Speed in 1/min for a cutting speed m/min at a diameter mm."""
    return 1000.0 * cutting_speed_m_min / (math.pi * diameter)


def cutting_speed_m_min(rpm: float, diameter: float) -> float:
    """Cutting speed m/min at a diameter mm."""
    return math.pi * diameter * rpm / 1000.0


def table_feed(rpm: float, teeth: int, feed_per_tooth: float) -> float:
    """Feed mm/min."""
    return rpm * teeth * feed_per_tooth


def cusp_height(radius: float, stepover: float) -> float:
    """Height mm of the ridge between two passes of a ball of `radius` on a flat floor."""
    half = min(radius, stepover / 2)
    return radius - math.sqrt(radius * radius - half * half)


def stepover_for_cusp(radius: float, cusp: float) -> float:
    """Stepover mm at which a ball of `radius` leaves ridges of height `cusp` on a flat floor."""
    height = min(cusp, radius)
    return 2.0 * math.sqrt(height * (2.0 * radius - height))


def engagement_angle(width: float, diameter: float) -> float:
    """Angle rad over which a tooth is in the material at a width of cut ae mm (side milling)."""
    return math.acos(max(-1.0, min(1.0, 1.0 - 2.0 * width / diameter)))


def largest_chip(feed_per_tooth: float, width: float, diameter: float) -> float:
    """Largest undeformed chip thickness mm (Martellotti 1941): 2 fz sqrt(q - q²) for q = ae/D < 1/2."""
    share = width / diameter
    return feed_per_tooth if share >= 0.5 else 2.0 * feed_per_tooth * math.sqrt(share - share * share)


def removal_rate(depth: float, width: float, feed_mm_min: float) -> float:
    """Removal rate cm³/min."""
    return depth * width * feed_mm_min / 1000.0


def cutting_power_kw(rate_cm3_min: float, chip: float, material: Material) -> float:
    """Power at the cutter in kW after Kienzle: Pc = Q kc / 60 000, kc = kc1.1 h^-mc."""
    if chip <= 0:
        return 0.0
    return float(rate_cm3_min * material.kc11 * chip ** (-material.mc) / 60_000.0)


def propose(
    assembly: Assembly, material: Material, rpm_min: float, rpm_max: float, feed_max: float
) -> dict[str, Derived]:
    """Spindle speed, feeds and steps for a tool in a material on a machine with these limits.

    Keys: spindle_rpm, feed_mm_min, entry_feed_mm_min, link_feed_mm_min, step_down, stepover (roughing).
    """
    hss = assembly.cutter_material == "hss"
    vc = material.vc * (HSS_SHARE if hss else 1.0)
    origin = "from material and tool"
    wanted = spindle_rpm(vc, assembly.diameter)
    rpm = float(round(min(rpm_max, max(rpm_min, wanted)), -1))
    limited = (
        "" if rpm_min <= wanted <= rpm_max else f", held to the machine's {rpm_min:.0f} to {rpm_max:.0f}"
    )
    slender = min(1.0, 4.0 * assembly.diameter / assembly.stick_out)
    fz = material.fz_share * assembly.diameter * slender
    feed_wanted = table_feed(rpm, assembly.teeth, fz)
    feed = float(round(min(feed_max, feed_wanted)))
    down = min(assembly.flute_length, material.step_down_share * assembly.diameter * slender)
    if assembly.kind == "ball":
        down = min(down, assembly.radius)
    kind = f"{material.name}, {'high-speed steel' if hss else 'carbide'} ({material.source})"
    return {
        "spindle_rpm": Derived(
            rpm,
            "1/min",
            origin,
            f"n = 1000 vc / (π D) = 1000 · {vc:g} / (π · {assembly.diameter:g}){limited}; vc: {kind}",
        ),
        "feed_mm_min": Derived(
            feed,
            "mm/min",
            origin,
            f"vf = n z fz = {rpm:g} · {assembly.teeth} · {fz:.4f}; fz = {material.fz_share:g} D"
            + (
                f", less {slender:.2f} for the stick-out of {assembly.stick_out / assembly.diameter:.1f} D"
                if slender < 1
                else ""
            ),
        ),
        "entry_feed_mm_min": Derived(
            float(round(feed * 0.4)), "mm/min", origin, "40 % of the feed (common practice, no source)"
        ),
        "link_feed_mm_min": Derived(
            float(round(min(feed_max, 3.0 * feed))),
            "mm/min",
            origin,
            "three times the feed over cleared ground, held to the machine's (common practice, no source)",
        ),
        "step_down": Derived(
            round(down, 3), "mm", origin, f"{material.step_down_share:g} D, not more than the flutes"
        ),
        "stepover": Derived(
            round(0.4 * assembly.diameter, 3),
            "mm",
            "from material and tool",
            "40 % of D (common practice, no source)",
        ),
    }


def as_plain(values: dict[str, Derived]) -> dict[str, dict[str, object]]:
    """Derived values as plain data for a page or a report."""
    return {key: asdict(value) for key, value in values.items()}
