"""Recipes of turnovers, kept with the production; several files for one picture; documents of a package."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "recipe",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("production_id", sa.Integer(), sa.ForeignKey("production.id"), nullable=False, index=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("recipe", postgresql.JSONB(none_as_null=True), nullable=True),
        sa.Column("made_by", sa.String(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("version", sa.Integer(), nullable=False, server_default="1"),
    )
    op.create_index("recipe_once", "recipe", ["production_id", "name"], unique=True)
    op.add_column("turnover", sa.Column("recipe", postgresql.JSONB(none_as_null=True), nullable=True))
    op.add_column("turnover", sa.Column("named", sa.String(), nullable=False, server_default=""))
    op.add_column("turnover", sa.Column("documents", postgresql.JSONB(), nullable=False, server_default="[]"))
    op.add_column("turnover", sa.Column("says", sa.String(), nullable=False, server_default=""))
    op.add_column("pairing", sa.Column("channels", sa.String(), nullable=False, server_default=""))
    op.add_column("delivery", sa.Column("product", sa.String(), nullable=False, server_default="sound"))
    op.add_column("delivery", sa.Column("part", sa.Integer(), nullable=False, server_default="0"))
    op.drop_index("delivery_once", "delivery")
    op.create_index("delivery_once", "delivery", ["turnover_id", "picture_id", "product", "part"], unique=True)


def downgrade() -> None:
    op.execute("DELETE FROM delivery WHERE product != 'sound' OR part != 0")
    op.drop_index("delivery_once", "delivery")
    op.create_index("delivery_once", "delivery", ["turnover_id", "picture_id"], unique=True)
    for name in ("part", "product"):
        op.drop_column("delivery", name)
    for name in ("says", "documents", "named", "recipe"):
        op.drop_column("turnover", name)
    op.drop_column("pairing", "channels")
    op.drop_table("recipe")
