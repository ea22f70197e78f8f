"""`vesk status`: what runs."""

from __future__ import annotations

import argparse
from pathlib import Path

from vesk.services import cluster, keeping, state
from vesk.settings import from_environment


def arguments(parser: argparse.ArgumentParser) -> None:
    """Take no options."""
    del parser


def places() -> list[Path]:
    """Return the folders in which a Vesk of this checkout may run."""
    var = from_environment().var
    return [var, var / "demo"]


def run(options: argparse.Namespace) -> int:
    """Print what runs; exit 0 when something does, 3 when nothing."""
    del options
    any_runs = False
    for var in places():
        values = state.read(var)
        if state.alive(values):
            any_runs = True
            print(f"{values['kind']}: {values['address']}")
            for name, pid in values.get("children", {}).items():
                print(f"  {name:10} process {pid} {'runs' if state.started_at(pid) else 'ended'}")
        data = keeping.found_at(var)
        if data is not None:
            own = keeping.Cluster(data)
            runs = cluster.running(own)
            any_runs |= runs
            print(f"  database   {f'127.0.0.1 port {own.port()}' if runs else 'does not run'} ({own.data})")
    if not any_runs:
        print("Nothing runs.")
    return 0 if any_runs else 3
