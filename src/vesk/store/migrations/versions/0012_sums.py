"""Corrections of every scope that add up, tolerance of a take, what is retimed, displays read in pictures."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None

_SOURCES = ("picture_source_id", "sound_source_id")


def _when(name: str, *, nullable: bool) -> sa.Column[object]:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable)


def upgrade() -> None:
    op.rename_table("device_correction", "scoped_correction")
    for name in ("day_id", "act"):
        op.execute(f"ALTER INDEX IF EXISTS ix_device_correction_{name} RENAME TO ix_scoped_correction_{name}")
    op.add_column("scoped_correction", sa.Column("scope", sa.String(), nullable=False, server_default="device"))
    op.execute("UPDATE scoped_correction SET scope = 'stretch' WHERE since IS NOT NULL OR before IS NOT NULL")
    op.add_column("scoped_correction", sa.Column("recording_id", sa.Integer(), sa.ForeignKey("recording.id")))
    op.add_column("scoped_correction", sa.Column("over", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("scoped_correction", sa.Column("jumps", postgresql.JSONB(), nullable=False, server_default="[]"))
    for table in ("scoped_correction", "correction"):
        op.add_column(table, sa.Column("retimed", sa.String(), nullable=False, server_default="sound"))
    for name in _SOURCES:
        op.alter_column("scoped_correction", name, nullable=True)
    op.add_column("check_mark", sa.Column("scoped", postgresql.JSONB(), nullable=False, server_default="[]"))
    op.execute(
        "UPDATE check_mark SET scoped = jsonb_build_array(device_correction_id) WHERE device_correction_id IS NOT NULL"
    )
    op.drop_column("check_mark", "device_correction_id")
    op.add_column("pairing", sa.Column("tolerance", sa.String(), nullable=True))
    op.create_table(
        "seen_label",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("recording_id", sa.Integer(), sa.ForeignKey("recording.id"), nullable=False, index=True),
        sa.Column("display", sa.String(), nullable=False),
        sa.Column("frame", sa.Integer(), nullable=False),
        sa.Column("label", sa.String(), nullable=False),
        sa.Column("made_by", sa.String(), nullable=False),
        _when("made_at", nullable=False),
        _when("undone_at", nullable=True),
    )


def downgrade() -> None:
    op.drop_table("seen_label")
    op.drop_column("pairing", "tolerance")
    op.execute("DELETE FROM check_mark WHERE jsonb_array_length(scoped) > 1")
    op.add_column("check_mark", sa.Column("device_correction_id", sa.Integer(), nullable=True))
    op.execute("UPDATE check_mark SET device_correction_id = (scoped->>0)::int WHERE jsonb_array_length(scoped) = 1")
    op.drop_column("check_mark", "scoped")
    op.execute("DELETE FROM scoped_correction WHERE scope = 'run'")
    for table in ("scoped_correction", "correction"):
        op.drop_column(table, "retimed")
    for name in ("jumps", "over", "recording_id", "scope"):
        op.drop_column("scoped_correction", name)
    op.rename_table("scoped_correction", "device_correction")
    for name in ("day_id", "act"):
        op.execute(f"ALTER INDEX IF EXISTS ix_scoped_correction_{name} RENAME TO ix_device_correction_{name}")
    for name in _SOURCES:
        op.alter_column("device_correction", name, nullable=False)
    op.create_foreign_key(None, "check_mark", "device_correction", ["device_correction_id"], ["id"])
