"""Intake: what was heard on channels, overrides, accepted oddities, chosen clocks, recordings set aside."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

_ADDED = (
    ("recording", sa.Column("heard", postgresql.JSONB(), nullable=False, server_default="{}")),
    ("recording", sa.Column("clock", sa.String(), nullable=False, server_default="")),
    ("recording", sa.Column("took", sa.String(), nullable=True)),
    ("recording", sa.Column("aside", sa.String(), nullable=False, server_default="")),
    ("day", sa.Column("watched", sa.Boolean(), nullable=False, server_default=sa.false())),
    ("source", sa.Column("clock", sa.String(), nullable=False, server_default="")),
)


def upgrade() -> None:
    for table, column in _ADDED:
        op.add_column(table, column)
        op.alter_column(table, column.name, server_default=None)
    op.create_table(
        "override",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("recording_id", sa.Integer(), sa.ForeignKey("recording.id"), nullable=False, index=True),
        sa.Column("field", sa.String(), nullable=False),
        sa.Column("value", sa.String(), nullable=False),
        sa.Column("made_by", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("undone_at", sa.DateTime(timezone=True), nullable=True),
    )
    op.create_table(
        "accepted",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("day_id", sa.Integer(), sa.ForeignKey("day.id"), nullable=False),
        sa.Column("oddity", sa.String(), nullable=False),
        sa.Column("note", sa.String(), nullable=False),
        sa.Column("made_by", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_index("accepted_once", "accepted", ["day_id", "oddity"], unique=True)


def downgrade() -> None:
    op.drop_table("accepted")
    op.drop_table("override")
    for table, column in _ADDED:
        op.drop_column(table, column.name)
