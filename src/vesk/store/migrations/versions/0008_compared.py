"""Recordings compared by their own sound; why a file is unusable, off-speed or not found, apart from its sentence."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


_KINDS = (
    ("empty file", "problem LIKE '%: it is empty%'"), ("not a recording", "problem LIKE '%: it is neither a movie nor%'"),
)


def upgrade() -> None:
    for name in ("unusable", "off_speed"):
        op.add_column("recording", sa.Column(name, sa.String(), nullable=False, server_default=""))
        op.alter_column("recording", name, server_default=None)
    op.add_column("recording", sa.Column("searched", sa.Integer(), nullable=True))
    # From here on no sentence is read by the code: what they said until now is kept as values.
    for kind, said in _KINDS:
        op.execute(f"UPDATE recording SET unusable = '{kind}' WHERE state = 'unreadable' AND {said}")
    op.execute(
        "UPDATE recording SET off_speed = substr(aside, 12) WHERE aside LIKE 'off-speed: %' AND took IS NOT NULL"
    )
    found = r"; its sound was found in none of (\d+) recordings"
    op.execute(
        f"UPDATE recording SET searched = substring(unpaired from '{found}')::int,"
        f" unpaired = regexp_replace(unpaired, '{found}', '') WHERE unpaired ~ '{found}'"
    )
    op.add_column("pairing", sa.Column("measured_as", sa.String(), nullable=True))
    op.execute(
        "UPDATE pairing SET measured_as = md5(random()::text || id) WHERE jsonb_typeof(measurement) = 'object'"
    )
    op.create_table(
        "compared",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("day_id", sa.Integer(), sa.ForeignKey("day.id"), nullable=False),
        sa.Column("one_id", sa.Integer(), sa.ForeignKey("recording.id"), nullable=False),
        sa.Column("other_id", sa.Integer(), sa.ForeignKey("recording.id"), nullable=False),
        sa.Column("of", sa.String(), nullable=False),
        sa.Column("same_moment", sa.Boolean(), nullable=False),
    )
    op.create_index("ix_compared_day_id", "compared", ["day_id"])
    op.create_index("compared_once", "compared", ["one_id", "other_id", "of"], unique=True)


def downgrade() -> None:
    op.drop_table("compared")
    op.drop_column("pairing", "measured_as")
    op.execute(
        "UPDATE recording SET unpaired = unpaired || '; its sound was found in none of ' || searched || ' recordings'"
        " WHERE searched IS NOT NULL"
    )
    for name in ("unusable", "off_speed", "searched"):
        op.drop_column("recording", name)
