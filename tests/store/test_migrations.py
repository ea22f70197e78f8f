"""The schema goes up and down over rows as a day has them, and is what the tables say."""

from dataclasses import replace
from fractions import Fraction

from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import create_engine, text
from sqlmodel import SQLModel
from tests.paper_day import paper_day, picture, sound

from vesk.actions import merging
from vesk.core.kinds import Work
from vesk.core.sound.measurement import refused
from vesk.core.told import Told
from vesk.jobs.asking import ask as ask_work
from vesk.jobs.queue import LATER
from vesk.store import migrate, overrides, pairings, recordings
from vesk.store.session import open_session
from vesk.store.tables import Pairing, SyncPointRow


def test_the_migrated_schema_is_the_one_the_tables_describe(settings, db):
    engine = create_engine(settings.sqlalchemy_url)
    with engine.connect() as connection:
        own = {"include_name": lambda name, kind, _parents: kind != "table" or name in SQLModel.metadata.tables}
        context = MigrationContext.configure(connection, opts=own)
        found = compare_metadata(context, SQLModel.metadata)
    engine.dispose()
    kept = [change for change in found if not str(change[0]).startswith("modify_") and change[0] != "remove_constraint"]
    assert kept == []


def test_going_down_takes_merged_recordings_apart_and_keeps_every_file(settings, db):
    files = {f"E/clip{n:04}.mov": picture("", 600, channels=0) for n in (1, 2)}
    day = paper_day(db, {**files, "S1/a.wav": sound("09:00:00:00")})
    (run,) = merging.merge_day(db, settings, day)
    overrides.put(db, run.id, "scene", "9", by="me")
    other = next(row for row in recordings.of_day(db, day.id) if row.name == "a.wav")
    assert run.facts.frames == 30_000
    db.add(SyncPointRow(recording_id=run.id, how="seen", kind="clap", frame=3, likely=2.0))
    db.add(Pairing(day_id=day.id, picture_id=run.id, sound_id=other.id, offset=0))
    db.commit()
    db.close()
    made = migrate.config(settings.sqlalchemy_url)
    command.downgrade(made, "0005")
    engine = create_engine(settings.sqlalchemy_url)
    with engine.connect() as connection:
        names = [row[0] for row in connection.execute(text("SELECT name FROM recording ORDER BY path"))]
        counts = [
            connection.execute(text(f"SELECT count(*) FROM {table}")).scalar()  # noqa: S608 - names from here
            for table in ("pairing", "strike", "override")
        ]
    assert names == ["clip0001.mov", "clip0002.mov", "a.wav"]
    assert counts == [0, 0, 0]
    command.upgrade(made, "head")
    with engine.connect() as connection:
        assert connection.execute(text("SELECT count(*) FROM recording WHERE member_of IS NULL")).scalar() == 3
    engine.dispose()


def test_what_sentences_said_becomes_values_and_back(settings, db):
    """Until 0007 the code read its own sentences; what they said on a day of that version still counts."""
    day = paper_day(
        db, {"A/a.mov": picture("09:00:00:00"), "A/b.mov": picture("09:05:00:00"), "S1/c.wav": sound("12:00:00:00")}
    )
    slow, lone, broken = (recordings.of_day(db, day.id)[n] for n in range(3))
    slow.aside, slow.off_speed, slow.took = "off-speed: 4 times slowed", "4 times slowed", 5
    lone.unpaired, lone.searched = "no recorder was rolling", 12
    broken.state, broken.problem = "unreadable", f"{broken.path}: it is empty (0 bytes). Copy it again."
    db.commit()
    db.close()
    made = migrate.config(settings.sqlalchemy_url)
    command.downgrade(made, "0007")
    engine = create_engine(settings.sqlalchemy_url)
    with engine.connect() as connection:
        said = connection.execute(text("SELECT unpaired FROM recording WHERE name = 'b.mov'")).scalar()
        assert said == "no recorder was rolling; its sound was found in none of 12 recordings"
    command.upgrade(made, "head")
    with engine.connect() as connection:
        query = "SELECT off_speed, unpaired, searched, unusable FROM recording ORDER BY path"
        rows = [tuple(row) for row in connection.execute(text(query))]
    engine.dispose()
    assert rows[0][0] == "4 times slowed"
    assert rows[1][1:3] == ("no recorder was rolling", 12)
    assert rows[2][3] == "empty file"


def test_words_and_values_of_the_version_before_come_along_and_go_back(settings, db):
    """Until 0009 members were copies in their parent's row, nothing was empty text, and claps were strikes."""
    files = {f"E/clip{n:04}.mov": picture("", 600, channels=0) for n in (1, 2)}
    day = paper_day(db, {**files, "S1/a.wav": sound("09:00:00:00")})
    (run,) = merging.merge_day(db, settings, day)
    wav = next(row for row in recordings.of_day(db, day.id) if row.name == "a.wav")
    wav.told = Told(scene="31A", take="2", by_person=True)
    found = replace(refused("nothing"), by="sync points")
    db.add(Pairing(day_id=day.id, picture_id=run.id, sound_id=wav.id, offset=Fraction(0), measurement=found))
    db.add(SyncPointRow(recording_id=run.id, how="seen", kind="clap", frame=3, likely=2.0))
    ask_work(db, day.id, Work.SYNC_POINTS, {wav.id: "looking for claps in a.wav"}, priority=LATER)
    merging.take_apart(db, settings, run.id, version=run.version)
    db.commit()
    ids, number = list(run.members), run.id
    db.close()
    made = migrate.config(settings.sqlalchemy_url)
    command.downgrade(made, "0008")
    engine = create_engine(settings.sqlalchemy_url)

    def ask(query):
        with engine.connect() as connection:
            return [tuple(row) for row in connection.execute(text(query))]

    ((state, members, kind),) = ask(f"SELECT state, members, joined FROM recording WHERE id = {number}")  # noqa: S608
    assert (state, kind, [one["id"] for one in members]) == ("parted", "run", ids)
    assert members[0]["path"] == "E/clip0001.mov"
    assert members[0]["facts"]["frames"] == 15_000
    assert ask(f"SELECT told FROM recording WHERE id = {wav.id}") == [  # noqa: S608
        ({"scene": "31A", "take": "2", "put": "yes"},)
    ]
    assert ask("SELECT measurement ->> 'by', measurement -> 'version' FROM pairing") == [("strikes", None)]
    assert ask("SELECT count(*) FROM strike") == [(1,)]
    assert ("vesk:find_strikes",) in ask("SELECT task_name FROM procrastinate_jobs")
    assert ("strikes",) in ask("SELECT kind FROM progress")
    assert ask("SELECT joined, heard, unusable FROM recording WHERE name = 'a.wav'") == [("", {}, "")]
    command.upgrade(made, "head")
    engine.dispose()
    with open_session(settings.sqlalchemy_url) as again:
        row = recordings.get(again, number)
        assert (row.state, row.merged, row.members) == ("apart", "run", ids)
        assert recordings.get(again, ids[0]).facts.frames == 15_000
        there = recordings.get(again, wav.id)
        assert (there.told, there.heard, there.merged) == (Told(scene="31A", take="2", by_person=True), None, None)
        assert pairings.measurements(again, [1])[1][1] == found
        jobs = again.execute(text("SELECT task_name, queueing_lock FROM procrastinate_jobs")).all()
    assert ("vesk:find_sync_points", f"vesk:find_sync_points:{{'recording_id': {wav.id}}}") in [tuple(j) for j in jobs]
