"""A clap seen is as likely as it looks, not how clearly it stands out: what was clear counted as 0.85, else as 0.3."""

from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute("UPDATE sync_point SET likely = CASE WHEN likely >= 2 THEN 0.85 ELSE 0.3 END WHERE how = 'seen'")


def downgrade() -> None:
    op.execute("UPDATE sync_point SET likely = CASE WHEN likely >= 0.8 THEN 2 ELSE 1 END WHERE how = 'seen'")
