"""Values from outside the project, each with its source beside it."""

import math

import numpy as np
import pytest

from fenrik.core.machines.library import machine
from fenrik.core.machines.time import move_times, trapezoid_times
from fenrik.core.motion.program_motion import ProgramMotion
from fenrik.core.posting.reading.readback import Reader
from fenrik.core.tooling import cutting_data as cd
from fenrik.core.tooling.library import starting_library
from fenrik.core.tooling.materials import materials


def test_quarter_inch_mill_in_4140():
    """Common practice, no source: 1/4 in, 3 flutes, 3300 rpm, 14.8 in/min: 216 ft/min, 0.0015 in a tooth."""
    feet = cd.cutting_speed_m_min(3300, 6.35) / 0.3048
    assert feet == pytest.approx(216, abs=0.5)
    assert cd.table_feed(3300, 3, 0.0015 * 25.4) / 25.4 == pytest.approx(14.85, abs=0.06)


def test_speed_and_feed_relations():
    """ISO 3002-3 (relations from memory): vc = pi D n / 1000, vf = n z fz."""
    assert cd.spindle_rpm(100, 10) == pytest.approx(3183.1, abs=0.05)
    assert cd.cutting_speed_m_min(cd.spindle_rpm(123.4, 8), 8) == pytest.approx(123.4)
    assert cd.table_feed(3000, 4, 0.05) == pytest.approx(600)


def test_cusp_height_of_a_ball():
    """Geometry: R 3, s 0.25 gives 0.0026 mm; and back."""
    assert cd.cusp_height(3, 0.25) == pytest.approx(0.0026, abs=5e-5)
    assert cd.stepover_for_cusp(3, cd.cusp_height(3, 0.25)) == pytest.approx(0.25)


def test_engagement_and_chip():
    """Geometry; Martellotti 1941 (from memory): at ae = D/2 a quarter turn and the chip equals fz."""
    assert cd.engagement_angle(5, 10) == pytest.approx(math.pi / 2)
    assert cd.engagement_angle(10, 10) == pytest.approx(math.pi)
    assert cd.largest_chip(0.1, 1, 10) == pytest.approx(2 * 0.1 * math.sqrt(0.1 - 0.01))
    assert cd.largest_chip(0.1, 5, 10) == pytest.approx(0.1)


def test_power_by_kienzle():
    """Kienzle 1952 (from memory): at h = 1 mm, kc is kc1.1; 100 cm³/min at 1780 N/mm² take 2.97 kW."""
    steel = materials()["steel_unalloyed"]
    assert cd.cutting_power_kw(100, 1.0, steel) == pytest.approx(100 * steel.kc11 / 60000)
    assert cd.removal_rate(5, 10, 600) == pytest.approx(30)


def engaged(width, depth, power=100.0, feed_max=20_000.0, material="aluminium_wrought"):
    tool = next(t for t in starting_library() if t.number == 3)
    base = cd.Derived(1000.0, "mm/min", "from material and tool", "vf")
    return cd.engaged_feed(base, tool, materials()[material], 5000.0, width, depth, feed_max, power), tool


def test_thin_chips_raise_the_feed_so_that_the_largest_chip_stays():
    """Martellotti 1941 (from memory): at ae = 20 % of D the feed for the same largest chip is 1.25 times as
    great, at half and more it is the same; the rise is bounded."""
    wide, tool = engaged(6.0, 2.0)
    assert wide.value == 1000.0
    narrow, _ = engaged(0.2 * tool.diameter, 2.0)
    assert narrow.value == pytest.approx(1250.0)
    per_tooth = narrow.value / (5000.0 * tool.teeth)
    assert cd.largest_chip(per_tooth, 0.2 * tool.diameter, tool.diameter) == pytest.approx(
        1000.0 / (5000.0 * tool.teeth)
    )
    assert "1.25" in narrow.formula
    assert engaged(0.01, 2.0)[0].value == cd.MOST_THINNING * 1000.0


def test_a_proposed_feed_stays_within_the_spindle_and_the_machine():
    """Kienzle 1952 (from memory): the power at the held feed is the share of the spindle's that may be
    used."""
    held, tool = engaged(6.0, 20.0, power=1.0, material="steel_unalloyed")
    steel = materials()["steel_unalloyed"]
    chip = cd.mean_chip(held.value / (5000.0 * tool.teeth), 6.0, tool.diameter)
    power = cd.cutting_power_kw(cd.removal_rate(20.0, 6.0, held.value), chip, steel)
    assert power == pytest.approx(cd.POWER_SHARE * 1.0, rel=0.01)
    assert held.value < 1000.0 and "spindle" in held.formula
    assert engaged(0.6, 2.0, feed_max=1100.0)[0].value == 1100.0


def test_bold_and_cautious_lie_on_both_sides_of_the_middle():
    tool, aluminium = next(t for t in starting_library() if t.number == 3), materials()["aluminium_wrought"]
    mild, middle, bold = (cd.propose(tool, aluminium, 50, 60_000, 20_000, b) for b in (0.0, 0.5, 1.0))
    for key in ("spindle_rpm", "feed_mm_min", "step_down", "stepover"):
        assert mild[key].value < middle[key].value < bold[key].value
    assert "cautious" in mild["feed_mm_min"].formula and "bold" in bold["feed_mm_min"].formula


@pytest.mark.parametrize("tool", starting_library(), ids=lambda t: t.name)
@pytest.mark.parametrize("material", materials().values(), ids=lambda m: m.id)
def test_proposals_stay_within_the_machine_and_explain_themselves(tool, material):
    mill = machine("column_mill_500")
    data = cd.propose(tool, material, *mill.spindle_rpm, mill.feed_max_mm_min)
    assert mill.spindle_rpm[0] <= data["spindle_rpm"].value <= mill.spindle_rpm[1]
    assert 0 < data["feed_mm_min"].value <= mill.feed_max_mm_min
    assert 0 < data["step_down"].value <= tool.flute_length
    assert all(d.formula and d.origin for d in data.values())


@pytest.mark.parametrize(("d", "v", "a"), [(100, 50, 1000), (0.5, 50, 1000), (2.5, 50, 1000), (400, 10, 300)])
def test_trapezoidal_motion(d, v, a):
    """Kinematics: t = d/v + v/a for d >= v²/a, else 2 sqrt(d/a)."""
    expected = d / v + v / a if d >= v * v / a else 2 * math.sqrt(d / a)
    got = trapezoid_times(np.array([d]), np.array([[1.0, 0, 0]]), np.array([v]), np.array([float(a)]), 0.01)
    assert got[0] == pytest.approx(expected, rel=1e-12)


def test_a_straight_line_in_pieces_takes_as_long_as_whole():
    """Kinematics: no corner, no slowing down."""
    n = 50
    one = trapezoid_times(
        np.array([100.0]), np.array([[1.0, 0, 0]]), np.array([80.0]), np.array([900.0]), 0.01
    )
    many = trapezoid_times(
        np.full(n, 2.0), np.tile([1.0, 0, 0], (n, 1)), np.full(n, 80.0), np.full(n, 900.0), 0.01
    )
    assert many.sum() == pytest.approx(one.sum(), rel=1e-9)


def test_reversal_stops_and_a_corner_slows_down():
    """Kinematics: there and back takes twice one way; a right-angled corner lies between."""

    def time(second):
        directions = np.array([[1.0, 0, 0], second])
        return trapezoid_times(
            np.full(2, 10.0), directions, np.full(2, 100.0), np.full(2, 2000.0), 0.02
        ).sum()

    alone = trapezoid_times(
        np.array([10.0]), np.array([[1.0, 0, 0]]), np.array([100.0]), np.array([2000.0]), 0.02
    )
    assert time([-1.0, 0, 0]) == pytest.approx(2 * alone[0], rel=1e-9)
    assert time([1.0, 0, 0]) < time([0, 1.0, 0]) < time([-1.0, 0, 0])


def test_rapid_is_limited_by_the_slowest_axis():
    mill = machine("column_mill_500")  # Z rapids at 18 m/min, 2.5 m/s²
    table = read("G0 X0 Y0\nZ0\nZ-1000\n")
    v, a = 18000 / 60, 2500.0
    assert move_times(table, mill).sum() == pytest.approx(1100 / v + v / a, rel=1e-9)  # no stop between


def read(body: str) -> ProgramMotion:
    return Reader(100.0).read(f"G21 G90 G17 G94\nT1 M6\nS1000 M3\n{body}M30\n")


def test_arcs_by_centre_counter_clockwise_and_clockwise():
    """ISO 6983-1:2009 (from memory): G3 counter-clockwise, G2 clockwise, I J from the start point."""
    table = read("G0 X10 Y0\nG1 Z0 F100\nG3 X0 Y10 I-10 J0\nG2 X10 Y0 I0 J-10\nG2 X10 Y0 I-10 J0\n")
    assert table.moves.sweeps()[-3:] == pytest.approx([math.pi / 2, math.pi / 2, 2 * math.pi])
    assert table.turn[-3:].tolist() == [1, -1, -1]
    assert table.moves.lengths()[-1] == pytest.approx(20 * math.pi)
    pieces, owner = table.straightened(0.001)
    last = pieces[owner == len(table) - 1]
    assert np.hypot(last[:, 0], last[:, 1]) == pytest.approx(10.0, abs=1e-9)


def test_arcs_by_radius_short_and_long_way():
    """ISO 6983-1:2009 (from memory): R positive up to half a turn, negative beyond."""
    table = read("G0 X10 Y0\nG1 Z0 F100\nG3 X0 Y10 R10\nG0 X10 Y0\nG3 X0 Y10 R-10\n")
    assert table.centre[1] == pytest.approx([0, 0], abs=1e-9)
    assert table.centre[-1] == pytest.approx([10, 10], abs=1e-9)
    assert table.moves.sweeps()[-1] == pytest.approx(1.5 * math.pi)


def test_helix_length():
    table = read("G0 X10 Y0\nG1 Z0 F100\nG3 X-10 Y0 Z-3 I-10 J0\n")
    assert table.moves.lengths()[-1] == pytest.approx(math.hypot(10 * math.pi, 3))


def test_inch_and_incremental():
    """ISO 6983-1:2009 (from memory): G20 inch, G91 incremental; 25.4 mm an inch, exactly."""
    table = Reader(100.0).read("G20 G90 G17 G94\nT1 M6\nS900 M3\nG0 X1 Y1\nZ0\nG91 G1 X0.5 F10\nM30\n")
    assert table.tip[-1] == pytest.approx([38.1, 25.4, 0.0])
    assert table.feed[-1] == pytest.approx(254.0)
