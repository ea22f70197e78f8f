"""Words and types: sync points, merged recordings, values as JSON with a version, members by their numbers."""

from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

_COLUMNS = (
    ("joined", "merged"), ("joined_why", "merged_why"), ("joined_by", "merged_by"), ("part_of", "member_of"),
)
_STATES = "state IN ('ready', 'unreadable', 'vanished', '{}', 'gone')"
_EMPTY = ("kind", "unusable", "clock", "merged")  # of a recording: nothing is NULL now, and was empty text
_JSON = ("facts", "heard", "told")  # nothing is NULL now, and was an empty object
_TASKS = (("find_strikes", "find_sync_points"), ("join", "merge"))
# A recording with what it is made of, as its own row held it until now: a set within a run one deeper.
_MEMBER = (
    "jsonb_build_object('id', {0}.id, 'path', {0}.path, 'content', {0}.content, 'size', {0}.size, 'facts', {0}.facts,"
    " 'joined', {0}.joined, 'members', {1})"
)


def _tasks(pairs):
    for old, new in pairs:
        op.execute(
            f"UPDATE procrastinate_jobs SET task_name = 'vesk:{new}', queueing_lock ="
            f" replace(queueing_lock, 'vesk:{old}:', 'vesk:{new}:') WHERE task_name = 'vesk:{old}'"
        )


def upgrade() -> None:
    op.rename_table("strike", "sync_point")
    op.execute("ALTER SEQUENCE strike_id_seq RENAME TO sync_point_id_seq")
    op.execute("ALTER INDEX ix_strike_recording_id RENAME TO ix_sync_point_recording_id")
    op.execute("UPDATE progress SET kind = 'sync points' WHERE kind = 'strikes'")
    op.execute("UPDATE progress SET kind = 'merge' WHERE kind = 'join'")
    _tasks(_TASKS)
    op.execute(
        "UPDATE recording SET members = coalesce((SELECT jsonb_agg(m -> 'id' ORDER BY n)"
        " FROM jsonb_array_elements(members) WITH ORDINALITY AS x(m, n)), '[]')"
    )
    op.drop_constraint("recording_state_check", "recording", type_="check")
    op.execute("UPDATE recording SET state = 'apart' WHERE state = 'parted'")
    op.create_check_constraint("recording_state_check", "recording", _STATES.format("apart"))
    for name in (*_EMPTY[:-1], "joined"):
        op.alter_column("recording", name, nullable=True)
        op.execute(f"UPDATE recording SET {name} = NULL WHERE {name} = ''")
    for old, new in _COLUMNS:
        op.alter_column("recording", old, new_column_name=new)
    op.execute("ALTER INDEX ix_recording_part_of RENAME TO ix_recording_member_of")
    for name in _JSON:
        op.alter_column("recording", name, nullable=True)
        op.execute(f"UPDATE recording SET {name} = NULL WHERE {name} = '{{}}'")
    op.alter_column("source", "clock", nullable=True)
    op.execute("UPDATE source SET clock = NULL WHERE clock = ''")
    op.execute("UPDATE pairing SET measurement = NULL WHERE jsonb_typeof(measurement) <> 'object'")
    op.execute(
        "UPDATE pairing SET measurement = jsonb_set(measurement, '{by}', '\"sync points\"')"
        " WHERE measurement ->> 'by' = 'strikes'"
    )
    op.alter_column("delivery", "facts", new_column_name="written", nullable=True)
    op.execute("UPDATE delivery SET written = NULL WHERE NOT written ? 'name'")


def downgrade() -> None:
    op.execute("UPDATE delivery SET written = '{}' WHERE written IS NULL")
    op.alter_column("delivery", "written", new_column_name="facts", nullable=False)
    op.execute(
        "UPDATE pairing SET measurement = jsonb_set(measurement, '{by}', '\"strikes\"')"
        " WHERE measurement ->> 'by' = 'sync points'"
    )
    op.execute("UPDATE pairing SET measurement = measurement - 'version'")
    op.execute("UPDATE source SET clock = '' WHERE clock IS NULL")
    op.alter_column("source", "clock", nullable=False)
    op.execute("UPDATE recording SET facts = facts - 'version' - 'flaws', heard = heard - 'version'")
    op.execute(
        "UPDATE recording SET told = (SELECT coalesce(jsonb_object_agg(key, value), '{}') FROM"
        " jsonb_each(told - 'version' - 'by_person') WHERE value <> '\"\"')"
        " || CASE WHEN (told -> 'by_person')::boolean THEN '{\"put\": \"yes\"}'::jsonb ELSE '{}' END"
        " WHERE told IS NOT NULL"
    )
    for name in _JSON:
        op.execute(f"UPDATE recording SET {name} = '{{}}' WHERE {name} IS NULL")
        op.alter_column("recording", name, nullable=False)
    op.execute("ALTER INDEX ix_recording_member_of RENAME TO ix_recording_part_of")
    for old, new in _COLUMNS:
        op.alter_column("recording", new, new_column_name=old)
    for name in (*_EMPTY[:-1], "joined"):
        op.execute(f"UPDATE recording SET {name} = '' WHERE {name} IS NULL")
        op.alter_column("recording", name, nullable=False)
    op.drop_constraint("recording_state_check", "recording", type_="check")
    op.execute("UPDATE recording SET state = 'parted' WHERE state = 'apart'")
    op.create_check_constraint("recording_state_check", "recording", _STATES.format("parted"))
    inner = _MEMBER.format("b", "'[]'::jsonb")
    whole = _MEMBER.format(
        "a", f"coalesce((SELECT jsonb_agg({inner} ORDER BY k) FROM jsonb_array_elements(a.members) WITH ORDINALITY"
        " AS y(i, k) JOIN recording b ON b.id = i::int), '[]')",
    )  # fmt: skip
    op.execute(
        f"UPDATE recording SET members = made.members FROM (SELECT r.id, jsonb_agg({whole} ORDER BY n) AS members"
        " FROM recording r, jsonb_array_elements(r.members) WITH ORDINALITY AS x(m, n)"
        " JOIN recording a ON a.id = m::int GROUP BY r.id) AS made WHERE recording.id = made.id"
    )
    _tasks((new, old) for old, new in _TASKS)
    op.execute("UPDATE progress SET kind = 'join' WHERE kind = 'merge'")
    op.execute("UPDATE progress SET kind = 'strikes' WHERE kind = 'sync points'")
    op.execute("ALTER INDEX ix_sync_point_recording_id RENAME TO ix_strike_recording_id")
    op.execute("ALTER SEQUENCE sync_point_id_seq RENAME TO strike_id_seq")
    op.rename_table("sync_point", "strike")
