"""Backup and restore: all jobs with their revisions, files and kept releases in one file. Results are
computed again."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg
from psycopg import sql

from fenrik.app.database import MAINTENANCE, migrate, wait_for
from fenrik.core.errors import ApplicationError, InputError
from fenrik.postgres import Cluster

NAME = "fenrik"
REPLACED = "fenrik_replaced"
"""The database that the last restore has put aside."""
INCOMING = "fenrik_incoming"


def backup(cluster: Cluster, file: Path) -> Path:
    """Writes all jobs to a file, also while Fenrik runs: the state of one moment. Raises ApplicationError."""
    file.parent.mkdir(parents=True, exist_ok=True)
    draft = file.with_name(f"{file.name}.part")
    with _served(cluster):
        _run(
            cluster.tool("pg_dump", "--format=custom", "--no-owner", "--file", str(draft.resolve()), NAME),
            "backup",
        )
    draft.replace(file)
    return file


def restore(cluster: Cluster, file: Path) -> None:
    """Puts the jobs of a backup in the place of those that are there, which are put aside until the next
    restore. Nothing is changed when the backup cannot be read. Raises InputError, ApplicationError."""
    if not file.is_file():
        raise InputError(
            f"The backup '{file}' does not exist.", remedy="Name a file that 'make backup' wrote."
        )
    if cluster.answers():
        raise ApplicationError("Fenrik is running.", remedy="Stop it (Ctrl-C), and restore then.")
    with _served(cluster):
        wait_for(cluster.address(NAME))
        _drop(cluster, INCOMING)
        wait_for(cluster.address(INCOMING))
        command = cluster.tool(
            "pg_restore", "--no-owner", "--exit-on-error", "--dbname", INCOMING, str(file.resolve())
        )
        try:
            _run(command, "restore")
            migrate(cluster.address(INCOMING))
        except Exception:
            _drop(cluster, INCOMING)
            raise
        _drop(cluster, REPLACED)
        with _maintenance(cluster) as line:
            for before, after in ((NAME, REPLACED), (INCOMING, NAME)):
                line.execute(
                    sql.SQL("ALTER DATABASE {} RENAME TO {}").format(
                        sql.Identifier(before), sql.Identifier(after)
                    )
                )


def backup_name() -> str:
    """A name for a backup of now."""
    return time.strftime("fenrik-%Y-%m-%d-%H%M%S.backup")


@contextmanager
def _served(cluster: Cluster) -> Iterator[None]:
    """The cluster's server, started for as long as it is needed when it does not run."""
    running = (cluster.folder / "PG_VERSION").is_file() and cluster.answers()
    if not running:
        cluster.start()
    try:
        yield
    finally:
        if not running:
            cluster.stop()


@contextmanager
def _maintenance(cluster: Cluster) -> Iterator[psycopg.Connection[tuple[object, ...]]]:
    address = cluster.address(MAINTENANCE).replace("postgresql+psycopg", "postgresql")
    with psycopg.connect(address, autocommit=True) as line:
        yield line


def _drop(cluster: Cluster, name: str) -> None:
    with _maintenance(cluster) as line:
        line.execute(sql.SQL("DROP DATABASE IF EXISTS {} WITH (FORCE)").format(sql.Identifier(name)))


def _run(command: list[str], what: str) -> None:
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode != 0:
        words = (done.stderr.strip().splitlines() or ["no reason given"])[-1]
        raise ApplicationError(
            f"The {what} failed: {words}.", remedy="Is the file whole, and is there room on the disk?"
        )
