"""The blob that both sides read; the golden file is also read by the front end's tests."""

import numpy as np
import pytest

from fenrik.core.binary import pack, unpack
from tests.conftest import NASTY

GOLDEN = (
    {"name": "golden", "count": 3},
    {
        "lengths": np.array([1.5, -2.25, 1000.125], dtype=np.float32),
        "ids": np.array([7, -1, 2147483647], dtype=np.int32),
        "flags": np.array([1, 0, 1, 1, 0], dtype=np.uint8),
    },
)


def test_golden_file_is_what_is_packed_today():
    assert (NASTY / "golden.bin").read_bytes() == pack(*GOLDEN)


def test_unpacking_gives_back_what_was_packed():
    head, arrays = unpack(pack(*GOLDEN))
    assert head == GOLDEN[0]
    for name, array in GOLDEN[1].items():
        assert (arrays[name] == array).all() and arrays[name].dtype == array.dtype
    with pytest.raises(ValueError, match="FNBIN1"):
        unpack(b"something else")
