"""A backup in one file: the database as it was at one moment, and the settings; restored, it is compared row by row.

The dump and what it is compared by are of one snapshot, so it may be made while everything runs.
"""

from __future__ import annotations

import json
import os
import subprocess
import tarfile
import tempfile
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg
from psycopg import sql
from psycopg.conninfo import conninfo_to_dict

from vesk import VERSION
from vesk.core.errors import RefusedError, VeskError
from vesk.services.cluster import bin_folder
from vesk.settings import Settings

_DUMP, _MANIFEST = "database.dump", "backup.json"
_PG = {"host": "PGHOST", "port": "PGPORT", "user": "PGUSER", "password": "PGPASSWORD", "dbname": "PGDATABASE",
       "sslmode": "PGSSLMODE", "sslrootcert": "PGSSLROOTCERT"}  # fmt: skip


def make(settings: Settings, file: Path) -> dict[str, Any]:
    """Write a backup; returns what it holds. A half-made one never has the name.

    Raises
    ------
    RefusedError
        If the file is there already.
    VeskError
        If it could not be made.
    """
    if file.exists():
        raise RefusedError(f"{file} is there already. Nothing was written.")
    part = file.with_name(f"{file.name}.part")
    with tempfile.TemporaryDirectory(prefix="vesk-", dir=file.parent) as folder:
        dump = Path(folder, _DUMP)
        with psycopg.connect(settings.database_url) as connection:
            connection.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
            snapshot = _one(connection, "SELECT pg_export_snapshot()")
            _run("pg_dump", settings, "--format=custom", f"--snapshot={snapshot}", f"--file={dump}")
            tables = fingerprints(connection)
            revision = _one(connection, "SELECT version_num FROM alembic_version")
        manifest = {
            "vesk": VERSION, "revision": revision, "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
            "tables": tables, "settings": settings.kept(),
        }  # fmt: skip
        Path(folder, _MANIFEST).write_text(json.dumps(manifest, indent=1), encoding="utf-8")
        with tarfile.open(part, "w") as archive:
            for name in (_MANIFEST, _DUMP):
                archive.add(Path(folder, name), arcname=name)
        with part.open("rb") as written:
            os.fsync(written.fileno())
    part.chmod(0o600)  # it holds what passwords hash to
    part.rename(file)
    return manifest


def restore(settings: Settings, file: Path) -> tuple[dict[str, Any], int]:
    """Bring a backup into an empty database and compare it; returns what it holds, and how many rows are equal.

    Raises
    ------
    RefusedError
        If it is no backup, of a newer Vesk, or the database holds something.
    VeskError
        If what came in is not what went out.
    """
    with tempfile.TemporaryDirectory(prefix="vesk-") as folder:
        manifest = _unpacked(file, Path(folder))
        with psycopg.connect(settings.database_url) as connection:
            if _one(connection, "SELECT count(*) FROM pg_class WHERE relnamespace = 'public'::regnamespace"):
                raise RefusedError("The database holds something already: nothing is put over it. Nothing was touched.")
        _run("pg_restore", settings, "--no-owner", "--exit-on-error", "--single-transaction",
             f"--dbname={conninfo_to_dict(settings.database_url)['dbname']}", str(Path(folder, _DUMP)))  # fmt: skip
        with psycopg.connect(settings.database_url) as connection:
            found = fingerprints(connection)
    differs = sorted(name for name, mark in manifest["tables"].items() if found.get(name) != mark)
    if differs:
        raise VeskError(f"{file}: what was restored is not what was backed up, in {', '.join(differs)}.")
    return manifest, sum(int(mark.split()[0]) for mark in found.values())


def _unpacked(file: Path, folder: Path) -> dict[str, Any]:
    try:
        with tarfile.open(file) as archive:
            archive.extractall(folder, [archive.getmember(_MANIFEST), archive.getmember(_DUMP)], filter="data")
        manifest: dict[str, Any] = json.loads((folder / _MANIFEST).read_text(encoding="utf-8"))
        newer = tuple(map(int, manifest["vesk"].split("."))) > tuple(map(int, VERSION.split(".")))
    except (OSError, tarfile.TarError, KeyError, ValueError, TypeError) as error:
        raise RefusedError(f"{file} is no backup of Vesk that can be read ({error}). Nothing was touched.") from None
    if newer:
        raise RefusedError(f"{file} is of Vesk {manifest['vesk']}; this is {VERSION}. Nothing was touched.")
    return manifest


def fingerprints(connection: psycopg.Connection[Any]) -> dict[str, str]:
    """Return of each table how many rows it has, and a sum over what they hold."""
    connection.execute("SET LOCAL TIME ZONE 'UTC'")
    names = connection.execute("SELECT tablename FROM pg_tables WHERE schemaname = 'public' ORDER BY tablename")
    query = "SELECT count(*) || ' ' || coalesce(sum(hashtextextended(t::text, 0)), 0) FROM {} t"
    return {name: _one(connection, sql.SQL(query).format(sql.Identifier(name))) for (name,) in names.fetchall()}


def _one(connection: psycopg.Connection[Any], query: Any) -> Any:
    row = connection.execute(query).fetchone()
    return row[0] if row else None


def _run(program: str, settings: Settings, *words: str) -> None:
    """Run one of PostgreSQL's programs; who and where is told by variables, which nobody else sees."""
    named: Mapping[str, Any] = conninfo_to_dict(settings.database_url)
    environment = {**os.environ, **{_PG[key]: str(value) for key, value in named.items() if key in _PG}}
    done = subprocess.run(
        [str(bin_folder() / program), *words], env=environment, capture_output=True, text=True, check=False
    )
    if done.returncode:
        raise VeskError(f"{program} ended with: {done.stderr.strip()[-400:]}")
