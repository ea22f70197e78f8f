"""Where the database lies: whatever happens to its folder, nothing in it is lost, and nobody works on another's."""

import json
import os
import subprocess
import sys

import psycopg
import pytest
from tests.conftest import PROJECT

from vesk.core.errors import VeskError
from vesk.services import cluster, keeping, state


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """A stopped cluster that holds a row, to be copied by each test."""
    var = tmp_path_factory.mktemp("kept") / "var"
    for folder in [one for one in var.parents if "pytest-of-" in str(one)]:
        folder.chmod(0o755)  # the server's account goes through
    own, fresh = cluster.have(var)
    assert fresh
    assert own.data == var / "postgres" / "data"
    cluster.start(own, durable=False)
    with psycopg.connect(own.url("postgres"), autocommit=True) as connection:
        connection.execute("CREATE TABLE decided AS SELECT 42 AS n")
    cluster.stop(own)
    return var


@pytest.fixture
def var(made):
    """A Vesk's folder with that database in it, as if it had been made there."""
    number = len(list(made.parent.iterdir()))
    place = made.parent / f"var-{number}"
    subprocess.run(["cp", "-a", str(made), str(place)], check=True)
    record = place / "postgres" / "data" / keeping.RECORD
    values = json.loads(record.read_text())
    record.write_text(json.dumps({"id": f"own-{number}", "var": str(place)}))
    assert values["var"] == str(made)
    (place / keeping.BESIDE).write_text(json.dumps({"id": f"own-{number}", "data": "postgres/data"}))
    yield place
    cluster.stop(keeping.Cluster(place / "postgres" / "data"))


def everything(folder):
    """Return every file with its bytes, to tell that nothing was touched."""
    return {path: path.read_bytes() for path in sorted(folder.rglob("*")) if path.is_file()}


def holds(own):
    cluster.start(own, durable=False)
    with psycopg.connect(own.url("postgres")) as connection:
        return connection.execute("SELECT n FROM decided").fetchone() == (42,)


def refused(var, words):
    before = everything(var)
    with pytest.raises(VeskError, match=words) as caught:
        cluster.have(var)
    assert "Nothing was touched" in str(caught.value)
    assert everything(var) == before


def test_it_is_found_again_and_not_made_twice(var):
    own, fresh = cluster.have(var)
    assert not fresh
    assert holds(own)


def test_a_lost_secret_is_refused_and_can_be_made_anew(var):
    (var / "postgres" / "data" / keeping.SECRET).unlink()
    refused(var, r"its secret, .*vesk\.secret, is lost.*vesk adopt")
    (var / "postgres" / "data" / keeping.SECRET).touch()  # half-written, as it once was
    refused(var, "is lost")
    cluster.adopt(var)
    assert holds(cluster.have(var)[0])


def test_a_renamed_folder_takes_its_database_along(var):
    moved = var.with_name(f"{var.name}-renamed")
    var.rename(moved)
    own, fresh = cluster.have(moved)
    assert not fresh
    assert holds(own)
    cluster.stop(own)
    moved.rename(var)


def test_a_copied_folder_is_refused_until_it_is_adopted(var):
    copy = var.with_name(f"{var.name}-copy")
    subprocess.run(["cp", "-a", str(var), str(copy)], check=True)
    refused(copy, f"is a copy of that of the Vesk in {var}")
    own = cluster.adopt(copy)
    assert holds(own)
    cluster.stop(own)
    assert holds(cluster.have(var)[0])  # the first one is unharmed and still its own


def test_a_database_that_lies_elsewhere_is_never_made_anew(var):
    away = var / "postgres" / "elsewhere"
    (var / "postgres" / "data").rename(away)
    refused(var, r"says that the database lies at .*, and there is none")
    own = cluster.adopt(var, away)
    assert own.data == away
    assert holds(cluster.have(var)[0])
    cluster.stop(own)


def test_the_note_beside_is_written_again_from_the_one_inside(var):
    (var / keeping.BESIDE).unlink()
    assert holds(cluster.have(var)[0])
    assert (var / keeping.BESIDE).exists()


def test_another_database_in_its_place_is_refused(var):
    (var / keeping.BESIDE).write_text(json.dumps({"id": "another", "data": "postgres/data"}))
    refused(var, "speaks of another database")


def test_a_database_that_says_nowhere_whose_it_is_is_refused(var):
    (var / "postgres" / "data" / keeping.RECORD).unlink()
    refused(var, "says nowhere whose it is")
    (var / keeping.BESIDE).unlink()
    refused(var, "has no secret")
    (var / "postgres.secret").write_text(keeping.secret_of(var / "postgres" / "data"))
    (var / "postgres" / "data" / keeping.SECRET).unlink()
    assert holds(cluster.have(var)[0])  # as one of 0.4 lies there


def test_files_that_are_no_whole_database_stay_where_they_lie(tmp_path):
    data = tmp_path / "postgres" / "data"
    data.mkdir(parents=True)
    (data / "base").mkdir()
    (data / "half made").write_text("x")
    refused(tmp_path, "holds files but no whole database")


def test_one_that_was_ended_in_the_middle_of_being_made_is_made_again_beside_it(made):
    var = made.parent / "interrupted"
    half = var / "postgres" / "making-0123"
    half.mkdir(parents=True)
    (half / "PG_VERSION").write_text("15")
    own, fresh = cluster.have(var)
    assert fresh
    assert (half / "PG_VERSION").exists()
    assert own.data == var / "postgres" / "data"


@pytest.mark.skipif(os.geteuid() != 0, reason="only root gives itself up for another account")
def test_a_folder_that_was_closed_is_named_and_no_second_database_made(var):
    var.chmod(0o700)
    refused(var, rf"cannot enter {var} any more.*chmod o\+x")
    var.chmod(0o755)
    assert holds(cluster.have(var)[0])


def test_of_two_starts_at_once_one_gets_the_folder(tmp_path):
    script = f"from pathlib import Path; from vesk.services import state; print(state.take(Path({str(tmp_path)!r})))"
    assert state.take(tmp_path)
    other = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True, cwd=PROJECT)
    assert other.stdout.strip() == "False"
    third = subprocess.run(
        [sys.executable, "-c", script.replace(str(tmp_path), str(tmp_path / "free"))],
        capture_output=True,
        text=True,
        check=True,
        cwd=PROJECT,
    )
    assert third.stdout.strip() == "True"  # let go when it ended
    state._held.pop().close()
