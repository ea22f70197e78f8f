"""`vesk restore FILE`: a backup brought into a Vesk that holds nothing yet."""

from __future__ import annotations

import argparse
import json
from dataclasses import replace
from pathlib import Path

from vesk.core.errors import RefusedError
from vesk.services import cluster, keeping, supervisor
from vesk.settings import KEPT, from_environment


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("file", type=Path, metavar="FILE")


def run(options: argparse.Namespace) -> int:
    """Restore, compare, bring to the present schema, and say what is there."""
    from vesk.services import backup  # noqa: PLC0415 - loads the database's driver
    from vesk.store import migrate  # noqa: PLC0415

    settings = from_environment()
    if not options.file.is_file():
        raise RefusedError(f"{options.file}: there is no such file. Nothing was touched.")
    own = None
    if not settings.database_url:
        supervisor.take_folder(settings)
        own, _ = cluster.have(settings.var)
        cluster.start(own)
        cluster.ensure_database(own)
        settings = replace(settings, database_url=own.url())
    try:
        manifest, rows = backup.restore(settings, options.file)
        migrate.to_head(settings.sqlalchemy_url)
    finally:
        if own is not None:
            cluster.stop(own)
    settings.var.mkdir(parents=True, exist_ok=True)
    keeping.write(settings.var / KEPT, json.dumps(manifest["settings"], indent=1), 0o600)
    media = ", ".join(manifest["settings"]["media"]) or "none named"
    print(f"{rows} rows of {len(manifest['tables'])} tables are there and equal, as of {manifest['made_at']}.")
    print(f"It read media in: {media}. ./vesk serve goes on with these; name others with --media.")
    return 0
