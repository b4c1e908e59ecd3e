"""Pieces of stock that are cut off, against a labelling of the same stock as voxels (scipy.ndimage)."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import label

from fenrik.core.proof.loose import loose_findings, pieces_of
from fenrik.core.stock.dexels import Stock, tool_bodies
from tests.conftest import make_tool

LOW, HIGH = np.array([0.0, 0.0, 0.0]), np.array([40.0, 30.0, 10.0])
MILL = tool_bodies(make_tool("flat", 4, flute_length=40, stick_out=60))


def cut(stock, *ways):
    pieces = np.array([[*a, *b] for a, b in ways], dtype=np.float64)
    stock.cut(pieces, MILL, np.zeros(len(pieces), dtype=np.bool_))
    return stock


def test_a_corner_that_is_cut_off_is_told_with_its_size():
    """A kerf of 4 mm from edge to edge leaves the corner 0 to 8 by 0 to 8 of the blank: 640 mm³."""
    stock = cut(Stock.of_box(LOW, HIGH, 0.5), ((10, -5, 0), (10, 10, 0)), ((10, 10, 0), (-5, 10, 0)))
    whole, corner = pieces_of(stock)[:2]
    assert corner.volume == pytest.approx(640.0, rel=0.02) and whole.volume > 5 * corner.volume
    (found,) = loose_findings(stock)
    assert found.severity == "caution" and "8.0 x 8.0 x 10.0" in found.words
    assert found.place == pytest.approx((4.0, 4.0, 5.0), abs=0.3)


def test_a_web_holds_what_is_cut_all_round_but_for_it():
    stock = cut(Stock.of_box(LOW, HIGH, 0.5), ((10, -5, 1), (10, 10, 1)), ((10, 10, 1), (-5, 10, 1)))
    assert loose_findings(stock) == []


@settings(max_examples=25, deadline=None)
@given(
    st.lists(
        st.tuples(st.integers(0, 19), st.integers(0, 14), st.integers(0, 4), st.integers(0, 1)), max_size=14
    )
)
def test_pieces_are_those_of_the_voxels(ways):
    """Straight kerfs along the axes on a grid of 2 mm cells, so that voxels are exact."""
    stock, solid = Stock.of_box(LOW, HIGH, 1.0), np.ones((20, 15, 5), dtype=bool)
    narrow = tool_bodies(make_tool("flat", 2, flute_length=40, stick_out=60))
    for x, y, z, along in ways:
        a = (2.0 * x + 1.0, -5.0, 2.0 * z) if along else (-5.0, 2.0 * y + 1.0, 2.0 * z)
        b = (2.0 * x + 1.0, 35.0, 2.0 * z) if along else (45.0, 2.0 * y + 1.0, 2.0 * z)
        stock.cut(np.array([[*a, *b]]), narrow, np.zeros(1, dtype=np.bool_))
        solid[(x, slice(None), slice(z, None)) if along else (slice(None), y, slice(z, None))] = False
    labels, count = label(solid)
    sizes = sorted((8.0 * np.bincount(labels.ravel())[1:]).tolist(), reverse=True) if count else []
    ours = [p.volume for p in pieces_of(stock)] if count else []
    assert ours == pytest.approx(sizes[: len(ours)], rel=1e-3)
    assert len(ours) == min(len(sizes), 4)
