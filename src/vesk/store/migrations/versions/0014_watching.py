"""What is decided while watching: what is wrong, the part that is handed over, rough cuts."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def _made() -> list[sa.Column]:
    return [
        sa.Column("made_by", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("undone_at", sa.DateTime(timezone=True), nullable=True),
    ]


def _of_recording() -> list[sa.Column]:
    return [
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("recording_id", sa.Integer(), sa.ForeignKey("recording.id"), nullable=False, index=True),
    ]


def upgrade() -> None:
    op.create_table(
        "watch_note",
        *_of_recording(),
        sa.Column("at_us", sa.BigInteger(), nullable=False),
        sa.Column("text", sa.String(), nullable=False),
        *_made(),
    )
    op.create_table(
        "kept_range",
        *_of_recording(),
        sa.Column("first", sa.Integer(), nullable=False),
        sa.Column("last", sa.Integer(), nullable=False),
        sa.CheckConstraint("first >= 0 AND last > first"),
        *_made(),
    )
    op.create_table(
        "rough_cut",
        *_of_recording(),
        sa.Column("cut", postgresql.JSONB(none_as_null=True), nullable=True),
        *_made(),
    )


def downgrade() -> None:
    for name in ("rough_cut", "kept_range", "watch_note"):
        op.drop_table(name)
