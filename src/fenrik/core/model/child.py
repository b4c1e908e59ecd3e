"""Reads an untrusted model file in a process of its own, with limits on memory and time.

A crash or a run-away of the geometry library ends that process only and comes back as a FileError.
"""

from __future__ import annotations

import json
import resource
import subprocess
import sys
import tempfile
from pathlib import Path

from fenrik.core.errors import FenrikError, FileError
from fenrik.core.model.part_model import PartModel

MEMORY_BYTES = 8 * 1024**3
SECONDS = 240


def read_in_child(path: Path, name: str, solid: int | None, scale: float, heal: bool) -> PartModel:
    """As `read_model`, in a child process. Raises FileError, also when the child crashes or takes too long."""
    with tempfile.TemporaryDirectory(prefix="fenrik-read-") as folder:
        out = Path(folder) / "part.npz"
        order = json.dumps(
            {"path": str(path), "name": name, "solid": solid, "scale": scale, "heal": heal, "out": str(out)}
        )
        try:
            done = subprocess.run(
                [sys.executable, "-m", "fenrik.core.model.child"],
                input=order, capture_output=True, text=True, timeout=SECONDS, check=False,
            )  # fmt: skip
        except subprocess.TimeoutExpired as error:
            raise FileError(
                f"Reading '{name}' took more than {SECONDS} s and was stopped.",
                remedy="Export the part alone, or simpler.",
            ) from error
        if done.returncode == 0 and out.is_file():
            return PartModel.from_bytes(out.read_bytes())
        for line in reversed(done.stdout.splitlines()):
            if line.startswith("{"):
                fault = json.loads(line)
                raise FileError(fault["what"], remedy=fault["remedy"], where=fault["where"])
        raise FileError(
            f"Reading '{name}' crashed the geometry library (exit {done.returncode}).",
            remedy="Export the model again, in another version of STEP if you can.",
        )


def _main() -> int:
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    order = json.loads(sys.stdin.read())
    from fenrik.core.model.reading import read_model

    try:
        part = read_model(Path(order["path"]), order["name"], order["solid"], order["scale"], order["heal"])
    except FenrikError as error:
        print(json.dumps(error.as_dict()))
        return 1
    except MemoryError:
        print(
            json.dumps(
                {"what": f"'{order['name']}' needs too much memory.", "remedy": "Simplify it.", "where": ""}
            )
        )
        return 1
    Path(order["out"]).write_bytes(part.to_bytes())
    return 0


if __name__ == "__main__":
    raise SystemExit(_main())
