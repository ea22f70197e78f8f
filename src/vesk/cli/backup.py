"""`vesk backup FILE`: database and settings in one file, while everything runs."""

from __future__ import annotations

import argparse
from pathlib import Path

from vesk.services import present
from vesk.settings import from_environment


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("file", type=Path, metavar="FILE")


def run(options: argparse.Namespace) -> int:
    """Write a backup and say what it holds."""
    from vesk.services import backup  # noqa: PLC0415 - loads the database's driver

    with present.database(from_environment(), as_it_is=True) as settings:
        manifest = backup.make(settings, options.file.absolute())
    rows = sum(int(mark.split()[0]) for mark in manifest["tables"].values())
    size = options.file.stat().st_size
    print(f"{options.file}: {len(manifest['tables'])} tables, {rows} rows, {size / 1e6:.1f} MB. It holds no media, ")
    print("no turnovers and no cache: these lie where they lie, and the cache is made anew.")
    return 0
