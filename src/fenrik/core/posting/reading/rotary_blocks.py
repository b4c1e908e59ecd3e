"""What a control with rotary joints does in a block that names them: it turns them, alone or on the way of a
cut, tilts the plane (G68.2, G53.1, G69), or keeps the tool's point (G43.4)."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from fenrik.core.posting.reading.blocks import Block
from fenrik.core.posting.reading.rotary_control import SQUARE_DEG, RotaryControl

if TYPE_CHECKING:
    from fenrik.core.posting.reading.readback import Reader


def tilts_or_turns(reader: Reader, control: RotaryControl, block: Block) -> bool:
    """Rotary joints, the tilted plane and the tool's point kept. Whether the block does nothing else."""
    code, once = block.codes.get("tilted plane"), block.codes.get("once")
    given = {letter: block.values[letter] for letter in control.letters if letter in block.values}
    places = block.gives("XYZ")
    # while a lathe works, a block of C alone is a way round the spindle's axis
    round_axis = bool(given) and control.on.machine.is_lathe and not reader.up
    turns = given and (places or control.point or round_axis)
    if not (code or once) and (turns or (control.point and places)):
        _drive(reader, control, block, given)
        return True
    if not (code or given or once == 53.1):
        return False
    if (given and (code or once)) or reader.cycle != 80 or reader.correction is not None:
        raise block.wrong("does more at once than a control can")
    if once == 53.1:
        if control.plane is None:
            raise block.wrong("sets the tool square to a tilted plane that is not there")
        off = control.off_square()
        if off > SQUARE_DEG:
            reader.findings.append(
                (block.number, f"turns the tool by {off:.3f}° that no rotary word told before")
            )
    elif code == 68.2:
        _tilt(reader, control, block)
    elif code == 69:
        if control.plane is not None:
            here = np.array([math.nan if v is None else v for v in reader.position])
            reader.position = [float(v) for v in control.out_of_plane(here)]
            control.plane = None
    else:
        _turn(reader, control, block, given)
    return True


def _tilt(reader: Reader, control: RotaryControl, block: Block) -> None:
    if any(v is None for v in reader.position) or not control.known():
        raise block.wrong("tilts the plane while the machine's position is not known")
    if control.plane is not None:
        raise block.wrong("tilts a plane that is tilted already")
    words = np.array(reader.position, dtype=np.float64)
    origin = np.array([block.values.get(a, 0.0) * reader.scale for a in "XYZ"])
    control.tilt(origin, np.array([block.values.get(a, 0.0) for a in "IJK"]))
    reader.position = [float(v) for v in control.into_plane(words)]


def _drive(reader: Reader, control: RotaryControl, block: Block, given: dict[str, float]) -> None:
    """A move on which rotary joints turn as well, or with the tool's point kept."""
    reader.motion = int(block.codes.get("motion", reader.motion))
    if reader.motion not in (0, 1) or reader.cycle != 80 or reader.correction is not None:
        raise block.wrong("turns rotary joints on an arc, in a cycle or with G41 or G42")
    if control.plane is not None or not reader.absolute:
        raise block.wrong("turns rotary joints in a tilted plane or by steps (G91)")
    if any(v is None for v in reader.position) or not control.known():
        raise block.wrong("turns rotary joints while it moves from an unknown place")
    if reader.inverse and reader.motion == 1 and "F" not in block.values:
        raise block.wrong("has no F, which every block has under G93")
    reader.check_state(block, "Z" in block.values)
    _check_brakes(reader, control, block, given)
    start = [float(v) for v in reader.position if v is not None]
    end = [
        reader.along(a, block.values[a]) if a in block.values else here
        for a, here in zip("XYZ", start, strict=True)
    ]
    feed = 0.0 if reader.motion == 0 else float(reader.feed or 0.0)
    control.drive(given, (np.array(start), np.array(end)), feed, reader.inverse)
    reader.rows.append(reader.row_of(start, end, block, feed))
    reader.position, reader.up = list(end), False


def _check_brakes(reader: Reader, control: RotaryControl, block: Block, given: dict[str, float]) -> None:
    letter = control.under_brake(given)
    if letter is not None:
        reader.findings.append((block.number, f"turns {letter}, which its brake holds (M10)"))


def _turn(reader: Reader, control: RotaryControl, block: Block, given: dict[str, float]) -> None:
    reader.motion = int(block.codes.get("motion", reader.motion))
    if reader.motion != 0 or block.gives("XYZIJKR"):
        raise block.wrong("turns rotary joints on the way of a cut, or together with X, Y or Z")
    if control.plane is not None:
        raise block.wrong("turns rotary joints in a tilted plane")
    if not reader.absolute:
        raise block.wrong("turns rotary joints by steps (G91)")
    _check_brakes(reader, control, block, given)
    known = all(v is not None for v in reader.position)
    words: NDArray[np.float64] | None = np.array(reader.position, dtype=np.float64) if known else None
    if control.turn(given, words):
        here = [float(v) for v in reader.position if v is not None]
        reader.rows.append(reader.row_of(here, here, block))
