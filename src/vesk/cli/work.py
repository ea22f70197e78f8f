"""`vesk work`: workers, here or on another machine that reaches the database, the media and Vesk's folder."""

from __future__ import annotations

import argparse
import socket

from vesk import logs
from vesk.core.errors import RefusedError
from vesk.services import present, sharing, supervisor
from vesk.settings import from_environment


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("--count", type=int, default=supervisor.cores(), help="how many workers (default: one a core)")
    parser.add_argument("--of", metavar="ADDRESS", default="", help="of the Vesk there, started with --share")
    parser.add_argument("--one", metavar="NAME", help=argparse.SUPPRESS)


def run(options: argparse.Namespace) -> int:
    """Run one worker in this process, or several under a supervisor."""
    settings = from_environment()
    if options.of:
        settings = sharing.joined(settings, options.of)
    found = present.of_running(settings)
    if found is None:
        raise RefusedError("No database runs here. Start ./vesk serve first, or name one in VESK_DATABASE.")
    settings = found
    if options.one:
        from vesk.jobs.worker import work  # noqa: PLC0415 - loads what the tasks need

        logs.keep(settings.var, options.one)
        host = socket.gethostname()
        work(settings, name=options.one if options.one.startswith(f"{host}-") else f"{host}-{options.one}")
        return 0
    running = supervisor.Running(settings, "work")
    supervisor.stop_on_signals()
    try:
        running.start_workers(options.count, socket.gethostname() if options.of else "")
        print(f"{options.count} workers run; Ctrl-C ends them", flush=True)
        running.watch()
    except KeyboardInterrupt:
        print("\nending the workers", flush=True)
    finally:
        for child in running.children.values():
            child.terminate()
        for child in running.children.values():
            child.wait()
    return 0
