"""The tree of errors.

FenrikError
├── InputError        what was given is wrong: a file, a document, a value
│   ├── FileError     a model file that cannot be used
│   └── DocumentError a job document that breaks its schema or its rules
├── ComputeError      a computation that cannot be finished with these inputs
├── NotYet            what follows from a computation that has not been made yet
├── PostError         a program that cannot be written or read back
├── Cancelled         the user or the worker stopped it
└── ApplicationError  a rule of the application (unknown job, edited meanwhile)

Collisions, overtravel and gouges are findings of the proof, never exceptions.
Every message says what is wrong, where, and what to do.
"""

from __future__ import annotations

from typing import Any


class FenrikError(Exception):
    """Base of all errors that are meant to be read by a user.

    `what` names the thing and its value, `remedy` says what to do, `where` is a path into the job document or
    a file name. `code` is stable and is what other floors translate. `offer` is a change to the operation
    there that would work, as plain data: `tool_at_most` (a diameter mm), `set` (its fields) or `parameters`.
    `rule` is what a value must be, without its name ("must be above 0"), where it is beyond its bounds.
    """

    code = "error"

    def __init__(
        self,
        what: str,
        *,
        remedy: str = "",
        where: str = "",
        offer: dict[str, Any] | None = None,
        rule: str = "",
    ) -> None:
        self.what = what
        self.rule = rule
        self.remedy = remedy
        self.offer = offer
        self.where = where
        super().__init__(self.message)

    @property
    def message(self) -> str:
        """One sentence or two: where, what, remedy."""
        head = f"{self.where}: {self.what}" if self.where else self.what
        return f"{head} {self.remedy}".strip()

    def as_dict(self) -> dict[str, Any]:
        """The error as plain data for a page, a report or a queue."""
        plain: dict[str, Any] = {
            "code": self.code,
            "what": self.what,
            "remedy": self.remedy,
            "where": self.where,
        }
        given = {"offer": self.offer, "rule": self.rule or None}
        return plain | {k: v for k, v in given.items() if v is not None}


class InputError(FenrikError):
    """What was given cannot be used."""

    code = "input"


class FileError(InputError):
    """A model file that cannot be used."""

    code = "file"


class DocumentError(InputError):
    """A job document that breaks its schema or its rules; `where` is the path in the document."""

    code = "document"


class ComputeError(FenrikError):
    """A computation that cannot be finished with these inputs."""

    code = "compute"


class NotYet(FenrikError):
    """Something that follows from a computation which has not been made yet; no fault of the document."""

    code = "not_yet"


class PostError(FenrikError):
    """A program that cannot be written or read back."""

    code = "post"


class Cancelled(FenrikError):
    """The computation was stopped on request."""

    code = "cancelled"

    def __init__(self, what: str = "The computation was cancelled.") -> None:
        super().__init__(what)


class ApplicationError(FenrikError):
    """A rule of the application was broken."""

    code = "application"


class NotFound(ApplicationError):
    """Something that was asked for does not exist."""

    code = "not_found"


class Conflict(ApplicationError):
    """The thing was changed meanwhile by somebody else."""

    code = "conflict"
