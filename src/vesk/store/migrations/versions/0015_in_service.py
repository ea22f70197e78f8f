"""Several people and machines: what every entry of the journal changed, accounts, who is where, workers, room."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

_DECIDED = (
    "day", "source", "recording", "override", "clock_period", "report", "accepted", "sync_point", "sync_point_change",
    "seen_label", "pairing", "correction", "scoped_correction", "check_mark", "watch_note", "kept_range", "rough_cut",
    "recipe",
)

# Of an update only what differs is kept. A pairing's measurement is large, and no person's.
_FUNCTION = """
CREATE FUNCTION vesk_note_change() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
  was jsonb; made jsonb; whole jsonb;
BEGIN
  IF TG_TABLE_NAME = 'pairing' AND TG_OP = 'UPDATE' THEN
    OLD.measurement := NULL;
    NEW.measurement := NULL;
  END IF;
  IF TG_OP <> 'INSERT' THEN was := to_jsonb(OLD); END IF;
  IF TG_OP <> 'DELETE' THEN made := to_jsonb(NEW); END IF;
  whole := coalesce(made, was);
  IF TG_OP = 'UPDATE' THEN
    SELECT jsonb_object_agg(o.key, o.value), jsonb_object_agg(o.key, made -> o.key) INTO was, made
      FROM jsonb_each(was) o WHERE made -> o.key IS DISTINCT FROM o.value;
    IF was IS NULL THEN RETURN NULL; END IF;
  END IF;
  INSERT INTO row_change (entry, table_name, row_id, recording_id, pairing_id, source_id, before, after)
  VALUES (
    current_setting('vesk.entry', true), TG_TABLE_NAME, (whole ->> 'id')::int,
    CASE WHEN TG_TABLE_NAME = 'recording' THEN whole ->> 'id' ELSE whole ->> 'recording_id' END::int,
    CASE WHEN TG_TABLE_NAME = 'pairing' THEN whole ->> 'id' ELSE whole ->> 'pairing_id' END::int,
    CASE WHEN TG_TABLE_NAME = 'source' THEN whole ->> 'id' ELSE whole ->> 'source_id' END::int,
    was, made
  );
  RETURN NULL;
END $$
"""


def _moment(name: str, *, nullable: bool = False) -> sa.Column:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable)


def upgrade() -> None:
    op.create_table(
        "row_change",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("entry", sa.String(), nullable=False, index=True),
        sa.Column("table_name", sa.String(), nullable=False),
        sa.Column("row_id", sa.Integer(), nullable=False),
        sa.Column("recording_id", sa.Integer(), nullable=True),
        sa.Column("pairing_id", sa.Integer(), nullable=True),
        sa.Column("source_id", sa.Integer(), nullable=True),
        sa.Column("before", postgresql.JSONB(none_as_null=True), nullable=True),
        sa.Column("after", postgresql.JSONB(none_as_null=True), nullable=True),
    )
    op.create_index("row_change_of_row", "row_change", ["table_name", "row_id"])
    op.add_column("journal", sa.Column("entry", sa.String(), nullable=False, server_default=""))
    op.add_column("journal", sa.Column("undoes", sa.String(), nullable=False, server_default=""))
    op.create_index("ix_journal_entry", "journal", ["entry"])
    op.execute(_FUNCTION)
    for table in _DECIDED:
        op.execute(
            f"CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON {table} FOR EACH ROW "
            "WHEN (coalesce(current_setting('vesk.entry', true), '') <> '') EXECUTE FUNCTION vesk_note_change()"
        )
    op.create_table(
        "account",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("known_as", sa.String(), nullable=False, unique=True),
        sa.Column("password", sa.String(), nullable=False),
        sa.Column("role", sa.String(), nullable=False),
        _moment("made_at"),
        _moment("ended_at", nullable=True),
        sa.CheckConstraint("role IN ('may look', 'may change')"),
    )
    op.create_table(
        "sign_in",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("account_id", sa.Integer(), sa.ForeignKey("account.id"), nullable=False, index=True),
        sa.Column("token", sa.String(), nullable=False, unique=True),
        _moment("made_at"),
        _moment("seen_at"),
        _moment("ended_at", nullable=True),
    )
    op.create_table(
        "sign_in_attempt",
        sa.Column("who", sa.String(), primary_key=True),
        sa.Column("failed", sa.Integer(), nullable=False),
        _moment("last_at"),
    )
    op.create_table(
        "presence",
        sa.Column("tab", sa.String(), primary_key=True),
        sa.Column("day_id", sa.Integer(), sa.ForeignKey("day.id", ondelete="CASCADE"), nullable=False, index=True),
        sa.Column("person", sa.String(), nullable=False),
        sa.Column("page", sa.String(), nullable=False),
        sa.Column("recording_id", sa.Integer(), nullable=True),
        _moment("seen_at"),
    )
    op.create_table(
        "worker_seen",
        sa.Column("name", sa.String(), primary_key=True),
        sa.Column("host", sa.String(), nullable=False),
        _moment("since"),
        _moment("seen_at"),
    )
    op.create_table(
        "room",
        sa.Column("id", sa.Integer(), primary_key=True),
        _moment("at"),
        sa.Column("free_bytes", sa.BigInteger(), nullable=False),
        sa.Column("cache_bytes", sa.BigInteger(), nullable=False),
    )
    op.create_table(
        "day_brief",
        sa.Column("day_id", sa.Integer(), sa.ForeignKey("day.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("mark", sa.String(), nullable=False),
        sa.Column("answers", sa.Integer(), nullable=False),
        sa.Column("says", sa.String(), nullable=False),
    )


def downgrade() -> None:
    for table in _DECIDED:
        op.execute(f"DROP TRIGGER note_change ON {table}")
    op.execute("DROP FUNCTION vesk_note_change()")
    for name in ("day_brief", "room", "worker_seen", "presence", "sign_in_attempt", "sign_in", "account", "row_change"):
        op.drop_table(name)
    op.drop_index("ix_journal_entry", "journal")
    op.drop_column("journal", "undoes")
    op.drop_column("journal", "entry")
