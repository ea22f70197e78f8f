"""A backup is whole, made while others write, compared row by row when it is restored, and put over nothing."""

import threading
from fractions import Fraction

import psycopg
import pytest
from tests.conftest import PROJECT
from tests.paper_day import paper_day, picture, sound

from vesk.actions import accounts, correct, pairing
from vesk.cli.main import main
from vesk.core.errors import RefusedError, VeskError
from vesk.core.kinds import Role
from vesk.services import backup
from vesk.store import pairings, trail
from vesk.store.session import open_session


@pytest.fixture
def empty(cluster_url):
    """Addresses of empty databases."""
    made = []

    def make():
        name = f"restored_{len(made)}"
        with psycopg.connect(cluster_url("postgres"), autocommit=True) as connection:
            connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
            connection.execute(f"CREATE DATABASE {name}")
        made.append(name)
        return cluster_url(name)

    yield make
    from vesk.store.session import engine

    for name in made:
        engine(cluster_url(name).replace("postgresql://", "postgresql+psycopg://"), quick=False).dispose()
    with psycopg.connect(cluster_url("postgres"), autocommit=True) as connection:
        for name in made:
            connection.execute(f"DROP DATABASE {name} WITH (FORCE)")


@pytest.fixture
def day(db, settings):
    made = paper_day(db, {"A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("08:59:58:00")})
    pairing.pair_day(db, made)
    (row,) = pairings.of_day(db, made.id)
    correct.set_own(db, settings, row.id, version=row.version, slip=Fraction(1))
    accounts.make(db, "Ida", "the ferry leaves at six", Role.CHANGE)
    db.commit()
    return made


def test_what_is_restored_is_what_was_there_at_one_moment_while_others_wrote(
    db, settings, day, empty, tmp_path, monkeypatch, capsys
):
    stop = threading.Event()

    def write():
        with open_session(settings.sqlalchemy_url) as other:
            while not stop.is_set():
                (row,) = pairings.of_day(other, day.id)
                correct.set_own(other, settings, row.id, version=row.version, slip=Fraction(row.version))
                other.commit()

    writing = threading.Thread(target=write)
    writing.start()
    try:
        for name, value in settings.environment().items():
            monkeypatch.setenv(name, value)
        assert main(["backup", str(tmp_path / "vesk.backup")]) == 0
    finally:
        stop.set()
        writing.join()
    assert (tmp_path / "vesk.backup").stat().st_mode & 0o077 == 0
    assert list(tmp_path.glob("vesk-*")) == []
    with pytest.raises(RefusedError, match="there already"):
        backup.make(settings, tmp_path / "vesk.backup")
    there = empty()
    monkeypatch.setenv("VESK_DATABASE", there)
    monkeypatch.setenv("VESK_VAR", str(tmp_path / "other"))
    capsys.readouterr()
    assert main(["restore", str(tmp_path / "vesk.backup")]) == 0
    assert "are there and equal" in capsys.readouterr().out
    assert str(settings.media_roots[0]) in (tmp_path / "other" / "settings.json").read_text(encoding="utf-8")
    with open_session(there.replace("postgresql://", "postgresql+psycopg://")) as again:
        (row,) = pairings.of_day(again, day.id)
        standing = pairings.standing_corrections(again, [row.id])[row.id]
        assert standing.slip == row.version - 1  # the same moment in every table
        correct.undo(again, settings, row.id, version=row.version)
        again.commit()  # numbers go on after those that were restored, the trail too
        assert again.get(trail.RowChange, 1) is not None
    assert main(["restore", str(tmp_path / "vesk.backup")]) == 1
    assert "holds something already" in capsys.readouterr().err


def test_what_is_no_backup_or_comes_in_otherwise_is_refused(settings, day, empty, tmp_path, monkeypatch):
    good = tmp_path / "good"
    backup.make(settings, good)
    from dataclasses import replace

    for n, harm in enumerate((b"", b"no archive", good.read_bytes()[:3000])):
        bad = tmp_path / f"bad-{n}"
        bad.write_bytes(harm)
        with pytest.raises(RefusedError, match="no backup"):
            backup.restore(replace(settings, database_url=empty()), bad)
    real = backup.fingerprints
    monkeypatch.setattr(backup, "fingerprints", lambda connection: {**real(connection), "day": "1 7"})
    with pytest.raises(VeskError, match="not what was backed up, in day"):
        backup.restore(replace(settings, database_url=empty()), good)
    monkeypatch.setattr(backup, "VERSION", "0.1.0")
    with pytest.raises(RefusedError, match=r"this is 0\.1\.0"):
        backup.restore(replace(settings, database_url=empty()), good)
    monkeypatch.setattr(backup, "bin_folder", lambda: PROJECT / "nowhere")
    with pytest.raises((VeskError, OSError)):
        backup.make(settings, tmp_path / "never")
    assert not (tmp_path / "never").exists()
