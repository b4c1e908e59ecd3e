"""Engine and migrations."""

from __future__ import annotations

import time
from pathlib import Path

import psycopg
from alembic import command
from alembic.config import Config
from psycopg import sql
from sqlalchemy import Engine, make_url
from sqlmodel import create_engine

MIGRATIONS = Path(__file__).parent / "migrations"
MAINTENANCE = "template1"
"""The database through which others are made and dropped; new ones are copies of it."""
SPARE = ("postgres", "template0")
"""Databases of a new cluster that nobody uses here."""


def make_engine(url: str) -> Engine:
    """An engine for a ``postgresql+psycopg://`` address. A connection that was lost is noticed before it is
    used, and a database that does not answer within seconds is told as such."""
    return create_engine(
        url,
        pool_pre_ping=True,
        pool_size=10,
        max_overflow=20,
        pool_timeout=10,
        connect_args={"connect_timeout": 2},
    )


def plain_address(engine: Engine) -> str:
    """The engine's address as psycopg itself takes it."""
    return engine.url.set(drivername="postgresql").render_as_string(hide_password=False)


def wait_for(url: str, seconds: float = 60.0) -> None:
    """Waits until the database's server answers, and creates the database when it is not there. Raises
    OperationalError."""
    address = make_url(url)
    server = address.set(drivername="postgresql", database=MAINTENANCE).render_as_string(hide_password=False)
    until = time.monotonic() + seconds
    while True:
        try:
            with psycopg.connect(server, autocommit=True, connect_timeout=2) as line:
                known = line.execute(
                    "SELECT 1 FROM pg_database WHERE datname = %s", (address.database,)
                ).fetchone()
                if known is None:
                    line.execute(sql.SQL("CREATE DATABASE {}").format(sql.Identifier(address.database or "")))
                return
        except psycopg.OperationalError:
            if time.monotonic() > until:
                raise
            time.sleep(0.1)


def drop_spare(url: str) -> None:
    """Drops the databases of Fenrik's own cluster that nobody uses.

    After a crash PostgreSQL puts every file of its cluster on the disk before it lets anybody in, some 300 of
    each database, one after the other: half as many files are half the wait, which is seconds on a machine
    that computes.
    """
    address = make_url(url).set(drivername="postgresql", database=MAINTENANCE)
    with psycopg.connect(address.render_as_string(hide_password=False), autocommit=True) as line:
        for name in SPARE:
            line.execute("UPDATE pg_database SET datistemplate = false WHERE datname = %s", (name,))
            line.execute(sql.SQL("DROP DATABASE IF EXISTS {} WITH (FORCE)").format(sql.Identifier(name)))


def put_on_disk(url: str) -> None:
    """Has everything written so far put into the database's files, so that a server that is killed soon
    after comes back without doing it first."""
    address = make_url(url).set(drivername="postgresql").render_as_string(hide_password=False)
    with psycopg.connect(address, autocommit=True) as line:
        line.execute("CHECKPOINT")


def migrate(url: str, version: str = "head") -> None:
    """Brings the database to the newest version, or to a given one."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    command.upgrade(config, version)
