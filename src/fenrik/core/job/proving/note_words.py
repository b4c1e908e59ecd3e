"""What strategies and planning note about a path, in words: what happened, and what to do."""

from __future__ import annotations

from typing import Any


def words_of(note: dict[str, Any], name: str) -> tuple[str, str] | None:
    """What happened and what to do, for notes that have a place."""
    at = f"({note['x']:.2f}, {note['y']:.2f})" if "x" in note else ""
    if note.get("kind") == "narrow":
        room = f"its tool has only {note['room']:.2f} mm room to each side there"
        return f"'{name}' leaves the ground at {at}: {room}.", "Use a smaller tool there."
    if note.get("kind") == "left":
        area = f"{note['area_mm2']:.1f} mm² that no pass reaches within the engagement"
        return (
            f"'{name}' leaves {area} at Z {note['z']:.2f} near {at}.",
            "Clear the rest with a smaller tool.",
        )
    if note.get("kind") == "slot":
        words = f"'{name}' enters at {at} on a helix of only {note['helix']:.2f} mm: the tool cuts over its whole width"
        return f"{words}, at the entry feed.", "Predrill there or use a smaller tool."
    if note.get("kind") == "short":
        done = {"trim": "is left out", "raise": "is lifted", "leave": "is kept as it is"}[note["when"]]
        words = f"The {note['part']} of the tool of '{name}' would touch the {note['against']} at {at}"
        words += f", by {note['lack']:.2f} mm"
        what = f"{words}: {100 * note['share']:.1f} % of its way {done}."
        if note["part"] == "holder":
            return what, f"A stick-out of {note['stick_out']:g} mm would do."
        return what, f"Flutes longer by {note['lack']:.2f} mm or a thinner shank would do."
    if note.get("kind") == "wall_left":
        return (
            f"'{name}' leaves {note['wall']} and what ends with it at Z {note['z']:.2f} near {at}: its tool does not fit.",
            "Use a smaller tool there.",
        )
    if note.get("kind") == "edge_left":
        return (
            f"'{name}' leaves edges at Z {note['z']:.2f} near {at}: its tool would touch another wall there.",
            "Use a smaller tool there, or break them by hand.",
        )
    if note.get("kind") == "adapted":
        before, after = float(note["before_s"]), float(note["after_s"])
        least, most = note["least_mm_min"], note["most_mm_min"]
        words = f"The feed of '{name}' follows the measured engagement, {least:.0f} to {most:.0f} mm/min"
        return f"{words}: its cutting moves take {after / 60:.1f} instead of {before / 60:.1f} min.", ""
    if note.get("kind") == "repeated" and note["mirrored"]:
        return f"'{name}' runs the other way round in its mirror, so that it cuts in the same sense.", ""
    if note.get("kind") == "air" and note["share"] > note["wanted"]:
        words = f"{100 * note['share']:.0f} % of the cutting moves of '{name}' go through air"
        return (
            f"{words}; {100 * note['wanted']:.0f} % were asked for.",
            "Raise 'thinnest' or the share allowed.",
        )
    return None
