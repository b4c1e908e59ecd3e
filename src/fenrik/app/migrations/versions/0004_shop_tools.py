"""Tools that the shop keeps for later jobs."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.create_table(
        "shop_tool",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("tool", JSONB, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
    )
