"""A dimensioned drawing of an assembly, true to scale, as SVG."""

from __future__ import annotations

import math

from fenrik.core.tooling.assembly import TOOTH_TIP, Assembly
from fenrik.core.units import format_length


def outline(assembly: Assembly) -> list[tuple[str, list[tuple[float, float]]]]:
    """Half sections (role, [(radius, height over the tip)]) of cutter, shank and holder, mm."""
    parts = [("cutter", _cutter(assembly))]
    half = assembly.shank_diameter / 2
    if assembly.stick_out > assembly.flute_length:
        low, high = assembly.flute_length, assembly.stick_out
        parts.append(("shank", [(0.0, low), (half, low), (half, high), (0.0, high)]))
    at = assembly.stick_out
    for segment in assembly.holder:
        low_r, high_r = segment.diameter_low / 2, segment.diameter_high / 2
        top = at + segment.length
        parts.append(("holder", [(0.0, at), (low_r, at), (high_r, top), (0.0, top)]))
        at = top
    return parts


def _cutter(assembly: Assembly) -> list[tuple[float, float]]:
    r, top = assembly.radius, assembly.flute_length
    if assembly.kind == "lollipop":
        neck = math.asin(min(1.0, assembly.shank_diameter / assembly.diameter))
        angles = [(math.pi - neck) * i / 40 for i in range(41)]
        return [(r * math.sin(a), r - r * math.cos(a)) for a in angles] + [(0.0, 2 * r)]
    if assembly.kind == "thread_mill":
        return [
            (0.0, 0.0),
            (assembly.core_radius, 0.0),
            *_teeth(assembly),
            (assembly.core_radius, top),
            (0.0, top),
        ]
    profile = assembly.profile
    arc = [
        (profile.flat + profile.corner * math.sin(a), profile.corner * (1.0 - math.cos(a)))
        for a in (profile.steepness * i / 16 for i in range(17))
    ]
    return [(0.0, 0.0), *arc, (r, profile.height(r)), (r, top), (0.0, top)]


def _teeth(assembly: Assembly) -> list[tuple[float, float]]:
    """Section of a thread mill's teeth from the tip up."""
    core, r, pitch = assembly.core_radius, assembly.radius, float(assembly.thread_pitch or 0.0)
    half = TOOTH_TIP / 2 * pitch
    foot = half + (r - core) * math.tan(math.radians(30.0))
    out = []
    for i in range(assembly.thread_rows):
        at = (i + 0.5) * pitch
        out += [(core, at - foot), (r, at - half), (r, at + half), (core, at + foot)]
    return out


_FILL = {"cutter": "#d9a441", "shank": "#c9ced3", "holder": "#9aa5ae"}


def tool_svg(assembly: Assembly, unit: str = "mm", height_px: int = 360) -> str:
    """The drawing: profile with centre line, and dimensions of diameter, corner, flutes, stick-out."""
    parts = outline(assembly)
    top = assembly.gauge_length
    widest = max(x for _, line in parts for x, _ in line)
    scale = (height_px - 56) / top
    middle = widest * scale + 76
    width = middle + widest * scale + 84
    base = height_px - 34

    def y(h: float) -> float:
        return base - h * scale

    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width:.0f} {height_px}" width="{width:.0f}"'
        f' height="{height_px}" role="img" aria-label="Drawing of tool {assembly.number}"'
        ' font-family="inherit" font-size="11">'
    ]
    for role, line in parts:
        right = " ".join(f"{middle + x * scale:.2f},{y(h):.2f}" for x, h in line)
        left = " ".join(f"{middle - x * scale:.2f},{y(h):.2f}" for x, h in reversed(line))
        out.append(
            f'<polygon points="{right} {left}" fill="{_FILL[role]}" stroke="#26323a" stroke-width="1" '
            'stroke-linejoin="round"/>'
        )
    out.append(
        f'<line x1="{middle:.1f}" x2="{middle:.1f}" y1="{y(top) - 10:.1f}" y2="{base + 8:.1f}" '
        'stroke="#26323a"'
        ' stroke-width="0.7" stroke-dasharray="10 3 2 3"/>'
    )

    def length(value: float) -> str:
        return format_length(value, unit)

    levels = [(assembly.flute_length, "flutes"), (assembly.stick_out, "stick-out"), (top, "gauge length")]
    for i, (value, word) in enumerate(levels):
        x = middle - widest * scale - 14 - i * 22
        out.append(_dimension(x, y(0), y(value), middle - assembly.radius * scale, f"{length(value)} {word}"))
    half = assembly.radius * scale
    out.append(
        f'<path d="M{middle - half:.1f} {base + 4} v12 M{middle + half:.1f} {base + 4} v12 '
        f"M{middle - half:.1f} {base + 12}"
        f' h{2 * half:.1f}" stroke="#26323a" fill="none" stroke-width="0.8"/>'
        f'<text x="{middle:.1f}" y="{base + 28}" text-anchor="middle" '
        f'fill="currentColor">Ø{length(assembly.diameter)}</text>'
    )
    words = [f"R{length(assembly.corner_radius)}"] if assembly.corner_radius > 0 else []
    if assembly.tip_diameter > 0:
        words.append(f"tip Ø{length(assembly.tip_diameter)}")
    if assembly.profile.tapered:
        words.append(f"{assembly.taper_deg or assembly.point_deg:g}°")
    if assembly.thread_pitch is not None:
        words.append(f"pitch {length(assembly.thread_pitch)}")
    for i, word in enumerate(words):
        out.append(
            f'<text x="{middle + half + 10:.1f}" y="{base - 2 - 14 * i:.1f}" '
            f'fill="currentColor">{word}</text>'
        )
    out.append("</svg>")
    return "".join(out)


def _dimension(x: float, y0: float, y1: float, to: float, words: str) -> str:
    """An upright dimension line at x from y0 up to y1 with its words along it."""
    middle = (y0 + y1) / 2
    return (
        f'<path d="M{x:.1f} {y0:.1f} V{y1:.1f} M{x - 3:.1f} {y0:.1f} H{to:.1f} M{x - 3:.1f} {y1:.1f} '
        f'H{to:.1f}"'
        ' stroke="#26323a" stroke-width="0.5" fill="none"/>'
        f'<text transform="translate({x - 3:.1f} {middle:.1f}) rotate(-90)" text-anchor="middle" '
        f'fill="currentColor">{words}</text>'
    )
