"""Who said how late a device hears: nobody, and no delay is only what is usual."""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("source", sa.Column("ears_by", sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("source", "ears_by")
