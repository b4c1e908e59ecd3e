"""The first tables."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0001"
down_revision = None


def _at(name: str) -> sa.Column:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=False)


def upgrade() -> None:
    op.create_table(
        "job",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("revision", sa.Integer, nullable=False),
        sa.Column("last_revision", sa.Integer, nullable=False),
        _at("created"),
        _at("updated"),
    )
    job = sa.ForeignKey("job.id", ondelete="CASCADE")
    op.create_table(
        "revision",
        sa.Column("job_id", sa.Integer, job, primary_key=True),
        sa.Column("number", sa.Integer, primary_key=True),
        sa.Column("document", JSONB, nullable=False),
        _at("at"),
    )
    op.create_table(
        "blob",
        sa.Column("sha256", sa.String, primary_key=True),
        sa.Column("content", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "job_file",
        sa.Column("job_id", sa.Integer, sa.ForeignKey("job.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("name", sa.String, primary_key=True),
        sa.Column("sha256", sa.String, sa.ForeignKey("blob.sha256"), nullable=False),
    )
    op.create_table(
        "artefact",
        sa.Column("key", sa.String, primary_key=True),
        sa.Column("kind", sa.String, nullable=False),
        sa.Column("content", sa.LargeBinary, nullable=False),
        _at("at"),
    )
    op.create_table(
        "run",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column(
            "job_id", sa.Integer, sa.ForeignKey("job.id", ondelete="CASCADE"), nullable=False, index=True
        ),
        sa.Column("target", sa.String, nullable=False),
        sa.Column("revision", sa.Integer, nullable=False),
        sa.Column("state", sa.String, nullable=False),
        sa.Column("fraction", sa.Float, nullable=False),
        sa.Column("words", sa.String, nullable=False),
        sa.Column("cancel", sa.Boolean, nullable=False),
        sa.Column("error", JSONB),
        sa.Column("attempts", sa.Integer, nullable=False),
        _at("created"),
        _at("updated"),
    )
