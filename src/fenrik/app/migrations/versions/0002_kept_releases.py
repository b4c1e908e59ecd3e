"""Releases that were kept."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.create_table(
        "kept_release",
        sa.Column("job_id", sa.Integer, sa.ForeignKey("job.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("revision", sa.Integer, nullable=False),
        sa.Column("notes", sa.String, nullable=False),
        sa.Column("release", JSONB, nullable=False),
        sa.Column("proof", JSONB, nullable=False),
        sa.Column("proof_key", sa.String, nullable=False),
        sa.Column("text", sa.String, nullable=False),
        sa.Column("sheet", sa.String, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
    )


