"""A database of every earlier schema, made by the code of its time, comes to the present with all that was decided."""

import lzma
from dataclasses import replace
from pathlib import Path

import psycopg
import pytest
from sqlmodel import select

from vesk.actions import gathering
from vesk.services import present
from vesk.store import days, journal, migrate, pairings, recordings
from vesk.store.session import engine, open_session
from vesk.store.tables import SyncPointRow
from vesk.web import create_app

PRESENT = max(path.name[:4] for path in (migrate.HERE / "versions").glob("0*.py"))
EARLIER = sorted(Path(__file__).with_name("earlier").glob("*.sql.xz"))


@pytest.fixture
def earlier(settings, cluster_url, request):
    name = f"earlier_{request.param.name[:4]}"
    with psycopg.connect(cluster_url("postgres"), autocommit=True) as connection:
        connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
        connection.execute(f"CREATE DATABASE {name}")
    with psycopg.connect(cluster_url(name), autocommit=True) as connection:
        connection.execute("SET check_function_bodies = false")
        connection.execute(lzma.decompress(request.param.read_bytes()))
    made = replace(settings, database_url=cluster_url(name))
    yield made
    for quick in (True, False):
        engine(made.sqlalchemy_url, quick=quick).dispose()
    with psycopg.connect(cluster_url("postgres"), autocommit=True) as connection:
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)")


def revision(settings):
    with psycopg.connect(settings.database_url) as connection:
        return connection.execute("SELECT version_num FROM alembic_version").fetchone()[0]


@pytest.mark.parametrize("earlier", EARLIER, ids=lambda path: path.name[:4], indirect=True)
def test_what_was_decided_then_stands_now(earlier):
    # A backup leaves the schema as it is, for an older Vesk may be running; what else is asked brings it up.
    with present.database(earlier, as_it_is=True):
        assert revision(earlier) != PRESENT
    with present.database(earlier):
        assert revision(earlier) == PRESENT
    with open_session(earlier.sqlalchemy_url) as session:
        ((production, day),) = days.all_days(session)
        assert (production.name, day.number) == ("The Lantern Ferry", 7)
        assert [row.name for row in recordings.of_day(session, day.id)] == ["A007_001.mov", "40_01.wav"]
        (now,) = gathering.of_day(session, day)
        correction = pairings.standing_corrections(session, [now.pairing.id])[now.pairing.id]
        assert (now.state, now.found.decision, correction.made_by) == ("checked", "matched", "Ida Brandt")
        assert now.errors is not None
        assert max(map(abs, now.errors.all)) * 25 < 0.05
        lines = [line.what for line in journal.of_day(session, day.id)]
        assert any("checked" in line for line in lines)
        claps = session.exec(select(SyncPointRow.how, SyncPointRow.likely)).all()
        # Of a clap seen it was once how clearly it stands out, which has no end.
        assert all(0 < likely < 1 for _, likely in claps)
        jobs = session.connection().exec_driver_sql("SELECT task_name FROM procrastinate_jobs").all()
        assert ("vesk:intake",) in [tuple(row) for row in jobs]
    client = create_app(earlier).test_client()
    for path in (f"/days/{day.id}/", f"/bench/{now.pairing.id}", f"/days/{day.id}/journal", "/home", "/find?words=40"):
        answer = client.get(path)
        assert (answer.status_code, "40_01" in answer.text or path == "/home") == (200, True), path


def test_there_is_one_of_every_schema_but_the_present():
    versions = sorted(path.name[:4] for path in (migrate.HERE / "versions").glob("0*.py"))
    never_alone = {"0001", "0012"}  # each was handed out together with the one after it
    assert [path.name[:4] for path in EARLIER] == [one for one in versions[:-1] if one not in never_alone]
