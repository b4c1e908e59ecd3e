"""Names of files: the one place that says which names are taken.

On the command line a document is its user's own, and its files may lie anywhere. In the web application
documents come from strangers: there a name is relative and plain, and nothing but the job's own files can be
found under it (`core.job.files.ListedFiles`).
"""

from __future__ import annotations

from pathlib import PurePosixPath

from fenrik.core.errors import InputError

MAX_NAME = 120
"""Most characters of a whole name."""
MAX_STEP = 80
"""Most characters of one folder's or the file's own name; with four bytes a character still under the 255 of
file systems."""
MAX_DEPTH = 6
REFUSED = frozenset('<>:"|?*\\')
"""Characters that some file system or shell gives a meaning of their own."""


def check_file_name(name: str, where: str = "") -> str:
    """The name, if it may be used for a file of a job: relative, without `.` and `..`, of printable
    characters, not longer than `MAX_NAME` and not deeper than `MAX_DEPTH` folders. Raises InputError that
    shows the name and the rule it breaks."""
    fault = _fault(name)
    if fault:
        shown = name if len(name) <= 60 else f"{name[:57]}..."
        raise InputError(
            f"The file name {shown!r} is not taken: {fault}.",
            remedy="Give the file a plain relative name, such as 'bracket.step' or 'models/bracket.step'.",
            where=where,
        )
    return name


def _fault(name: str) -> str:
    if not name:
        return "it is empty"
    if len(name) > MAX_NAME:
        return f"it has {len(name)} characters, at most {MAX_NAME} are taken"
    if not name.isprintable():
        return "it has characters that cannot be printed"
    refused = sorted(set(name) & REFUSED)
    if refused:
        return f"it has the character {refused[0]!r}"
    if name.startswith("/"):
        return "it is absolute"
    steps = name.split("/")
    if len(steps) > MAX_DEPTH:
        return f"it lies {len(steps) - 1} folders deep, at most {MAX_DEPTH - 1} are taken"
    for step in steps:
        if step in ("", ".", ".."):
            return f"a step of it is {step!r}" if step else "it has an empty step ('//')"
        if len(step) > MAX_STEP or len(step.encode()) > 255:
            return f"the step '{step[:20]}...' has {len(step)} characters, at most {MAX_STEP} are taken"
        if step != step.strip() or step.endswith("."):
            return "a step of it begins or ends with a blank, or ends with a full stop"
    return ""


def plain_file_name(given: str, otherwise: str = "model") -> str:
    """The last step of a name as a browser or an archive gives it (either slash), checked. Raises
    InputError."""
    last = PurePosixPath(given.replace("\\", "/")).name.strip()
    return check_file_name(last or otherwise)
