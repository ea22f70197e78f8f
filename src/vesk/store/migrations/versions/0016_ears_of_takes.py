"""How a single recording hears, where that is not as its device does: a microphone that was moved, a menu changed."""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("recording", sa.Column("distance_mm", sa.Integer(), nullable=True))
    op.add_column("recording", sa.Column("delay_us", sa.Integer(), nullable=True))
    op.add_column("recording", sa.Column("ears_by", sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    for name in ("ears_by", "delay_us", "distance_mm"):
        op.drop_column("recording", name)
