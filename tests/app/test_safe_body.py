"""What a page is told of the body about all that turns."""

import numpy as np
import pytest

from fenrik.app.states import _body
from fenrik.core.job.setups.safe_body import SafeBody


def test_the_ends_of_a_leaning_axis_are_told_as_they_are():
    """Lowest and highest corners of a box about the axis would be those of another line."""
    body = SafeBody(np.array([0.0, -70.0, -371.0]), np.array([10.0, 175.5, -400.5]), 250.0, 80.0)
    told = _body(body)
    assert told.low == pytest.approx((0.0, -70.0, -371.0))
    assert told.high == pytest.approx((10.0, 175.5, -400.5))
