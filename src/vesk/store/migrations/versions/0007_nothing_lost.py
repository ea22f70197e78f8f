"""Versions of everything that people change, rows that are marked instead of deleted, contents beside what rests on them."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

_ADDED = (
    ("day", sa.Column("version", sa.Integer(), nullable=False, server_default="1")),
    ("source", sa.Column("gone", sa.Boolean(), nullable=False, server_default="false")),
    ("recording", sa.Column("version", sa.Integer(), nullable=False, server_default="1")),
    ("pairing", sa.Column("measured_of", sa.String(), nullable=False, server_default="")),
    ("check_mark", sa.Column("of", sa.String(), nullable=False, server_default="")),
)
_STATES = (
    ("recording", "recording_state_check", "'ready', 'unreadable', 'vanished', 'parted'", "'gone'"),
    ("pairing", "pairing_state_check", "'proposed', 'measured', 'set aside'", "'withdrawn'"),
)


def upgrade() -> None:
    for table, column in _ADDED:
        op.add_column(table, column)
        op.alter_column(table, column.name, server_default=None)
    for table, name, states, more in _STATES:
        op.drop_constraint(name, table, type_="check")
        op.create_check_constraint(name, table, f"state IN ({states}, {more})")
    # Two sessions could make one piece of work twice: the newest tells how it stands.
    for table, columns in (("progress", "day_id, kind, subject_id"), ("delivery", "turnover_id, picture_id")):
        op.execute(
            f"DELETE FROM {table} WHERE id NOT IN (SELECT max(id) FROM {table} GROUP BY {columns})"
        )
    op.create_index("progress_once", "progress", ["day_id", "kind", "subject_id"], unique=True)
    op.create_index("delivery_once", "delivery", ["turnover_id", "picture_id"], unique=True)


def downgrade() -> None:
    op.drop_index("delivery_once", "delivery")
    op.drop_index("progress_once", "progress")
    op.execute("UPDATE recording SET state = 'vanished' WHERE state = 'gone'")
    op.execute(
        "UPDATE pairing SET state = CASE WHEN measurement IS NULL THEN 'proposed' ELSE 'measured' END"
        " WHERE state = 'withdrawn'"
    )
    for table, name, states, _ in _STATES:
        op.drop_constraint(name, table, type_="check")
        op.create_check_constraint(name, table, f"state IN ({states})")
    for table, column in _ADDED:
        op.drop_column(table, column.name)
