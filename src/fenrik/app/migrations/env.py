"""Alembic's entry: one transaction on the address given by `fenrik.app.database.migrate`."""

from alembic import context
from sqlalchemy import create_engine
from sqlmodel import SQLModel

import fenrik.app.tables  # noqa: F401  (fills the metadata)

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as connection:
    context.configure(connection=connection, target_metadata=SQLModel.metadata)
    with context.begin_transaction():
        context.run_migrations()
engine.dispose()
