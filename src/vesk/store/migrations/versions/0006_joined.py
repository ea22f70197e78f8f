"""Files taken together, file-name patterns, clocks by period, reports."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

_ADDED = (
    ("recording", sa.Column("told", postgresql.JSONB(), nullable=False, server_default="{}")),
    ("recording", sa.Column("joined", sa.String(), nullable=False, server_default="")),
    ("recording", sa.Column("members", postgresql.JSONB(), nullable=False, server_default="[]")),
    ("recording", sa.Column("joined_why", sa.String(), nullable=False, server_default="")),
    ("recording", sa.Column("joined_by", sa.String(), nullable=False, server_default="")),
    ("recording", sa.Column("part_of", sa.Integer(), sa.ForeignKey("recording.id"), nullable=True, index=True)),
    ("progress", sa.Column("opened_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now())),
    ("day", sa.Column("patterns", postgresql.JSONB(), nullable=False, server_default="[]")),
    ("source", sa.Column("rate", sa.String(), nullable=False, server_default="")),
    ("source", sa.Column("position", sa.Integer(), nullable=False, server_default="0")),
)
_STATE = "recording_state_check"


def upgrade() -> None:
    for table, column in _ADDED:
        op.add_column(table, column)
        op.alter_column(table, column.name, server_default=None)
    op.drop_constraint(_STATE, "recording", type_="check")
    op.create_check_constraint(_STATE, "recording", "state IN ('ready', 'unreadable', 'vanished', 'parted')")
    op.create_table(
        "clock_period",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("source_id", sa.Integer(), sa.ForeignKey("source.id"), nullable=False, index=True),
        sa.Column("since", sa.String(), nullable=False),
        sa.Column("before", sa.String(), nullable=False),
        sa.Column("clock", sa.String(), nullable=False),
        sa.Column("made_by", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
    )
    op.create_table(
        "report",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("day_id", sa.Integer(), sa.ForeignKey("day.id"), nullable=False, index=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("columns", postgresql.JSONB(), nullable=False),
        sa.Column("lines", postgresql.JSONB(), nullable=False),
        sa.Column("mapping", postgresql.JSONB(), nullable=False),
        sa.Column("source_id", sa.Integer(), sa.ForeignKey("source.id"), nullable=True),
        sa.Column("made_by", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False),
        sa.CheckConstraint("kind IN ('sound', 'camera')"),
    )


def downgrade() -> None:
    op.drop_table("report")
    op.drop_table("clock_period")
    # A recording of several files is unknown to what was here before: its files are recordings again.
    op.execute("UPDATE recording SET part_of = NULL")
    joined = "(SELECT id FROM recording WHERE joined <> '')"
    pairs = f"(SELECT id FROM pairing WHERE picture_id IN {joined} OR sound_id IN {joined})"
    for table, key, of in (
        ("delivery", "picture_id", joined), ("check_mark", "pairing_id", pairs), ("correction", "pairing_id", pairs),
        ("journal", "pairing_id", pairs), ("strike", "recording_id", joined), ("override", "recording_id", joined),
        ("pairing", "id", pairs), ("recording", "id", joined),
    ):  # fmt: skip
        op.execute(f"DELETE FROM {table} WHERE {key} IN {of}")
    op.drop_constraint(_STATE, "recording", type_="check")
    op.create_check_constraint(_STATE, "recording", "state IN ('ready', 'unreadable', 'vanished')")
    for table, column in _ADDED:
        op.drop_column(table, column.name)
