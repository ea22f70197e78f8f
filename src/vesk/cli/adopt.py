"""`vesk adopt`: make a database this Vesk's own: one moved or copied here, or one whose secret was lost."""

from __future__ import annotations

import argparse
from pathlib import Path

from vesk.core.errors import RefusedError
from vesk.services import cluster, state
from vesk.settings import from_environment


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("data", nargs="?", type=Path, metavar="DATA", help="its data folder, where Vesk does not know")
    parser.add_argument("--demo", action="store_true", help="that of the demo")


def run(options: argparse.Namespace) -> int:
    """Adopt it; nothing in it is changed but whose it is, and its secret where that was lost."""
    var = from_environment().var
    var = var / "demo" if options.demo else var
    if not state.take(var):
        raise RefusedError("Vesk is running. End it with ./vesk stop before a database is adopted.")
    own = cluster.adopt(var, options.data.absolute() if options.data else None)
    print(f"The database at {own.data} is the one of {var} now.")
    return 0
