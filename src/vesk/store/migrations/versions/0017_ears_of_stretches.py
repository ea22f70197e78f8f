"""What is said of how a device hears in a part of the day: what comes in later and lies there hears so too."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "heard_stretch",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("source_id", sa.Integer(), sa.ForeignKey("source.id"), nullable=False, index=True),
        sa.Column("since", sa.String(), nullable=True),
        sa.Column("before", sa.String(), nullable=True),
        sa.Column("distance_mm", sa.Integer(), nullable=True),
        sa.Column("delay_us", sa.Integer(), nullable=True),
        sa.Column("made_by", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("undone_at", sa.DateTime(timezone=True), nullable=True),
    )
    op.execute(
        "CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON heard_stretch FOR EACH ROW "
        "WHEN (coalesce(current_setting('vesk.entry', true), '') <> '') EXECUTE FUNCTION vesk_note_change()"
    )
    op.add_column("recording", sa.Column("ears_of", sa.Integer(), nullable=True))


def downgrade() -> None:
    op.drop_column("recording", "ears_of")
    op.drop_table("heard_stretch")
