"""Tools of every kind: their dimensions are checked by name, drawn true to scale, and their limits reach the
proposals."""

import re

import pytest
from pydantic import ValidationError

from fenrik.core.tooling.cutting_data import propose
from fenrik.core.tooling.drawing import outline, tool_svg
from fenrik.core.tooling.library import starting_library
from fenrik.core.tooling.materials import materials
from tests.conftest import make_tool


@pytest.mark.parametrize(
    ("kind", "values", "words"),
    [
        ("taper", {}, "the angle of the side is 0"),
        ("drill", {}, "the point angle is 0"),
        ("flat", {"taper_deg": 5}, "the angle of the side is 5 on a flat end mill"),
        ("flat", {"tip_diameter": 2}, "the flat at the tip is 2 on a flat end mill"),
        (
            "taper_ball",
            {"taper_deg": 5},
            "the corner radius is 0 on a tapered ball end mill; it must be between 0 and half",
        ),
        ("taper", {"taper_deg": 5, "tip_diameter": 8}, "leave no cone"),
        (
            "taper",
            {"taper_deg": 2, "tip_diameter": 4, "flute_length": 20},
            "reaches the diameter 57.273 mm up",
        ),
        ("lollipop", {"corner_radius": 4}, "shank diameter, 8, is no neck"),
        ("t_slot", {"shank_diameter": 9}, "shank diameter, 9, is no neck"),
    ],
)
def test_wrong_dimensions_are_refused_with_name_value_and_remedy(kind, values, words):
    with pytest.raises(ValidationError, match=re.escape(words)):
        make_tool(kind, 8.0, **values)


def test_every_tool_of_the_library_is_drawn_with_its_own_outline():
    """The drawn section of a cutter is as wide as its diameter and as high as its flutes (a lollipop: its
    ball)."""
    kinds = set()
    for tool in starting_library():
        cutter = outline(tool)[0][1]
        assert max(r for r, _ in cutter) == pytest.approx(tool.radius, rel=2e-4)
        top = tool.diameter if tool.kind == "lollipop" else tool.flute_length
        assert max(h for _, h in cutter) == pytest.approx(top)
        for r, h in cutter:
            if r > tool.profile.flat and tool.kind != "lollipop" and r < tool.radius - 1e-9 and h < top:
                assert h == pytest.approx(tool.profile.height(r), abs=1e-9)
        assert f"Drawing of tool {tool.number}" in tool_svg(tool)
        kinds.add(tool.kind)
    assert {"taper", "taper_ball", "chamfer", "drill", "lollipop", "t_slot"} <= kinds


def test_coating_and_limits_of_the_tool_reach_speed_and_feed():
    steel = next(m for m in materials().values() if m.group == "P")
    plain = propose(make_tool("flat", 8), steel, 100, 40_000, 20_000)
    coated = propose(make_tool("flat", 8, coating="nitride"), steel, 100, 40_000, 20_000)
    assert coated["spindle_rpm"].value == pytest.approx(1.2 * plain["spindle_rpm"].value, abs=10)
    assert "nitride coating" in coated["spindle_rpm"].formula
    held = propose(make_tool("flat", 8, rpm_max=2000, feed_per_tooth_max=0.01), steel, 100, 40_000, 20_000)
    assert held["spindle_rpm"].value == 2000
    assert "held to the tool's" in held["spindle_rpm"].formula
    assert held["feed_mm_min"].value == pytest.approx(2000 * 3 * 0.01)
