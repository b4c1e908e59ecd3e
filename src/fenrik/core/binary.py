"""Large arrays as one blob: what the browser reads. Little-endian, every array on 8 bytes.

Layout: 8 bytes ``FNBIN1\\0\\0``; u32 length of the header; the header as JSON, padded with spaces so
that the arrays start on 8 bytes; the arrays. The header has ``head`` (free) and ``arrays``: name,
dtype (numpy's name), shape, offset from the start of the blob.
"""

from __future__ import annotations

import json
import struct
from typing import Any

import numpy as np
from numpy.typing import NDArray

MAGIC = b"FNBIN1\0\0"


def pack(head: dict[str, Any], arrays: dict[str, NDArray[Any]]) -> bytes:
    """The blob of a header and named arrays."""
    listed = [(n, np.ascontiguousarray(a).astype(a.dtype.newbyteorder("<"))) for n, a in arrays.items()]

    def header(start: int) -> bytes:
        at, rows = start, []
        for name, array in listed:
            rows.append({"name": name, "dtype": array.dtype.name, "shape": list(array.shape), "offset": at})
            at += array.nbytes + (-array.nbytes) % 8
        return json.dumps({"head": head, "arrays": rows}).encode()

    # offsets have up to ten digits: reserve for them, then pad to a fixed start
    size = len(header(9_999_999_999))
    start = 12 + size + (-(12 + size)) % 8
    text = header(start).ljust(start - 12)
    parts = [MAGIC, struct.pack("<I", len(text)), text]
    for _, array in listed:
        raw = array.tobytes()
        parts += [raw, b"\0" * (-len(raw) % 8)]
    return b"".join(parts)


def unpack(blob: bytes) -> tuple[dict[str, Any], dict[str, NDArray[Any]]]:
    """Header and arrays of a blob. Raises ValueError when the bytes are something else."""
    if blob[:8] != MAGIC:
        raise ValueError("expected a blob that starts with FNBIN1")
    (size,) = struct.unpack_from("<I", blob, 8)
    header = json.loads(blob[12 : 12 + size])
    arrays = {}
    for row in header["arrays"]:
        count = int(np.prod(row["shape"])) if row["shape"] else 1
        arrays[row["name"]] = np.frombuffer(blob, np.dtype(row["dtype"]), count, row["offset"]).reshape(
            row["shape"]
        )
    return header["head"], arrays
