"""The task queue's own tables."""

from alembic import op
from procrastinate.schema import SchemaManager

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # Several statements in one text: only the driver's own connection takes them.
    connection = op.get_bind().connection.driver_connection
    connection.cursor().execute(SchemaManager.get_schema())


def downgrade() -> None:
    raise NotImplementedError("the queue's tables go with the database")
