"""Corrections of whole devices, what was done at once, sync points that people make, and who said what belongs."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

_ACTS = ("correction", "check_mark")


def _when(name: str, *, nullable: bool) -> sa.Column[object]:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable)


def upgrade() -> None:
    op.add_column("sync_point", sa.Column("proposed_us", sa.BigInteger(), nullable=True))
    op.add_column("sync_point", sa.Column("name", sa.String(), nullable=False, server_default=""))
    op.add_column("sync_point", sa.Column("origin", sa.String(), nullable=False, server_default="found"))
    op.create_table(
        "sync_point_change",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("sync_point_id", sa.Integer(), sa.ForeignKey("sync_point.id", ondelete="CASCADE"), index=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("kind", sa.String(), nullable=False),
        sa.Column("heard_us", sa.BigInteger(), nullable=True),
        sa.Column("frame", sa.Integer(), nullable=True),
        sa.Column("state", sa.String(), nullable=False),
        sa.Column("decided_by", sa.String(), nullable=False),
        sa.Column("made_by", sa.String(), nullable=False),
        _when("made_at", nullable=False),
        _when("undone_at", nullable=True),
    )
    op.add_column("pairing", sa.Column("said_by", sa.String(), nullable=False, server_default=""))
    op.create_table(
        "device_correction",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("day_id", sa.Integer(), sa.ForeignKey("day.id"), nullable=False, index=True),
        sa.Column("picture_source_id", sa.Integer(), sa.ForeignKey("source.id"), nullable=False),
        sa.Column("sound_source_id", sa.Integer(), sa.ForeignKey("source.id"), nullable=False),
        sa.Column("since", sa.String(), nullable=True),
        sa.Column("before", sa.String(), nullable=True),
        *(sa.Column(name, sa.String(), nullable=False) for name in ("slip", "drift", "ppm", "anchor")),
        sa.Column("act", sa.String(), nullable=False, index=True),
        sa.Column("made_by", sa.String(), nullable=False),
        _when("made_at", nullable=False),
        _when("undone_at", nullable=True),
    )
    op.add_column(
        "check_mark",
        sa.Column("device_correction_id", sa.Integer(), sa.ForeignKey("device_correction.id"), nullable=True),
    )
    for table in _ACTS:
        op.add_column(table, sa.Column("act", sa.String(), nullable=False, server_default=""))
        op.create_index(f"ix_{table}_act", table, ["act"])
    op.add_column("compared", sa.Column("across", postgresql.JSONB(none_as_null=True), nullable=True))
    op.add_column("journal", sa.Column("act", sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    op.execute("UPDATE correction SET origin = 'own' WHERE origin = 'joined'")
    op.execute("DELETE FROM sync_point WHERE origin != 'found'")
    op.drop_column("journal", "act")
    op.drop_column("compared", "across")
    for table in _ACTS:
        op.drop_index(f"ix_{table}_act", table)
        op.drop_column(table, "act")
    op.drop_column("check_mark", "device_correction_id")
    op.drop_table("device_correction")
    op.drop_column("pairing", "said_by")
    op.drop_table("sync_point_change")
    for name in ("origin", "name", "proposed_us"):
        op.drop_column("sync_point", name)
