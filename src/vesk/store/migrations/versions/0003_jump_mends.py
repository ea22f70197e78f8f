"""Corrections mend jumps."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    column = sa.Column("jumps", postgresql.JSONB(), nullable=False, server_default="[]")
    op.add_column("correction", column)
    op.alter_column("correction", "jumps", server_default=None)


def downgrade() -> None:
    op.drop_column("correction", "jumps")
