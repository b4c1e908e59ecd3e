"""The ruled faces that an operation works by the side of its tool, brought into its side's frame."""

from __future__ import annotations

import numpy as np

from fenrik.core.errors import ComputeError, DocumentError
from fenrik.core.job.document.picks import WallPick
from fenrik.core.model.part_model import PartModel
from fenrik.core.setups.setup import Clamped
from fenrik.core.strategies.base import RuledFace


def ruled_faces(picks: list[WallPick], part: PartModel, clamped: Clamped, where: str) -> list[RuledFace]:
    """The picked faces as their straight lines, and so for every part of an array. Raises DocumentError for
    a pick that is no face of the part, and for a face that is not ruled."""
    if part.brep is None:
        raise DocumentError(
            f"'{part.name}' is a mesh, whose faces have no straight lines to follow.",
            remedy="Use a model with exact surfaces, or finish the wall as a surface.",
            where=where,
        )
    from fenrik.core.model import brep
    from fenrik.core.model.rulings import rulings_of

    shapes = brep.faces_of(brep.from_bytes(part.brep))
    up = clamped.setup_from_part[2, :3]
    out: list[RuledFace] = []
    for i, pick in enumerate(picks):
        at = f"{where}[{i}]"
        if pick.face is None or pick.face > len(shapes):
            raise DocumentError(
                "A wall for the side of the tool is a face."
                if pick.face is None
                else f"Face {pick.face} does not exist: the part has {len(shapes)} faces.",
                remedy="Pick the face again.",
                where=at,
            )
        try:
            found = rulings_of(shapes[pick.face - 1], np.asarray(up))
        except ComputeError as error:
            raise DocumentError(f"Face {pick.face} {error.what}.", remedy=error.remedy, where=at) from error
        out += [RuledFace(f"face {pick.face}", found.moved(p).upwards()) for p in clamped.places]
    return out
