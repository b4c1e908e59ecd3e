"""numba's njit with all its options: `_nrt=False`, which keeps compiled code from counting references to
arrays, is missing from numba's own annotations. Only for functions that allocate nothing."""

from typing import Any

import numba

njit: Any = numba.njit
