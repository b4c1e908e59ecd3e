"""Speed, feed and steps proposed from material, tool and machine; every value explains itself.

Relations: n = 1000 vc / (pi D) and vf = n z fz (ISO 3002-3; any machining handbook).
"""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass

from fenrik.core.tooling.assembly import Assembly
from fenrik.core.tooling.materials import Material

BORING_FEED = 0.08
"""Greatest feed of a boring head's one tooth, mm, for a bore's surface (common practice, no source)."""
REAMER_SHARE = 0.3
"""Cutting speed of a reamer against a mill (common practice, no source)."""
HSS_SHARE = 0.25
"""Cutting speed of high-speed steel against carbide (common practice, no source)."""


@dataclass(frozen=True)
class Derived:
    """A proposed number: value, unit, where it comes from, and the formula with its inputs; `beyond` is what
    it would be without the machine's limit, where that holds it."""

    value: float
    unit: str
    origin: str
    formula: str
    beyond: float | None = None


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


COATED = {"uncoated": 1.0, "nitride": 1.2, "carbon": 1.2}
"""Cutting speed with a coating against none (common practice, no source); carbon only in group N, where it
lasts."""

TAP_SHARE = 0.1
"""Cutting speed of a tap against a carbide mill (common practice, no source)."""
BOLDEST = 0.3
"""How far the boldest and the most cautious proposals lie from the middle (common practice, no source)."""
POWER_SHARE = 0.8
"""Share of the spindle's power that a proposal uses at most (common practice, no source)."""
MOST_THINNING = 2.0
"""Greatest rise of the feed for thin chips (common practice, no source)."""


def propose(
    assembly: Assembly,
    material: Material,
    rpm_min: float,
    rpm_max: float,
    feed_max: float,
    boldness: float = 0.5,
) -> dict[str, Derived]:
    """Spindle speed, feeds and steps for a tool in a material on a machine with these limits.

    `boldness` runs from 0, cautious, to 1, bold: speed follows it by half of what feed and steps do.
    Keys: spindle_rpm, feed_mm_min, entry_feed_mm_min, link_feed_mm_min, step_down, stepover (roughing).
    """
    hss = assembly.cutter_material == "hss"
    bold = 1.0 + BOLDEST * (2.0 * boldness - 1.0)
    nerve = "" if boldness == 0.5 else f", times {bold:.2f} for {_nerve(boldness)}"
    coated = COATED[assembly.coating]
    if assembly.coating == "carbon" and material.group != "N":
        coated = 1.0
    vc = material.vc * (HSS_SHARE if hss else 1.0) * coated * (0.5 + 0.5 * bold)
    if assembly.kind == "reamer":
        vc *= REAMER_SHARE
    if assembly.kind == "tap":
        vc = TAP_SHARE * material.vc * (0.5 + 0.5 * bold)
        rpm_max = min(rpm_max, feed_max / float(assembly.thread_pitch or 1.0))
    if assembly.rpm_max is not None:
        rpm_max = min(rpm_max, assembly.rpm_max)
    origin = "from material and tool"
    wanted = spindle_rpm(vc, assembly.diameter)
    rpm = float(round(min(rpm_max, max(rpm_min, wanted)), -1))
    limits = "the tool's" if rpm_max == assembly.rpm_max and wanted > rpm_max else "the machine's"
    limited = "" if rpm_min <= wanted <= rpm_max else f", held to {limits} {rpm_min:.0f} to {rpm_max:.0f}"
    slender = min(1.0, 4.0 * assembly.diameter / assembly.stick_out)
    fz = material.fz_share * assembly.diameter * slender * bold
    if assembly.kind == "boring":
        fz = min(fz, BORING_FEED)
    if assembly.feed_per_tooth_max is not None:
        fz = min(fz, assembly.feed_per_tooth_max)
    feed_wanted = table_feed(rpm, assembly.teeth, fz)
    feed = float(round(min(feed_max, feed_wanted)))
    down = min(assembly.flute_length, material.step_down_share * assembly.diameter * slender * bold)
    if assembly.kind in ("ball", "lollipop"):
        down = min(down, assembly.radius)
    if assembly.kind == "taper_ball":
        down = min(down, assembly.corner_radius)
    coat = f", {assembly.coating} coating × {coated:g}" if coated != 1.0 else ""
    kind = f"{material.name}, {'high-speed steel' if hss else 'carbide'}{coat} ({material.source})"
    return {
        "spindle_rpm": Derived(
            rpm,
            "1/min",
            origin,
            f"n = 1000 vc / (π D) = 1000 · {vc:g} / (π · {assembly.diameter:g}){limited}; vc: "
            f"{kind}{nerve and nerve + ', half of it'}",
            wanted if limited and limits == "the machine's" else None,
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
            )
            + nerve,
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
            round(down, 3), "mm", origin, f"{material.step_down_share:g} D, not more than the flutes{nerve}"
        ),
        "stepover": Derived(
            round(min(0.6, 0.4 * bold) * assembly.diameter, 3),
            "mm",
            "from material and tool",
            f"40 % of D (common practice, no source){nerve}",
        ),
    }


def _nerve(boldness: float) -> str:
    return "a bold plan" if boldness > 0.5 else "a cautious plan"


def engaged_feed(
    feed: Derived,
    assembly: Assembly,
    material: Material,
    rpm: float,
    width: float,
    depth: float,
    feed_max: float,
    power_kw: float,
) -> Derived:
    """The proposed feed for a width and a depth of cut mm: raised for the thin chips of a narrow cut
    (Martellotti 1941), lowered to what spindle and machine bear (Kienzle 1952)."""
    share = min(0.5, width / assembly.diameter)
    thin = min(MOST_THINNING, 1.0 / max(2.0 * math.sqrt(share - share * share), 1e-6))
    value, words = feed.value * thin, feed.formula
    if thin > 1.005:
        words += (
            f"; times {thin:.2f} for the thin chip at ae {width:.2f} = {share:.2f} D: 1 / (2 √(q − "
            f"q²)), at most {MOST_THINNING:g}"
        )
    if value > feed_max:
        value = feed_max
        words += f"; held to the machine's {feed_max:.0f}"
    per_tooth = value / max(rpm * assembly.teeth, 1e-9)
    chip = mean_chip(per_tooth, width, assembly.diameter)
    power = cutting_power_kw(removal_rate(depth, width, value), chip, material)
    if power > POWER_SHARE * power_kw:
        # power goes with the feed to the power of 1 - mc
        value *= (POWER_SHARE * power_kw / power) ** (1.0 / (1.0 - material.mc))
        words += f"; held to {100 * POWER_SHARE:.0f} % of the spindle's {power_kw:g} kW at ap {depth:.2f}"
    return Derived(float(round(value)), feed.unit, feed.origin, words)


def mean_chip(feed_per_tooth: float, width: float, diameter: float) -> float:
    """Mean undeformed chip thickness mm of side milling: hm = 2 fz ae / (D phi) (handbooks)."""
    return 2.0 * feed_per_tooth * width / (diameter * max(engagement_angle(width, diameter), 1e-9))


def as_plain(values: dict[str, Derived]) -> dict[str, dict[str, object]]:
    """Derived values as plain data for a page or a report."""
    return {key: asdict(value) for key, value in values.items()}
