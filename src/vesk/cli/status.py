"""`vesk status`: what runs, how the queue is doing, who works where, and how much room is left."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path

from vesk.services import cluster, keeping, state
from vesk.settings import Settings, from_environment


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
        here = state.alive(values)
        if here:
            any_runs = True
            print(f"{values['kind']}: {values['address']}")
            for name, pid in values.get("children", {}).items():
                print(f"  {name:10} process {pid} {'runs' if state.started_at(pid) else 'ended'}")
        settings = replace(from_environment(), var=var)
        data = keeping.found_at(var)
        if data is not None:
            own = keeping.Cluster(data)
            runs = cluster.running(own)
            any_runs |= runs
            print(f"  database   {f'127.0.0.1 port {own.port()}' if runs else 'does not run'} ({own.data})")
            settings = replace(settings, database_url=own.url() if runs else "")
        if here and settings.database_url:
            _tell(settings)
    if not any_runs:
        print("Nothing runs.")
    return 0 if any_runs else 3


def _tell(settings: Settings) -> None:
    """Print what the database knows of the work, and what the disk holds."""
    from sqlalchemy.exc import DBAPIError  # noqa: PLC0415 - a status where nothing runs needs none of it

    from vesk.store import health, machines  # noqa: PLC0415
    from vesk.store.session import open_session  # noqa: PLC0415

    try:
        with open_session(settings.sqlalchemy_url, quick=True) as session:
            queue, room, hosts = health.queue(session), health.room(session, settings.var), machines.at_work(session)
    except DBAPIError as error:
        print(f"  the database does not answer: {error.orig}")
        return
    waits = f", the oldest for {queue.oldest_s:.0f} s" if queue.waiting else ""
    print(f"  queue      {queue.running} running, {queue.waiting} waiting{waits}, {queue.failed} failed")
    print(f"  workers    {', '.join(f'{count} on {host}' for host, count in hosts.items()) or 'none'}")
    full = f", full in about {room.full_in_h:.0f} h as it goes today" if room.full_in_h is not None else ""
    print(f"  disk       {room.free_bytes / 1e9:.1f} GB left{full}")
    if room.cache_bytes is not None:
        print(f"  cache      {room.cache_bytes / 1e9:.2f} of {settings.cache_gb:g} GB")
