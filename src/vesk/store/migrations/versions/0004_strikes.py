"""Strikes: claps and tones, heard and seen."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "strike",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("recording_id", sa.Integer(), sa.ForeignKey("recording.id"), nullable=False, index=True),
        sa.Column("how", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("heard_us", sa.BigInteger(), nullable=True),
        sa.Column("frame", sa.Integer(), nullable=True),
        sa.Column("proposed_frame", sa.Integer(), nullable=True),
        sa.Column("likely", sa.Float(), nullable=False),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("decided_by", sa.String(), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.CheckConstraint("how IN ('heard', 'seen')"),
        sa.CheckConstraint("state IN ('proposed', 'confirmed', 'refused')"),
    )


def downgrade() -> None:
    op.drop_table("strike")
