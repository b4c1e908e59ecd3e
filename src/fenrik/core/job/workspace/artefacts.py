"""Artefacts: results under the hash of their inputs and of the code that made them."""

from __future__ import annotations

import hashlib
import json
from functools import cache
from pathlib import Path
from typing import Any, Protocol


class Store(Protocol):
    """Where artefacts are kept."""

    def get(self, key: str) -> bytes | None:
        """The artefact under a key, or None."""

    def has(self, key: str) -> bool:
        """Whether there is an artefact, without reading it."""

    def put(self, key: str, kind: str, blob: bytes) -> None:
        """Keeps an artefact whole or not at all."""


class MemoryStore:
    """Artefacts for the length of a process."""

    def __init__(self) -> None:
        self.blobs: dict[str, bytes] = {}
        self.computed: dict[str, int] = {}

    def get(self, key: str) -> bytes | None:
        """The artefact under a key, or None."""
        return self.blobs.get(key)

    def has(self, key: str) -> bool:
        """Whether there is an artefact."""
        return key in self.blobs

    def put(self, key: str, kind: str, blob: bytes) -> None:
        """Keeps an artefact and counts that one of its kind was computed."""
        self.blobs[key] = blob
        self.computed[kind] = self.computed.get(kind, 0) + 1


@cache
def code_version() -> str:
    """Hash of the sources and data of the core."""
    digest = hashlib.sha256()
    root = Path(__file__).resolve().parents[2]
    for path in sorted(root.rglob("*")):
        if path.suffix in (".py", ".toml"):
            digest.update(path.relative_to(root).as_posix().encode())
            digest.update(path.read_bytes())
    return digest.hexdigest()[:16]


def key_of(kind: str, inputs: Any) -> str:
    """The key of an artefact: kind and a hash of its plain inputs and of the code."""
    text = json.dumps([code_version(), inputs], sort_keys=True, separators=(",", ":"), default=str)
    return f"{kind}-{hashlib.sha256(text.encode()).hexdigest()[:40]}"
