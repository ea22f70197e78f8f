"""Recordings filed as one device's, compared by their own sound."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "compared",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("day_id", sa.Integer(), sa.ForeignKey("day.id"), nullable=False),
        sa.Column("one_id", sa.Integer(), sa.ForeignKey("recording.id"), nullable=False),
        sa.Column("other_id", sa.Integer(), sa.ForeignKey("recording.id"), nullable=False),
        sa.Column("of", sa.String(), nullable=False),
        sa.Column("same_moment", sa.Boolean(), nullable=False),
    )
    op.create_index("ix_compared_day_id", "compared", ["day_id"])
    op.create_index("compared_once", "compared", ["one_id", "other_id", "of"], unique=True)


def downgrade() -> None:
    op.drop_table("compared")
